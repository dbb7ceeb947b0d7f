//! Futures by their chains: which contract is the front one in each session, and what a roll does to prices.
//!
//! A roll is decided on the closes up to a session `t` and takes effect at the open of the next one; its two prices are both contracts' closes
//! of `t`. It never goes back, and happens so early that the old contract is no longer held in the session before its first notice or its last
//! trading day, whichever comes first.

use crate::{adjust::Factor, calendar::Session, decimal::Decimal, time::TradeDate};
use num_bigint::BigInt;
use num_rational::BigRational;
use num_traits::One;

/// A contract of a chain.
#[derive(Clone, Debug, PartialEq)]
pub struct Contract {
    /// Its symbol.
    pub symbol: String,
    /// The day of its expiry, by which a chain is in order.
    pub expiry: TradeDate,
    /// Its first notice day, where there is one.
    pub first_notice: Option<TradeDate>,
    /// Its last trading day.
    pub last_traded: TradeDate,
    /// Its daily bars in order.
    pub days: Vec<Day>,
}

/// A daily bar of a contract as a roll sees it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Day {
    /// Its trade date.
    pub date: TradeDate,
    /// The close.
    pub close: Decimal,
    /// The volume; nought where none is told.
    pub volume: Decimal,
    /// Contracts open at its end, where a source tells.
    pub open_interest: Option<Decimal>,
}

impl Contract {
    /// The first day on which nobody should hold it.
    #[must_use]
    pub fn limit(&self) -> TradeDate {
        self.first_notice.map_or(self.last_traded, |notice| notice.min(self.last_traded))
    }

    fn on(&self, date: TradeDate) -> Option<&Day> {
        self.days.binary_search_by_key(&date, |d| d.date).ok().map(|at| &self.days[at])
    }

    fn volume_on(&self, date: TradeDate) -> Decimal {
        self.on(date).map_or(Decimal { mantissa: 0, scale: 0 }, |d| d.volume)
    }

    fn open_interest_on(&self, date: TradeDate) -> Option<Decimal> {
        self.on(date)?.open_interest
    }

    fn has_traded_by(&self, date: TradeDate) -> bool {
        self.days.first().is_some_and(|d| d.date <= date)
    }
}

/// When a chain rolls.
#[derive(Clone, Debug, PartialEq)]
pub enum By {
    /// So many sessions before the last trading day.
    BeforeExpiry(u32),
    /// So many sessions before first notice, or where there is none before the last trading day.
    BeforeNotice(u32),
    /// From a day of the month on, so many months before that of the expiry.
    DayOfMonth {
        /// The day, from 1 to 31; of a shorter month the last.
        day: u8,
        /// How many months before.
        months_before: u8,
    },
    /// When the next contract has had the larger volume in so many sessions running.
    Volume(u32),
    /// When the next contract has had the larger open interest in so many sessions running. That of a session is published in the next one, and
    /// counts from then on.
    OpenInterest(u32),
    /// On the dates of a table.
    Table(Vec<Line>),
}

/// A line of a table of rolls.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Line {
    /// The first session of the contract.
    pub from: TradeDate,
    /// Its symbol.
    pub contract: String,
    /// How many of it one of the contract before became, as in a merger of shares; above nought.
    pub for_one: Option<Decimal>,
}

/// A stretch of sessions with its contract.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Leg {
    /// Its place in the chain.
    pub contract: usize,
    /// The first trade date.
    pub from: TradeDate,
    /// The first one of the next; never for the last leg.
    pub to: Option<TradeDate>,
}

/// A change from one contract to the next.
#[derive(Clone, Debug, PartialEq)]
pub struct Roll {
    /// The session on whose close it was decided.
    pub decided: TradeDate,
    /// The first session of the new contract.
    pub from: TradeDate,
    /// The places of the old and the new contract.
    pub contracts: (usize, usize),
    /// The session of the two closes, and these: of the session in which it was decided, or of the newest one before in which both traded.
    pub closes: Option<(TradeDate, Decimal, Decimal)>,
    /// Whether it came so late only because the old contract was about to end.
    pub at_the_latest: bool,
    /// How many of the new contract one of the old became, where a table says so.
    pub for_one: Option<Decimal>,
    /// Why it was decided, in a few words.
    pub why: String,
}

impl Roll {
    /// What prices of the old contract are multiplied by under [`Join::Ratio`], to twelve decimals; see [`Roll::step`].
    #[must_use]
    pub fn ratio(&self) -> Option<Decimal> {
        self.step().map(|step| Factor::new(step).decimal(12))
    }

    /// One over the exchange ratio, where there is one; else the new close over the old one. `None` where a close is not above nought, or
    /// there are none.
    #[must_use]
    pub fn step(&self) -> Option<BigRational> {
        if let Some(for_one) = self.for_one {
            return Some(for_one.fraction().recip());
        }
        let (_, old, new) = self.closes.filter(|(_, old, new)| old.mantissa > 0 && new.mantissa > 0)?;
        let scale = new.scale.max(old.scale);
        Some(BigRational::new_raw(new.units(scale).into(), old.units(scale).into()))
    }
}

/// A chain rolled: its legs in order, and the rolls between them.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Rolled {
    /// The legs.
    pub legs: Vec<Leg>,
    /// The rolls, one fewer.
    pub rolls: Vec<Roll>,
    /// What is told of it, in sentences.
    pub notes: Vec<String>,
}

/// Sessions in which a close of both contracts is looked for, up to the roll.
const LOOKED_BACK: usize = 10;

/// The legs of the `nth` contract of a chain (1 is the front one), by the first so many of `sessions`, those that have closed. `contracts` are in
/// order of expiry.
#[must_use]
pub fn rolled(contracts: &[Contract], sessions: &[Session], closed: usize, by: &By, nth: usize) -> Rolled {
    let mut out = Rolled::default();
    let first = contracts.iter().filter_map(|c| c.days.first()).map(|d| d.date).min();
    let Some(begin) = first.map(|date| sessions.partition_point(|s| s.date < date)).filter(|at| *at < closed) else { return out };
    // The last session in which each contract may be held: two before that of its limit, since the one before must be the next one's.
    let held = |c: &Contract| sessions.partition_point(|s| s.date < c.limit()).saturating_sub(2);
    let chain = Chain { contracts, sessions, by, latest: contracts.iter().map(held).collect() };
    let mut front = chain.first(begin);
    let mut since = sessions[begin].date;
    let behind = nth.saturating_sub(1);
    for (at, session) in sessions.iter().enumerate().take(closed).skip(begin) {
        let Some(decision) = chain.decide(front, at) else { continue };
        let from = chain.after(at);
        if let Some(skipped) = decision.skipped(front, contracts) {
            out.notes.push(skipped);
        }
        let pair = (front + behind, decision.next + behind);
        if pair.0 < contracts.len() {
            out.legs.push(Leg { contract: pair.0, from: since, to: Some(from) });
            if pair.1 < contracts.len() {
                let closes = chain.closes(pair, at);
                let (old, new) = (&contracts[pair.0].symbol, &contracts[pair.1].symbol);
                match closes {
                    None if decision.for_one.is_some() => {}
                    None => out
                        .notes
                        .push(format!("no session up to {} has closes of both {old} and {new}; nothing is adjusted there", session.date)),
                    Some((date, ..)) if date != session.date && decision.for_one.is_none() => out.notes.push(format!(
                        "{old} to {new} on {from}: the closes are of {date}, the newest session up to the roll in which both traded"
                    )),
                    Some(_) => {}
                }
                out.rolls.push(Roll {
                    decided: session.date,
                    from,
                    contracts: pair,
                    closes,
                    at_the_latest: decision.at_the_latest,
                    for_one: decision.for_one,
                    why: decision.why,
                });
            } else {
                out.notes.push(format!("from {from} on the chain has no {nth}. contract"));
            }
        }
        (front, since) = (decision.next, from);
    }
    if front + behind < contracts.len() {
        out.legs.push(Leg { contract: front + behind, from: since, to: None });
    }
    if let By::OpenInterest(_) = by {
        let silent = |c: &&Contract| !c.days.is_empty() && c.days.iter().all(|d| d.open_interest.is_none());
        let names: Vec<&str> = contracts.iter().filter(silent).map(|c| c.symbol.as_str()).collect();
        if !names.is_empty() {
            out.notes.push(format!("{}: no source tells the open interest, so the chain rolls there at the latest", names.join(", ")));
        }
    }
    out
}

struct Chain<'c> {
    contracts: &'c [Contract],
    sessions: &'c [Session],
    by: &'c By,
    latest: Vec<usize>,
}

struct Decision {
    next: usize,
    at_the_latest: bool,
    for_one: Option<Decimal>,
    why: String,
}

impl Decision {
    fn skipped(&self, front: usize, contracts: &[Contract]) -> Option<String> {
        let names: Vec<&str> = contracts[front + 1..self.next].iter().map(|c| c.symbol.as_str()).collect();
        (!names.is_empty())
            .then(|| format!("{}: no bar when the chain came to it; the next one follows {}", names.join(", "), contracts[front].symbol))
    }
}

impl Chain<'_> {
    /// The trade date after a session.
    fn after(&self, at: usize) -> TradeDate {
        self.sessions.get(at + 1).map_or_else(|| self.sessions[at].date.plus(1), |s| s.date)
    }

    /// The front contract of the first session.
    fn first(&self, begin: usize) -> usize {
        if let By::Table(table) = self.by {
            let on = table.iter().rev().find(|line| line.from <= self.sessions[begin].date).or(table.first());
            let place = on.and_then(|line| self.contracts.iter().position(|c| c.symbol == line.contract));
            return place.unwrap_or(0);
        }
        let date = self.sessions[begin].date;
        let trades = |at: &usize| self.contracts[*at].has_traded_by(date) && self.latest[*at] >= begin;
        (0..self.contracts.len()).find(trades).unwrap_or(0)
    }

    /// Whether, after the close of a session, the chain rolls.
    fn decide(&self, front: usize, at: usize) -> Option<Decision> {
        let next = self.next(front, at)?;
        let latest = at >= self.latest[front];
        let why = match self.by {
            By::BeforeExpiry(n) => {
                self.before(self.contracts[front].last_traded, *n, at).then(|| format!("{n} sessions before the last trading day"))
            }
            By::BeforeNotice(n) => {
                let contract = &self.contracts[front];
                let (day, what) = contract.first_notice.map_or((contract.last_traded, "the last trading day"), |d| (d, "first notice"));
                self.before(day, *n, at).then(|| format!("{n} sessions before {what}"))
            }
            By::DayOfMonth { day, months_before } => {
                let on = month_day(self.contracts[front].expiry, *day, *months_before);
                let from = self.after(at);
                (from >= on).then(|| format!("from {on} on"))
            }
            By::Volume(confirmed) => {
                let larger = |date| self.contracts[next].volume_on(date) > self.contracts[front].volume_on(date);
                self.all_before(at + 1, *confirmed, larger).then(|| format!("the larger volume in {confirmed} sessions running"))
            }
            By::OpenInterest(confirmed) => {
                let of = |contract: usize, date| self.contracts[contract].open_interest_on(date);
                let larger = |date| of(next, date).zip(of(front, date)).is_some_and(|(new, old)| new > old);
                // What was published by the close of a session is that of the sessions before.
                self.all_before(at, *confirmed, larger).then(|| format!("the larger open interest in {confirmed} sessions running"))
            }
            By::Table(table) => {
                let from = self.after(at);
                let line = table.iter().rev().find(|line| line.from <= from)?;
                let place = self.contracts.iter().position(|c| c.symbol == line.contract);
                let next = place.filter(|place| *place > front)?;
                let why = line.for_one.map_or("by the table".to_owned(), |n| format!("by the table, {n} for one"));
                return Some(Decision { next, at_the_latest: false, for_one: line.for_one, why });
            }
        };
        match why {
            Some(why) => Some(Decision { next, at_the_latest: false, for_one: None, why }),
            None if latest && !matches!(self.by, By::Table(_)) => Some(Decision {
                next,
                at_the_latest: true,
                for_one: None,
                why: "the session before first notice or last trading".to_owned(),
            }),
            None => None,
        }
    }

    /// Whether something holds in so many sessions running, one at least, up to the one before `end`.
    fn all_before(&self, end: usize, sessions: u32, holds: impl Fn(TradeDate) -> bool) -> bool {
        let begin = end.checked_sub(sessions.max(1) as usize);
        begin.is_some_and(|begin| self.sessions[begin..end].iter().all(|s| holds(s.date)))
    }

    /// The contract that follows: the next one that has traded by then, or where none has, the next one.
    fn next(&self, front: usize, at: usize) -> Option<usize> {
        let date = self.sessions[at].date;
        let later = front + 1..self.contracts.len();
        let mut later = later.filter(|c| self.latest[*c] > at);
        let following = later.clone().next()?;
        Some(later.find(|c| self.contracts[*c].has_traded_by(date)).unwrap_or(following))
    }

    /// Whether the session after `at` is the one so many sessions before a day, or a later one.
    fn before(&self, day: TradeDate, sessions: u32, at: usize) -> bool {
        let of_day = self.sessions.partition_point(|s| s.date < day);
        at + 1 >= of_day.saturating_sub(sessions as usize)
    }

    fn closes(&self, (old, new): (usize, usize), at: usize) -> Option<(TradeDate, Decimal, Decimal)> {
        self.sessions[(at + 1).saturating_sub(LOOKED_BACK)..=at]
            .iter()
            .rev()
            .find_map(|s| Some((s.date, self.contracts[old].on(s.date)?.close, self.contracts[new].on(s.date)?.close)))
    }
}

/// A day of the month so many months before that of a date; the last of a shorter month.
fn month_day(date: TradeDate, day: u8, months_before: u8) -> TradeDate {
    let month = date.to_civil().first_of_month().saturating_sub(jiff::Span::new().months(i64::from(months_before)));
    let day = i8::try_from(day).unwrap_or(31).clamp(1, month.days_in_month());
    let on = month.with().day(day).build().unwrap_or(month);
    TradeDate::from_civil(on)
}

/// How a continuous series is joined at its rolls.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Join {
    /// By the difference of the two closes, so that differences inside a contract stay.
    Difference,
    /// By their ratio, so that returns inside a contract stay.
    Ratio,
}

/// What the prices of each leg are shifted by under [`Join::Difference`], exactly; nought in the newest leg, or in the oldest. A roll without
/// two closes shifts nothing. `None` where a sum has more than 18 digits.
#[must_use]
pub fn shifts(rolls: &[Roll], legs: usize, oldest: bool) -> Option<Vec<Decimal>> {
    let nought = Decimal { mantissa: 0, scale: 0 };
    let mut out = vec![nought; legs];
    let step = |roll: &Roll| roll.closes.map_or(Some(nought), |(_, old, new)| new.minus(old));
    for at in (0..legs.saturating_sub(1)).rev() {
        let step = rolls.get(at).map_or(Some(nought), step)?;
        out[at] = step.minus(Decimal { mantissa: -out[at + 1].mantissa, ..out[at + 1] })?;
    }
    if oldest && let Some(first) = out.first().copied() {
        for shift in &mut out {
            *shift = shift.minus(first)?;
        }
    }
    Some(out)
}

/// What the prices of each leg are multiplied by under [`Join::Ratio`]: one in the newest leg, or in the oldest. A roll without a
/// [step](Roll::step) multiplies nothing.
#[must_use]
pub fn ratios(rolls: &[Roll], legs: usize, oldest: bool) -> Vec<BigRational> {
    // In lowest terms they would take longer to find than to use.
    let times = |a: &BigRational, (numer, denom): (&BigInt, &BigInt)| BigRational::new_raw(a.numer() * numer, a.denom() * denom);
    let mut out = vec![BigRational::one(); legs];
    for at in (0..legs.saturating_sub(1)).rev() {
        out[at] = match rolls.get(at).and_then(Roll::step) {
            Some(step) => times(&out[at + 1], (step.numer(), step.denom())),
            None => out[at + 1].clone(),
        };
    }
    if oldest && let Some(first) = out.first().cloned() {
        // A roll that comes later is on both sides, and must not show.
        out.iter_mut().for_each(|ratio| *ratio = BigRational::new(ratio.numer() * first.denom(), ratio.denom() * first.numer()));
    }
    out
}

#[cfg(test)]
#[path = "roll_test.rs"]
mod tests;
