//! What of a series an answer has: the sessions' hours that are asked for, stamps, rounding.

use super::{batch::Cells, extra::Extra};
use crate::{
    adjusting::Adjusted,
    question::{Column, Question, Round, Shape},
    whole::Whole,
};
use mizuno_core::{
    Bar, Calendar, Completeness, Decimal, Instrument, Interval, Overlap, Session, Slot, Span, Spans, Timestamp, TradeDate,
    adjust::{Factors, Stretch},
    bar::Field,
    derived::{Derived, Value},
    time::{DAY, MINUTE, SECOND},
};

use mizuno_desk::sight::Sight;
use mizuno_store::blocks::Needed;
use std::sync::Arc;

/// What tells how complete a trade date is: a series, or all sources of a golden one.
pub(crate) enum Measured {
    One(Arc<Sight>),
    Golden(Whole),
    /// Those of the contracts of a chain, each with its slots.
    Legs(Vec<(Span, Measured)>),
}

impl Measured {
    /// The figures of a stretch.
    pub(crate) fn over(&self, span: &Span) -> Completeness {
        match self {
            Measured::One(sight) => sight.completeness(span),
            Measured::Golden(whole) => whole.completeness(span),
            Measured::Legs(legs) => legs.iter().map(|(own, measured)| measured.over(&own.clip(span))).sum(),
        }
    }

    /// How complete a stretch is, in per cent.
    pub(crate) fn share(&self, span: &Span) -> Option<Decimal> {
        let c = self.over(span);
        let there = (c.held + c.excused + c.quiet) * 10_000;
        there.checked_div(c.expected + c.quiet).map(|hundredths| Decimal { mantissa: hundredths as i64, scale: 2 })
    }
}

/// The numbers of bars that some columns are made of.
pub(super) fn needed(values: &[Column]) -> Needed {
    let has = |column| values.contains(&column);
    let average = has(Column::AveragePrice);
    Needed {
        open: has(Column::Open),
        high: average || has(Column::High),
        low: average || has(Column::Low),
        volume: average || has(Column::Volume),
        open_interest: has(Column::OpenInterest),
    }
}

/// How the bars of one instrument become rows.
pub(crate) struct Rows<'c> {
    pub interval: Interval,
    pub calendar: &'c Calendar,
    zone: jiff::tz::TimeZone,
    hours: Option<(u16, u16)>,
    first: Option<i64>,
    last: Option<i64>,
    at_end: bool,
    pub round: Option<Round>,
    tick: Option<Decimal>,
    /// What prices are adjusted by, where the question asks for it.
    adjusted: Option<Arc<Adjusted>>,
}

/// Decimals of an adjusted price, where the question does not say how many.
const DECIMALS: u8 = 6;
/// Decimals of a factor.
pub(crate) const FACTOR: u8 = 12;

/// Decimals of an adjusted price.
pub(crate) fn decimals(round: Option<Round>) -> u8 {
    if let Some(Round::Decimals(n)) = round { n } else { DECIMALS }
}

impl<'c> Rows<'c> {
    pub(crate) fn new(
        question: &Question,
        instrument: &Instrument,
        calendar: &'c Calendar,
        zone: jiff::tz::TimeZone,
        interval: Interval,
        adjusted: Option<Arc<Adjusted>>,
    ) -> Rows<'c> {
        let Shape { hours, first_minutes, last_minutes, at_end, round, .. } = question.shape;
        let minutes = |n: Option<u32>| n.map(|n| i64::from(n) * MINUTE);
        let (first, last) = (minutes(first_minutes), minutes(last_minutes));
        let adjusted = adjusted.filter(|a| a.by_rolls || question.adjust.is_some());
        let tick = instrument.tick_size;
        Rows { interval, calendar, zone, hours, first, last, at_end, round, tick, adjusted }
    }

    /// Whether only some hours are asked for.
    pub(crate) fn is_narrowed(&self) -> bool {
        self.hours.is_some() || self.first.is_some() || self.last.is_some()
    }

    /// Whether a slot lies in the hours that are asked for.
    pub(crate) fn takes(&self, slot: Slot) -> bool {
        if !self.is_narrowed() {
            return true;
        }
        let at = slot.instant();
        if let Some((from, to)) = self.hours {
            let wall = self.zone.to_datetime(at.to_jiff());
            let minute = wall.hour().unsigned_abs() as u16 * 60 + wall.minute().unsigned_abs() as u16;
            if !(from..to).contains(&minute) {
                return false;
            }
        }
        let Some(session) = self.session(slot).filter(|_| self.first.is_some() || self.last.is_some()) else {
            return self.first.is_none() && self.last.is_none();
        };
        self.first.is_none_or(|first| at.0 < session.open().0 + first) && self.last.is_none_or(|last| at.0 >= session.close().0 - last)
    }

    fn session(&self, slot: Slot) -> Option<&Session> {
        self.calendar.session_of(self.interval, slot)
    }

    /// The moment of a row: a trade date in days, or an instant in microseconds.
    fn moment(&self, slot: Slot) -> i64 {
        match self.at_end && self.interval.is_intraday() {
            true => self.session(slot).map_or(slot.0 + self.interval.step(), |s| s.finish(self.interval, slot).0),
            false => slot.0,
        }
    }

    /// The cells of a column that says when.
    pub(crate) fn moments(&self, column: Column, slots: impl Iterator<Item = Slot>) -> Cells {
        match column {
            Column::Epoch => Cells::Whole(slots.map(|slot| self.epoch(slot)).collect()),
            Column::Time if self.interval.is_intraday() => Cells::Moments(slots.map(|slot| self.moment(slot)).collect()),
            _ => Cells::Dates(slots.map(|slot| self.trade_date(slot).0).collect()),
        }
    }

    /// Seconds since 1970: of a bar's stamp, or of midnight in UTC of its trade date.
    fn epoch(&self, slot: Slot) -> i64 {
        if self.interval.is_intraday() { self.moment(slot).div_euclid(SECOND) } else { slot.0 * (DAY / SECOND) }
    }

    /// The trade date of an instant, in the session that is open then, or on the wall.
    pub(crate) fn date_of(&self, slot: Slot) -> TradeDate {
        self.calendar.session_of(Interval::MINUTE, slot).map_or_else(|| slot.instant().date_in(&self.zone), |s| s.date)
    }

    /// The trade date of a row.
    pub(crate) fn trade_date(&self, slot: Slot) -> TradeDate {
        match self.interval {
            Interval::Daily => slot.date(),
            Interval::Intraday { .. } => self.session(slot).map_or_else(|| slot.instant().date_in(&self.zone), |s| s.date),
        }
    }

    /// The instant at which the bar of a slot ends: a daily one with its session.
    pub(crate) fn end_of(&self, slot: Slot) -> Timestamp {
        match (self.interval, self.session(slot)) {
            (Interval::Daily, session) => session.map_or(Timestamp(self.interval.span_of(slot).end.0 * DAY), Session::close),
            (Interval::Intraday { .. }, Some(session)) => session.finish(self.interval, slot),
            (Interval::Intraday { .. }, None) => self.interval.span_of(slot).end.instant(),
        }
    }

    /// How many sessions of the calendar come before that of a slot.
    pub(crate) fn session_number(&self, slot: Slot) -> i64 {
        let is_before = |s: &Session| match self.interval {
            Interval::Daily => s.date < slot.date(),
            Interval::Intraday { .. } => s.close() <= slot.instant(),
        };
        self.calendar.sessions().partition_point(is_before) as i64
    }

    /// The first slot of the session before which so many come; of the first where there are fewer.
    pub(crate) fn session_start(&self, number: i64) -> Slot {
        let session = self.calendar.sessions().get(usize::try_from(number).unwrap_or(0));
        session.map_or(Slot(i64::MAX), |s| self.calendar.span_of_dates(self.interval, s.date..s.date.plus(1)).start)
    }

    /// Every slot of the calendar round `span`.
    pub(crate) fn slots(&self, span: &Span) -> Spans {
        let date = |slot: Slot| self.trade_date(slot);
        self.calendar.expected(self.interval, date(span.start).plus(-7)..date(span.end).plus(8))
    }

    /// What bars are multiplied by on their way into coarser ones, and to how many decimals.
    pub(crate) fn factors_and_decimals(&self) -> Option<(&Factors, u8)> {
        self.adjusted.as_ref().map(|a| (&a.factors, decimals(self.round)))
    }

    /// How complete the trade date of a row is, in per cent: what is held, excused or quiet of what is due. `None` where nothing is due.
    pub(crate) fn completeness(&self, measured: &Measured, slot: Slot) -> Option<Decimal> {
        let date = self.trade_date(slot);
        measured.share(&self.calendar.span_of_dates(self.interval, date..date.plus(1)))
    }

    /// A price of a slot as it is asked for.
    pub(crate) fn price(&self, slot: Slot, price: Decimal) -> Decimal {
        match self.round {
            round if self.adjusted.is_some() => self.factors(slot).map_or(price, |f| f.price.times(price, decimals(round))),
            None => price,
            Some(Round::Decimals(n)) => price.rounded(n),
            Some(Round::Tick) => self.tick.map_or(price, |tick| price.to_tick(tick)),
        }
    }

    /// A number that was worked out exactly, rounded as prices are where it is one; adjusted ones are so already.
    pub(crate) fn exact(&self, derived: Derived, value: Value) -> Option<Decimal> {
        let exact = value.exact?;
        Some(match self.round {
            Some(Round::Decimals(n)) if derived.is_a_price() => exact.rounded(n),
            Some(Round::Tick) if derived.is_a_price() => self.tick.map_or(exact, |tick| exact.to_tick(tick)),
            _ => exact,
        })
    }

    /// A price as it was traded.
    pub(crate) fn raw(&self, price: Decimal) -> Decimal {
        if let Some(Round::Decimals(n)) = self.round { price.rounded(n) } else { price }
    }

    /// A volume of a slot as it is asked for: whole units stay whole.
    pub(crate) fn volume(&self, slot: Slot, volume: Decimal) -> Decimal {
        match self.factors(slot) {
            Some(factors) if !factors.volume.is_one() => factors.volume.times(volume, volume.scale),
            _ => volume,
        }
    }

    /// What prices and volumes of a slot are multiplied by, where they are adjusted.
    pub(crate) fn factors(&self, slot: Slot) -> Option<&Stretch> {
        Some(self.adjusted.as_ref()?.factors.at(slot))
    }

    /// The number of a bar in a column of numbers.
    pub(crate) fn number(&self, column: Column, measured: Option<&Measured>, bar: &Bar, extra: Option<&Extra>) -> Option<Decimal> {
        let whole = |n: u64| Decimal { mantissa: n as i64, scale: 0 };
        Some(match column {
            Column::AveragePrice => extra?.average?,
            Column::Held => whole(extra?.held),
            Column::Expected => whole(extra?.expected?),
            Column::Completeness if extra.is_some() => measured?.share(&extra?.span)?,
            Column::Open => self.price(bar.slot, bar.open()),
            Column::High => self.price(bar.slot, bar.high()),
            Column::Low => self.price(bar.slot, bar.low()),
            Column::Close => self.price(bar.slot, bar.close()),
            Column::RawClose => self.raw(bar.close()),
            Column::PriceFactor => self.factors(bar.slot)?.price.decimal(FACTOR),
            Column::VolumeFactor => self.factors(bar.slot)?.volume.decimal(FACTOR),
            Column::Completeness => self.completeness(measured?, bar.slot)?,
            Column::OpenInterest => bar.open_interest()?,
            _ => self.volume(bar.slot, bar.volume()?),
        })
    }

    /// The field of a bar that a column shows as it was traded; `None` where it shows another number.
    pub(crate) fn as_traded(&self, column: Column) -> Option<Field> {
        if self.adjusted.is_some() || self.round.is_some() {
            return None;
        }
        Some(match column {
            Column::Open => Field::Open,
            Column::High => Field::High,
            Column::Low => Field::Low,
            Column::Close => Field::Close,
            Column::Volume => Field::Volume,
            Column::OpenInterest => Field::OpenInterest,
            _ => return None,
        })
    }

    /// The slots that are expected in `span`, within the life of the instrument and before `now`.
    pub(crate) fn expected(&self, instrument: &Instrument, span: &Span, now: Timestamp) -> Vec<Slot> {
        let due = self.calendar.due_until(self.interval, now, 0);
        let wanted = span.start..span.end.min(due).max(span.start);
        let spans: Spans = self.calendar.expected(self.interval, instrument.life());
        let step = self.interval.step();
        let slots = spans.within(&wanted).flat_map(|s| (s.start.0..s.end.0).step_by(step as usize)).map(Slot);
        slots.filter(|slot| self.takes(*slot)).collect()
    }

    /// Takes out the bars outside the hours that are asked for.
    pub(crate) fn narrow(&self, bars: &mut Vec<Bar>, from: &mut Vec<u16>) {
        if !self.is_narrowed() {
            return;
        }
        let keep: Vec<bool> = bars.iter().map(|b| self.takes(b.slot)).collect();
        let mut at = keep.iter();
        bars.retain(|_| *at.next().unwrap_or(&true));
        if !from.is_empty() {
            let mut at = keep.iter();
            from.retain(|_| *at.next().unwrap_or(&true));
        }
    }
}
