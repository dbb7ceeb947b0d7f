//! Slots as people write and read them.

use crate::{desk::Desk, error::DeskError};
use mizuno_core::{Calendar, Interval, SeriesKey, Slot, Span, Timestamp, TradeDate, Venue, finding::Finding, time::TimeError};
use mizuno_store::StoreError;

/// A slot as it is written: a date for daily bars, an instant for others.
pub fn written(interval: Interval, slot: Slot) -> String {
    if interval.is_intraday() { slot.instant().to_string() } else { slot.date().to_string() }
}

/// What a person asked a range with.
#[derive(Clone, Copy, Debug, Default)]
pub struct Asked<'a> {
    /// First trade date or instant.
    pub from: Option<&'a str>,
    /// Last trade date, included, or an instant, not included.
    pub to: Option<&'a str>,
}

/// An end of a range, as people write it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Moment {
    /// A trade date.
    Date(TradeDate),
    /// An instant.
    Instant(Timestamp),
}

impl std::fmt::Display for Moment {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Moment::Date(date) => date.fmt(f),
            Moment::Instant(at) => at.fmt(f),
        }
    }
}

impl Moment {
    /// Whether a range that begins here and ends there runs backwards; a date and an instant are told by their slots.
    fn is_after(&self, to: &Moment, by_slots: bool) -> bool {
        match (self, to) {
            (Moment::Date(from), Moment::Date(to)) => from > to,
            (Moment::Instant(from), Moment::Instant(to)) => from >= to,
            _ => by_slots,
        }
    }
}

/// Reads an end of a range; `name` is what it is called.
///
/// # Errors
/// When it is neither a trade date nor an instant with a zone.
pub fn moment(name: &str, text: &str) -> Result<Moment, DeskError> {
    if let Ok(date) = text.parse() {
        return Ok(Moment::Date(date));
    }
    text.parse().map(Moment::Instant).map_err(|e| match e {
        TimeError::NoZone(_) => DeskError::Invalid(format!("{name}: {e}")),
        _ => DeskError::Invalid(format!(
            "{name}: `{text}` is neither a trade date like 2025-04-10 nor an instant like 2025-04-10T02:30:00Z or 2025-04-10T14:30:00+12:00"
        )),
    })
}

/// The span a person asked for: dates are trade dates, both included; an instant given as `to` is not included.
pub fn span(asked: Asked<'_>, interval: Interval, calendar: &Calendar) -> Result<Span, DeskError> {
    let from = asked.from.map(|t| moment("from", t)).transpose()?;
    let to = asked.to.map(|t| moment("to", t)).transpose()?;
    span_between(from, to, interval, calendar).map_err(|Backwards| {
        let shown = |text: Option<&str>| text.unwrap_or_default().to_owned();
        DeskError::Invalid(format!("the range from {} to {} is empty; `from` must come before `to`", shown(asked.from), shown(asked.to)))
    })
}

/// A range that ends before it begins.
#[derive(Clone, Copy, Debug)]
pub struct Backwards;

/// The same of moments that were read.
///
/// # Errors
/// When the range runs backwards.
pub fn span_between(from: Option<Moment>, to: Option<Moment>, interval: Interval, calendar: &Calendar) -> Result<Span, Backwards> {
    let dates = |d: TradeDate| calendar.span_of_dates(interval, d..TradeDate(i32::MAX)).start;
    let first = match from {
        None => Slot(i64::MIN),
        Some(Moment::Date(d)) => match interval {
            Interval::Daily => Slot::on(d),
            Interval::Intraday { .. } if calendar.sessions().last().is_none_or(|s| s.date < d) => Slot(i64::MAX - 1),
            Interval::Intraday { .. } => dates(d),
        },
        Some(Moment::Instant(at)) => at_instant(interval, calendar, at),
    };
    let end = match to {
        None => Slot(i64::MAX),
        Some(Moment::Date(d)) => match interval {
            Interval::Daily => Slot::on(d.plus(1)),
            Interval::Intraday { .. } => {
                calendar.between(TradeDate(i32::MIN)..d.plus(1)).last().map_or(Slot(i64::MIN), |s| Slot::at(s.close()))
            }
        },
        Some(Moment::Instant(at)) => at_instant(interval, calendar, at),
    };
    if let (Some(from), Some(to)) = (from, to)
        && from.is_after(&to, first >= end)
    {
        return Err(Backwards);
    }
    // Between two dates there may be no session at all; that is a range without slots, not a mistake.
    Ok(first..end.max(first))
}

/// For daily bars, the first trade date whose session is not over at the instant.
fn at_instant(interval: Interval, calendar: &Calendar, at: Timestamp) -> Slot {
    match interval {
        Interval::Intraday { .. } => Slot::at(at),
        Interval::Daily => calendar.at_or_after(at).map_or(Slot(i64::MAX - 1), |s| Slot::on(s.date)),
    }
}

/// Reads an instant of knowledge; `None` for `now`. A date alone is refused, since what was known changes in the course of a day.
///
/// # Errors
/// When it is no instant with a zone.
pub fn instant(name: &str, text: &str) -> Result<Option<Timestamp>, DeskError> {
    if text == "now" {
        return Ok(None);
    }
    text.parse::<Timestamp>().map(Some).map_err(|e| match text.parse::<TradeDate>() {
        Ok(date) => DeskError::Invalid(format!(
            "{name}: {date} is a day, and what was known changes in the course of one; give an instant, from {date}T00:00:00Z to {}T00:00:00Z in UTC",
            date.plus(1)
        )),
        Err(_) => DeskError::Invalid(format!("{name}: {e}")),
    })
}

impl Desk {
    /// The instant an answer stands for that is asked as of `text`: an instant, or `now` for the newest commit, as when nothing is said.
    pub async fn pinned(&self, name: &str, text: Option<&str>) -> Result<Timestamp, DeskError> {
        let wanted = text.map(|text| instant(name, text)).transpose()?.flatten();
        self.store.pin(wanted).await.map_err(|e| match e {
            StoreError::NotYet { .. } => DeskError::Invalid(format!("{name}: {e} (it is {})", self.clock.now())),
            other => other.into(),
        })
    }
}

/// The id of a gap: its series and first slot.
pub fn gap_id(key: &SeriesKey, first: Slot) -> String {
    format!("{key}@{}", written(key.interval, first))
}

/// The id of a finding: its series, first slot and check.
pub fn finding_id(key: &SeriesKey, finding: &Finding) -> String {
    format!("{}#{}", gap_id(key, finding.span.start), finding.check)
}

/// Reads a gap's id.
pub fn parse_gap_id(id: &str) -> Result<(SeriesKey, Slot), DeskError> {
    let wrong = |why: String| {
        DeskError::Invalid(format!("`{id}` is not the id of a gap: {why}; ids read like KBF/1m/harbour@2025-04-02T00:30:00Z"))
    };
    let (series, at) = id.rsplit_once('@').ok_or_else(|| wrong("it has no @".to_owned()))?;
    let key: SeriesKey = series.parse().map_err(|e: mizuno_core::series::NotASeries| wrong(e.to_string()))?;
    let slot = match (key.interval, moment("the part after @", at)) {
        (Interval::Daily, Ok(Moment::Date(d))) => Slot::on(d),
        (Interval::Intraday { .. }, Ok(Moment::Instant(t))) => Slot::at(t),
        (_, Err(e)) => return Err(wrong(e.to_string())),
        (Interval::Daily, _) => return Err(wrong("a daily gap begins on a date".to_owned())),
        _ => return Err(wrong("an intraday gap begins at an instant".to_owned())),
    };
    Ok((key, slot))
}

/// A stretch as a person at the venue says it, with the zone named.
pub fn spoken(interval: Interval, venue: &Venue, span: &Span) -> String {
    match interval {
        Interval::Daily => {
            let (first, last) = (span.start.date(), Slot(span.end.0 - 1).date());
            if first == last { first.to_string() } else { format!("{first} to {last}") }
        }
        Interval::Intraday { .. } => {
            let wall = |slot: Slot| venue.zone.to_datetime(slot.instant().to_jiff());
            let (first, last) = (wall(span.start), wall(span.end));
            let zone = venue.zone_name();
            let start = first.strftime("%Y-%m-%d %H:%M");
            if first.date() == last.date() {
                format!("{start} to {} {zone}", last.strftime("%H:%M"))
            } else {
                format!("{start} to {} {zone}", last.strftime("%Y-%m-%d %H:%M"))
            }
        }
    }
}
