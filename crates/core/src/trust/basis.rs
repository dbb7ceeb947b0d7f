//! From adjusted prices back to prices as traded.
//!
//! A source that adjusts multiplies everything before an action by its factor, from
//! the day of the action on. So what a bar's numbers mean depends on when they
//! were learned: a version learned before an action is not adjusted for it. Each
//! version is brought back by the actions after its own date that were known
//! when it was learned, and bars of different ages never mix two bases.

use crate::{
    bar::{Bar, Bars},
    decimal::Decimal,
    slot::Slot,
    time::{Timestamp, TradeDate},
    versions::Versions,
};
use jiff::tz::TimeZone;
use num_bigint::BigInt;
use num_rational::BigRational;
use num_traits::{One, Signed, ToPrimitive};

/// What a source takes out of its bars for one action, from the ex-date on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TakenOut {
    /// The ex-date, or the session at which the action counts.
    pub ex_date: TradeDate,
    /// What prices before it are multiplied by; above nought.
    pub prices: BigRational,
    /// What volumes before it are multiplied by; above nought.
    pub volumes: BigRational,
}

/// Bars as they were traded.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AsTraded {
    /// The bars, in slot order.
    pub bars: Bars,
    /// The slots of those that were told otherwise and are brought back.
    pub brought_back: Vec<Slot>,
    /// The slots of bars that are left out: no price fits what was told, or several do.
    pub unclear: Vec<Slot>,
}

/// The daily bars known at `as_of`, as they were traded; `taken_out` in the order of the ex-dates.
///
/// A source that adjusts rounds, so that what was paid lies within half a unit of its last digit, over the factor. Where one whole number of
/// ticks lies there for each of the four prices, that is what was paid; else the bar is left out, rather than served a tick wrong.
///
/// ```
/// use mizuno_core::{Bar, Decimal, Slot, Timestamp, TradeDate, Version, Versions, basis::{TakenOut, as_traded}};
/// use num_rational::BigRational;
/// // Learned after a split of two for one, the bar of the day before it is told at half of what was paid.
/// let half = BigRational::new(1.into(), 2.into());
/// let split = [TakenOut { ex_date: "2025-04-10".parse()?, volumes: half.recip(), prices: half }];
/// let date: TradeDate = "2025-04-09".parse()?;
/// let told = |close: &str| {
///     let bar = Bar::new(Slot::on(date), [close; 4].map(|p| p.parse::<Decimal>().unwrap()), None);
///     let recorded_at = "2025-04-11T00:00:00Z".parse::<Timestamp>().unwrap();
///     let versions = Versions { rows: vec![Version { recorded_at, fetch: 1, bar, withdrawn: false }] };
///     as_traded(&versions, Timestamp::MAX, &split, &jiff::tz::TimeZone::UTC, "0.01".parse().unwrap())
/// };
/// assert_eq!(told("3.755").bars.rows[0].close(), "7.51".parse()?);
/// // Told with two decimals, it may have been 7.49, 7.50 or 7.51.
/// assert_eq!((told("3.75").bars.rows.len(), told("3.75").unclear), (0, vec![Slot::on(date)]));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[must_use]
pub fn as_traded(versions: &Versions, as_of: Timestamp, taken_out: &[TakenOut], zone: &TimeZone, tick: Decimal) -> AsTraded {
    let mut out = AsTraded::default();
    let mut factors = Factors::default();
    for group in versions.rows.chunk_by(|a, b| a.bar.slot == b.bar.slot) {
        let Some(version) = group.iter().rev().find(|v| v.recorded_at <= as_of).filter(|v| !v.withdrawn) else { continue };
        let slot = version.bar.slot;
        let Some((prices, volumes)) = factors.of(taken_out, slot.date(), version.recorded_at.date_in(zone)) else {
            out.bars.rows.push(version.bar);
            continue;
        };
        match scaled(&version.bar, (prices, volumes), tick) {
            Some(bar) => {
                out.bars.rows.push(bar);
                out.brought_back.push(slot);
            }
            None => out.unclear.push(slot),
        }
    }
    out
}

/// Whether a close that a source tells is what it would make of one that was traded: not further from it than half a unit of its last digit.
#[must_use]
pub fn is_told_of(told: Decimal, traded: Decimal, taken_out: &BigRational) -> bool {
    let apart = (traded.fraction() * taken_out - told.fraction()).abs();
    apart * BigInt::from(2) <= BigRational::new(BigInt::one(), BigInt::from(10).pow(u32::from(told.scale)))
}

/// What was last worked out: what one stretch of actions takes out holds for many bars.
#[derive(Debug, Default)]
pub struct Factors {
    stretch: (usize, usize),
    product: Option<(BigRational, BigRational)>,
}

impl Factors {
    /// What a source has taken out of the prices and volumes of a bar of `date` by the day it was learned; `None` where that is nothing.
    pub fn of(&mut self, taken_out: &[TakenOut], date: TradeDate, learned: TradeDate) -> Option<&(BigRational, BigRational)> {
        let until = |day: TradeDate| taken_out.partition_point(|t| t.ex_date <= day);
        let stretch = (until(date), until(learned).max(until(date)));
        if stretch != self.stretch {
            let all = taken_out[stretch.0..stretch.1].iter().map(|t| (&t.prices, &t.volumes));
            let product = all.fold((BigRational::one(), BigRational::one()), |(p, v), (prices, volumes)| (p * prices, v * volumes));
            let is_nothing = product.0.is_one() && product.1.is_one();
            *self = Factors { stretch, product: (!is_nothing).then_some(product) };
        }
        self.product.as_ref()
    }
}

/// A bar over what was taken out of its prices and volumes; `None` where not exactly one whole number of ticks fits a price.
fn scaled(bar: &Bar, (prices, volumes): (&BigRational, &BigRational), tick: Decimal) -> Option<Bar> {
    let price = |p: Decimal| {
        // In units of the finer of the two scales: half a unit of the last digit that was told lies on each side.
        let scale = p.scale.max(tick.scale);
        let unit = 10i128.pow(u32::from(scale - p.scale));
        let step = tick.units(scale).max(1);
        let twice = 2 * i128::from(p.mantissa) * unit;
        let ticks = only_whole(twice - unit, twice + unit, prices, 2 * step)?;
        let traded = Decimal { mantissa: i64::try_from(ticks.checked_mul(tick.mantissa.max(1).into())?).ok()?, ..tick };
        // As the source writes its prices, where 18 digits hold it.
        traded.at_scale(p.scale).or_else(|| traded.at_scale(tick.scale))
    };
    let [open, high, low, close] = bar.prices();
    let prices = [price(open)?, price(high)?, price(low)?, price(close)?];
    let volume = bar.volume().and_then(|v| nearest(v, volumes));
    Some(Bar::new(bar.slot, prices, volume).with_open_interest(bar.open_interest()))
}

/// The only whole number from `least` to `most`, each over `factor` and `over`; `None` where there is none, or more than one.
fn only_whole(least: i128, most: i128, factor: &BigRational, over: i128) -> Option<i128> {
    let (new, old) = (factor.denom(), factor.numer());
    let small = || {
        let (new, over) = (new.to_i128()?, old.to_i128()?.checked_mul(over)?);
        let first = -(-least.checked_mul(new)?).div_euclid(over);
        Some((first, most.checked_mul(new)?.div_euclid(over)))
    };
    let large = || {
        let over = |bound: i128| BigRational::new(new * bound, old * over);
        Some((over(least).ceil().to_integer().to_i128()?, over(most).floor().to_integer().to_i128()?))
    };
    let (first, last) = small().or_else(large)?;
    (first == last).then_some(first)
}

/// A number over a factor, to the nearest unit of its last digit.
fn nearest(number: Decimal, factor: &BigRational) -> Option<Decimal> {
    let exact = BigRational::from(BigInt::from(number.mantissa)) / factor;
    let half = BigRational::new(BigInt::one(), BigInt::from(2));
    Decimal { mantissa: (exact + half).floor().to_integer().to_i64()?, ..number }.at_scale(number.scale)
}

/// Sessions that are looked at together, and how many of them must be told of what was traded.
const TOGETHER: usize = 20;
const MUST_FIT: usize = 18;

/// From which date on the actions account for the prices of a source that adjusts; `None` where they do not even for the newest.
///
/// `fits` says of each session that somebody tells as traded, too, whether the source's close is told of that one ([`is_told_of`]), in order
/// of the dates. From the newest session back, eighteen of each twenty must be. Before the first session that somebody tells as traded nothing is
/// accounted for.
#[must_use]
pub fn accounted_from(fits: &[(TradeDate, bool)]) -> Option<TradeDate> {
    let mut misses = 0;
    for at in (0..fits.len()).rev() {
        misses += usize::from(!fits[at].1);
        // The session that leaves the stretch at its newer end.
        misses -= fits.get(at + TOGETHER).map_or(0, |(_, fit)| usize::from(!fit));
        if misses > TOGETHER - MUST_FIT {
            let stretch = &fits[at..(at + TOGETHER).min(fits.len())];
            let newest = stretch.iter().rposition(|(_, fit)| !fit).map_or(at, |place| at + place);
            return fits.get(newest + 1).map(|(date, _)| *date);
        }
    }
    fits.first().map(|(date, _)| *date)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Slot, Version};
    use proptest::prelude::*;

    fn day(text: &str) -> TradeDate {
        text.parse().unwrap()
    }

    fn split(new: i64, old: i64) -> TakenOut {
        let prices = BigRational::new(old.into(), new.into());
        TakenOut { ex_date: day("2025-03-17"), volumes: prices.recip(), prices }
    }

    fn version(date: &str, learned: &str, close: i64, scale: u8, volume: i64) -> Version {
        let bar = Bar::new(Slot::on(day(date)), [Decimal { mantissa: close, scale }; 4], Some(Decimal { mantissa: volume, scale: 0 }));
        Version { recorded_at: learned.parse().unwrap(), fetch: 1, bar, withdrawn: false }
    }

    #[test]
    fn each_version_is_brought_back_by_what_was_known_when_it_came() {
        let split = [split(4, 1)];
        let rows = vec![
            // Learned before the split, as traded; and once more after it, a quarter.
            version("2025-03-13", "2025-03-13T06:00:00Z", 2600, 2, 100),
            version("2025-03-13", "2025-03-18T06:00:00Z", 65_000, 4, 400),
            // Only learned before.
            version("2025-03-14", "2025-03-14T06:00:00Z", 2604, 2, 200),
            version("2025-03-17", "2025-03-17T06:00:00Z", 655, 2, 300),
        ];
        let versions = Versions { rows };
        let zone = TimeZone::get("Pacific/Auckland").unwrap();
        let told = |as_of: &str| {
            let bars = as_traded(&versions, as_of.parse().unwrap(), &split, &zone, "0.01".parse().unwrap()).bars;
            bars.rows.iter().map(|b| (b.close().mantissa, b.volume().unwrap().mantissa)).collect::<Vec<_>>()
        };
        assert_eq!(told("2025-04-10T00:00:00Z"), [(260_000, 100), (2604, 200), (655, 300)]);
        assert_eq!(told("2025-03-15T00:00:00Z"), [(2600, 100), (2604, 200)]);
    }

    #[test]
    fn only_what_was_paid_for_certain_is_told() {
        let back = |told: i64, scale: u8, (new, old): (i64, i64), tick: &str| {
            let split = [split(new, old)];
            let versions = Versions { rows: vec![version("2025-03-13", "2025-03-18T06:00:00Z", told, scale, 10)] };
            let made = as_traded(&versions, Timestamp::MAX, &split, &TimeZone::UTC, tick.parse().unwrap());
            assert_eq!((made.brought_back.len() + made.unclear.len(), made.bars.rows.len()), (1, made.brought_back.len()));
            made.bars.rows.first().map(|b| b.close().to_string())
        };
        assert_eq!(back(3337, 3, (3, 1), "0.01").as_deref(), Some("10.010"), "3.337 was 10.011 at most nearly; 10.01 is a price");
        assert_eq!(back(334, 2, (3, 1), "0.01"), None, "10.01, 10.02 and 10.03 are all told as 3.34");
        assert_eq!(back(334, 2, (3, 1), "0.05"), None, "neither 10.00 nor 10.05 is told as 3.34");
        assert_eq!(back(335, 2, (3, 1), "0.05").as_deref(), Some("10.05"));
        assert_eq!(back(10, 1, (1, 10), "0.01").as_deref(), Some("0.1"), "a consolidation makes them finer");
        let (million, twelve) = (600_000_120_000_000_000, 12);
        assert_eq!(back(million, twelve, (2, 1), "0.01").as_deref(), Some("1200000.24"), "at the scale of the source it had 19 digits");
        assert_eq!(back(million, twelve, (1, 2), "0.01").as_deref(), Some("300000.060000000000"), "as the source writes its prices");
        assert_eq!(back(500_000_000_000_000_000, 17, (2, 1), "10").as_deref(), Some("10"), "nor has a tick to be written at that scale");
    }

    proptest! {
        /// Adjusting, rounding and bringing back gives what was paid, or nothing; and what was paid wherever digits enough were told.
        #[test]
        fn back_and_forth(close in 1i64..1_000_000, new in 1i64..20, old in 1i64..20, scale in 2u8..7) {
            prop_assume!(new != old);
            let split = [split(new, old)];
            // Half away from nought, as most do it.
            let told = (2 * close * 10i64.pow(u32::from(scale - 2)) * old + new) / (2 * new);
            let versions = Versions { rows: vec![version("2025-03-13", "2025-03-20T00:00:00Z", told, scale, 7 * new)] };
            let made = as_traded(&versions, Timestamp::MAX, &split, &TimeZone::UTC, "0.01".parse().unwrap());
            let paid = Decimal { mantissa: close, scale: 2 };
            prop_assert!(made.bars.rows.iter().all(|b| b.close().units(scale) == paid.units(scale) && b.volume().unwrap().mantissa == 7 * old));
            let enough = new < old * 10i64.pow(u32::from(scale - 2));
            prop_assert!(made.bars.rows.len() == 1 || !enough, "{} of {}:{} at {}", paid, new, old, scale);
        }

        /// Forty dividends make factors of hundreds of digits; told with digits enough, each bar comes back as it was traded.
        #[test]
        fn dividends_come_back(closes in prop::collection::vec(500i64..5_000, 60), amounts in prop::collection::vec(1i64..40, 1..41)) {
            let date = |n: usize| TradeDate(20_000 + n as i32);
            let of = |close: i64, amount: i64| BigRational::new((close - amount).into(), close.into());
            let dividend = |(n, amount): (usize, &i64)| {
                TakenOut { ex_date: date(n + 10), prices: of(closes[n + 9], *amount), volumes: BigRational::one() }
            };
            let taken_out: Vec<TakenOut> = amounts.iter().enumerate().map(dividend).collect();
            let told = |(n, close): (usize, &i64)| {
                let factor = taken_out.iter().filter(|t| date(n) < t.ex_date).fold(BigRational::one(), |all, t| all * &t.prices);
                let exact = factor * BigInt::from(*close) * BigInt::from(10_000);
                let close = exact.round().to_integer().to_i64().unwrap();
                let bar = Bar::new(Slot::on(date(n)), [Decimal { mantissa: close, scale: 6 }; 4], Some(Decimal { mantissa: 7, scale: 0 }));
                Version { recorded_at: "2030-01-01T00:00:00Z".parse().unwrap(), fetch: 1, bar, withdrawn: false }
            };
            let versions = Versions { rows: closes.iter().enumerate().map(told).collect() };
            let made = as_traded(&versions, Timestamp::MAX, &taken_out, &TimeZone::UTC, "0.01".parse().unwrap());
            prop_assert_eq!((made.bars.rows.len(), made.brought_back.len()), (60, 9 + amounts.len()));
            prop_assert!(made.bars.rows.iter().zip(&closes).all(|(b, c)| b.close().units(6) == i128::from(*c) * 10_000 && b.volume().unwrap().mantissa == 7));
        }

        /// Whatever was before it, an action that is not known cuts off what is older than it; a misprint now and then cuts nothing.
        #[test]
        fn a_source_is_accounted_for_as_far_back_as_its_closes_fit(
            since in 3usize..200,
            misprints in prop::collection::btree_set(0usize..12, 0..12),
        ) {
            let date = |n: usize| TradeDate(20_000 + n as i32);
            // One of twenty at most.
            let is_misprint = |n: usize| n % 20 == 7 && misprints.contains(&(n / 20));
            let fits: Vec<_> = (0..240).map(|n| (date(n), n >= since && !is_misprint(n))).collect();
            let from = accounted_from(&fits).unwrap();
            // Close behind the step a misprint counts with what does not fit.
            prop_assert!(date(since) <= from && from <= date(since + 19), "{:?}", from);
            let has_near = (since..since + 20).any(is_misprint);
            prop_assert!(has_near || from == date(since));
        }
    }

    #[test]
    fn what_is_not_accounted_for_at_all_has_no_part() {
        let date = |n: i32| TradeDate(20_000 + n);
        assert_eq!(accounted_from(&[]), None);
        assert_eq!(accounted_from(&(0..50).map(|n| (date(n), false)).collect::<Vec<_>>()), None);
        assert_eq!(accounted_from(&(0..50).map(|n| (date(n), n == 49)).collect::<Vec<_>>()), Some(date(49)));
        assert_eq!(accounted_from(&(0..50).map(|n| (date(n), true)).collect::<Vec<_>>()), Some(date(0)));
    }

    #[test]
    fn a_close_is_told_of_another_within_half_a_unit() {
        let of =
            |told: &str, traded: &str| is_told_of(told.parse().unwrap(), traded.parse().unwrap(), &BigRational::new(49.into(), 52.into()));
        // 2.08 times 49/52 is 1.96 exactly.
        assert!(of("1.96", "2.08") && of("1.9600", "2.08") && of("1.955", "2.075"));
        assert!(!of("1.97", "2.08") && !of("1.9601", "2.08") && !of("1.95", "2.075"));
    }
}
