//! Files in `chains/`: continuous series of a futures product, each with the rule by which it rolls.

use crate::{Config, Problem, known, problem, text};
use mizuno_core::{
    Decimal, TradeDate,
    roll::{By, Line},
};
use serde::{Deserialize, Deserializer, de::Error};
use std::path::Path;

/// A continuous series: the n-th contract of a product in each session.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Chain {
    /// The name of its file, under which it is asked for as an instrument is.
    #[serde(skip)]
    pub name: String,
    /// What people call it.
    #[serde(default)]
    pub title: String,
    /// The venue of its contracts.
    pub venue: String,
    /// What they are on; of a table it may be left out, and the instruments are those that it names.
    #[serde(default)]
    pub product: Option<String>,
    /// Which of them in each session: 1 is the front one.
    #[serde(default = "front")]
    pub nth: usize,
    /// When the front contract rolls.
    #[serde(deserialize_with = "by")]
    pub roll: By,
}

fn front() -> usize {
    1
}

/// The farthest contract that a series may be of.
const FARTHEST: usize = 40;
/// Sessions that a rule may count.
const MOST_SESSIONS: u32 = 250;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RollFile {
    by: String,
    #[serde(default)]
    sessions: Option<u32>,
    #[serde(default)]
    day: Option<u8>,
    #[serde(default)]
    months_before: Option<u8>,
    #[serde(default)]
    table: Option<Vec<LineFile>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct LineFile {
    #[serde(deserialize_with = "text::parsed")]
    from: TradeDate,
    contract: String,
    /// How many of it one of the contract before became.
    #[serde(default, deserialize_with = "text::parsed_if_there")]
    for_one: Option<Decimal>,
}

fn by<'de, D: Deserializer<'de>>(d: D) -> Result<By, D::Error> {
    let RollFile { by, sessions, day, months_before, table } = RollFile::deserialize(d)?;
    let wrong = |what: &str| Err(D::Error::custom(what));
    if sessions.is_some_and(|n| !(1..=MOST_SESSIONS).contains(&n)) {
        return wrong("sessions are counted from 1 to 250");
    }
    match (by.as_str(), sessions, day, months_before, table) {
        ("before-expiry", Some(n), None, None, None) => Ok(By::BeforeExpiry(n)),
        ("before-notice", Some(n), None, None, None) => Ok(By::BeforeNotice(n)),
        ("volume", n, None, None, None) => Ok(By::Volume(n.unwrap_or(1))),
        ("open-interest", n, None, None, None) => Ok(By::OpenInterest(n.unwrap_or(1))),
        ("day-of-month", None, Some(day), months, None) if (1..=31).contains(&day) && months.unwrap_or(0) <= 24 => {
            Ok(By::DayOfMonth { day, months_before: months.unwrap_or(0) })
        }
        ("table", None, None, None, Some(lines)) if !lines.is_empty() => {
            if let Some(odd) = lines.iter().filter_map(|line| line.for_one).find(|n| n.mantissa <= 0) {
                return wrong(&format!("for_one: {odd} is not above nought"));
            }
            let line = |LineFile { from, contract, for_one }| Line { from, contract, for_one };
            let mut lines: Vec<Line> = lines.into_iter().map(line).collect();
            lines.sort_by(|a, b| (a.from, &a.contract).cmp(&(b.from, &b.contract)));
            Ok(By::Table(lines))
        }
        _ => wrong(
            "a roll is one of: { by = \"before-expiry\", sessions = 5 }, { by = \"before-notice\", sessions = 3 }, { by = \"day-of-month\", \
             day = 10, months_before = 1 }, { by = \"volume\", sessions = 2 } (the larger volume in so many sessions running), \
             { by = \"open-interest\", sessions = 2 } (the larger open interest, each counted from the session after), { by = \"table\", \
             table = [{ from = \"2025-01-02\", contract = \"BLY-2025-03\" }] }",
        ),
    }
}

impl Chain {
    pub(crate) fn parse(file: &Path, toml: &str) -> Result<Chain, Vec<Problem>> {
        let mut read: Chain = problem::toml(file, toml)?;
        read.name = text::stem(file);
        if read.title.is_empty() {
            read.title = read.name.clone();
        }
        let mut wrong = vec![];
        if !text::is_name(&read.name) {
            wrong.push(format!("`{}` cannot be a chain's name; call the file by letters, digits and hyphens", read.name));
        }
        if !(1..=FARTHEST).contains(&read.nth) {
            wrong.push(format!("nth: {} is not from 1, the front contract, to {FARTHEST}", read.nth));
        }
        if read.product.is_none() && !matches!(read.roll, By::Table(_)) {
            wrong.push("product: say what its contracts are on; only a table names instruments itself".to_owned());
        }
        if wrong.is_empty() { Ok(read) } else { Err(wrong.into_iter().map(|what| Problem::whole(file, what)).collect()) }
    }

    /// What it is made of, in a few words.
    #[must_use]
    pub fn made_of(&self) -> String {
        match &self.product {
            Some(product) => format!("contract {} of {product}", self.nth),
            None => "the instruments of its table".to_owned(),
        }
    }

    /// The rule in a few words.
    #[must_use]
    pub fn rule(&self) -> String {
        match &self.roll {
            By::BeforeExpiry(n) => format!("{n} sessions before the last trading day"),
            By::BeforeNotice(n) => format!("{n} sessions before first notice"),
            By::DayOfMonth { day, months_before: 0 } => format!("from day {day} of the month of expiry on"),
            By::DayOfMonth { day, months_before } => format!("from day {day} of the month {months_before} before expiry on"),
            By::Volume(1) => "when the next contract has the larger volume".to_owned(),
            By::Volume(n) => format!("when the next contract has the larger volume {n} sessions running"),
            By::OpenInterest(1) => "when the next contract has the larger open interest".to_owned(),
            By::OpenInterest(n) => format!("when the next contract has the larger open interest {n} sessions running"),
            By::Table(_) => "by a table".to_owned(),
        }
    }
}

impl Config {
    /// What is wrong with what chains say of venues and instruments.
    pub(crate) fn check_chains(&self) -> Vec<Problem> {
        let mut problems = vec![];
        for chain in self.chains.values() {
            let file = Path::new("chains").join(format!("{}.toml", chain.name));
            let mut wrong = |what: String| problems.push(Problem::whole(&file, what));
            if !self.venues.contains_key(&chain.venue) {
                wrong(format!("there is no venue {}; {}", chain.venue, known(self.venues.keys())));
            }
            if self.instruments.iter().any(|i| i.symbol.eq_ignore_ascii_case(&chain.name)) {
                wrong(format!("{} is an instrument; give the chain another name", chain.name));
            }
        }
        problems
    }
}
