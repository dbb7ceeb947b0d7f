//! Works derived numbers out, a bar at a time.

use super::{Derived, Function, LONGEST_RUN, Payout, Quantity, Window, WindowLength};
use crate::{
    adjust::{Factor, Factors},
    bar::Bar,
    decimal::{Decimal, LIMIT},
    slot::Slot,
    time::TradeDate,
};
use num_bigint::BigInt;
use num_rational::BigRational;
use num_traits::ToPrimitive;
use std::{cmp::Ordering, collections::VecDeque};

/// A price as traded, with the slot whose factor it is multiplied by, where prices are adjusted.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Priced {
    /// As traded.
    pub raw: Decimal,
    /// Where it was traded.
    pub slot: Slot,
}

/// A price with its factor.
struct Times<'f> {
    raw: Decimal,
    factor: Option<&'f Factor>,
}

impl Times<'_> {
    fn real(&self) -> f64 {
        self.factor.map_or(1.0, Factor::real) * self.raw.to_f64()
    }

    fn exact(&self, decimals: u8) -> Decimal {
        self.factor.map_or(self.raw, |f| f.times(self.raw, decimals))
    }

    fn has_factor_of(&self, other: &Times<'_>) -> bool {
        match (self.factor, other.factor) {
            (None, None) => true,
            (Some(a), Some(b)) => std::ptr::eq(a, b),
            _ => false,
        }
    }

    fn ratio(&self) -> BigRational {
        let raw = self.raw.fraction();
        self.factor.map_or(raw.clone(), |f| raw * &f.exact)
    }
}

/// Open, high, low and close of a bar that is made of `bars`, each as traded and with the slot of the bar it comes from; `None` of none.
#[must_use]
pub fn priced(bars: &[Bar], factors: Option<&Factors>) -> Option<[Priced; 4]> {
    let all = |of: fn(&Bar) -> Decimal| bars.iter().map(move |b| Priced { raw: of(b), slot: b.slot });
    // Within a stretch of one factor the highest is the highest as traded.
    let stretch = |slot: Slot| factors.map(|f| f.at(slot));
    let (first, last) = (bars.first()?, bars.last()?);
    let one = stretch(first.slot).zip(stretch(last.slot)).is_none_or(|(a, b)| std::ptr::eq(a, b));
    let order = |a: &Priced, b: &Priced| match one {
        true => a.raw.cmp(&b.raw),
        false => {
            let real = |p: &Priced| p.raw.to_f64() * stretch(p.slot).map_or(1.0, |s| s.price.real());
            real(a).total_cmp(&real(b))
        }
    };
    let (open, close) = (Priced { raw: first.open(), slot: first.slot }, Priced { raw: last.close(), slot: last.slot });
    Some([open, all(Bar::high).max_by(order)?, all(Bar::low).min_by(order)?, close])
}

/// A number: as near as a float comes to it, and exactly where that can be.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Value {
    /// As near as a float comes to it.
    pub real: f64,
    /// Exactly; of an adjusted price, rounded.
    pub exact: Option<Decimal>,
}

impl Value {
    /// An exact number.
    #[must_use]
    pub fn of(number: Decimal) -> Value {
        Value { real: number.to_f64(), exact: Some(number) }
    }

    /// It as a float of 15 significant digits: what comes behind them is what floats lose on the way.
    ///
    /// ```
    /// use mizuno_core::derived::Value;
    /// assert_eq!(Value { real: 0.1 + 0.2, exact: None }.shown(), 0.3);
    /// ```
    #[must_use]
    pub fn shown(&self) -> f64 {
        // Of nought the logarithm lies below every number.
        let places = 14i32.saturating_sub(self.real.abs().log10().floor() as i32);
        // Powers of ten up to 22 are exact floats.
        match places {
            0..=22 => (self.real * 10f64.powi(places)).round() / 10f64.powi(places),
            -22..=-1 => (self.real / 10f64.powi(-places)).round() * 10f64.powi(-places),
            _ => self.real,
        }
    }

    /// A float; `None` where it is none, as of a division by nought.
    fn float(real: f64) -> Option<Value> {
        real.is_finite().then_some(Value { real, exact: None })
    }

    /// Which of two is larger: exactly where both are exact.
    #[must_use]
    pub fn compare(&self, other: &Value) -> Ordering {
        match (self.exact, other.exact) {
            (Some(a), Some(b)) => a.cmp(&b),
            _ => self.real.total_cmp(&other.real),
        }
    }
}

/// A bar, as derived numbers see it.
#[derive(Clone, Copy, Debug)]
pub struct Input {
    /// Open, high, low and close.
    pub prices: [Priced; 4],
    /// Quantity traded, as it is served.
    pub volume: Option<Value>,
    /// Contracts open at its end.
    pub open_interest: Option<Value>,
    /// Money traded, as traded.
    pub turnover: Option<f64>,
    /// The close of the other side, where somebody asks for both.
    pub other: Option<Priced>,
    /// The trade date.
    pub date: TradeDate,
    /// A number that is counted up with each session.
    pub session: i64,
    /// Whether something is missing between the bar before and this one.
    pub cut: bool,
    /// Minutes from its end to the instant of the answer.
    pub age: i64,
}

/// One number that is wanted, with the windows on the way to it.
struct Line {
    of: Quantity,
    inner: Option<Ring>,
    outer: Option<Ring>,
}

/// The numbers in a window.
struct Ring {
    window: Window,
    /// As floats; [`f64::NAN`] where there is none.
    reals: VecDeque<f64>,
    /// Exactly, where the function picks one of them.
    exacts: VecDeque<Option<Decimal>>,
    /// The session of each, where the window goes over sessions.
    sessions: VecDeque<i64>,
    /// How many of them are not there.
    empty: usize,
    /// The session of the first number that ever came.
    first: Option<i64>,
}

/// Works numbers out of the bars of one series, which come in order.
pub struct Deriver {
    lines: Vec<Line>,
    decimals: u8,
    /// What was paid to holders, by slot.
    payouts: Vec<(Slot, Payout)>,
    expiry: Option<TradeDate>,
    /// The close before.
    before: Option<Priced>,
    /// Whether somebody asks how long closes have risen or fallen, and for the highest of them.
    counts_runs: bool,
    seeks_highest: bool,
    rises: u32,
    falls: u32,
    highest: f64,
    /// The numbers of the newest bar, and of the one before.
    values: [Vec<Option<Value>>; 2],
}

impl Deriver {
    /// Begins to work out `wanted`. Adjusted prices are rounded to `decimals`; `payouts` are what holders are paid, by slot; `expiry` is the
    /// day of expiry.
    #[must_use]
    pub fn new(wanted: &[Derived], decimals: u8, payouts: Vec<(Slot, Payout)>, expiry: Option<TradeDate>) -> Deriver {
        let ring = |window: Option<Window>| window.map(Ring::new);
        let line = |d: &Derived| Line { of: d.of, inner: ring(d.inner), outer: ring(d.outer) };
        let asks = |of: &[Quantity]| wanted.iter().any(|d| of.contains(&d.of));
        Deriver {
            lines: wanted.iter().map(line).collect(),
            decimals,
            payouts,
            expiry,
            before: None,
            counts_runs: asks(&[Quantity::Rises, Quantity::Falls]),
            seeks_highest: asks(&[Quantity::Drawdown]),
            rises: 0,
            falls: 0,
            highest: f64::NEG_INFINITY,
            values: [vec![], vec![]],
        }
    }

    /// The first row of the answer comes next: what is counted from it begins.
    pub fn begin_rows(&mut self) {
        self.highest = f64::NEG_INFINITY;
    }

    /// The numbers of the next bar, in the order in which they are wanted; `None` where there is none. Prices are multiplied by `factors`.
    pub fn push(&mut self, bar: &Input, factors: Option<&Factors>) -> &[Option<Value>] {
        self.take(bar, factors, true);
        &self.values[0]
    }

    /// Takes a bar of whose own numbers nobody asks, and which those of later ones follow from.
    pub fn pass(&mut self, bar: &Input, factors: Option<&Factors>) {
        self.take(bar, factors, false);
    }

    fn take(&mut self, bar: &Input, factors: Option<&Factors>, asked: bool) {
        let times = |p: &Priced| Times { raw: p.raw, factor: factors.map(|f| &f.at(p.slot).price) };
        let close = times(&bar.prices[3]);
        let before = self.before.filter(|_| !bar.cut);
        if self.counts_runs {
            let moved = before.map(|b| order(&close, &times(&b)));
            let run = |run: u32, way: Ordering| if moved == Some(way) { (run + 1).min(LONGEST_RUN) } else { 0 };
            (self.rises, self.falls) = (run(self.rises, Ordering::Greater), run(self.falls, Ordering::Less));
        }
        if self.seeks_highest {
            self.highest = self.highest.max(close.real());
        }
        let mut lines = std::mem::take(&mut self.lines);
        self.values.swap(0, 1);
        let mut values = std::mem::take(&mut self.values[0]);
        values.clear();
        let one = |line: &mut Line| {
            let Line { of, inner, outer } = line;
            if inner.is_none() && outer.is_none() && !asked {
                return None;
            }
            // Most windows go over floats.
            let decimals = inner.as_ref().or(outer.as_ref()).is_none_or(Ring::picks).then_some(self.decimals);
            let mut value = self.quantity(*of, bar, before.as_ref(), decimals, times);
            if let Some(ring) = inner {
                value = ring.push(bar.session, value, asked || outer.is_some());
            }
            if let Some(ring) = outer {
                value = ring.push(bar.session, value, asked);
            }
            value
        };
        values.extend(lines.iter_mut().map(one));
        self.lines = lines;
        self.before = Some(bar.prices[3]);
        self.values[0] = values;
    }

    /// The numbers of the newest bar, and those of the one before it, which are none at first.
    #[must_use]
    pub fn newest(&self) -> (&[Option<Value>], &[Option<Value>]) {
        (&self.values[0], &self.values[1])
    }

    /// One number of a bar; prices exactly where it is said to how many decimals.
    fn quantity<'f>(
        &self,
        of: Quantity,
        bar: &Input,
        before: Option<&Priced>,
        decimals: Option<u8>,
        times: impl Fn(&Priced) -> Times<'f>,
    ) -> Option<Value> {
        let [open, high, low, close] = &bar.prices;
        let price = |p: &Priced| Some(Value { real: times(p).real(), exact: decimals.map(|n| times(p).exact(n)) });
        let less = |a: &Priced, b: &Priced| Some(difference(&times(a), &times(b), decimals));
        let real = |p: &Priced| times(p).real();
        // Nothing is a share of a price that is not above nought.
        let share = |part: f64, of: f64| (of > 0.0).then(|| part / of);
        let count = |n: i64| Some(Value::of(Decimal { mantissa: n, scale: 0 }));
        match of {
            Quantity::Open => price(open),
            Quantity::High => price(high),
            Quantity::Low => price(low),
            Quantity::Close => price(close),
            Quantity::Volume => bar.volume,
            Quantity::OpenInterest => bar.open_interest,
            Quantity::Mid => middle(&times(close), &times(bar.other.as_ref()?), self.decimals),
            Quantity::Spread => less(bar.other.as_ref()?, close),
            Quantity::Typical => Value::float((real(high) + real(low) + real(close)) / 3.0),
            Quantity::Turnover => Value::float(bar.turnover?),
            Quantity::Change => less(close, before?),
            Quantity::Range => less(high, low),
            Quantity::Gap => less(open, before?),
            Quantity::Return => Value::float(share(less(close, before?)?.real, real(before?))?),
            Quantity::LogReturn => Value::float(share(less(close, before?)?.real, real(before?))?.ln_1p()),
            Quantity::TotalReturn => self.total_return(close, before?),
            Quantity::Drawdown => Value::float(share(real(close) - self.highest, self.highest)?),
            Quantity::Rises => before.and_then(|_| count(self.rises.into())),
            Quantity::Falls => before.and_then(|_| count(self.falls.into())),
            Quantity::Age => count(bar.age),
            Quantity::DaysToExpiry => count(i64::from(self.expiry?.0 - bar.date.0)),
        }
    }

    /// The worth of a share and what it became, over what it was worth at the close before.
    fn total_return(&self, close: &Priced, before: &Priced) -> Option<Value> {
        let from = self.payouts.partition_point(|(slot, _)| *slot <= before.slot);
        let (mut shares, mut paid) = (1.0, 0.0);
        for (_, payout) in self.payouts[from..].iter().take_while(|(slot, _)| *slot <= close.slot) {
            match payout {
                Payout::Shares(by) => shares *= by,
                Payout::Paid(each) => paid += shares * each,
            }
        }
        let (is, was) = (close.raw.to_f64(), before.raw.to_f64());
        // As exact as it can be where the share is still one.
        let moved = close.raw.minus(before.raw).map_or(is - was, Decimal::to_f64);
        let gain = if shares == 1.0 { moved + paid } else { shares * is + paid - was };
        (was > 0.0).then(|| Value::float(gain / was))?
    }
}

/// Which of two prices is higher. Factors lie above nought.
fn order(a: &Times<'_>, b: &Times<'_>) -> Ordering {
    if a.has_factor_of(b) { a.raw.cmp(&b.raw) } else { a.ratio().cmp(&b.ratio()) }
}

/// The difference of two prices, exact until it is rounded to so many decimals, if at all; not rounded where neither is multiplied.
fn difference(a: &Times<'_>, b: &Times<'_>, decimals: Option<u8>) -> Value {
    if !a.has_factor_of(b) {
        // Whether it lies above nought is told by the fraction alone: floats would lose that.
        let exact = a.ratio() - b.ratio();
        let real = exact.to_f64().unwrap_or(f64::NAN);
        return Value { real, exact: decimals.map(|n| Factor::new(exact).signed(n)) };
    }
    let raw = a.raw.minus(b.raw);
    match a.factor {
        None => Value { real: raw.map_or(a.real() - b.real(), Decimal::to_f64), exact: raw },
        Some(factor) => {
            let exact = raw.zip(decimals).map(|(d, n)| factor.times(d, n));
            Value { real: raw.map_or(a.real() - b.real(), |d| d.to_f64() * factor.real()), exact }
        }
    }
}

/// The middle of two prices.
fn middle(a: &Times<'_>, b: &Times<'_>, decimals: u8) -> Option<Value> {
    let real = (a.real() + b.real()) / 2.0;
    let exact = match (a.factor, b.factor) {
        (None, None) => {
            let scale = a.raw.scale.max(b.raw.scale);
            let tenths = (a.raw.units(scale) + b.raw.units(scale)) * 5;
            let mantissa = i64::try_from(tenths).ok().filter(|m| m.abs() < LIMIT)?;
            let halves = Decimal { mantissa, scale: scale + 1 };
            // A whole number of the last digit that the two have needs no further one.
            Some(halves.at_scale(scale).unwrap_or(halves))
        }
        _ => Some(Factor::new((a.ratio() + b.ratio()) / BigInt::from(2)).signed(decimals)),
    };
    Some(Value { real, exact })
}

impl Ring {
    fn new(window: Window) -> Ring {
        let (reals, exacts, sessions) = (VecDeque::new(), VecDeque::new(), VecDeque::new());
        Ring { window, reals, exacts, sessions, empty: 0, first: None }
    }

    /// Whether it picks one of its numbers, and has to know them exactly.
    fn picks(&self) -> bool {
        matches!(self.window.function, Function::Lowest | Function::Highest)
    }

    /// Takes the next number, and gives what the window makes of those in it where that is asked; `None` where one of them is not there, or
    /// where the series has not gone on for so long.
    fn push(&mut self, session: i64, value: Option<Value>, asked: bool) -> Option<Value> {
        let picks = self.picks();
        let first = *self.first.get_or_insert(session);
        self.empty += usize::from(value.is_none());
        self.reals.push_back(value.map_or(f64::NAN, |v| v.real));
        if picks {
            self.exacts.push_back(value.and_then(|v| v.exact));
        }
        let full = match self.window.reach {
            WindowLength::Bars(n) => {
                if self.reals.len() > n as usize {
                    self.drop_oldest();
                }
                self.reals.len() == n as usize
            }
            WindowLength::Sessions(n) => {
                self.sessions.push_back(session);
                let since = session - i64::from(n) + 1;
                while self.sessions.front().is_some_and(|oldest| *oldest < since) {
                    self.sessions.pop_front();
                    self.drop_oldest();
                }
                first <= since
            }
        };
        if asked && full && self.empty == 0 { self.made(value?) } else { None }
    }

    fn drop_oldest(&mut self) {
        self.empty -= usize::from(self.reals.pop_front().is_some_and(f64::is_nan));
        self.exacts.pop_front();
    }

    /// What the function makes of the numbers, of which `last` is the newest.
    fn made(&self, last: Value) -> Option<Value> {
        let sum = || -> f64 { self.reals.iter().sum() };
        let count = self.reals.len() as f64;
        let pick = |better: Ordering| {
            let of = |at: usize| Value { real: self.reals[at], exact: self.exacts[at] };
            (0..self.reals.len()).map(of).reduce(|best, next| if next.compare(&best) == better { next } else { best })
        };
        match self.window.function {
            Function::Sum => Value::float(sum()),
            Function::Mean => Value::float(sum() / count),
            Function::Deviation if self.reals.len() < 2 => None,
            Function::Deviation => {
                let mean = sum() / count;
                Value::float((self.reals.iter().map(|x| (x - mean) * (x - mean)).sum::<f64>() / (count - 1.0)).sqrt())
            }
            Function::Lowest => pick(Ordering::Less),
            Function::Highest => pick(Ordering::Greater),
            Function::Drawdown => {
                let highest = self.reals.iter().copied().fold(f64::NEG_INFINITY, f64::max);
                (highest > 0.0).then(|| Value::float((last.real - highest) / highest))?
            }
        }
    }
}

#[cfg(test)]
#[path = "working_test.rs"]
mod tests;
