//! A market place: its zone, its hours and the days it keeps shut.

use crate::time::TradeDate;
use jiff::{civil::Time, tz::TimeZone};
use std::{collections::BTreeMap, fmt, str::FromStr};

/// One stretch of trading on the wall clock of the venue.
///
/// A stretch whose open is not before its close begins the evening before:
/// `18:00-17:00` of trade date Tuesday runs from Monday 18:00 to Tuesday 17:00.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stretch {
    /// When trading opens.
    pub open: Time,
    /// When it closes; the close itself is no longer trading.
    pub close: Time,
}

impl Stretch {
    /// Whether it opens on the calendar day before its trade date.
    #[must_use]
    pub fn begins_the_evening_before(&self) -> bool {
        self.open >= self.close
    }
}

impl fmt::Display for Stretch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}-{}", self.open.strftime("%H:%M"), self.close.strftime("%H:%M"))
    }
}

/// Text that is no stretch of trading.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("`{0}` is not a stretch of trading; write OPEN-CLOSE on the venue's clock, as in 10:00-12:30")]
pub struct NotAStretch(String);

impl FromStr for Stretch {
    type Err = NotAStretch;

    fn from_str(text: &str) -> Result<Self, NotAStretch> {
        let parse = |t: &str| Time::strptime("%H:%M", t.trim()).ok();
        text.split_once('-')
            .and_then(|(open, close)| Some(Stretch { open: parse(open)?, close: parse(close)? }))
            .ok_or_else(|| NotAStretch(text.to_owned()))
    }
}

/// The usual week, from one trade date on until the next entry takes over.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Week {
    /// First trade date these hours hold for.
    pub from: TradeDate,
    /// Which days of the week are trade dates, Monday first.
    pub days: [bool; 7],
    /// The stretches of a session, in order.
    pub stretches: Vec<Stretch>,
}

/// A day that is not as usual.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SpecialDay {
    /// What the day is called.
    pub name: String,
    /// Its stretches; none on a holiday.
    pub stretches: Vec<Stretch>,
}

/// A market place.
#[derive(Clone, Debug, PartialEq)]
pub struct Venue {
    /// Short code, such as `ALDX`.
    pub code: String,
    /// Full name.
    pub name: String,
    /// The zone of its wall clock.
    pub zone: TimeZone,
    /// Usual weeks in order of their first date; before the first there are no sessions.
    pub weeks: Vec<Week>,
    /// Holidays and short days.
    pub special: BTreeMap<TradeDate, SpecialDay>,
}

impl Venue {
    /// The IANA name of the venue's zone.
    #[must_use]
    pub fn zone_name(&self) -> &str {
        self.zone.iana_name().unwrap_or("UTC")
    }

    /// The stretches of `date`: special where the day is special, else the week's, else none.
    #[must_use]
    pub fn stretches(&self, date: TradeDate) -> &[Stretch] {
        if let Some(day) = self.special.get(&date) {
            return &day.stretches;
        }
        let weekday = usize::from(date.to_civil().weekday().to_monday_zero_offset().unsigned_abs());
        self.weeks.iter().rev().find(|week| week.from <= date).filter(|week| week.days[weekday]).map_or(&[], |week| &week.stretches)
    }
}
