//! The clock that stamps are written by, and the form they are written in.

use jiff::tz::{Offset, TimeZone};
use mizuno_core::Timestamp;
use std::{fmt, str::FromStr};

/// A clock on the wall.
#[derive(Clone, Debug, PartialEq)]
pub enum Clock {
    /// UTC, `Z` behind a stamp.
    Utc,
    /// An IANA zone.
    Zone(TimeZone),
    /// A fixed shift from UTC.
    Fixed(Offset),
    /// A fixed shift, and an hour more while another zone has daylight-saving time: written `+02:00/America/New_York`.
    Shifted {
        /// The shift outside daylight-saving time.
        base: Offset,
        /// The zone whose daylight-saving time it follows.
        follows: TimeZone,
    },
}

impl Clock {
    /// How far it is from UTC at an instant.
    #[must_use]
    pub fn offset(&self, at: Timestamp) -> Offset {
        match self {
            Clock::Utc => Offset::UTC,
            Clock::Zone(zone) => zone.to_offset(at.to_jiff()),
            Clock::Fixed(offset) => *offset,
            Clock::Shifted { base, follows } => match follows.to_offset_info(at.to_jiff()).dst().is_dst() {
                true => Offset::from_seconds(base.seconds() + 3600).unwrap_or(*base),
                false => *base,
            },
        }
    }
}

fn fixed(text: &str) -> Option<Offset> {
    let (sign, rest) = match text.as_bytes().first()? {
        b'+' => (1, &text[1..]),
        b'-' => (-1, &text[1..]),
        _ => return None,
    };
    let (hours, minutes) = rest.split_once(':')?;
    let read = |part: &str, most: i32| (part.len() == 2).then(|| part.parse::<i32>().ok()).flatten().filter(|n| (0..=most).contains(n));
    Offset::from_seconds(sign * (read(hours, 14)? * 3600 + read(minutes, 59)? * 60)).ok()
}

impl FromStr for Clock {
    type Err = String;

    /// Reads `UTC`, `Pacific/Auckland`, `+02:00` or `+02:00/America/New_York`.
    fn from_str(text: &str) -> Result<Clock, String> {
        let wrong = || {
            format!(
                "`{text}` is not an IANA time zone, nor a fixed shift; write it like Pacific/Auckland, +02:00, or \
                 +02:00/America/New_York for a shift that is an hour more while New York has daylight-saving time"
            )
        };
        if text == "UTC" || text == "Z" {
            return Ok(Clock::Utc);
        }
        if let Some(offset) = fixed(text) {
            return Ok(Clock::Fixed(offset));
        }
        if let Some((base, zone)) = text.split_once('/')
            && let Some(base) = fixed(base)
        {
            return Ok(Clock::Shifted { base, follows: TimeZone::get(zone).map_err(|_| wrong())? });
        }
        TimeZone::get(text).map(Clock::Zone).map_err(|_| wrong())
    }
}

impl fmt::Display for Clock {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Clock::Utc => f.write_str("UTC"),
            Clock::Zone(zone) => f.write_str(zone.iana_name().unwrap_or("UTC")),
            Clock::Fixed(offset) => write_offset(f, *offset),
            Clock::Shifted { base, follows } => {
                write_offset(f, *base)?;
                write!(f, "/{}", follows.iana_name().unwrap_or("UTC"))
            }
        }
    }
}

fn write_offset(f: &mut fmt::Formatter<'_>, offset: Offset) -> fmt::Result {
    let seconds = offset.seconds();
    let sign = if seconds < 0 { '-' } else { '+' };
    write!(f, "{sign}{:02}:{:02}", seconds.abs() / 3600, seconds.abs() / 60 % 60)
}

/// The form stamps are written in.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub enum Stamp {
    /// RFC 3339, with the offset of the clock: `2025-04-10T10:00:00+12:00`.
    #[default]
    Rfc3339,
    /// The time on the clock, without an offset: `2025-04-10T10:00:00`.
    Wall,
    /// Seconds since 1970 in UTC.
    Seconds,
    /// Milliseconds since 1970 in UTC.
    Millis,
    /// Microseconds since 1970 in UTC.
    Micros,
    /// A pattern of strftime, as in `%d.%m.%Y %H:%M`.
    Pattern(String),
}

impl FromStr for Stamp {
    type Err = String;

    fn from_str(text: &str) -> Result<Stamp, String> {
        Ok(match text {
            "rfc3339" => Stamp::Rfc3339,
            "wall" => Stamp::Wall,
            "seconds" => Stamp::Seconds,
            "millis" => Stamp::Millis,
            "micros" => Stamp::Micros,
            pattern if pattern.contains('%') => {
                let sample = jiff::civil::date(2025, 4, 10).at(10, 0, 0, 0).to_zoned(TimeZone::UTC).map_err(|e| e.to_string())?;
                jiff::fmt::strtime::format(pattern, &sample).map_err(|e| format!("`{pattern}` is not a pattern of strftime: {e}"))?;
                Stamp::Pattern(pattern.to_owned())
            }
            _ => {
                return Err(format!(
                    "`{text}` is not a form of stamps; it is rfc3339, wall, seconds, millis, micros, or a pattern like %d.%m.%Y %H:%M"
                ));
            }
        })
    }
}

impl fmt::Display for Stamp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Stamp::Rfc3339 => "rfc3339",
            Stamp::Wall => "wall",
            Stamp::Seconds => "seconds",
            Stamp::Millis => "millis",
            Stamp::Micros => "micros",
            Stamp::Pattern(pattern) => pattern,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_clock_of_ones_own_follows_the_summer_of_another() {
        let clock: Clock = "+02:00/America/New_York".parse().unwrap();
        let hours = |at: &str| clock.offset(at.parse().unwrap()).seconds() / 3600;
        // New York changed on 9 March 2025; Europe three weeks later.
        assert_eq!((hours("2025-03-08T12:00:00Z"), hours("2025-03-10T12:00:00Z")), (2, 3));
        assert_eq!(clock.to_string(), "+02:00/America/New_York");
    }

    #[test]
    fn clocks_and_stamps_read_back_as_they_are_written() {
        for text in ["UTC", "Pacific/Auckland", "+02:00", "-09:30", "+02:00/America/New_York"] {
            assert_eq!(text.parse::<Clock>().unwrap().to_string(), text);
        }
        for text in ["rfc3339", "wall", "seconds", "millis", "micros", "%d.%m.%Y %H:%M"] {
            assert_eq!(text.parse::<Stamp>().unwrap().to_string(), text);
        }
        for wrong in ["", "Atlantis", "+2", "+25:00", "+02:00/Atlantis"] {
            assert!(wrong.parse::<Clock>().unwrap_err().contains(wrong));
        }
        assert!("%Q%".parse::<Stamp>().is_err() && "iso".parse::<Stamp>().is_err());
    }
}
