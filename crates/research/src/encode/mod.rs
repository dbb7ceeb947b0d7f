//! Answers as files: CSV (RFC 4180), NDJSON, JSON, Parquet and workbooks, a batch of rows at a time.
//!
//! To add a format: its word in [`crate::question::Format`], a file here, and its line in [`encoder`].

mod csv;
mod json;
mod parquet;
mod print;
mod workbook;

use crate::{
    answer::batch::{Batch, Heading},
    question::{
        File, Format,
        zone::{Clock, Stamp},
    },
};
use mizuno_desk::DeskError;

/// How a file is to be written.
#[derive(Clone, Debug)]
pub struct Style {
    /// Its format, and what belongs to that.
    pub file: File,
    /// The clock of its stamps.
    pub clock: Clock,
    /// The form of its stamps.
    pub stamp: Stamp,
    /// What a Parquet file or a workbook says of itself, as keys and values.
    pub about: Vec<(String, String)>,
}

/// Writes one file, piece by piece, into a buffer that the caller empties between pieces.
pub trait Encoder: Send {
    /// Writes what stands before the rows.
    ///
    /// # Errors
    /// When the file cannot be made.
    fn begin(&mut self, out: &mut Vec<u8>) -> Result<(), DeskError>;
    /// Writes rows, which have the columns of the headings.
    ///
    /// # Errors
    /// When the file cannot be made.
    fn rows(&mut self, batch: &Batch, out: &mut Vec<u8>) -> Result<(), DeskError>;
    /// Writes what stands after the rows.
    ///
    /// # Errors
    /// When the file cannot be made.
    fn finish(self: Box<Self>, out: &mut Vec<u8>) -> Result<(), DeskError>;
}

/// The encoder for a file with such columns.
///
/// # Errors
/// When the file cannot be begun.
pub fn encoder(headings: Vec<Heading>, style: Style) -> Result<Box<dyn Encoder>, DeskError> {
    Ok(match style.file.format {
        Format::Parquet => Box::new(parquet::ParquetEncoder::new(headings, &style)?),
        Format::Csv => Box::new(csv::CsvEncoder::new(headings, style)),
        Format::Workbook => Box::new(workbook::WorkbookEncoder::new(headings, style)?),
        Format::Ndjson | Format::Json => Box::new(json::JsonEncoder::new(headings, style)),
    })
}
