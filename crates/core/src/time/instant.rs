//! Instants and trade dates, which are never each other.

use std::{fmt, str::FromStr};

/// Microseconds in a second.
pub const SECOND: i64 = 1_000_000;
/// Microseconds in a minute.
pub const MINUTE: i64 = 60 * SECOND;
/// Microseconds in a day of twenty-four hours.
pub const DAY: i64 = 86_400 * SECOND;

/// An instant: microseconds since 1970-01-01T00:00:00Z, always UTC.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Timestamp(pub i64);

impl Timestamp {
    /// The earliest instant the rest of the system can name (year −9999).
    pub const MIN: Timestamp = Timestamp(-377_705_023_201_000_000);
    /// The latest instant the rest of the system can name (year 9999).
    pub const MAX: Timestamp = Timestamp(253_402_207_200_000_000);

    /// This instant moved by `micros` (negative is earlier), kept within [`Self::MIN`] and [`Self::MAX`].
    #[must_use]
    pub fn plus(self, micros: i64) -> Timestamp {
        Timestamp(self.0.saturating_add(micros)).clamp(Self::MIN, Self::MAX)
    }

    /// The same instant as a jiff timestamp.
    #[must_use]
    pub fn to_jiff(self) -> jiff::Timestamp {
        jiff::Timestamp::from_microsecond(self.clamp(Self::MIN, Self::MAX).0).unwrap_or_default()
    }

    /// The date on the wall in `zone` at this instant. Not a trade date: ask the calendar for that.
    ///
    /// ```
    /// use mizuno_core::Timestamp;
    /// let at: Timestamp = "2025-04-09T22:00:00Z".parse()?;
    /// let zone = jiff::tz::TimeZone::get("Pacific/Auckland").unwrap();
    /// assert_eq!(at.date_in(&zone).to_string(), "2025-04-10");
    /// # Ok::<(), mizuno_core::time::TimeError>(())
    /// ```
    #[must_use]
    pub fn date_in(self, zone: &jiff::tz::TimeZone) -> TradeDate {
        TradeDate::from_civil(zone.to_datetime(self.to_jiff()).date())
    }

    /// The minute, as a sentence says it.
    ///
    /// ```
    /// use mizuno_core::Timestamp;
    /// let at: Timestamp = "2025-04-09T22:00:07.25Z".parse()?;
    /// assert_eq!(at.to_the_minute(), "2025-04-09 22:00 UTC");
    /// # Ok::<(), mizuno_core::time::TimeError>(())
    /// ```
    #[must_use]
    pub fn to_the_minute(self) -> String {
        self.to_jiff().strftime("%Y-%m-%d %H:%M UTC").to_string()
    }
}

impl From<jiff::Timestamp> for Timestamp {
    fn from(value: jiff::Timestamp) -> Self {
        Timestamp(value.as_microsecond())
    }
}

impl fmt::Display for Timestamp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.to_jiff().fmt(f)
    }
}

impl FromStr for Timestamp {
    type Err = TimeError;

    /// Reads RFC 3339, such as `2025-04-10T02:30:00Z` or `2025-04-10T14:30:00+12:00`.
    ///
    /// ```
    /// use mizuno_core::Timestamp;
    /// let utc: Timestamp = "2025-04-10T02:30:00Z".parse()?;
    /// assert_eq!("2025-04-10T14:30:00.000+12:00".parse(), Ok(utc));
    /// assert!("2025-04-10T14:30:00".parse::<Timestamp>().is_err(), "it names no zone");
    /// # Ok::<(), mizuno_core::time::TimeError>(())
    /// ```
    ///
    /// # Errors
    /// When the text is not an instant with an offset.
    fn from_str(text: &str) -> Result<Self, TimeError> {
        text.parse::<jiff::Timestamp>().map(Into::into).map_err(|_| match text.parse::<jiff::civil::DateTime>() {
            Ok(_) if text.len() > 10 => TimeError::NoZone(text.to_owned()),
            _ => TimeError::Instant(text.to_owned()),
        })
    }
}

/// The day a bar belongs to by its venue's rules, as days since 1970-01-01.
///
/// For a session that begins the evening before this is the date of its end.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct TradeDate(pub i32);

const EPOCH: jiff::civil::Date = jiff::civil::date(1970, 1, 1);

impl TradeDate {
    /// A date of the Gregorian calendar as a trade date.
    #[must_use]
    pub fn from_civil(date: jiff::civil::Date) -> TradeDate {
        // Days from a civil date in whole numbers: years begin in March, so that the leap day is their last
        // (E. M. Reingold and N. Dershowitz, Calendrical Calculations, chapter 2).
        let (year, month, day) = (i32::from(date.year()), i32::from(date.month()), i32::from(date.day()));
        let (year, month) = if month > 2 { (year, month - 3) } else { (year - 1, month + 9) };
        let century_days = 365 * year + year.div_euclid(4) - year.div_euclid(100) + year.div_euclid(400);
        TradeDate(century_days + (153 * month + 2) / 5 + day - 1 - 719_468)
    }

    /// The same day as a civil date; dates beyond the year 9999 stop there.
    #[must_use]
    pub fn to_civil(self) -> jiff::civil::Date {
        EPOCH.saturating_add(jiff::Span::new().days(i64::from(self.0.clamp(-4_000_000, 2_900_000))))
    }

    /// The day `days` later, or earlier when negative.
    #[must_use]
    pub fn plus(self, days: i32) -> TradeDate {
        TradeDate(self.0.saturating_add(days))
    }
}

impl fmt::Display for TradeDate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.to_civil().fmt(f)
    }
}

impl FromStr for TradeDate {
    type Err = TimeError;

    /// Reads ISO 8601 dates, such as `2025-04-10`.
    ///
    /// # Errors
    /// When the text is not a date of that form.
    fn from_str(text: &str) -> Result<Self, TimeError> {
        // A date and nothing behind it: nothing is cut off and ignored.
        let is_date = text.len() == 10 && text.bytes().all(|b| b.is_ascii_digit() || b == b'-');
        let date = text.parse::<jiff::civil::Date>().ok().filter(|_| is_date);
        date.map(TradeDate::from_civil).ok_or_else(|| TimeError::Date(text.to_owned()))
    }
}

/// Text that names no instant or no date.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum TimeError {
    /// Not an RFC 3339 instant.
    #[error("`{0}` is not an instant; write it like 2025-04-10T02:30:00Z")]
    Instant(String),
    /// A time of day without a zone.
    #[error("`{0}` has no zone; write Z behind it for UTC, or an offset like +12:00")]
    NoZone(String),
    /// Not an ISO 8601 date.
    #[error("`{0}` is not a date; write it like 2025-04-10")]
    Date(String),
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dates_and_instants_read_back_as_written() {
        for text in ["1969-12-31", "1970-01-01", "2024-02-29", "2025-04-10"] {
            assert_eq!(text.parse::<TradeDate>().unwrap().to_string(), text);
        }
        let t: Timestamp = "2025-04-10T02:30:00Z".parse().unwrap();
        assert_eq!(t.to_string(), "2025-04-10T02:30:00Z");
        assert!("2025-04-31".parse::<TradeDate>().is_err());
        assert!("2025-04-09T10:00:00+12:00".parse::<TradeDate>().is_err(), "an instant is no date");
        assert_eq!("2025-04-09T10:00:00".parse::<Timestamp>(), Err(TimeError::NoZone("2025-04-09T10:00:00".into())));
        assert!("2025-04-10 02:30".parse::<Timestamp>().is_err());
    }

    #[test]
    fn every_day_of_many_years_follows_the_day_before() {
        let mut date = jiff::civil::date(1583, 1, 1);
        let mut last = TradeDate::from_civil(date).0 - 1;
        while date.year() < 2420 {
            assert_eq!(TradeDate::from_civil(date).0, last + 1, "{date}");
            assert_eq!(TradeDate(last + 1).to_civil(), date);
            last += 1;
            date = date.tomorrow().unwrap();
        }
    }

    #[test]
    fn absurd_instants_stay_nameable() {
        assert_eq!(Timestamp(i64::MAX).plus(1), Timestamp::MAX);
        assert!(Timestamp(i64::MIN).to_string().starts_with("-009999"));
    }
}
