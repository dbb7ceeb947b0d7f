//! Moments as sources write them.

use jiff::{Timestamp as JiffTimestamp, civil, tz::TimeZone};
use mizuno_config::profile::{Stamp, StampedAt};
use mizuno_core::{Interval, Slot, Timestamp, TradeDate, Venue};

/// A slot as a request writes it.
pub(crate) fn print(stamp: &Stamp, interval: Interval, venue: &Venue, slot: Slot) -> String {
    let at = match interval {
        Interval::Daily => mizuno_core::calendar::on_the_wall(&venue.zone, slot.date(), civil::Time::midnight()),
        Interval::Intraday { .. } => slot.instant(),
    };
    match stamp {
        Stamp::EpochSeconds => at.0.div_euclid(1_000_000).to_string(),
        Stamp::EpochMillis => at.0.div_euclid(1_000).to_string(),
        Stamp::Rfc3339 => at.to_string(),
        Stamp::Pattern(pattern) => {
            let wall = venue.zone.to_datetime(at.to_jiff());
            jiff::fmt::strtime::format(pattern, wall).unwrap_or_default()
        }
    }
}

/// One part of a pattern in which every number has its full width.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Piece {
    Number(usize, usize),
    Literal(u8),
}

/// A pattern such as `%Y-%m-%d %H:%M` in pieces; `None` when it has others than full-width numbers.
/// Most sources write such stamps, and reading them digit by digit takes a tenth of the time.
fn pieces(pattern: &str) -> Option<Vec<Piece>> {
    let mut out = vec![];
    let mut bytes = pattern.bytes();
    while let Some(byte) = bytes.next() {
        out.push(match byte {
            b'%' => match bytes.next()? {
                b'Y' => Piece::Number(0, 4),
                b'm' => Piece::Number(1, 2),
                b'd' => Piece::Number(2, 2),
                b'H' => Piece::Number(3, 2),
                b'M' => Piece::Number(4, 2),
                b'S' => Piece::Number(5, 2),
                _ => return None,
            },
            // White space in a pattern stands for any amount of it.
            b' ' | b'-' | b'/' | b':' | b'.' | b'T' => Piece::Literal(byte),
            _ => return None,
        });
    }
    Some(out)
}

/// Year, month, day, hour, minute and second, as far as the pattern has them.
fn digits(pieces: &[Piece], text: &[u8]) -> Option<(civil::Date, civil::Time)> {
    let mut rest = text;
    let mut numbers = [0i16, 1, 1, 0, 0, 0];
    for piece in pieces {
        match *piece {
            Piece::Literal(byte) => rest = rest.strip_prefix(&[byte])?,
            Piece::Number(which, width) => {
                let (number, after) = rest.split_at_checked(width)?;
                numbers[which] = number.iter().try_fold(0i16, |n, d| d.is_ascii_digit().then(|| n * 10 + i16::from(d - b'0')))?;
                rest = after;
            }
        }
    }
    let [year, month, day, hour, minute, second] = numbers;
    let date = civil::Date::new(year, month as i8, day as i8).ok()?;
    let time = civil::Time::new(hour as i8, minute as i8, second as i8, 0).ok()?;
    rest.is_empty().then_some((date, time))
}

/// Reads the stamps of one answer into slots.
pub(crate) struct StampReader<'p> {
    stamp: &'p Stamp,
    pieces: Option<Vec<Piece>>,
    at: StampedAt,
    zone: &'p TimeZone,
    interval: Interval,
    /// The last civil hour seen and when it began: stamps of one answer cluster, and offsets change on the hour or rarer.
    last: Option<(civil::Date, i8, i64)>,
}

impl<'p> StampReader<'p> {
    pub(crate) fn new(stamp: &'p Stamp, at: StampedAt, zone: &'p TimeZone, interval: Interval) -> Self {
        let pieces = if let Stamp::Pattern(pattern) = stamp { pieces(pattern) } else { None };
        StampReader { stamp, pieces, at, zone, interval, last: None }
    }

    /// The slot a stamp names.
    ///
    /// # Errors
    /// A sentence that names the text and what was expected.
    pub(crate) fn read(&mut self, text: &[u8]) -> Result<Slot, String> {
        if let Some((date, time)) = self.pieces.as_ref().and_then(|pieces| digits(pieces, text)) {
            let named = match self.interval {
                Interval::Daily => Slot::on(TradeDate::from_civil(date)),
                Interval::Intraday { .. } => Slot::at(self.instant(date, time)),
            };
            return Ok(self.shifted(named));
        }
        let text = std::str::from_utf8(text).map_err(|_| "the stamp is not text".to_owned())?;
        let open = match self.stamp {
            Stamp::EpochSeconds => self.on_wall_or_at(epoch(text, 1_000_000)?),
            Stamp::EpochMillis => self.on_wall_or_at(epoch(text, 1_000)?),
            Stamp::Rfc3339 => {
                let at: JiffTimestamp = text.parse().map_err(|_| format!("`{text}` is not an RFC 3339 instant"))?;
                self.on_wall_or_at(at.into())
            }
            Stamp::Pattern(pattern) => {
                let read = jiff::fmt::strtime::parse(pattern, text).map_err(|_| format!("`{text}` does not read as {pattern}"))?;
                let date = read.to_date().map_err(|_| format!("`{text}` names no date"))?;
                match self.interval {
                    Interval::Daily => Slot::on(TradeDate::from_civil(date)),
                    Interval::Intraday { .. } => {
                        let time = read.to_time().map_err(|_| format!("`{text}` names no time of day"))?;
                        Slot::at(self.instant(date, time))
                    }
                }
            }
        };
        Ok(self.shifted(open))
    }

    /// From what the stamp names to the bar's open.
    fn shifted(&self, named: Slot) -> Slot {
        match self.at {
            StampedAt::Close if self.interval.is_intraday() => Slot(named.0 - self.interval.step()),
            _ => named,
        }
    }

    fn on_wall_or_at(&self, at: Timestamp) -> Slot {
        match self.interval {
            Interval::Daily => Slot::on(at.date_in(self.zone)),
            Interval::Intraday { .. } => Slot::at(at),
        }
    }

    fn instant(&mut self, date: civil::Date, time: civil::Time) -> Timestamp {
        let within = (i64::from(time.minute()) * 60 + i64::from(time.second())) * 1_000_000 + i64::from(time.subsec_nanosecond()) / 1_000;
        if let Some((d, h, hour)) = self.last
            && d == date
            && h == time.hour()
        {
            return Timestamp(hour + within);
        }
        let at = mizuno_core::calendar::on_the_wall(self.zone, TradeDate::from_civil(date), time);
        self.last = Some((date, time.hour(), at.0 - within));
        at
    }
}

fn epoch(text: &str, unit: i64) -> Result<Timestamp, String> {
    let count: i64 = text.parse().map_err(|_| format!("`{text}` is not a whole number of time units since the epoch"))?;
    Ok(Timestamp(count.checked_mul(unit).ok_or_else(|| format!("`{text}` is out of range"))?))
}
