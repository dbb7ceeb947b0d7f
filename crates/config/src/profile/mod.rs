//! Source profiles: how to ask a source, and how to understand it.
//!
//! The reference for people who write them is docs/profile.md.

mod answer;
mod key;
mod limits;
mod list;
mod request;
mod stamp;
mod symbols;
mod template;

pub use answer::{Answer, Columns, Form, OutsideHours, Packed};
pub use key::{Key, Login};
pub use limits::{DayLimit, Limits, QuietHours};
pub use list::{Left, List, ListKind};
pub use request::{Pages, Request};
pub use stamp::{Stamp, StampedAt};
pub use symbols::Spelling;
pub use template::Template;

use crate::{Problem, problem, text};
use mizuno_core::{Interval, Side, restate::Policy};
use serde::Deserialize;
use std::path::Path;

/// A file in `sources/`.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Profile {
    /// Its name, unique; the last part of every series' name.
    pub name: String,
    /// Who it is, for people.
    pub title: String,
    /// The address that requests begin with.
    pub base: String,
    /// What it allows.
    pub limits: Limits,
    /// What it wants to see before it answers.
    #[serde(default)]
    pub key: Option<Key>,
    /// How it spells symbols.
    #[serde(default)]
    pub symbols: Spelling,
    /// What becomes of bars it changes.
    #[serde(default)]
    pub restated: Restated,
    /// What it offers.
    #[serde(default)]
    pub series: Vec<Offer>,
    /// Lists it keeps.
    #[serde(default, rename = "list")]
    pub lists: Vec<List>,
}

/// What becomes of bars that a source changes after it gave them.
#[derive(Clone, Copy, Debug, Default, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Restated {
    /// A price that moves by more than so many percent is held for a person; without it every change is taken.
    #[serde(default)]
    pub hold_above_percent: Option<f64>,
}

impl Restated {
    /// The policy as the core knows it.
    #[must_use]
    pub fn policy(self) -> Policy {
        self.hold_above_percent.map_or(Policy::Take, |percent| Policy::HoldAbove(percent / 100.0))
    }
}

/// One kind of series a source has.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Offer {
    /// The interval of its bars.
    #[serde(deserialize_with = "text::parsed")]
    pub interval: Interval,
    /// The side of its bars.
    #[serde(default = "trade", deserialize_with = "text::parsed")]
    pub side: Side,
    /// Codes of the venues it covers.
    pub venues: Vec<String>,
    /// What its prices are adjusted for.
    pub adjusted: Adjusted,
    /// How many shares or contracts one unit of its volume is.
    #[serde(default = "limits::one")]
    pub volume_unit: u32,
    /// How long after a bar is finished it is published, in microseconds.
    #[serde(deserialize_with = "text::duration")]
    pub delay: i64,
    /// How many days back it goes; everything when left out.
    #[serde(default)]
    pub depth_days: Option<u32>,
    /// How many calendar days one request may span, first and last included.
    pub span_days: u32,
    /// Whether a price of zero or less can be true.
    #[serde(default)]
    pub any_price: bool,
    /// How to ask; of each part, the first whose `up_to_days` the window does not exceed.
    pub request: Vec<Request>,
    /// How to understand the answer.
    pub answer: Answer,
}

fn trade() -> Side {
    Side::Trade
}

/// What a source's prices are adjusted for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Adjusted {
    /// Nothing: as traded.
    No,
    /// Splits.
    Splits,
    /// Splits and dividends.
    SplitsAndDividends,
}

impl Offer {
    /// The requests a window of so many days takes: one for each part, or one in all. `None` when a part has none that fits.
    #[must_use]
    pub fn requests(&self, days: u32) -> Option<Vec<&Request>> {
        let mut parts: Vec<Option<&str>> = vec![];
        for request in &self.request {
            if !parts.contains(&request.part.as_deref()) {
                parts.push(request.part.as_deref());
            }
        }
        let fits = |part: &Option<&str>| {
            let mut own = self.request.iter().filter(|r| r.part.as_deref() == *part);
            own.find(|r| r.up_to_days.is_none_or(|most| days <= most))
        };
        parts.iter().map(fits).collect()
    }

    fn problems(&self) -> Vec<(String, String)> {
        let mut out = vec![];
        if self.span_days == 0 || self.volume_unit == 0 {
            out.push(("span_days".to_owned(), "span_days and volume_unit are at least 1".to_owned()));
        }
        if self.request.is_empty() || self.requests(self.span_days).is_none() {
            out.push((
                "[[series.request]]".to_owned(),
                format!("has no request for windows of {} days; leave up_to_days out of the last one", self.span_days),
            ));
        }
        for request in &self.request {
            out.extend(request.problems(&["symbol", "id", "from", "to"], true));
        }
        let parts: Vec<Option<&str>> = self.request.iter().map(|r| r.part.as_deref()).collect();
        let sound = match self.side {
            Side::Mid => {
                parts.iter().all(|p| matches!(p, Some("bid" | "ask"))) && parts.contains(&Some("bid")) && parts.contains(&Some("ask"))
            }
            _ => parts.iter().all(Option::is_none),
        };
        if !sound {
            out.push((
                "request]".to_owned(),
                "a mid is made of two requests, part = \"bid\" and part = \"ask\"; other sides have no parts".to_owned(),
            ));
        }
        out.extend(self.answer.problems(true).into_iter().map(|(at, what)| (at.to_owned(), what)));
        out
    }
}

impl Profile {
    /// What it has for a venue, interval and side.
    #[must_use]
    pub fn offer(&self, venue: &str, interval: Interval, side: Side) -> Option<&Offer> {
        self.series.iter().find(|o| o.interval == interval && o.side == side && o.venues.iter().any(|v| v == venue))
    }

    /// The list of this name.
    #[must_use]
    pub fn list(&self, name: &str) -> Option<&List> {
        self.lists.iter().find(|l| l.name == name)
    }

    /// All it has, in words.
    #[must_use]
    pub fn offers(&self) -> String {
        let offers: Vec<String> =
            self.series.iter().map(|o| format!("{} {} bars of {}", o.interval, o.side, o.venues.join(", "))).collect();
        if offers.is_empty() { "no bars, only lists".to_owned() } else { offers.join("; ") }
    }

    /// Whether it is a folder into which people drop files.
    #[must_use]
    pub fn folder(&self) -> Option<&Path> {
        self.base.strip_prefix("folder:").map(Path::new)
    }
}

/// Reads a profile.
///
/// # Errors
/// What is wrong in it, with the line.
pub fn parse(file: &Path, text: &str) -> Result<Profile, Vec<Problem>> {
    let profile: Profile = problem::toml(file, text)?;
    let mut problems = vec![];
    let mut wrong = |needle: &str, what: String| problems.push(Problem::at(file, text, text.find(needle).unwrap_or(0), what));
    if !text::is_name(&profile.name) {
        wrong("name", format!("`{}` cannot be a source's name; use letters, digits and hyphens", profile.name));
    }
    if !["http://", "https://", "ftp://", "folder:"].iter().any(|scheme| profile.base.starts_with(scheme)) {
        wrong("base", format!("`{}` is not an address; it begins with http://, https://, ftp:// or folder:", profile.base));
    }
    let l = &profile.limits;
    if l.calls_per_minute == 0 || l.burst == 0 || l.at_once == 0 || l.attempts == 0 || l.pause_after == 0 || l.burst > l.calls_per_minute {
        wrong(
            "[limits]",
            "calls_per_minute, burst, at_once, attempts and pause_after are at least 1, and burst is not above calls_per_minute".to_owned(),
        );
    }
    if let Some(percent) = profile.restated.hold_above_percent.filter(|p| !(p.is_finite() && *p >= 0.0)) {
        wrong("hold_above_percent", format!("{percent} is no share to hold bars above; write percent, 0 or more"));
    }
    if let Some(what) = profile.key.as_ref().and_then(Key::problem) {
        wrong("[key]", what);
    }
    if profile.series.is_empty() && profile.lists.is_empty() {
        wrong("", "offers nothing; it needs a [[series]] or a [[list]]".to_owned());
    }
    for offer in &profile.series {
        for (needle, what) in offer.problems() {
            wrong(&needle, format!("the {} {} series: {what}", offer.interval, offer.side));
        }
    }
    for (at, list) in profile.lists.iter().enumerate() {
        for (needle, what) in list.problems() {
            wrong(&needle, format!("the list {}: {what}", list.name));
        }
        if profile.lists[..at].iter().any(|other| other.name == list.name) {
            wrong("[[list]]", format!("the list {} stands twice", list.name));
        }
    }
    if problems.is_empty() { Ok(profile) } else { Err(problems) }
}
