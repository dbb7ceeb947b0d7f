//! Source profiles: how to ask a source, and how to understand it.
//!
//! The reference for people who write them is docs/profile.md.

use crate::{Problem, problem, text};
use iri_string::template::UriTemplateString;
use jiff::tz::TimeZone;
use mizuno_core::{Interval, Side};
use serde::{Deserialize, Deserializer, de::Error};
use std::{collections::BTreeMap, path::Path};

/// A file in `sources/`.
#[derive(Clone, Debug, Deserialize)]
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
    /// How it spells symbols.
    #[serde(default)]
    pub symbols: Spelling,
    /// What it offers.
    #[serde(rename = "series")]
    pub series: Vec<Offer>,
}

/// What a source allows, and how patient we are with it.
#[derive(Clone, Copy, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Limits {
    /// Requests in any sixty seconds.
    pub calls_per_minute: u32,
    /// How many of them may come at once; the rest are spread evenly.
    #[serde(default = "one")]
    pub burst: u32,
    /// Requests under way at the same time.
    #[serde(default = "one")]
    pub at_once: u32,
    /// How long an answer may take, in microseconds of wall time.
    #[serde(default = "twenty_seconds", deserialize_with = "text::duration")]
    pub timeout: i64,
    /// The largest answer taken, in MiB.
    #[serde(default = "sixteen")]
    pub largest_answer_mib: u32,
    /// How often a request is tried in all.
    #[serde(default = "four")]
    pub attempts: u32,
    /// The pause before the second try, in microseconds; it doubles with each further one, with jitter.
    #[serde(default = "two_seconds", deserialize_with = "text::duration")]
    pub first_pause: i64,
    /// The longest pause, in microseconds.
    #[serde(default = "a_minute", deserialize_with = "text::duration")]
    pub longest_pause: i64,
}

fn one() -> u32 {
    1
}
fn four() -> u32 {
    4
}
fn sixteen() -> u32 {
    16
}
fn two_seconds() -> i64 {
    2_000_000
}
fn twenty_seconds() -> i64 {
    20_000_000
}
fn a_minute() -> i64 {
    60_000_000
}

/// How a source spells our symbols.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Spelling {
    /// Replacements, in order.
    #[serde(default)]
    replace: Vec<Replacement>,
    /// Symbols it spells in a way of their own.
    #[serde(default)]
    exceptions: BTreeMap<String, String>,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Replacement {
    text: String,
    with: String,
}

impl Spelling {
    /// Our symbol as the source writes it.
    #[must_use]
    pub fn of(&self, symbol: &str) -> String {
        match self.exceptions.get(symbol) {
            Some(own) => own.clone(),
            None => self.replace.iter().fold(symbol.to_owned(), |s, r| s.replace(&r.text, &r.with)),
        }
    }
}

/// One kind of series a source has.
#[derive(Clone, Debug, Deserialize)]
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
    #[serde(default = "one")]
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
    /// How to ask; the first whose `up_to_days` the window does not exceed.
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

/// One way of asking.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Request {
    /// Used for windows of at most this many calendar days; for all when left out.
    #[serde(default)]
    pub up_to_days: Option<u32>,
    /// The path after `base`: an RFC 6570 template over `symbol`, `from`, `to` and the names in `with`.
    #[serde(deserialize_with = "template")]
    pub get: UriTemplateString,
    /// Constants for the template.
    #[serde(default)]
    pub with: BTreeMap<String, String>,
    /// How `from` and `to` are written.
    #[serde(deserialize_with = "text::parsed")]
    pub stamps: Stamp,
    /// Whether the bar at `to` is asked for too.
    #[serde(default)]
    pub to_included: bool,
}

fn template<'de, D: Deserializer<'de>>(d: D) -> Result<UriTemplateString, D::Error> {
    let text = String::deserialize(d)?;
    UriTemplateString::try_from(text.as_str())
        .map_err(|e| D::Error::custom(format!("`{text}` is not an RFC 6570 template ({e}); write it like /bars/{{symbol}}{{?from,to}}")))
}

/// How a moment is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Stamp {
    /// Whole seconds since the epoch.
    EpochSeconds,
    /// Whole milliseconds since the epoch.
    EpochMillis,
    /// RFC 3339, with its offset.
    Rfc3339,
    /// An strftime pattern on the wall of some zone.
    Pattern(String),
}

impl std::str::FromStr for Stamp {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "epoch-seconds" => Ok(Stamp::EpochSeconds),
            "epoch-millis" => Ok(Stamp::EpochMillis),
            "rfc3339" => Ok(Stamp::Rfc3339),
            pattern => {
                let sample = jiff::civil::datetime(2025, 4, 10, 14, 30, 0, 0);
                let printed = jiff::fmt::strtime::format(pattern, sample);
                let read = printed.as_ref().ok().and_then(|t| jiff::fmt::strtime::parse(pattern, t).ok()?.to_date().ok());
                if read == Some(sample.date()) {
                    Ok(Stamp::Pattern(pattern.to_owned()))
                } else {
                    Err(format!(
                        "`{pattern}` is not a way to write a moment; it is epoch-seconds, epoch-millis, rfc3339, or an strftime pattern with year, month and day like %Y-%m-%d %H:%M"
                    ))
                }
            }
        }
    }
}

/// How to understand an answer: one shape, with what it needs to know.
#[derive(Clone, Debug, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Answer {
    /// Delimited text with a header line.
    Delimited(Delimited),
}

/// Delimited text with a header line.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Delimited {
    /// The media type the answer must have, when the source can be trusted to say.
    #[serde(default)]
    pub media_type: Option<String>,
    /// What stands between two fields.
    #[serde(default = "comma")]
    pub separator: char,
    /// Lines above the header to pass over.
    #[serde(default)]
    pub skip_lines: u32,
    /// Whether the last line of a whole answer ends in a line break; without one it was cut.
    #[serde(default)]
    pub last_line_ends: bool,
    /// Spellings of an absent value.
    #[serde(default)]
    pub missing: Vec<String>,
    /// Header names of the columns.
    pub columns: Columns,
    /// How a bar's moment is written.
    #[serde(deserialize_with = "text::parsed")]
    pub stamp: Stamp,
    /// Whether the stamp is that of a bar's open or of its close.
    #[serde(default)]
    pub stamped_at: StampedAt,
    /// The zone of stamps without an offset; the venue's when left out.
    #[serde(default, deserialize_with = "text::zone_if_there")]
    pub zone: Option<TimeZone>,
}

fn comma() -> char {
    ','
}

/// Which end of a bar its stamp names.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum StampedAt {
    /// The open.
    #[default]
    Open,
    /// The close.
    Close,
}

/// Header names of the columns a bar is made of.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Columns {
    /// When.
    pub time: String,
    /// First price.
    pub open: String,
    /// Highest price.
    pub high: String,
    /// Lowest price.
    pub low: String,
    /// Last price.
    pub close: String,
    /// Quantity traded; none when left out.
    #[serde(default)]
    pub volume: Option<String>,
}

impl Profile {
    /// What it has for a venue, interval and side.
    #[must_use]
    pub fn offer(&self, venue: &str, interval: Interval, side: Side) -> Option<&Offer> {
        self.series.iter().find(|o| o.interval == interval && o.side == side && o.venues.iter().any(|v| v == venue))
    }

    /// All it has, in words.
    #[must_use]
    pub fn offers(&self) -> String {
        let offers: Vec<String> =
            self.series.iter().map(|o| format!("{} {} bars of {}", o.interval, o.side, o.venues.join(", "))).collect();
        offers.join("; ")
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
    if profile.name.is_empty() || !profile.name.chars().all(|c| c.is_ascii_alphanumeric() || c == '-') {
        wrong("name", format!("`{}` cannot be a source's name; use letters, digits and hyphens", profile.name));
    }
    if !profile.base.starts_with("http://") && !profile.base.starts_with("https://") {
        wrong("base", format!("`{}` is not an address; it begins with http:// or https://", profile.base));
    }
    let l = &profile.limits;
    if l.calls_per_minute == 0 || l.burst == 0 || l.at_once == 0 || l.attempts == 0 || l.burst > l.calls_per_minute {
        wrong(
            "[limits]",
            "calls_per_minute, burst, at_once and attempts are at least 1, and burst is not above calls_per_minute".to_owned(),
        );
    }
    if profile.series.is_empty() {
        wrong("", "offers nothing; it needs a [[series]]".to_owned());
    }
    for offer in &profile.series {
        let what = format!("the {} {} series", offer.interval, offer.side);
        if offer.span_days == 0 || offer.volume_unit == 0 {
            wrong("span_days", format!("{what}: span_days and volume_unit are at least 1"));
        }
        if !offer.request.iter().any(|r| r.up_to_days.is_none_or(|d| d >= offer.span_days)) {
            wrong(
                "[[series.request]]",
                format!("{what} has no request for windows of {} days; leave up_to_days out of the last one", offer.span_days),
            );
        }
        let known = |name: &str, r: &Request| ["symbol", "from", "to"].contains(&name) || r.with.contains_key(name);
        for request in &offer.request {
            for name in variables(request.get.as_str()).filter(|name| !known(name, request)) {
                wrong(
                    request.get.as_str(),
                    format!("{what}: the template uses {{{name}}}, which is neither symbol, from, to nor in `with`"),
                );
            }
        }
    }
    if problems.is_empty() { Ok(profile) } else { Err(problems) }
}

/// The variable names of an RFC 6570 template.
fn variables(template: &str) -> impl Iterator<Item = &str> {
    template
        .split('{')
        .skip(1)
        .filter_map(|rest| rest.split('}').next())
        .flat_map(|expression| expression.trim_start_matches(['+', '#', '.', '/', ';', '?', '&']).split(','))
        .map(|name| name.trim_end_matches('*').split(':').next().unwrap_or(name))
}
