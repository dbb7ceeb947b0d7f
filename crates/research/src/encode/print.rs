//! Numbers and stamps as text. Numbers are printed digit by digit as they are held; nothing passes through a float.

use crate::question::zone::{Clock, Stamp};
use jiff::fmt::strtime;
use mizuno_core::{
    Decimal, Timestamp, TradeDate,
    time::{DAY, SECOND},
};

/// Prints a number with the digits it has, and with this sign before its decimals.
#[inline]
pub(super) fn decimal(Decimal { mantissa, scale }: Decimal, sign: u8, out: &mut Vec<u8>) {
    // From the last digit to the first; 24 bytes hold 19 digits, a nought, the sign of decimals and a minus.
    let (mut text, mut at, mut rest) = ([b'0'; 24], 24, mantissa.unsigned_abs());
    let mut put = |byte: u8| {
        at -= 1;
        text[at] = byte;
    };
    for _ in 0..scale {
        put(b'0' + (rest % 10) as u8);
        rest /= 10;
    }
    if scale > 0 {
        put(sign);
    }
    loop {
        put(b'0' + (rest % 10) as u8);
        rest /= 10;
        if rest == 0 {
            break;
        }
    }
    if mantissa < 0 {
        put(b'-');
    }
    out.extend_from_slice(&text[at..]);
}

/// Prints a float with as few digits as give it back, without an exponent.
pub(super) fn real(number: f64, sign: u8, out: &mut Vec<u8>) {
    let from = out.len();
    let _ = std::io::Write::write_fmt(out, format_args!("{number}"));
    out[from..].iter_mut().filter(|byte| **byte == b'.').for_each(|byte| *byte = sign);
}

pub(super) fn whole(n: i64, out: &mut Vec<u8>) {
    out.extend_from_slice(itoa::Buffer::new().format(n).as_bytes());
}

/// Prints stamps of one form by one clock, remembering the last day and hour.
pub(super) struct StampPrinter {
    clock: Clock,
    stamp: Stamp,
    day: Option<(i64, String)>,
    /// The last quarter of an hour, and its offset from UTC in seconds.
    quarter: Option<(i64, i64)>,
    /// The hour on the wall and its offset, the text of its last stamp, and where the minutes stand in that.
    hour: Option<(i64, i64, Vec<u8>, usize)>,
}

/// Writes a number below a hundred with two digits.
fn two(n: i64, at: &mut [u8]) {
    at[0] = b'0' + (n / 10) as u8;
    at[1] = b'0' + (n % 10) as u8;
}

impl StampPrinter {
    pub(super) fn new(clock: Clock, stamp: Stamp) -> StampPrinter {
        StampPrinter { clock, stamp, day: None, quarter: None, hour: None }
    }

    /// Whether stamps of this kind are numbers, and not texts.
    pub(super) fn are_numbers(&self) -> bool {
        matches!(self.stamp, Stamp::Seconds | Stamp::Millis | Stamp::Micros)
    }

    /// The offset from UTC in seconds. Offsets change on quarters of an hour at the finest, so one is looked up for each.
    fn offset(&mut self, micros: i64) -> i64 {
        let quarter = micros.div_euclid(900 * SECOND);
        if let Some((known, seconds)) = self.quarter
            && known == quarter
        {
            return seconds;
        }
        let seconds = i64::from(self.clock.offset(Timestamp(micros)).seconds());
        self.quarter = Some((quarter, seconds));
        seconds
    }

    /// The text of the first second of an hour on the wall, and where the minutes stand in it.
    fn first_of_hour(&mut self, hour: i64, offset: i64) -> (Vec<u8>, usize) {
        let mut text = Vec::with_capacity(25);
        self.day(hour.div_euclid(24), &mut text);
        let minutes = text.len() + 4;
        text.extend_from_slice(b"T00:00:00");
        two(hour.rem_euclid(24), &mut text[minutes - 3..]);
        match (&self.stamp, &self.clock) {
            (Stamp::Rfc3339, Clock::Utc) => text.push(b'Z'),
            (Stamp::Rfc3339, _) => {
                let sign = if offset < 0 { '-' } else { '+' };
                text.extend_from_slice(format!("{sign}{:02}:{:02}", offset.abs() / 3600, offset.abs() / 60 % 60).as_bytes());
            }
            _ => {}
        }
        (text, minutes)
    }

    /// An instant, in microseconds since 1970 UTC.
    pub(super) fn instant(&mut self, micros: i64, out: &mut Vec<u8>) {
        match &self.stamp {
            Stamp::Seconds => whole(micros.div_euclid(SECOND), out),
            Stamp::Millis => whole(micros.div_euclid(1000), out),
            Stamp::Micros => whole(micros, out),
            Stamp::Rfc3339 | Stamp::Wall => {
                let offset = self.offset(micros);
                let seconds = micros.div_euclid(SECOND) + offset;
                let (hour, within) = (seconds.div_euclid(3600), seconds.rem_euclid(3600));
                if self.hour.as_ref().is_none_or(|(known, by, ..)| (*known, *by) != (hour, offset)) {
                    let (text, minutes) = self.first_of_hour(hour, offset);
                    self.hour = Some((hour, offset, text, minutes));
                }
                if let Some((.., text, minutes)) = &mut self.hour {
                    two(within / 60, &mut text[*minutes..]);
                    two(within % 60, &mut text[*minutes + 3..]);
                    out.extend_from_slice(text);
                }
            }
            Stamp::Pattern(pattern) => {
                let offset = self.clock.offset(Timestamp(micros));
                let zoned = Timestamp(micros).to_jiff().to_zoned(offset.to_time_zone());
                let text = strtime::format(pattern, &zoned).unwrap_or_default();
                out.extend_from_slice(text.as_bytes());
            }
        }
    }

    /// A trade date, in days since 1970.
    pub(super) fn date(&mut self, days: i32, out: &mut Vec<u8>) {
        match &self.stamp {
            Stamp::Rfc3339 | Stamp::Wall => self.day(i64::from(days), out),
            Stamp::Seconds => whole(i64::from(days) * (DAY / SECOND), out),
            Stamp::Millis => whole(i64::from(days) * (DAY / 1000), out),
            Stamp::Micros => whole(i64::from(days) * DAY, out),
            Stamp::Pattern(pattern) => {
                let at = TradeDate(days).to_civil().at(0, 0, 0, 0).to_zoned(jiff::tz::TimeZone::UTC);
                let text = at.ok().and_then(|zoned| strtime::format(pattern, &zoned).ok());
                out.extend_from_slice(text.unwrap_or_default().as_bytes());
            }
        }
    }

    fn day(&mut self, day: i64, out: &mut Vec<u8>) {
        if self.day.as_ref().is_none_or(|(known, _)| *known != day) {
            self.day = Some((day, TradeDate(day as i32).to_string()));
        }
        if let Some((_, text)) = &self.day {
            out.extend_from_slice(text.as_bytes());
        }
    }
}
