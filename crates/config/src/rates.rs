//! The file `rates.toml`: what money of one currency is worth in another, by the closes of pairs.

use crate::{Problem, problem};
use serde::Deserialize;
use std::path::Path;

/// The rates the desk takes from its own series; without the file, none.
#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Rates {
    /// The first that fits counts.
    #[serde(default, rename = "rate")]
    entries: Vec<Rate>,
}

/// What one unit of a currency is worth in another: the close of `pair`, over that of `over`. Either may be left out, and is 1 then.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Rate {
    /// One unit of this currency ...
    pub of: String,
    /// ... in this one.
    pub into: String,
    /// The instrument whose close is taken.
    #[serde(default)]
    pub pair: Option<String>,
    /// The instrument whose close it is divided by.
    #[serde(default)]
    pub over: Option<String>,
}

impl Rates {
    pub(crate) fn parse(file: &Path, text: &str) -> Result<Rates, Vec<Problem>> {
        let rates: Rates = problem::toml(file, text)?;
        let wrong = |rate: &Rate| {
            let why = match (&rate.pair, &rate.over) {
                (None, None) => "it has no pair; write pair = \"...\", the instrument whose close it is, or over = \"...\" for one over it",
                _ if rate.of == rate.into => "it is of a currency into itself",
                _ => return None,
            };
            Some(Problem::whole(file, format!("the rate of {} into {}: {why}", rate.of, rate.into)))
        };
        let problems: Vec<Problem> = rates.entries.iter().filter_map(wrong).collect();
        if problems.is_empty() { Ok(rates) } else { Err(problems) }
    }

    /// The rate of a currency into another.
    #[must_use]
    pub fn rate(&self, of: &str, into: &str) -> Option<&Rate> {
        self.entries.iter().find(|rate| rate.of == of && rate.into == into)
    }

    /// Every instrument the file names.
    pub(crate) fn named(&self) -> impl Iterator<Item = &String> {
        self.entries.iter().flat_map(|rate| rate.pair.iter().chain(&rate.over))
    }

    pub(crate) fn instruments_mut(&mut self) -> impl Iterator<Item = &mut String> {
        self.entries.iter_mut().flat_map(|rate| rate.pair.iter_mut().chain(&mut rate.over))
    }
}
