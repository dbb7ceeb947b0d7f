//! Bars as files: CSV (RFC 4180), NDJSON, JSON and Parquet, a batch at a time.

mod parquet;
mod text;

use jiff::tz::TimeZone;
use mizuno_core::{Bars, Interval, bar::Digits};
use mizuno_desk::DeskError;
use std::str::FromStr;

/// What a file is written as.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Format {
    /// RFC 4180, with a header.
    Csv,
    /// A JSON object a line.
    Ndjson,
    /// An array of objects.
    Json,
    /// Apache Parquet, with decimal prices (DECIMAL(18, s) where all fit, else DECIMAL(38, s)) and UTC stamps.
    Parquet,
}

impl Format {
    /// Its media type.
    #[must_use]
    pub fn media_type(self) -> &'static str {
        match self {
            Format::Csv => "text/csv; charset=utf-8",
            Format::Ndjson => "application/x-ndjson",
            Format::Json => "application/json",
            Format::Parquet => "application/vnd.apache.parquet",
        }
    }

    /// The ending of its files' names.
    #[must_use]
    pub fn ending(self) -> &'static str {
        match self {
            Format::Csv => "csv",
            Format::Ndjson => "ndjson",
            Format::Json => "json",
            Format::Parquet => "parquet",
        }
    }
}

impl FromStr for Format {
    type Err = DeskError;

    fn from_str(text: &str) -> Result<Self, DeskError> {
        match text {
            "csv" => Ok(Format::Csv),
            "ndjson" => Ok(Format::Ndjson),
            "json" => Ok(Format::Json),
            "parquet" => Ok(Format::Parquet),
            _ => Err(DeskError::Invalid(format!("format: `{text}` is not a format; it is csv, ndjson, json or parquet"))),
        }
    }
}

/// A column a file may have.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Column {
    /// When the bar opens, or its trade date.
    Time,
    /// First price.
    Open,
    /// Highest price.
    High,
    /// Lowest price.
    Low,
    /// Last price.
    Close,
    /// Quantity traded.
    Volume,
    /// The source of each bar; by itself only in golden series.
    Source,
}

impl Column {
    /// All columns, in order.
    pub const ALL: [Column; 7] = [Column::Time, Column::Open, Column::High, Column::Low, Column::Close, Column::Volume, Column::Source];

    /// Its name; the moment of a daily bar is called `date`.
    #[must_use]
    pub fn name(self, interval: Interval) -> &'static str {
        match self {
            Column::Time if !interval.is_intraday() => "date",
            Column::Time => "time",
            Column::Open => "open",
            Column::High => "high",
            Column::Low => "low",
            Column::Close => "close",
            Column::Volume => "volume",
            Column::Source => "source",
        }
    }

    /// Reads a list such as `time,close`; all columns when absent, with the source where bars have several.
    ///
    /// # Errors
    /// When one is no column.
    pub fn list(text: Option<&str>, interval: Interval, golden: bool) -> Result<Vec<Column>, DeskError> {
        let Some(text) = text else { return Ok(Column::ALL[..if golden { 7 } else { 6 }].to_vec()) };
        let find = |name: &str| {
            let known =
                Column::ALL.into_iter().find(|c| c.name(interval) == name || (*c == Column::Time && (name == "time" || name == "date")));
            known.ok_or_else(|| {
                let names: Vec<_> = Column::ALL.iter().map(|c| c.name(interval)).collect();
                DeskError::Invalid(format!("columns: `{name}` is not a column; there is {}", names.join(", ")))
            })
        };
        let columns: Vec<Column> = text.split(',').map(|name| find(name.trim())).collect::<Result<_, _>>()?;
        match (1..columns.len()).find(|at| columns[..*at].contains(&columns[*at])) {
            Some(at) => Err(DeskError::Invalid(format!("columns: `{}` is named twice", columns[at].name(interval)))),
            None => Ok(columns),
        }
    }
}

/// How a file is to be written.
pub struct Layout {
    /// What it is written as.
    pub format: Format,
    /// Its columns, in order.
    pub columns: Vec<Column>,
    /// The length of its bars.
    pub interval: Interval,
    /// The zone instants are written in, with their offset; UTC when `None`. Parquet is always UTC.
    pub zone: Option<TimeZone>,
    /// Room for every price; a Parquet column has one scale.
    pub price: Digits,
    /// Room for every volume.
    pub volume: Digits,
    /// The names of the sources there may be.
    pub sources: Vec<String>,
}

/// Writes one file, piece by piece, into a buffer that the caller empties between pieces.
pub trait Encoder: Send {
    /// Writes what stands before the bars.
    ///
    /// # Errors
    /// When the file cannot be made.
    fn begin(&mut self, out: &mut Vec<u8>) -> Result<(), String>;
    /// Writes bars; `from` has the place of each one's source, and is empty when there is but one.
    ///
    /// # Errors
    /// When the file cannot be made.
    fn bars(&mut self, bars: &Bars, from: &[u16], out: &mut Vec<u8>) -> Result<(), String>;
    /// Writes what stands after the bars.
    ///
    /// # Errors
    /// When the file cannot be made.
    fn finish(self: Box<Self>, out: &mut Vec<u8>) -> Result<(), String>;
}

/// The encoder for a layout.
///
/// # Errors
/// When the file cannot be begun.
pub fn encoder(layout: Layout) -> Result<Box<dyn Encoder>, String> {
    Ok(match layout.format {
        Format::Parquet => Box::new(parquet::ParquetEncoder::new(&layout)?),
        _ => Box::new(text::TextEncoder::new(layout)),
    })
}
