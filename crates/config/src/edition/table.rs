//! Bars of an edition as one table that a SQL engine reads.
//!
//! The table has one schema for ever: golden bars as traded, with prices and volumes as `DECIMAL(18, s)`. It lies in files that engines prune:
//! `NAME/interval=1m/venue=ALDX/month=2025-03/bars.parquet`. Beside it lie the tables of what makes bars usable: `NAME_factors`,
//! `NAME_members`, `NAME_sessions`.

use super::{Cut, FileSpec};
use crate::text;
use mizuno_core::Interval;
use serde::Deserialize;

/// Bars as a table.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TableSpec {
    /// What it is called in an engine, and the folder that it lies in.
    #[serde(default = "bars")]
    pub name: String,
    /// Symbols of instruments, and patterns; all when left out.
    #[serde(default = "all")]
    pub instruments: Vec<String>,
    /// Intervals, as they are collected.
    #[serde(deserialize_with = "text::all_parsed")]
    pub intervals: Vec<Interval>,
    /// Universes whose memberships lie beside it.
    #[serde(default)]
    pub universes: Vec<String>,
    /// Digits after the point of prices.
    #[serde(default = "super::six")]
    pub price_decimals: u8,
    /// Digits after the point of volumes.
    #[serde(default)]
    pub volume_decimals: u8,
    /// Whether it has a column of open interest.
    #[serde(default)]
    pub open_interest: bool,
}

fn bars() -> String {
    "bars".to_owned()
}

fn all() -> Vec<String> {
    vec!["*".to_owned()]
}

/// The columns of a table that lie in its files, in order; `time` of bars shorter than a day, `open_interest` where it is asked for. `interval`,
/// `venue` and `month` are in the names of folders.
const COLUMNS: [&str; 10] = ["instrument", "trade_date", "time", "open", "high", "low", "close", "volume", "open_interest", "source"];

impl TableSpec {
    /// Its files, a spec for each interval.
    #[must_use]
    pub fn files(&self) -> Vec<FileSpec> {
        let has = |column: &str, interval: &Interval| match column {
            "time" => interval.is_intraday(),
            "open_interest" => self.open_interest,
            _ => true,
        };
        let quoted = |words: &mut dyn Iterator<Item = &str>| words.map(|w| format!("\"{w}\"")).collect::<Vec<_>>().join(", ");
        let file = |interval: &Interval| FileSpec {
            name: format!("{}/interval={interval}/venue={{venue}}/month={{month}}/bars.parquet", self.name),
            question: format!("{}-{interval}", self.name),
            own: Some(format!(
                "instruments = [{}]\ninterval = \"{interval}\"\nmade_from = \"{interval}\"\nside = \"trade\"\ncolumns = [{}]\n",
                quoted(&mut self.instruments.iter().map(String::as_str)),
                quoted(&mut COLUMNS.into_iter().filter(|column| has(column, interval))),
            )),
            cut: vec![Cut::Venue, Cut::Month],
            format: Some("parquet".to_owned()),
            price_decimals: self.price_decimals,
            volume_decimals: self.volume_decimals,
        };
        self.intervals.iter().map(file).collect()
    }

    pub(super) fn problems(&self) -> Vec<String> {
        let mut wrong = vec![];
        let is_plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_';
        if !self.name.starts_with(|c: char| c.is_ascii_lowercase()) || !self.name.chars().all(is_plain) || self.name == super::ABOUT {
            wrong.push(format!("table.name: `{}` cannot be a table's name; use small letters, digits and _, a letter first", self.name));
        }
        if self.intervals.is_empty() {
            wrong.push("table.intervals: say which, as in [\"1d\", \"1m\"]".to_owned());
        }
        if let Some(twice) = self.intervals.iter().enumerate().find(|(at, interval)| self.intervals[..*at].contains(interval)) {
            wrong.push(format!("table.intervals: {} stands twice", twice.1));
        }
        let is_symbol = |symbol: &String| !symbol.is_empty() && !symbol.contains(['"', '\\', '\n']);
        if let Some(odd) = self.instruments.iter().find(|symbol| !is_symbol(symbol)) {
            wrong.push(format!("table.instruments: `{odd}` is neither a symbol nor a pattern"));
        }
        if self.instruments.is_empty() {
            wrong.push("table.instruments: leave it out for all".to_owned());
        }
        // A factor has 18 digits after the point, and 38 hold a price times a factor.
        if self.price_decimals > 8 || self.volume_decimals > 8 {
            wrong.push("table: price_decimals and volume_decimals are at most 8".to_owned());
        }
        wrong
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> TableSpec {
        toml::from_str(text).unwrap()
    }

    #[test]
    fn a_table_is_a_file_for_each_interval_venue_and_month() {
        let table = read("intervals = [\"1d\", \"5m\"]\ninstruments = [\"KBF\", \"AL*\"]\nprice_decimals = 4\n");
        assert_eq!(table.problems(), Vec::<String>::new());
        let files = table.files();
        assert_eq!(files[1].name, "bars/interval=5m/venue={venue}/month={month}/bars.parquet");
        assert_eq!((files[0].question.as_str(), files[0].price_decimals), ("bars-1d", 4));
        let (days, minutes) = (files[0].own.as_deref().unwrap(), files[1].own.as_deref().unwrap());
        assert!(
            days.contains("instruments = [\"KBF\", \"AL*\"]")
                && !days.contains("open_interest")
                && !days.contains("\"time\"")
                && minutes.contains("\"trade_date\", \"time\"")
        );
        assert!(files.iter().all(|file| file.problems().is_empty()), "its own names are sound");
        let held = read("intervals = [\"1d\"]\nopen_interest = true\n").files();
        assert!(held[0].own.as_deref().unwrap().contains("\"volume\", \"open_interest\", \"source\""));
    }

    #[test]
    fn what_no_engine_would_read_is_refused_with_the_way_out() {
        for (text, told) in [
            ("intervals = []", "say which"),
            ("intervals = [\"1d\", \"1d\"]", "1d stands twice"),
            ("intervals = [\"1d\"]\nname = \"Bars\"", "use small letters"),
            ("intervals = [\"1d\"]\nname = \"about\"", "cannot be a table's name"),
            ("intervals = [\"1d\"]\ninstruments = []", "leave it out for all"),
            ("intervals = [\"1d\"]\ninstruments = ['K\"F']", "neither a symbol nor a pattern"),
            ("intervals = [\"1d\"]\nprice_decimals = 9", "at most 8"),
        ] {
            let wrong = read(text).problems().join("\n");
            assert!(wrong.contains(told), "{text}: {wrong}");
        }
    }
}
