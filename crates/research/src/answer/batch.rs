//! Rows on their way into a file: some columns of cells at a time.

use mizuno_core::{bar::Digits, numbers::Numbers};
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
    /// 64-bit floats.
    Real,
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
    Numbers(Numbers),
    /// Of [`Kind::Real`]; empty where there is none.
    Reals(Vec<Option<f64>>),
    /// Of [`Kind::Words`], by their places; empty where there is none.
    Words(Vec<Option<u32>>),
    /// Of [`Kind::Flag`]; empty where there is no bar.
    Flags(Vec<Option<bool>>),
    /// Of [`Kind::Whole`].
    Whole(Vec<i64>),
}

impl Cells {
    /// Puts those of another column of its kind behind them.
    pub(super) fn append(&mut self, more: Cells) {
        match (self, more) {
            (Cells::Moments(a) | Cells::Whole(a), Cells::Moments(b) | Cells::Whole(b)) => a.extend(b),
            (Cells::Dates(a), Cells::Dates(b)) => a.extend(b),
            (Cells::Numbers(a), Cells::Numbers(b)) => a.append(b),
            (Cells::Reals(a), Cells::Reals(b)) => a.extend(b),
            (Cells::Words(a), Cells::Words(b)) => a.extend(b),
            (Cells::Flags(a), Cells::Flags(b)) => a.extend(b),
            // Columns of one answer have one kind each.
            _ => {}
        }
    }
}

impl Batch {
    /// Puts further rows behind these.
    pub(crate) fn append(&mut self, more: Batch) {
        self.rows += more.rows;
        self.columns.iter_mut().zip(more.columns).for_each(|(cells, more)| cells.append(more));
    }
}

/// Some rows: the cells of each column, all of one length.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Batch {
    /// How many rows.
    pub rows: usize,
    /// The columns, in the order of their headings.
    pub columns: Vec<Cells>,
}
