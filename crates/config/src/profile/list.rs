//! Lists that a source keeps: what it has, and reference data. Collected daily, like bars.

use super::{Answer, Request};
use crate::text;
use jiff::civil::Time;
use serde::Deserialize;
use std::collections::BTreeMap;

/// What the rows of a list are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ListKind {
    /// What can be collected, and what the source calls it.
    Instruments,
    /// Splits.
    Splits,
    /// Dividends.
    Dividends,
    /// Corporate actions of several kinds, each row with its own.
    Actions,
    /// Members of an index, with their dates.
    Members,
    /// Days on which a venue is closed.
    Holidays,
}

impl ListKind {
    /// The word used in profiles, on the command line and over HTTP.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            ListKind::Instruments => "instruments",
            ListKind::Splits => "splits",
            ListKind::Dividends => "dividends",
            ListKind::Actions => "actions",
            ListKind::Members => "members",
            ListKind::Holidays => "holidays",
        }
    }

    /// The columns its rows may have; those before the count make a row's key.
    #[must_use]
    pub fn columns(self) -> (&'static [&'static str], usize) {
        match self {
            ListKind::Instruments => {
                (&["symbol", "id", "name", "kind", "currency", "tick_size", "multiplier", "listed", "last_traded", "expiry", "strike"], 1)
            }
            ListKind::Splits => (&["symbol", "ex_date", "new", "old"], 2),
            ListKind::Dividends => (&["symbol", "ex_date", "amount", "currency", "rate", "before_split"], 2),
            ListKind::Actions => {
                let columns = &["symbol", "ex_date", "kind", "new", "old", "amount", "currency", "rate", "before_split", "price", "value"];
                (columns, 3)
            }
            ListKind::Members => (&["name", "from", "symbol", "to"], 2),
            ListKind::Holidays => (&["date", "name"], 1),
        }
    }
}

/// A list that a source keeps.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct List {
    /// Its name, unique in the profile.
    pub name: String,
    /// What its rows are.
    pub of: ListKind,
    /// The venue it is about.
    pub venue: String,
    /// The time of day, on the venue's clock, at which it is collected.
    #[serde(deserialize_with = "text::time_of_day")]
    pub daily_at: Time,
    /// Whether it holds the last stretch of time only: a row that is no longer on it has not ended.
    #[serde(default)]
    pub rolling: bool,
    /// Whether instruments on it that we do not know are taken in.
    #[serde(default)]
    pub adds: bool,
    /// How to ask.
    pub request: Request,
    /// How to understand the answer.
    pub answer: Answer,
    /// Where our columns stand in its rows.
    pub columns: BTreeMap<String, String>,
    /// Columns that are the same in every row.
    #[serde(default)]
    pub constants: BTreeMap<String, String>,
}

impl List {
    /// What is wrong with it, and the text to point at.
    pub(super) fn problems(&self) -> Vec<(String, String)> {
        let mut out: Vec<(String, String)> = self.request.problems(&[], false);
        out.extend(self.answer.problems(false).into_iter().map(|(at, what)| (at.to_owned(), what)));
        let (known, keys) = self.of.columns();
        for name in self.columns.keys().chain(self.constants.keys()).filter(|name| !known.contains(&name.as_str())) {
            out.push((name.clone(), format!("a list of {} has no column `{name}`; it has {}", self.of.word(), known.join(", "))));
        }
        for name in known[..keys].iter().filter(|name| !self.columns.contains_key(**name)) {
            out.push(("columns".to_owned(), format!("a list of {} needs the column `{name}`", self.of.word())));
        }
        if self.adds && self.of != ListKind::Instruments {
            out.push(("adds".to_owned(), "only a list of instruments can add some".to_owned()));
        }
        out
    }
}
