//! Collector files: standing orders.

use crate::{Problem, text};
use croner::{Cron, parser::CronParser};
use mizuno_core::{Instrument, Interval, Side, TradeDate};
use serde::{Deserialize, Deserializer, de::Error};
use std::path::Path;

/// A file in `collectors/`: this source, these instruments, this interval, on this schedule.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Collector {
    /// Its name, unique.
    pub name: String,
    /// What it is for, in a sentence.
    #[serde(default)]
    pub about: String,
    /// The source it asks.
    pub source: String,
    /// The venue whose instruments and calendar it follows.
    pub venue: String,
    /// The interval of its bars.
    #[serde(deserialize_with = "text::parsed")]
    pub interval: Interval,
    /// The side of its bars.
    #[serde(default = "trade", deserialize_with = "text::parsed")]
    pub side: Side,
    /// The first trade date it wants.
    #[serde(deserialize_with = "text::parsed")]
    pub since: TradeDate,
    /// The symbols it collects; all of the venue when left out.
    #[serde(default)]
    instruments: Option<Vec<String>>,
    /// The kinds of instrument it collects; all when left out.
    #[serde(default)]
    kinds: Option<Vec<String>>,
    /// The universe whose members it collects, present and former: whoever joins is collected from then on, from `since` on.
    #[serde(default)]
    pub universe: Option<String>,
    /// Symbols it leaves out.
    #[serde(default)]
    except: Vec<String>,
    /// The second look at recent sessions.
    #[serde(default)]
    pub second_look: SecondLook,
    /// When it runs; never by itself when left out.
    #[serde(default)]
    pub schedule: Option<Schedule>,
    /// What it repairs by itself.
    #[serde(default)]
    pub repair: Budget,
    /// When it asks again for a random sample of what is held; never by itself when left out.
    #[serde(default)]
    pub audit: Option<Audit>,
}

fn trade() -> Side {
    Side::Trade
}

/// How far back to look again, since sources correct themselves.
#[derive(Clone, Copy, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SecondLook {
    /// Closed sessions to look at again, once after each close.
    pub sessions: u32,
}

impl Default for SecondLook {
    fn default() -> Self {
        SecondLook { sessions: 3 }
    }
}

/// How much a scheduled run asks for again that was asked for in vain before.
#[derive(Clone, Copy, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Budget {
    /// Windows at most; newest first, the others another time.
    pub windows_a_run: u32,
}

impl Default for Budget {
    fn default() -> Self {
        Budget { windows_a_run: 200 }
    }
}

/// A look at whether a source has changed what it said long ago.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Audit {
    /// Windows asked for again each time.
    pub windows: u32,
    /// When, as a cron expression on the venue's clock.
    #[serde(deserialize_with = "cron")]
    pub cron: Box<Cron>,
}

fn cron<'de, D: Deserializer<'de>>(d: D) -> Result<Box<Cron>, D::Error> {
    let text = String::deserialize(d)?;
    CronParser::new().parse(&text).map(Box::new).map_err(|e| D::Error::custom(not_cron(&text, &e)))
}

fn not_cron(text: &str, why: &dyn std::fmt::Display) -> String {
    format!("`{text}` is not a cron expression: {why}; write minute hour day month weekday, as in 30 6 * * 1-5")
}

/// When a collector runs.
#[derive(Clone, Debug, PartialEq)]
pub enum Schedule {
    /// This many microseconds after each close of the venue.
    AfterClose(i64),
    /// Every so many microseconds while the venue is open, breaks included, and once when it has closed.
    WhileOpen(i64),
    /// At the times of a cron expression on the venue's clock.
    Cron(Box<Cron>),
    /// Whenever files have been dropped into the source's folder and have lain there unchanged this many microseconds of wall time.
    Dropped(i64),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct ScheduleFile {
    #[serde(default, deserialize_with = "text::duration_if_there")]
    after_close: Option<i64>,
    #[serde(default, deserialize_with = "text::duration_if_there")]
    every: Option<i64>,
    #[serde(default)]
    cron: Option<String>,
    #[serde(default, deserialize_with = "text::duration_if_there")]
    dropped: Option<i64>,
}

impl<'de> Deserialize<'de> for Schedule {
    fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Schedule, D::Error> {
        match ScheduleFile::deserialize(d)? {
            ScheduleFile { after_close: Some(delay), every: None, cron: None, dropped: None } => Ok(Schedule::AfterClose(delay)),
            ScheduleFile { after_close: None, every: Some(every), cron: None, dropped: None } if every >= mizuno_core::time::SECOND => {
                Ok(Schedule::WhileOpen(every))
            }
            ScheduleFile { after_close: None, every: None, cron: None, dropped: Some(quiet) } => Ok(Schedule::Dropped(quiet)),
            ScheduleFile { after_close: None, every: None, cron: Some(text), dropped: None } => match CronParser::new().parse(&text) {
                Ok(cron) => Ok(Schedule::Cron(Box::new(cron))),
                Err(e) => Err(D::Error::custom(not_cron(&text, &e))),
            },
            _ => Err(D::Error::custom(
                "a schedule is one of: after_close = \"30m\" (after each close), every = \"5m\" (while open, at least 1s), cron = \"30 6 * * 1-5\", dropped = \"5s\" (when files have been dropped into a folder)",
            )),
        }
    }
}

impl Collector {
    /// Whether its file names an instrument, whoever belongs to its universe.
    pub(crate) fn names(&self, instrument: &Instrument) -> bool {
        let listed = |list: &Vec<String>, text: &str| list.iter().any(|s| s == text);
        instrument.venue == self.venue
            && self.instruments.as_ref().is_none_or(|all| listed(all, &instrument.symbol))
            && self.kinds.as_ref().is_none_or(|all| listed(all, &instrument.kind))
            && !listed(&self.except, &instrument.symbol)
    }

    /// Every symbol its file names.
    pub(crate) fn named(&self) -> impl Iterator<Item = &String> {
        self.instruments.iter().flatten().chain(&self.except)
    }

    pub(crate) fn named_mut(&mut self) -> impl Iterator<Item = &mut String> {
        self.instruments.iter_mut().flatten().chain(&mut self.except)
    }

    pub(crate) fn check(&self, file: &Path, text: &str) -> Result<(), Vec<Problem>> {
        if text::is_name(&self.name) {
            return Ok(());
        }
        let what = format!("`{}` cannot be a collector's name; use letters, digits and hyphens", self.name);
        Err(vec![Problem::at(file, text, text.find("name").unwrap_or(0), what)])
    }
}
