//! Venue files.

use crate::{Problem, problem::toml as read_toml, text};
use jiff::tz::TimeZone;
use mizuno_core::{
    TradeDate, Venue,
    venue::{SpecialDay, Stretch, Week},
};
use serde::{Deserialize, Deserializer, de::Error};
use std::{collections::BTreeMap, path::Path};

/// A file in `venues/`.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct VenueFile {
    code: String,
    name: String,
    #[serde(deserialize_with = "text::zone")]
    zone: TimeZone,
    week: Vec<WeekEntry>,
    /// Days without trading, by date.
    #[serde(default, deserialize_with = "dated")]
    holidays: BTreeMap<TradeDate, String>,
    /// Days with other hours, by date.
    #[serde(default, deserialize_with = "dated")]
    short_days: BTreeMap<TradeDate, ShortDay>,
}

#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
struct WeekEntry {
    #[serde(deserialize_with = "text::parsed")]
    from: TradeDate,
    days: Vec<Day>,
    hours: Vec<Hours>,
}

#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
struct ShortDay {
    name: String,
    hours: Vec<Hours>,
}

#[derive(Clone, Copy, Debug, PartialEq, Deserialize)]
enum Day {
    Mon,
    Tue,
    Wed,
    Thu,
    Fri,
    Sat,
    Sun,
}

#[derive(Clone, Debug, PartialEq, Deserialize)]
struct Hours(#[serde(deserialize_with = "text::parsed")] Stretch);

fn dated<'de, T: Deserialize<'de>, D: Deserializer<'de>>(d: D) -> Result<BTreeMap<TradeDate, T>, D::Error> {
    let entries = BTreeMap::<String, T>::deserialize(d)?;
    entries.into_iter().map(|(date, entry)| Ok((date.parse().map_err(D::Error::custom)?, entry))).collect()
}

/// Reads a venue file.
///
/// # Errors
/// What is wrong in it.
pub fn parse(file: &Path, text: &str) -> Result<Venue, Vec<Problem>> {
    build(file, read_toml(file, text)?)
}

pub(crate) fn build(file: &Path, f: VenueFile) -> Result<Venue, Vec<Problem>> {
    let mut problems = vec![];
    let weeks: Vec<Week> = f
        .week
        .into_iter()
        .map(|w| Week {
            from: w.from,
            days: w.days.iter().fold([false; 7], |mut days, day| {
                days[*day as usize] = true;
                days
            }),
            stretches: w.hours.into_iter().map(|h| h.0).collect(),
        })
        .collect();
    if weeks.is_empty() {
        problems.push(Problem::whole(file, "has no [[week]]; a venue needs its usual hours from some date on".to_owned()));
    }
    if weeks.windows(2).any(|w| w[0].from >= w[1].from) {
        problems.push(Problem::whole(file, "its [[week]] entries are not in order of their `from` dates".to_owned()));
    }
    let short: Vec<(TradeDate, SpecialDay)> = f
        .short_days
        .into_iter()
        .map(|(date, d)| (date, SpecialDay { name: d.name, stretches: d.hours.into_iter().map(|h| h.0).collect() }))
        .collect();
    for stretches in weeks.iter().map(|w| &w.stretches).chain(short.iter().map(|(_, d)| &d.stretches)) {
        if stretches.is_empty() || stretches.windows(2).any(|s| s[1].open < s[0].close || s[1].begins_the_evening_before()) {
            let shown: Vec<String> = stretches.iter().map(ToString::to_string).collect();
            let what = format!("hours [{}] must be one stretch or more, in order, apart from each other", shown.join(", "));
            problems.push(Problem::whole(file, what));
        }
    }
    let mut special: BTreeMap<_, _> = f.holidays.into_iter().map(|(d, name)| (d, SpecialDay { name, stretches: vec![] })).collect();
    special.extend(short);
    let venue = Venue { code: f.code, name: f.name, zone: f.zone, weeks, special };
    if problems.is_empty() { Ok(venue) } else { Err(problems) }
}
