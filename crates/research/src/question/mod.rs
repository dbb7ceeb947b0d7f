//! What is asked: one typed value for everything that is served.
//!
//! A [`Question`] says whose bars, which range, as of when, in which shape and in which file. It is read from keys
//! ([`given`], [`check`]), which are the same in TOML, in JSON, behind a question mark and on the command line, and it is
//! written in one canonical text ([`text`]). Keys that have their usual value are not written, so two questions that mean the
//! same have one text and one digest.

pub mod check;
mod column;
mod deriving;
mod fitting;
pub mod given;
pub mod picking;
pub mod pieces;
mod reader;
pub mod resolve;
pub mod saved;
pub mod text;
pub mod zone;

pub use column::Column;
use mizuno_core::{
    Interval, Side, Timestamp,
    adjust::{Adjust, Adjustment},
    resample::Length,
    roll::Join,
};
use mizuno_desk::moments::Moment;
use picking::Picking;
use pieces::Pieces;
use std::collections::BTreeMap;
use zone::{Clock, Stamp};

/// What is asked.
#[derive(Clone, Debug, PartialEq)]
pub struct Question {
    /// Symbols of instruments, present or former, and patterns as `AL*`; in the order that the answer has.
    pub instruments: Vec<String>,
    /// Words that an instrument is found by; those found follow, by symbol.
    pub search: Option<String>,
    /// A universe, whose members follow, by symbol.
    pub universe: Option<String>,
    /// Whether its members have their whole histories; else what lies outside their stays is left out.
    pub whole: bool,
    /// The interval of the rows: that of bars longer than a day is said by `longer`, and theirs is a day.
    pub interval: Interval,
    /// Instead: weeks, months, quarters or years.
    pub longer: Option<Length>,
    /// How bars are made of finer ones, where they are.
    pub pieces: Pieces,
    /// Bars so coarse that no series has more rows than this.
    pub fit: Option<u32>,
    /// The sides; when empty trades, where there are any.
    pub sides: Vec<Side>,
    /// The sources, of which `golden` is one; when empty the golden series.
    pub sources: Vec<String>,
    /// The range.
    pub range: Range,
    /// Only what was known at this instant; the newest when absent.
    pub as_of: Option<Timestamp>,
    /// Instead of the bars, what differs from the answer as of this instant.
    pub since: Option<Timestamp>,
    /// How prices are adjusted for corporate actions; as traded when absent.
    pub adjust: Option<Adjustment>,
    /// How continuous series are joined where their contracts roll; each price as traded when absent.
    pub rolls: Option<Joined>,
    /// Whether the price of a delisting stands behind the last bar, as a bar of its own.
    pub delisting: bool,
    /// How the answer is arranged.
    pub shape: Shape,
    /// What it is written as.
    pub file: File,
}

/// How continuous series are joined at their rolls.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Joined {
    /// By the difference of the two closes, or their ratio.
    pub by: Join,
    /// Whether prices are as traded in the oldest contract; else in the newest.
    pub oldest: bool,
}

/// The word of each way to end a delisted series in a question.
const DELISTING: [(&str, bool); 2] = [("left-out", false), ("last-price", true)];

/// The word of each in a question.
const ROLLS: [(&str, Option<Join>); 3] = [("kept", None), ("difference", Some(Join::Difference)), ("ratio", Some(Join::Ratio))];

/// A range of bars; all when everything is absent.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Range {
    /// From this trade date or instant on.
    pub from: Option<Moment>,
    /// To this trade date, included, or instant, not included.
    pub to: Option<Moment>,
    /// Instead: the last sessions of each venue that have begun.
    pub last: Option<u32>,
    /// Instead: the present week, month or year of each venue.
    pub this: Option<Period>,
}

/// A period of the calendar.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Period {
    /// From Monday on (ISO 8601).
    Week,
    /// From the first of the month on.
    Month,
    /// From the first of January on.
    Year,
}

impl Period {
    /// The word of each in a question.
    pub const WORDS: [(&str, Period); 3] = [("week", Period::Week), ("month", Period::Month), ("year", Period::Year)];
}

/// How an answer is arranged.
#[derive(Clone, Debug, PartialEq)]
pub struct Shape {
    /// A row a bar, or a row a moment.
    pub layout: Layout,
    /// The columns in order; the usual ones when empty.
    pub columns: Vec<Column>,
    /// Other names for columns.
    pub names: BTreeMap<Column, String>,
    /// What stands where there is no bar.
    pub missing: Missing,
    /// The clock stamps are written by.
    pub clock: Clock,
    /// The form they are written in.
    pub stamp: Stamp,
    /// Whether the stamp of an intraday bar is its end.
    pub at_end: bool,
    /// Only bars whose opening lies between these minutes of the day at the venue, the second not included.
    pub hours: Option<(u16, u16)>,
    /// Only the first so many minutes of each session.
    pub first_minutes: Option<u32>,
    /// Only the last so many minutes of each session.
    pub last_minutes: Option<u32>,
    /// Prices rounded, half to even.
    pub round: Option<Round>,
    /// Whether numbers worked out of a bar and the one before are given across what is missing between the two; else they are empty.
    pub bridged: bool,
    /// Which rows are given.
    pub picking: Picking,
    /// How each series of a wide file is held against the first.
    pub against: Option<Against>,
}

/// How a series is held against the first.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Against {
    /// Its number less that of the first.
    Difference,
    /// Its number over that of the first.
    Ratio,
}

impl Against {
    /// The word of each in a question.
    pub const WORDS: [(&str, Against); 2] = [("difference", Against::Difference), ("ratio", Against::Ratio)];

    /// Its word.
    #[must_use]
    pub fn word(self) -> &'static str {
        if self == Against::Ratio { "ratio" } else { "difference" }
    }
}

impl Default for Shape {
    fn default() -> Shape {
        Shape {
            layout: Layout::Long,
            columns: vec![],
            names: BTreeMap::new(),
            missing: Missing::Absent,
            clock: Clock::Utc,
            stamp: Stamp::default(),
            at_end: false,
            hours: None,
            first_minutes: None,
            last_minutes: None,
            round: None,
            bridged: false,
            picking: Picking::default(),
            against: None,
        }
    }
}

/// How rows are made.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Layout {
    /// A row a bar.
    Long,
    /// A row a moment, with columns for each instrument; of moments that any instrument has, or that all have.
    Wide {
        /// Only moments that all instruments have.
        inner: bool,
    },
    /// A row an instrument: its newest bar.
    Latest,
}

/// The word of each way to adjust in a question.
const ADJUST: [(&str, Option<Adjust>); 3] = [("none", None), ("splits", Some(Adjust::Splits)), ("all", Some(Adjust::All))];

/// What stands where there is no bar.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Missing {
    /// Nothing: no row, or in a wide file an empty cell.
    Absent,
    /// A row for every expected slot, with empty cells.
    Rows,
    /// The last close carried forward, with a column that marks it.
    Carried,
}

impl Missing {
    /// The word of each in a question.
    pub const WORDS: [(&str, Missing); 3] = [("absent", Missing::Absent), ("rows", Missing::Rows), ("carried", Missing::Carried)];
}

/// Rounding of prices.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Round {
    /// To so many decimals.
    Decimals(u8),
    /// To the instrument's tick.
    Tick,
}

/// The word of each separator in a question.
const SEPARATORS: [(&str, u8); 4] = [("comma", b','), ("semicolon", b';'), ("tab", b'\t'), ("pipe", b'|')];

/// What an answer is written as.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct File {
    /// The format.
    pub format: Format,
    /// What parts the cells of a CSV file.
    pub separator: u8,
    /// Whether a comma stands for the decimal point in a CSV file.
    pub decimal_comma: bool,
    /// Whether a CSV file begins with the names of its columns.
    pub header: bool,
    /// Whether every text, stamp and name of a column in a CSV file stands in quotation marks; else only those that must.
    pub quoted_texts: bool,
    /// Whether a JSON file is one object with an array a column; else an array with an object a row.
    pub by_column: bool,
    /// Whether numbers are 64-bit floats instead of exact decimals; in Parquet and workbooks.
    pub floats: bool,
}

impl Default for File {
    fn default() -> File {
        File {
            format: Format::Csv,
            separator: b',',
            decimal_comma: false,
            header: true,
            quoted_texts: false,
            by_column: false,
            floats: false,
        }
    }
}

/// The formats there are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Format {
    /// RFC 4180, with a header.
    Csv,
    /// A JSON object a line.
    Ndjson,
    /// An array of objects, or an object of arrays.
    Json,
    /// Apache Parquet, with decimal prices (DECIMAL(18, s) where all fit, else DECIMAL(38, s)) and UTC stamps.
    Parquet,
    /// A spreadsheet workbook (Office Open XML): typed dates, and numbers as 64-bit floats.
    Workbook,
}

impl Format {
    /// All of them.
    pub const ALL: [Format; 5] = [Format::Csv, Format::Ndjson, Format::Json, Format::Parquet, Format::Workbook];

    /// Its name, and the ending of its files.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Format::Csv => "csv",
            Format::Ndjson => "ndjson",
            Format::Json => "json",
            Format::Parquet => "parquet",
            Format::Workbook => "xlsx",
        }
    }

    /// Whether a file has one type a column, and says of itself what it is.
    #[must_use]
    pub fn is_typed(self) -> bool {
        matches!(self, Format::Parquet | Format::Workbook)
    }

    /// Its media type.
    #[must_use]
    pub fn media_type(self) -> &'static str {
        match self {
            Format::Csv => "text/csv; charset=utf-8",
            Format::Ndjson => "application/x-ndjson",
            Format::Json => "application/json",
            Format::Parquet => "application/vnd.apache.parquet",
            Format::Workbook => "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
        }
    }
}
