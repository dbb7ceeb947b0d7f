//! What a source allows, and how patient we are with it.

use crate::text;
use jiff::{civil::Time, tz::TimeZone};
use mizuno_core::venue::Stretch;
use serde::Deserialize;

/// What a source allows, and how patient we are with it.
#[derive(Clone, Debug, PartialEq, Deserialize)]
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
    /// Requests in a day; any number when left out.
    #[serde(default)]
    pub day: Option<DayLimit>,
    /// Hours in which it must be left alone.
    #[serde(default)]
    pub leave_alone: Option<QuietHours>,
    /// How long an answer may take, in microseconds of wall time.
    #[serde(default = "twenty_seconds", deserialize_with = "text::duration")]
    pub timeout: i64,
    /// The largest answer taken, in MiB, before and after unpacking.
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
    /// After so many requests in a row without any answer to use, the source is paused.
    #[serde(default = "eight")]
    pub pause_after: u32,
    /// How long a paused source is left alone before one request probes it, in microseconds; doubles up to an hour.
    #[serde(default = "five_minutes", deserialize_with = "text::duration")]
    pub probe_after: i64,
    /// The limits are shared by all profiles of this group: they are of one provider, which counts all their requests.
    #[serde(default)]
    pub group: Option<String>,
}

impl Limits {
    /// The largest answer taken, in bytes.
    #[must_use]
    pub fn largest_answer(&self) -> usize {
        self.largest_answer_mib as usize * 1024 * 1024
    }
}

/// Requests in a day, counted from one turn of the day to the next.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DayLimit {
    /// Requests a day, with a key where the source knows keys.
    pub calls: u32,
    /// Requests a day without one; as many when left out.
    #[serde(default)]
    without_key: Option<u32>,
    /// When the count starts afresh, on the clock of `zone`.
    #[serde(default, deserialize_with = "text::time_of_day")]
    pub turns_at: Time,
    /// The source's zone.
    #[serde(default = "utc", deserialize_with = "text::zone")]
    pub zone: TimeZone,
}

impl DayLimit {
    /// Requests a day, with or without a key.
    #[must_use]
    pub fn calls(&self, with_key: bool) -> u32 {
        if with_key { self.calls } else { self.without_key.unwrap_or(self.calls) }
    }
}

/// Hours of each day in which no request is sent.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct QuietHours {
    /// Stretches on the clock of `zone`; one whose end is not after its start runs over midnight.
    #[serde(deserialize_with = "text::all_parsed")]
    pub hours: Vec<Stretch>,
    /// The source's zone.
    #[serde(default = "utc", deserialize_with = "text::zone")]
    pub zone: TimeZone,
}

impl QuietHours {
    /// Whether the source must be left alone at this time of its day.
    #[must_use]
    pub fn contain(&self, time: Time) -> bool {
        self.hours.iter().any(|s| match s.begins_the_evening_before() {
            false => s.open <= time && time < s.close,
            true => s.open <= time || time < s.close,
        })
    }
}

pub(super) fn one() -> u32 {
    1
}
fn four() -> u32 {
    4
}
fn eight() -> u32 {
    8
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
fn five_minutes() -> i64 {
    300_000_000
}
fn utc() -> TimeZone {
    TimeZone::UTC
}
