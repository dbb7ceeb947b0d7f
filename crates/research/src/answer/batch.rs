//! Rows on their way into a file: some columns of cells at a time.

use mizuno_core::{Decimal, bar::Digits};
use std::sync::Arc;

/// What a column holds.
#[derive(Clone, Debug, PartialEq)]
pub enum Kind {
    /// Instants, in microseconds since 1970 UTC.
    Moment,
    /// Trade dates, in days since 1970.
    Date,
    /// Exact numbers, with room for all of them.
    Number(Digits),
    /// One of some words.
    Words(Arc<[String]>),
    /// Yes or no.
    Flag,
    /// Whole numbers.
    Whole,
}

/// The name of a column and what it holds.
#[derive(Clone, Debug, PartialEq)]
pub struct Heading {
    /// Its name in the file.
    pub name: String,
    /// What it holds.
    pub kind: Kind,
    /// Whether a cell may be empty.
    pub optional: bool,
}

/// The cells of one column for some rows.
#[derive(Clone, Debug, PartialEq)]
pub enum Cells {
    /// Of [`Kind::Moment`].
    Moments(Vec<i64>),
    /// Of [`Kind::Date`].
    Dates(Vec<i32>),
    /// Of [`Kind::Number`].
    Numbers(Vec<Option<Decimal>>),
    /// Of [`Kind::Words`], by their places; empty where there is none.
    Words(Vec<Option<u32>>),
    /// Of [`Kind::Flag`]; empty where there is no bar.
    Flags(Vec<Option<bool>>),
    /// Of [`Kind::Whole`].
    Whole(Vec<i64>),
}

/// Some rows: the cells of each column, all of one length.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Batch {
    /// How many rows.
    pub rows: usize,
    /// The columns, in the order of their headings.
    pub columns: Vec<Cells>,
}
