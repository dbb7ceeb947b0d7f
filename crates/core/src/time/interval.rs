//! How much time a bar covers.

use crate::{
    slot::{Slot, Span},
    time::SECOND,
};
use std::{borrow::Borrow, fmt, str::FromStr};

/// The time one bar covers.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Interval {
    /// Bars of this many seconds within a session, labelled by the instant they open.
    Intraday {
        /// Length of a bar in seconds, at least 1 and less than a day.
        seconds: u32,
    },
    /// One bar a session, labelled by its trade date.
    Daily,
}

impl Interval {
    /// One-minute bars.
    pub const MINUTE: Interval = Interval::Intraday { seconds: 60 };

    /// Whether bars are labelled by instants rather than by trade dates.
    #[must_use]
    pub fn is_intraday(self) -> bool {
        matches!(self, Interval::Intraday { .. })
    }

    /// The distance between neighbouring slots: microseconds for intraday bars, 1 (day) for daily ones.
    ///
    /// ```
    /// use mizuno_core::Interval;
    /// assert_eq!((Interval::MINUTE.step(), Interval::Daily.step()), (60_000_000, 1));
    /// ```
    #[must_use]
    pub fn step(self) -> i64 {
        match self {
            Interval::Intraday { seconds } => i64::from(seconds) * SECOND,
            Interval::Daily => 1,
        }
    }

    /// The one-slot span of the bar at `slot`.
    #[must_use]
    pub fn span_of(self, slot: Slot) -> Span {
        slot..Slot(slot.0 + self.step())
    }

    /// How many slots lie in disjoint spans, each of which begins on the grid.
    /// A last bar cut short by the end of a session counts as one.
    ///
    /// ```
    /// use mizuno_core::{Interval, Slot};
    /// assert_eq!(Interval::Daily.count([Slot(1)..Slot(4), Slot(9)..Slot(10)]), 4);
    /// // An hour that a session cut short after forty minutes is one bar.
    /// let hour = Interval::Intraday { seconds: 3600 };
    /// assert_eq!(hour.count([Slot(0)..Slot(2_400_000_000)]), 1);
    /// ```
    #[must_use]
    pub fn count(self, spans: impl IntoIterator<Item = impl Borrow<Span>>) -> u64 {
        let step = self.step() as u64;
        // Nothing is divided by one: of years of days there are hundreds of spans, and a division takes longer than all else.
        let slots = |length: u64| if step == 1 { length } else { length.div_ceil(step) };
        spans.into_iter().map(|s| slots((s.borrow().end.0 - s.borrow().start.0) as u64)).sum()
    }
}

impl fmt::Display for Interval {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match *self {
            Interval::Daily => f.write_str("1d"),
            Interval::Intraday { seconds } if seconds % 3600 == 0 => write!(f, "{}h", seconds / 3600),
            Interval::Intraday { seconds } if seconds % 60 == 0 => write!(f, "{}m", seconds / 60),
            Interval::Intraday { seconds } => write!(f, "{seconds}s"),
        }
    }
}

/// Text that names no interval.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("`{0}` is not an interval; write seconds, minutes or hours below a day like 30s, 1m, 4h, or 1d")]
pub struct NotAnInterval(String);

impl FromStr for Interval {
    type Err = NotAnInterval;

    fn from_str(text: &str) -> Result<Self, NotAnInterval> {
        let bad = || NotAnInterval(text.to_owned());
        if text == "1d" {
            return Ok(Interval::Daily);
        }
        let unit = match text.chars().next_back() {
            Some('s') => 1,
            Some('m') => 60,
            Some('h') => 3600,
            _ => return Err(bad()),
        };
        let count: u32 = text[..text.len() - 1].parse().map_err(|_| bad())?;
        let seconds = count.checked_mul(unit).ok_or_else(bad)?;
        if (1..86_400).contains(&seconds) { Ok(Interval::Intraday { seconds }) } else { Err(bad()) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn intervals_print_as_a_person_writes_them() {
        for text in ["1s", "30s", "1m", "15m", "1h", "4h", "1d"] {
            assert_eq!(text.parse::<Interval>().unwrap().to_string(), text);
        }
        assert_eq!("60m".parse::<Interval>().unwrap().to_string(), "1h");
        for text in ["", "m", "0m", "-1m", "24h", "1w", "1.5h", "9999999999m", "é"] {
            assert!(text.parse::<Interval>().is_err(), "{text}");
        }
    }
}
