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
    time::{Timestamp, TradeDate},
    versions::Versions,
};
use jiff::tz::TimeZone;

/// The daily bars known at `as_of`, as they were traded. Prices that the
/// source had to round come back to the nearest tick; a bar whose prices would
/// need more than 18 digits is left out.
///
/// ```
/// use mizuno_core::{Bar, Decimal, Slot, Timestamp, TradeDate, Version, Versions, basis::as_traded, finding::Split};
/// // Learned after a split of two for one, the bar of the day before it is told at half of what was paid.
/// let split = Split { ex_date: "2025-04-10".parse()?, new: 2, old: 1 };
/// let date: TradeDate = "2025-04-09".parse()?;
/// let told = Bar::new(Slot::on(date), ["3.75"; 4].map(|p| p.parse::<Decimal>().unwrap()), None);
/// let version = Version { recorded_at: "2025-04-11T00:00:00Z".parse()?, fetch: 1, bar: told, withdrawn: false };
/// let bars = as_traded(&Versions { rows: vec![version] }, Timestamp::MAX, &[split], &jiff::tz::TimeZone::UTC, None);
/// assert_eq!(bars.rows[0].close(), "7.50".parse()?);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[must_use]
pub fn as_traded(versions: &Versions, as_of: Timestamp, splits: &[Split], zone: &TimeZone, tick: Option<Decimal>) -> Bars {
    let mut out = Bars::default();
    for group in versions.rows.chunk_by(|a, b| a.bar.slot == b.bar.slot) {
        let Some(version) = group.iter().rev().find(|v| v.recorded_at <= as_of).filter(|v| !v.withdrawn) else { continue };
        let (new, old) = taken_out(splits, version.bar.slot.date(), version.recorded_at.date_in(zone));
        out.rows.extend(if new == old { Some(version.bar) } else { scaled(&version.bar, new, old, tick) });
    }
    out
}

/// What a source that adjusts has taken out of a bar of `date` by the day it was learned: new shares for old ones, in all.
fn taken_out(splits: &[Split], date: TradeDate, learned: TradeDate) -> (i64, i64) {
    let after = splits.iter().filter(|s| date < s.ex_date && s.ex_date <= learned);
    after.fold((1, 1), |(new, old), s| (new * s.new.max(1), old * s.old.max(1)))
}

fn scaled(bar: &Bar, new: i64, old: i64, tick: Option<Decimal>) -> Option<Bar> {
    // The nearest whole number of steps of `step` units.
    let nearest = |number: Decimal, by: i64, over: i64, step: i64| {
        let (unit, number_by) = (i128::from(over) * i128::from(step), i128::from(number.mantissa) * i128::from(by));
        let mantissa = i64::try_from((number_by + unit / 2).div_euclid(unit) * i128::from(step)).ok()?;
        Decimal { mantissa, ..number }.at_scale(number.scale)
    };
    let price = |p: Decimal| {
        let step = tick.and_then(|t| t.at_scale(p.scale)).map_or(1, |t| t.mantissa).max(1);
        nearest(p, new, old, step)
    };
    let [open, high, low, close] = bar.prices();
    let prices = [price(open)?, price(high)?, price(low)?, price(close)?];
    let volume = bar.volume().and_then(|v| nearest(v, old, new, 1));
    Some(Bar::new(bar.slot, prices, volume).with_open_interest(bar.open_interest()))
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
            version("2025-03-13", "2025-03-18T06:00:00Z", 650, 2, 400),
            // Only learned before.
            version("2025-03-14", "2025-03-14T06:00:00Z", 2604, 2, 200),
            version("2025-03-17", "2025-03-17T06:00:00Z", 655, 2, 300),
        ];
        let versions = Versions { rows };
        let zone = TimeZone::get("Pacific/Auckland").unwrap();
        let told = |as_of: &str| {
            let bars = as_traded(&versions, as_of.parse().unwrap(), &split, &zone, "0.01".parse().ok());
            bars.rows.iter().map(|b| (b.close().mantissa, b.volume().unwrap().mantissa)).collect::<Vec<_>>()
        };
        assert_eq!(told("2025-04-10T00:00:00Z"), [(2600, 100), (2604, 200), (655, 300)]);
        assert_eq!(told("2025-03-15T00:00:00Z"), [(2600, 100), (2604, 200)]);
    }

    #[test]
    fn what_the_source_rounded_comes_back_to_a_tick() {
        let split = [Split { ex_date: day("2025-03-17"), new: 3, old: 1 }];
        let rows = vec![version("2025-03-13", "2025-03-18T06:00:00Z", 3337, 3, 10)];
        let versions = Versions { rows };
        let bars = as_traded(&versions, Timestamp::MAX, &split, &TimeZone::UTC, "0.01".parse().ok());
        assert_eq!(bars.rows[0].close().to_string(), "10.010", "3.337 was 10.011 at most nearly; 10.01 is a price");
    }

    proptest! {
        /// Adjusting and bringing back is the identity for prices that divide evenly.
        #[test]
        fn back_and_forth(close in 1i64..1_000_000, new in 1i64..20, old in 1i64..5) {
            let split = [Split { ex_date: day("2025-03-17"), new, old }];
            let versions = Versions { rows: vec![version("2025-03-13", "2025-03-20T00:00:00Z", close * old, 4, 7 * new)] };
            let bars = as_traded(&versions, Timestamp::MAX, &split, &TimeZone::UTC, None);
            prop_assert_eq!((bars.rows[0].close().mantissa, bars.rows[0].volume().unwrap().mantissa), (close * new, 7 * old));
        }
    }
}
