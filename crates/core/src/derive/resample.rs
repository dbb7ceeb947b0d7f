//! Bars of a coarser interval made of finer ones.
//!
//! A [`Grid`] cuts time into pieces on a venue's calendar. The bars in a piece become one: the first open, the highest high, the lowest low,
//! the last close, the sum of the volumes. Pieces within a session begin at its open and anew after each break, or on the clock of a zone.
//! A day is a session. Weeks are those of ISO 8601, by trade date.

use crate::{
    adjust::{Factor, Factors},
    bar::Bar,
    calendar::{Calendar, Session},
    decimal::Decimal,
    interval::Interval,
    slot::{Overlap, Slot, Span},
    time::{DAY, Timestamp, TradeDate},
};
use jiff::{civil::Date, tz::TimeZone};
use num_bigint::BigInt;
use num_rational::BigRational;
use num_traits::Zero;
use std::cmp::Ordering;

/// How much time a piece covers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Length {
    /// So many seconds of a session, or a session.
    Interval(Interval),
    /// Monday to Sunday.
    Week,
    /// A month of the year.
    Month,
    /// Three months.
    Quarter,
    /// A year.
    Year,
}

impl Length {
    /// The word of each that is longer than a day.
    pub const WORDS: [(&str, Length); 4] = [("1w", Length::Week), ("1mo", Length::Month), ("1q", Length::Quarter), ("1y", Length::Year)];

    /// Whether pieces can be made of bars of `finer`.
    ///
    /// ```
    /// use mizuno_core::{Interval, resample::Length};
    /// let of = |seconds| Interval::Intraday { seconds };
    /// assert!(Length::Interval(of(300)).divides_into(of(60)) && !Length::Interval(of(300)).divides_into(of(120)));
    /// assert!(Length::Interval(Interval::Daily).divides_into(of(60)) && Length::Week.divides_into(Interval::Daily));
    /// ```
    #[must_use]
    pub fn divides_into(self, finer: Interval) -> bool {
        match (self, finer) {
            (Length::Interval(Interval::Intraday { seconds }), Interval::Intraday { seconds: finer }) => {
                finer < seconds && seconds.is_multiple_of(finer)
            }
            (Length::Interval(Interval::Intraday { .. } | Interval::Daily), Interval::Daily) => false,
            _ => true,
        }
    }

    /// The first date of the period that `date` lies in, and of the next one.
    fn around(self, date: TradeDate) -> (TradeDate, TradeDate) {
        let day = date.to_civil();
        let first = |year: i16, month: i8| Date::new(year, month, 1).map_or(date, TradeDate::from_civil);
        let months = |from: i8, count: i8| {
            let end = if from + count > 12 { (day.year() + 1, from + count - 12) } else { (day.year(), from + count) };
            (first(day.year(), from), first(end.0, end.1))
        };
        match self {
            Length::Interval(_) => (date, date.plus(1)),
            Length::Week => {
                let monday = date.plus(-i32::from(day.weekday().to_monday_zero_offset()));
                (monday, monday.plus(7))
            }
            Length::Month => months(day.month(), 1),
            Length::Quarter => months((day.month() - 1) / 3 * 3 + 1, 3),
            Length::Year => months(1, 12),
        }
    }
}

/// Where pieces shorter than a day begin.
#[derive(Clone, Debug, PartialEq)]
pub enum Align {
    /// At the open of each session, and anew after each break.
    Session,
    /// On the clock of a zone.
    Clock(TimeZone),
}

/// How time is cut.
#[derive(Clone, Debug)]
pub struct Grid<'c> {
    /// The calendar.
    pub calendar: &'c Calendar,
    /// The interval of the bars there are.
    pub finer: Interval,
    /// How much time a piece covers.
    pub length: Length,
    /// Where pieces shorter than a day begin.
    pub align: Align,
    /// Whether a piece longer than a day is labelled by its last session; else by its first.
    pub by_last: bool,
}

/// A piece of time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Piece {
    /// The slots of the finer bars in it.
    pub span: Span,
    /// The slot of its own bar.
    pub label: Slot,
}

impl Grid<'_> {
    /// The pieces that touch `span`, whole, in order.
    #[must_use]
    pub fn pieces(&self, span: &Span) -> Vec<Piece> {
        let sessions = self.calendar.sessions();
        let (Some(oldest), Some(newest)) = (sessions.first(), sessions.last()) else { return vec![] };
        if span.start >= span.end {
            return vec![];
        }
        let dates = match self.finer {
            Interval::Daily => span.start.date().max(oldest.date)..span.end.date().min(newest.date.plus(1)),
            Interval::Intraday { .. } => {
                let from = sessions.partition_point(|s| s.close().0 <= span.start.0);
                let to = sessions.partition_point(|s| s.open().0 < span.end.0).max(from);
                match &sessions[from..to] {
                    [] => return vec![],
                    all => all[0].date..all[all.len() - 1].date.plus(1),
                }
            }
        };
        if dates.start >= dates.end {
            return vec![];
        }
        let whole = self.length.around(dates.start).0..self.length.around(dates.end.plus(-1)).1;
        let sessions = self.calendar.between(whole);
        match self.length {
            Length::Interval(Interval::Intraday { seconds }) => {
                let within = |session: &Session| self.within(session, i64::from(seconds) * crate::time::SECOND);
                sessions.iter().flat_map(within).filter(|p| p.span.overlaps(span)).collect()
            }
            length => {
                let same = |a: &Session, b: &Session| length.around(a.date) == length.around(b.date);
                let piece = |all: &[Session]| {
                    let (first, last) = (all[0].date, all[all.len() - 1].date);
                    let (begins, ends) = length.around(first);
                    let dates = if self.finer.is_intraday() { first..last.plus(1) } else { begins..ends };
                    let label = Slot::on(if self.by_last { last } else { first });
                    Piece { span: self.calendar.span_of_dates(self.finer, dates), label }
                };
                sessions.chunk_by(same).map(piece).collect()
            }
        }
    }

    /// The pieces of a session.
    fn within(&self, session: &Session, step: i64) -> Vec<Piece> {
        let mut out: Vec<(i64, Piece)> = vec![];
        for stretch in &session.stretches {
            let mut at = stretch.start.0;
            while at < stretch.end.0 {
                // How far into its piece a moment is.
                let into = match &self.align {
                    Align::Session => 0,
                    Align::Clock(zone) => {
                        let offset = i64::from(zone.to_offset(Timestamp(at).to_jiff()).seconds()) * crate::time::SECOND;
                        (at + offset).rem_euclid(DAY) % step
                    }
                };
                let (edge, end) = (at - into, (at - into + step).min(stretch.end.0));
                match out.last_mut() {
                    // On the clock, what comes after a break may belong to the piece before it.
                    Some((before, piece)) if *before == edge => piece.span.end = Slot(end),
                    _ => out.push((edge, Piece { span: Slot(at)..Slot(end), label: Slot(at) })),
                }
                at = end;
            }
        }
        out.into_iter().map(|(_, piece)| piece).collect()
    }
}

/// The bars of a piece as one, prices and volumes multiplied by `factors`, to so many decimals, where there are any; `None` of none.
/// The volume is absent where that of one of them is, or where their sum has more than 18 digits.
#[must_use]
pub fn combine(label: Slot, bars: &[Bar], factors: Option<(&Factors, u8)>) -> Option<Bar> {
    let (first, last) = (bars.first()?, bars.last()?);
    let price = |bar: &Bar, price: Decimal| factors.map_or(price, |(f, decimals)| f.at(bar.slot).price.times(price, decimals));
    let all = |of: fn(&Bar) -> Decimal| bars.iter().map(move |b| (b, of(b)));
    let multiplied = |(bar, number): (&Bar, Decimal)| price(bar, number);
    // Within a stretch of one factor the highest is the highest of all: only one price of each is multiplied.
    let (high, low) = match factors {
        None => (bars.iter().map(Bar::high).max()?, bars.iter().map(Bar::low).min()?),
        Some((f, _)) if std::ptr::eq(f.at(first.slot), f.at(last.slot)) => {
            (price(first, all(Bar::high).map(|(_, n)| n).max()?), price(first, all(Bar::low).map(|(_, n)| n).min()?))
        }
        _ => (all(Bar::high).map(multiplied).max()?, all(Bar::low).map(multiplied).min()?),
    };
    let prices = [price(first, first.open()), high, low, price(last, last.close())];
    Some(Bar::new(label, prices, volume(bars, factors.map(|(f, _)| f))).with_open_interest(last.open_interest()))
}

/// The sum of volumes, exact until it is rounded.
fn volume(bars: &[Bar], factors: Option<&Factors>) -> Option<Decimal> {
    let (mut scale, mut whole) = (0, 0i128);
    for bar in bars {
        let volume = bar.volume()?;
        (scale, whole) = match volume.scale.cmp(&scale) {
            Ordering::Equal => (scale, whole + i128::from(volume.mantissa)),
            Ordering::Less => (scale, whole + volume.units(scale)),
            Ordering::Greater => (volume.scale, whole * 10i128.pow(u32::from(volume.scale - scale)) + i128::from(volume.mantissa)),
        };
    }
    let sum = |sum: i128| i64::try_from(sum).ok().and_then(|mantissa| Decimal { mantissa, scale }.at_scale(scale));
    let Some(factors) = factors else { return sum(whole) };
    let mut sums: Vec<(Option<&Factor>, i128)> = vec![];
    for bar in bars {
        let factor = Some(&factors.at(bar.slot).volume).filter(|f| !f.is_one());
        let units = bar.volume()?.units(scale);
        match sums.last_mut() {
            Some((same, sum)) if same.map(std::ptr::from_ref) == factor.map(std::ptr::from_ref) => *sum += units,
            _ => sums.push((factor, units)),
        }
    }
    match sums[..] {
        [(None, _)] => sum(whole),
        [(Some(factor), _)] => sum(whole).map(|sum| factor.times(sum, scale)),
        _ => {
            let one = |(factor, sum): &(Option<&Factor>, i128)| {
                let sum = BigRational::from_integer(BigInt::from(*sum));
                factor.map_or(sum.clone(), |f| sum * &f.exact)
            };
            let all: BigRational = sums.iter().map(one).sum();
            Some(Decimal { scale, ..Factor::new(all).decimal(0) })
        }
    }
}

/// The price paid on average, as traded: the sum of (high + low + close) / 3 × volume over the sum of the volumes, to so many decimals, half
/// to even. `None` where a volume is absent, or nothing was traded.
#[must_use]
pub fn average_price(bars: &[Bar], decimals: u8) -> Option<Decimal> {
    let (mut money, mut traded) = (BigInt::zero(), BigInt::zero());
    for bar in bars {
        let volume = bar.volume()?.units(18);
        let typical: i128 = [bar.high(), bar.low(), bar.close()].iter().map(|p| p.units(18)).sum();
        money += BigInt::from(typical) * volume;
        traded += volume;
    }
    if traded.is_zero() {
        return None;
    }
    let scale = BigInt::from(10).pow(18);
    Some(Factor::new(BigRational::new(money, traded * 3 * scale)).decimal(decimals))
}

#[cfg(test)]
#[path = "resample_test.rs"]
mod tests;
