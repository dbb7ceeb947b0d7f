//! From prices adjusted for splits back to prices as traded.
//!
//! A source that adjusts divides everything before a split by its ratio, from
//! the day of the split on. So what a bar's numbers mean depends on when they
//! were learned: a version learned before a split is not adjusted for it. Each
//! version is brought back by the splits after its own date that were known
//! when it was learned, and bars of different ages never mix two bases.

use crate::{
    bar::{Bar, Bars},
    decimal::Decimal,
    finding::Split,
    slot::Slot,
    time::{Timestamp, TradeDate},
    versions::Versions,
};
use jiff::tz::TimeZone;

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

/// The daily bars known at `as_of`, as they were traded.
///
/// A source that adjusts rounds, so that what was paid lies within half a unit of its last digit, times the ratio. Where one whole number of
/// ticks lies there for each of the four prices, that is what was paid; else the bar is left out, rather than served a tick wrong.
///
/// ```
/// use mizuno_core::{Bar, Decimal, Slot, Timestamp, TradeDate, Version, Versions, basis::as_traded, finding::Split};
/// // Learned after a split of two for one, the bar of the day before it is told at half of what was paid.
/// let split = Split { ex_date: "2025-04-10".parse()?, new: 2, old: 1 };
/// let date: TradeDate = "2025-04-09".parse()?;
/// let told = |close: &str| {
///     let bar = Bar::new(Slot::on(date), [close; 4].map(|p| p.parse::<Decimal>().unwrap()), None);
///     let recorded_at = "2025-04-11T00:00:00Z".parse::<Timestamp>().unwrap();
///     let versions = Versions { rows: vec![Version { recorded_at, fetch: 1, bar, withdrawn: false }] };
///     as_traded(&versions, Timestamp::MAX, &[split], &jiff::tz::TimeZone::UTC, "0.01".parse().unwrap())
/// };
/// assert_eq!(told("3.755").bars.rows[0].close(), "7.51".parse()?);
/// // Told with two decimals, it may have been 7.49, 7.50 or 7.51.
/// assert_eq!((told("3.75").bars.rows.len(), told("3.75").unclear), (0, vec![Slot::on(date)]));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[must_use]
pub fn as_traded(versions: &Versions, as_of: Timestamp, splits: &[Split], zone: &TimeZone, tick: Decimal) -> AsTraded {
    let mut out = AsTraded::default();
    for group in versions.rows.chunk_by(|a, b| a.bar.slot == b.bar.slot) {
        let Some(version) = group.iter().rev().find(|v| v.recorded_at <= as_of).filter(|v| !v.withdrawn) else { continue };
        let slot = version.bar.slot;
        let (new, old) = taken_out(splits, slot.date(), version.recorded_at.date_in(zone));
        if new == old {
            out.bars.rows.push(version.bar);
            continue;
        }
        match scaled(&version.bar, new, old, tick) {
            Some(bar) => {
                out.bars.rows.push(bar);
                out.brought_back.push(slot);
            }
            None => out.unclear.push(slot),
        }
    }
    out
}

/// What a source that adjusts has taken out of a bar of `date` by the day it was learned: new shares for old ones, in all.
fn taken_out(splits: &[Split], date: TradeDate, learned: TradeDate) -> (i64, i64) {
    let after = splits.iter().filter(|s| date < s.ex_date && s.ex_date <= learned);
    after.fold((1, 1), |(new, old), s| (new * s.new.max(1), old * s.old.max(1)))
}

/// A bar times `new` over `old`; `None` where not exactly one whole number of ticks fits a price.
fn scaled(bar: &Bar, new: i64, old: i64, tick: Decimal) -> Option<Bar> {
    let price = |p: Decimal| {
        // In units of the finer of the two scales: half a unit of the last digit that was told lies on each side.
        let scale = p.scale.max(tick.scale);
        let unit = 10i128.pow(u32::from(scale - p.scale));
        let step = i128::from(tick.at_scale(scale)?.mantissa).max(1);
        let (twice, over) = (2 * i128::from(p.mantissa) * unit, 2 * i128::from(old) * step);
        let (least, most) = ((twice - unit) * i128::from(new), (twice + unit) * i128::from(new));
        let (first, last) = (-(-least).div_euclid(over), most.div_euclid(over));
        let mantissa = (first == last).then(|| i64::try_from(first * step).ok())??;
        let traded = Decimal { mantissa, scale };
        // As the source writes its prices, where that holds it.
        traded.at_scale(p.scale).or(Some(traded))
    };
    let [open, high, low, close] = bar.prices();
    let prices = [price(open)?, price(high)?, price(low)?, price(close)?];
    let volume = bar.volume().and_then(|v| nearest(v, old, new));
    Some(Bar::new(bar.slot, prices, volume).with_open_interest(bar.open_interest()))
}

/// A number times `by` over `over`, to the nearest unit of its last digit.
fn nearest(number: Decimal, by: i64, over: i64) -> Option<Decimal> {
    let over = i128::from(over);
    let mantissa = i64::try_from((i128::from(number.mantissa) * i128::from(by) + over / 2).div_euclid(over)).ok()?;
    Decimal { mantissa, ..number }.at_scale(number.scale)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Slot, Version};
    use proptest::prelude::*;

    fn day(text: &str) -> TradeDate {
        text.parse().unwrap()
    }

    fn version(date: &str, learned: &str, close: i64, scale: u8, volume: i64) -> Version {
        let bar = Bar::new(Slot::on(day(date)), [Decimal { mantissa: close, scale }; 4], Some(Decimal { mantissa: volume, scale: 0 }));
        Version { recorded_at: learned.parse().unwrap(), fetch: 1, bar, withdrawn: false }
    }

    #[test]
    fn each_version_is_brought_back_by_what_was_known_when_it_came() {
        let split = [Split { ex_date: day("2025-03-17"), new: 4, old: 1 }];
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
            let split = [Split { ex_date: day("2025-03-17"), new, old }];
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
    }

    proptest! {
        /// Adjusting, rounding and bringing back gives what was paid, or nothing; and what was paid wherever digits enough were told.
        #[test]
        fn back_and_forth(close in 1i64..1_000_000, new in 1i64..20, old in 1i64..20, scale in 2u8..7) {
            prop_assume!(new != old);
            let split = [Split { ex_date: day("2025-03-17"), new, old }];
            // Half away from nought, as most do it.
            let told = (2 * close * 10i64.pow(u32::from(scale - 2)) * old + new) / (2 * new);
            let versions = Versions { rows: vec![version("2025-03-13", "2025-03-20T00:00:00Z", told, scale, 7 * new)] };
            let made = as_traded(&versions, Timestamp::MAX, &split, &TimeZone::UTC, "0.01".parse().unwrap());
            let paid = Decimal { mantissa: close, scale: 2 };
            prop_assert!(made.bars.rows.iter().all(|b| b.close().units(scale) == paid.units(scale) && b.volume().unwrap().mantissa == 7 * old));
            let enough = new < old * 10i64.pow(u32::from(scale - 2));
            prop_assert!(made.bars.rows.len() == 1 || !enough, "{} of {}:{} at {}", paid, new, old, scale);
        }
    }
}
