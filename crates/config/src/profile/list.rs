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
    /// Members of an index: those of the day, or with their dates.
    Members,
    /// Who joined an index, and who left it, by date.
    MemberChanges,
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
            ListKind::MemberChanges => "member-changes",
            ListKind::Holidays => "holidays",
        }
    }

    /// The columns its rows may have; those before the count must be there and make a row's key, see [`ListKind::key`].
    #[must_use]
    pub fn columns(self) -> (&'static [&'static str], usize) {
        match self {
            ListKind::Instruments => {
                let columns = &[
                    "symbol",
                    "id",
                    "name",
                    "kind",
                    "currency",
                    "tick_size",
                    "multiplier",
                    "listed",
                    "last_traded",
                    "expiry",
                    "strike",
                    "product",
                    "first_notice",
                    "leverage",
                ];
                (columns, 1)
            }
            ListKind::Splits => (&["symbol", "ex_date", "new", "old"], 2),
            ListKind::Dividends => (&["symbol", "ex_date", "amount", "currency", "rate", "before_split"], 2),
            ListKind::Actions => {
                let columns = &["symbol", "ex_date", "kind", "new", "old", "amount", "currency", "rate", "before_split", "price", "value"];
                (columns, 3)
            }
            ListKind::Members => (&["name", "from", "symbol", "to"], 0),
            ListKind::MemberChanges => (&["date", "joined", "left"], 1),
            ListKind::Holidays => (&["date", "name"], 1),
        }
    }
}

impl ListKind {
    /// The key of a row, under which it is the same row in the next collection.
    #[must_use]
    pub fn key(self, row: &BTreeMap<String, String>) -> String {
        let (columns, keys) = self.columns();
        let of = |names: &[&str]| names.iter().filter_map(|c| row.get(*c)).map(String::as_str).collect::<Vec<_>>().join(" ");
        match self {
            ListKind::Members if row.contains_key("name") => of(&["name", "from"]),
            ListKind::Members => of(&["symbol", "from"]),
            ListKind::MemberChanges => of(columns),
            _ => of(&columns[..keys]),
        }
    }
}

/// What a list of members means by the day on which one left.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Left {
    /// The first day on which it was none.
    #[default]
    FirstDayOut,
    /// The last day on which it was one.
    LastDayIn,
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
    /// Of members: what `to` says, the last day in or the first day out.
    #[serde(default)]
    pub left: Left,
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
        let has = |name: &str| self.columns.contains_key(name);
        if self.of == ListKind::Members && !has("name") && !has("symbol") {
            out.push(("columns".to_owned(), "a list of members needs the column `symbol` or `name`".to_owned()));
        }
        if self.of == ListKind::Members && has("to") && !has("from") {
            out.push((
                "columns".to_owned(),
                "a list of members with the column `to` needs `from`; leave both out in one of the members of the day".to_owned(),
            ));
        }
        if self.of == ListKind::MemberChanges && !has("joined") && !has("left") {
            out.push(("columns".to_owned(), "a list of member-changes needs the column `joined` or `left`".to_owned()));
        }
        if self.left != Left::default() && self.of != ListKind::Members {
            out.push(("left".to_owned(), "only a list of members says until when; leave it out".to_owned()));
        }
        if self.adds && self.of != ListKind::Instruments {
            out.push(("adds".to_owned(), "only a list of instruments can add some".to_owned()));
        }
        out
    }
}
