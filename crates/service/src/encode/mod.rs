//! Bars as files: CSV (RFC 4180), NDJSON, JSON and Parquet, a batch at a time.

mod parquet;
mod text;

use crate::error::ServiceError;
use jiff::tz::TimeZone;
use mizuno_core::{Bars, Interval};
use std::str::FromStr;

/// What a file is written as.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Format {
    Csv,
    Ndjson,
    Json,
    Parquet,
}

impl Format {
    pub(crate) fn media_type(self) -> &'static str {
        match self {
            Format::Csv => "text/csv; charset=utf-8",
            Format::Ndjson => "application/x-ndjson",
            Format::Json => "application/json",
            Format::Parquet => "application/vnd.apache.parquet",
        }
    }

    pub(crate) fn ending(self) -> &'static str {
        match self {
            Format::Csv => "csv",
            Format::Ndjson => "ndjson",
            Format::Json => "json",
            Format::Parquet => "parquet",
        }
    }
}

impl FromStr for Format {
    type Err = ServiceError;

    fn from_str(text: &str) -> Result<Self, ServiceError> {
        match text {
            "csv" => Ok(Format::Csv),
            "ndjson" => Ok(Format::Ndjson),
            "json" => Ok(Format::Json),
            "parquet" => Ok(Format::Parquet),
            _ => Err(ServiceError::Invalid(format!("format: `{text}` is not a format; it is csv, ndjson, json or parquet"))),
        }
    }
}

/// A column a file may have.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Column {
    Time,
    Open,
    High,
    Low,
    Close,
    Volume,
}

impl Column {
    pub(crate) const ALL: [Column; 6] = [Column::Time, Column::Open, Column::High, Column::Low, Column::Close, Column::Volume];

    /// Its name; the moment of a daily bar is called `date`.
    pub(crate) fn name(self, interval: Interval) -> &'static str {
        match self {
            Column::Time if !interval.is_intraday() => "date",
            Column::Time => "time",
            Column::Open => "open",
            Column::High => "high",
            Column::Low => "low",
            Column::Close => "close",
            Column::Volume => "volume",
        }
    }

    /// Reads a list such as `time,close`; all columns when absent.
    pub(crate) fn list(text: Option<&str>, interval: Interval) -> Result<Vec<Column>, ServiceError> {
        let Some(text) = text else { return Ok(Column::ALL.to_vec()) };
        let find = |name: &str| {
            let known =
                Column::ALL.into_iter().find(|c| c.name(interval) == name || (*c == Column::Time && (name == "time" || name == "date")));
            known.ok_or_else(|| {
                let names: Vec<_> = Column::ALL.iter().map(|c| c.name(interval)).collect();
                ServiceError::Invalid(format!("columns: `{name}` is not a column; there is {}", names.join(", ")))
            })
        };
        text.split(',').map(|name| find(name.trim())).collect()
    }
}

/// How a file is to be written.
pub(crate) struct Layout {
    pub format: Format,
    pub columns: Vec<Column>,
    pub interval: Interval,
    /// The zone instants are written in, with their offset; UTC when `None`. Parquet is always UTC.
    pub zone: Option<TimeZone>,
    pub price_scale: u8,
    pub volume_scale: u8,
}

/// Writes one file, piece by piece, into a buffer that the caller empties between pieces.
pub(crate) trait Encoder: Send {
    fn begin(&mut self, out: &mut Vec<u8>) -> Result<(), String>;
    fn bars(&mut self, bars: &Bars, out: &mut Vec<u8>) -> Result<(), String>;
    fn finish(self: Box<Self>, out: &mut Vec<u8>) -> Result<(), String>;
}

pub(crate) fn encoder(layout: Layout) -> Result<Box<dyn Encoder>, String> {
    Ok(match layout.format {
        Format::Parquet => Box::new(parquet::ParquetEncoder::new(&layout)?),
        _ => Box::new(text::TextEncoder::new(layout)),
    })
}
