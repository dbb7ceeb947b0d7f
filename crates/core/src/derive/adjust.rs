//! Prices made comparable across corporate actions.
//!
//! A price before an ex-date is multiplied by the action's factor. With `C` the close, as traded, of the last session with a bar before the
//! ex-date:
//!
//! * a split or consolidation, `n` new shares for `o` old: `o/n`; volumes by `n/o`;
//! * a bonus issue, `n` shares for each `o` held: `o/(o + n)`; volumes by `(o + n)/o`;
//! * a dividend `D`: `(C − D)/C`, so that the return across it is that of a holder who reinvests at the opening price, `P/(C − D) − 1`;
//! * rights to `k` shares for each held, at `S`: `(C + k·S)/(C·(1 + k))`, the theoretical ex-rights price over the close, and 1 when `S ≥ C`;
//! * a spin-off of `q` shares worth `V` for each held: `(C − q·V)/C`.
//!
//! Of several actions on one day each finds as `C` what the one before has left of it ([`Action::order`]). Factors are exact fractions;
//! an adjusted number is rounded once, half to even.

use crate::{
    action::{Action, Dividend, What},
    decimal::{Decimal, LIMIT},
    slot::{Slot, Span},
    time::TradeDate,
};
use num_bigint::BigInt;
use num_rational::BigRational;
use num_traits::{One, Signed, ToPrimitive, Zero};
use std::sync::OnceLock;

/// Which actions prices are adjusted for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Adjust {
    /// Those that divide what is there into more or fewer shares.
    Splits,
    /// Those that take something out of the price, too.
    All,
}

/// What an action does to the prices before it, or why it does nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Effect {
    /// Prices and volumes before it are multiplied.
    Applied {
        /// By this, prices.
        price: BigRational,
        /// By this, volumes.
        volume: BigRational,
    },
    /// The question does not ask for actions of its kind.
    NotAsked,
    /// Its ex-date comes after the anchor.
    AfterAnchor,
    /// It cannot be applied, with the reason.
    Not(String),
}

/// An action and what it does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Judged {
    /// The action.
    pub action: Action,
    /// The session at which it counts: that of its ex-date, or the next one.
    pub counts_on: TradeDate,
    /// The close it is held against, with its date.
    pub close: Option<(TradeDate, Decimal)>,
    /// What one unit of the currency of a dividend was worth in the instrument's, where nobody who tells of the dividend says it.
    pub rate: Option<BigRational>,
    /// What it does.
    pub effect: Effect,
}

impl Judged {
    /// That rate to twelve decimals.
    #[must_use]
    pub fn rounded_rate(&self) -> Option<Decimal> {
        self.rate.clone().map(|rate| Factor::new(rate).decimal(12))
    }
}

fn of(new: i64, old: i64) -> BigRational {
    BigRational::new(new.into(), old.into())
}

/// Says of each action what it does.
///
/// `currency` is the instrument's. `session` gives the first session on or after a date, `close` the last close before one, as traded, and
/// `worth` what one unit of another currency was worth in it before a date. Actions after the session `until` do not count.
#[must_use]
pub fn judge(
    mut actions: Vec<Action>,
    which: Adjust,
    until: TradeDate,
    currency: &str,
    session: impl Fn(TradeDate) -> TradeDate,
    close: impl Fn(TradeDate) -> Option<(TradeDate, Decimal)>,
    worth: impl Fn(&str, TradeDate) -> Option<BigRational>,
) -> Vec<Judged> {
    actions.sort_by_key(|a| (session(a.ex_date), a.order()));
    let mut out: Vec<Judged> = vec![];
    // What is left of the close by the actions of one day.
    let mut left: Option<(TradeDate, Option<BigRational>)> = None;
    for action in actions {
        let counts_on = session(action.ex_date);
        let before = close(counts_on);
        let reference = match &left {
            Some((date, left)) if *date == counts_on => left.clone(),
            _ => before.map(|(_, close)| close.fraction()),
        };
        let rate = action.foreign(currency).and_then(|other| worth(other, counts_on));
        let effect = match () {
            () if counts_on > until => Effect::AfterAnchor,
            () if which == Adjust::Splits && !action.is_of_shares() => Effect::NotAsked,
            () => match factors(&action, reference.as_ref(), currency, rate.as_ref()) {
                Ok((price, volume)) => Effect::Applied { price, volume },
                Err(why) => Effect::Not(why),
            },
        };
        let rest = match (&effect, reference) {
            (Effect::Applied { price, .. }, Some(reference)) => Some(reference * price),
            (_, reference) => reference,
        };
        left = Some((counts_on, rest));
        out.push(Judged { action, counts_on, close: before, rate, effect });
    }
    out
}

/// By what prices and volumes before an action are multiplied, or why not at all.
fn factors(
    action: &Action,
    close: Option<&BigRational>,
    currency: &str,
    rate: Option<&BigRational>,
) -> Result<(BigRational, BigRational), String> {
    let known = || match close {
        None => Err("no close is held before its ex-date".to_owned()),
        Some(close) if !close.is_positive() => Err("the close before its ex-date is not above nought".to_owned()),
        Some(close) => Ok(close),
    };
    let one = BigRational::one;
    Ok(match &action.what {
        What::Split { new, old } => (of(*old, *new), of(*new, *old)),
        What::Bonus { new, old } => (of(*old, old + new), of(old + new, *old)),
        What::Dividend(dividend) => (taken(known()?, &dividend_paid(dividend, currency, rate)?, "the dividend")?, one()),
        What::SpinOff { new, old, value } => {
            let value = value.ok_or("the value of what was spun off is not known yet")?;
            (taken(known()?, &(of(*new, *old) * value.fraction()), "what was spun off")?, one())
        }
        What::Rights { new, old, price } => {
            let (close, k, price) = (known()?, of(*new, *old), price.fraction());
            let factor = if price >= *close { one() } else { (close + &k * price) / (close * (one() + &k)) };
            (factor, one())
        }
        What::Delisting { .. } => (one(), one()),
    })
}

/// A dividend in the instrument's currency.
pub(crate) fn dividend_paid(dividend: &Dividend, currency: &str, rate: Option<&BigRational>) -> Result<BigRational, String> {
    match (&dividend.currency, dividend.rate.map(Decimal::fraction).as_ref().or(rate)) {
        (Some(other), None) if other != currency => Err(format!("it is paid in {other}, and no rate to {currency} is known")),
        (Some(other), Some(rate)) if other != currency => Ok(dividend.amount.fraction() * rate),
        _ => Ok(dividend.amount.fraction()),
    }
}

/// What is left of the close, over the close.
fn taken(close: &BigRational, amount: &BigRational, what: &str) -> Result<BigRational, String> {
    match amount < close {
        true => Ok((close - amount) / close),
        false => Err(format!("{what} is not below the close before its ex-date")),
    }
}

/// Where the adjusted prices are those that were paid.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Anchor {
    /// At the newest session of the series.
    Newest,
    /// At its oldest session.
    Oldest,
    /// At the session of a date; later actions do not count, and later prices are as traded.
    Date(TradeDate),
}

/// How prices are adjusted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Adjustment {
    /// For which actions.
    pub which: Adjust,
    /// Where prices are as traded.
    pub anchor: Anchor,
}

/// By what the bars of each stretch of time are multiplied.
#[derive(Debug)]
pub struct Factors {
    /// The stretches in order: each ends before a slot, the last never.
    stretches: Vec<(Slot, Stretch)>,
}

/// The factors of one stretch.
#[derive(Debug)]
pub struct Stretch {
    /// Of prices.
    pub price: Factor,
    /// Of volumes.
    pub volume: Factor,
}

impl Factors {
    /// The factors that judged actions make together. `start` gives the first slot of a trade date; prices are as traded in the slot
    /// `anchor`, or where it is absent, behind the last action.
    #[must_use]
    pub fn of(judged: &[Judged], start: impl Fn(TradeDate) -> Slot, anchor: Option<Slot>) -> Factors {
        let mut stretches: Vec<(Slot, BigRational, BigRational)> = vec![(Slot(i64::MAX), BigRational::one(), BigRational::one())];
        for Judged { counts_on, effect, .. } in judged.iter().rev() {
            let Effect::Applied { price, volume } = effect else { continue };
            // In lowest terms they would take longer to find than to use.
            let times = |a: &BigRational, b: &BigRational| match b.is_one() {
                true => a.clone(),
                false => BigRational::new_raw(a.numer() * b.numer(), a.denom() * b.denom()),
            };
            let (_, p, v) = &stretches[stretches.len() - 1];
            stretches.push((start(*counts_on), times(p, price), times(v, volume)));
        }
        stretches.reverse();
        if let Some(anchor) = anchor {
            let at = stretches.partition_point(|(end, ..)| *end <= anchor).min(stretches.len() - 1);
            let (p, v) = (stretches[at].1.clone(), stretches[at].2.clone());
            stretches.iter_mut().for_each(|(_, price, volume)| (*price, *volume) = (&*price / &p, &*volume / &v));
        }
        let made = |(end, price, volume)| (end, Stretch { price: Factor::new(price), volume: Factor::new(volume) });
        Factors { stretches: stretches.into_iter().map(made).collect() }
    }

    /// Prices of stretches that are multiplied by these, each up to a slot; the last one never ends. Volumes stay.
    #[must_use]
    pub fn of_prices(stretches: Vec<(Slot, BigRational)>) -> Factors {
        let one = |(end, price)| (end, Stretch { price: Factor::new(price), volume: Factor::new(BigRational::one()) });
        let mut stretches: Vec<(Slot, Stretch)> = stretches.into_iter().map(one).collect();
        match stretches.last_mut() {
            Some((end, _)) => *end = Slot(i64::MAX),
            None => stretches.push(one((Slot(i64::MAX), BigRational::one()))),
        }
        Factors { stretches }
    }

    /// The factors of a slot.
    #[must_use]
    pub fn at(&self, slot: Slot) -> &Stretch {
        // Most questions are about the newest bars.
        let newest = self.stretches.len() - 1;
        let before = &self.stretches[..newest];
        let at = if before.last().is_none_or(|(end, _)| *end <= slot) { newest } else { before.partition_point(|(end, _)| *end <= slot) };
        &self.stretches[at].1
    }

    /// The stretches in order, each with the slot before which it ends; the last one ends never.
    pub fn stretches(&self) -> impl Iterator<Item = (Option<Slot>, &Stretch)> {
        self.stretches.iter().map(|(end, stretch)| (Some(*end).filter(|end| end.0 < i64::MAX), stretch))
    }

    /// The factors of a stretch of slots as a text: where they are the same, so are adjusted numbers.
    #[must_use]
    pub fn over(&self, span: &Span) -> String {
        let mut out = String::new();
        let first = self.stretches.partition_point(|(end, _)| *end <= span.start);
        for (end, stretch) in &self.stretches[first..] {
            out.push_str(&format!("{} {} {}\n", end.min(&span.end).0, stretch.price.exact, stretch.volume.exact));
            if *end >= span.end {
                break;
            }
        }
        out
    }

    /// How many digits more before the point a price may have than before, at most.
    #[must_use]
    pub fn more_digits(&self) -> u8 {
        let digits = |f: &BigRational| f.ceil().to_integer().to_string().trim_start_matches('-').len() as u8;
        self.stretches.iter().map(|(_, s)| digits(&s.price.exact).max(digits(&s.volume.exact))).max().unwrap_or(0).min(18)
    }
}

/// Bits behind the point of a shortened factor.
const BITS: u32 = 64;

/// An exact factor, with shortened ones for quick work.
#[derive(Debug)]
pub struct Factor {
    /// The factor itself.
    pub exact: BigRational,
    /// Shortened ones, each for a number of digits by which a product has more than what is multiplied: the factor with so many noughts,
    /// times 2⁶⁴, rounded down; `None` where that does not fit. The numbers of a series have one scale, or two.
    short: [OnceLock<(i32, Option<u128>)>; 2],
    real: OnceLock<f64>,
}

impl Factor {
    pub(crate) fn new(exact: BigRational) -> Factor {
        Factor { exact, short: [const { OnceLock::new() }; 2], real: OnceLock::new() }
    }

    /// Whether it changes nothing.
    #[must_use]
    pub fn is_one(&self) -> bool {
        self.exact.is_one()
    }

    /// The factor to so many decimals.
    #[must_use]
    pub fn decimal(&self, decimals: u8) -> Decimal {
        self.times(Decimal { mantissa: 1, scale: 0 }, decimals)
    }

    /// The factor, as near as a float comes to it.
    #[must_use]
    pub fn real(&self) -> f64 {
        *self.real.get_or_init(|| self.exact.to_f64().unwrap_or(f64::NAN))
    }

    /// A number that may lie below nought to so many decimals.
    pub(crate) fn signed(self, decimals: u8) -> Decimal {
        match self.exact.is_negative() {
            false => self.decimal(decimals),
            true => {
                let size = Factor::new(-self.exact).decimal(decimals);
                Decimal { mantissa: -size.mantissa, ..size }
            }
        }
    }

    /// A number times the factor to so many decimals, half to even; fewer where 18 digits do not hold them.
    ///
    /// The shortened factor is too small by less than 2⁻⁶⁴, so the product by less than the number's mantissa times that. Where half a
    /// unit does not lie in between, it is rounded as the exact product would be; where it does, the exact one is rounded.
    #[must_use]
    pub fn times(&self, number: Decimal, decimals: u8) -> Decimal {
        let (more, size) = (i32::from(decimals) - i32::from(number.scale), number.mantissa.unsigned_abs());
        let quick = || {
            let known =
                |slot: &OnceLock<(i32, Option<u128>)>| Some(*slot.get_or_init(|| (more, self.shortened(more)))).filter(|s| s.0 == more);
            let (_, short) = self.short.iter().find_map(known)?;
            let short = short?;
            let product = short.checked_mul(u128::from(size))?;
            let (whole, rest) = (product >> BITS, product & ((1 << BITS) - 1));
            let half = 1 << (BITS - 1);
            match rest {
                _ if rest > half => Some(whole + 1),
                _ if rest + u128::from(size) < half => Some(whole),
                _ => None,
            }
        };
        let exact = |more: i32| {
            let ten = BigInt::from(10).pow(more.unsigned_abs());
            let (mut top, mut bottom) = (self.exact.numer() * BigInt::from(size), self.exact.denom().clone());
            if more < 0 {
                bottom *= ten
            } else {
                top *= ten
            }
            let (whole, rest) = (&top / &bottom, &top % &bottom);
            let twice: BigInt = rest * 2;
            let up = twice > bottom || (twice == bottom && (&whole % BigInt::from(2)) == BigInt::one());
            if up { whole + 1 } else { whole }
        };
        let sized = |digits: i64| if number.mantissa < 0 { -digits } else { digits };
        if let Some(mantissa) = quick().and_then(|n| i64::try_from(n).ok()).filter(|n| *n < LIMIT) {
            return Decimal { mantissa: sized(mantissa), scale: decimals };
        }
        let fewer = (0..=decimals).rev().find_map(|scale| {
            let mantissa = exact(i32::from(scale) - i32::from(number.scale)).to_i64().filter(|n| *n < LIMIT)?;
            Some(Decimal { mantissa: sized(mantissa), scale })
        });
        // Beyond eighteen digits before the point there is no number to be had; no price comes near.
        fewer.unwrap_or(Decimal { mantissa: sized(LIMIT - 1), scale: 0 })
    }

    fn shortened(&self, more: i32) -> Option<u128> {
        let ten = BigInt::from(10).pow(more.unsigned_abs());
        let (mut top, mut bottom): (BigInt, BigInt) = (self.exact.numer() << BITS, self.exact.denom().clone());
        if more < 0 {
            bottom *= ten
        } else {
            top *= ten
        }
        if top.is_zero() { None } else { (top / bottom).to_u128() }
    }
}

#[cfg(test)]
#[path = "adjust_test.rs"]
mod tests;
