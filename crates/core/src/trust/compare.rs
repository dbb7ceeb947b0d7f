//! Two series side by side, or one as of two dates: what matches, what only one has, what differs by which column.

use crate::{
    bar::{Bar, Bars},
    decimal::Decimal,
    interval::Interval,
    slot::{Slot, Span},
    spans::Spans,
};

/// The columns of a bar, in the order differences are counted in.
pub const COLUMNS: [&str; 6] = ["open", "high", "low", "close", "volume", "open interest"];

/// How far two values may lie apart and still be the same.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Tolerance {
    /// The instrument's smallest step of price; without one, prices must be equal.
    pub tick: Option<Decimal>,
    /// So many steps apart at most.
    pub ticks: u32,
}

/// A slot in which both have a bar, and not the same.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Difference {
    /// The slot.
    pub slot: Slot,
    /// The bar of the first series.
    pub here: Bar,
    /// The bar of the second.
    pub there: Bar,
    /// Which columns differ, as in [`COLUMNS`].
    pub columns: [bool; 6],
}

/// How two series compare.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Comparison {
    /// Slots in which both have a bar.
    pub matched: u64,
    /// Of these, with the same bar.
    pub equal: u64,
    /// How many differ by column.
    pub by_column: [u64; 6],
    /// Slots that only the first has.
    pub only_here: Spans,
    /// Slots that only the second has.
    pub only_there: Spans,
    /// The first differences in time, as many as asked for.
    pub differences: Vec<Difference>,
}

/// Compares two series of one interval, both in slot order; keeps the first `most` differences.
///
/// ```
/// use mizuno_core::{Bar, Bars, Decimal, Interval, Slot, compare::{Tolerance, compare}};
/// let bar = |slot: i64, close: &str| Bar::new(Slot(slot), [close; 4].map(|p| p.parse::<Decimal>().unwrap()), None);
/// let here = Bars { rows: vec![bar(1, "7.50"), bar(2, "7.60")] };
/// let there = Bars { rows: vec![bar(2, "7.61"), bar(3, "7.70")] };
/// let exact = compare(Interval::Daily, &here, &there, Tolerance { tick: None, ticks: 0 }, 10);
/// assert_eq!((exact.matched, exact.equal, exact.only_here.len(), exact.only_there.len()), (1, 0, 1, 1));
/// let near = compare(Interval::Daily, &here, &there, Tolerance { tick: Some("0.01".parse()?), ticks: 1 }, 10);
/// assert_eq!(near.equal, 1);
/// # Ok::<(), mizuno_core::decimal::DecimalError>(())
/// ```
#[must_use]
pub fn compare(interval: Interval, here: &Bars, there: &Bars, tolerance: Tolerance, most: usize) -> Comparison {
    let (a, b) = (&here.rows[..], &there.rows[..]);
    let mut out = Comparison::default();
    let (mut only_here, mut only_there) = (Runs::new(interval), Runs::new(interval));
    let (mut i, mut j) = (0, 0);
    while i < a.len() || j < b.len() {
        match (a.get(i), b.get(j)) {
            (Some(x), Some(y)) if x.slot == y.slot => {
                out.matched += 1;
                let columns = differing(x, y, tolerance);
                if columns == [false; 6] {
                    out.equal += 1;
                } else {
                    columns.iter().zip(&mut out.by_column).for_each(|(differs, count)| *count += u64::from(*differs));
                    if out.differences.len() < most {
                        out.differences.push(Difference { slot: x.slot, here: *x, there: *y, columns });
                    }
                }
                (i, j) = (i + 1, j + 1);
            }
            (Some(x), y) if y.is_none_or(|y| x.slot < y.slot) => {
                only_here.add(x.slot);
                i += 1;
            }
            (_, Some(y)) => {
                only_there.add(y.slot);
                j += 1;
            }
            _ => break,
        }
    }
    (out.only_here, out.only_there) = (only_here.done(), only_there.done());
    out
}

fn differing(x: &Bar, y: &Bar, tolerance: Tolerance) -> [bool; 6] {
    if x == y {
        return [false; 6];
    }
    let price = |a: Decimal, b: Decimal| {
        let tick = tolerance.tick.unwrap_or(Decimal { mantissa: 0, scale: 0 });
        let scale = a.scale.max(b.scale).max(tick.scale);
        (a.units(scale) - b.units(scale)).abs() > tick.units(scale).saturating_mul(i128::from(tolerance.ticks))
    };
    let ([o, h, l, c], [p, i, m, d]) = (x.prices(), y.prices());
    // Few sources tell the open interest, and many tell it later: only where both do, they can differ.
    let interest = x.open_interest().zip(y.open_interest()).is_some_and(|(x, y)| x != y);
    [price(o, p), price(h, i), price(l, m), price(c, d), x.volume() != y.volume(), interest]
}

/// Collects slots in order into spans, neighbours together.
struct Runs {
    interval: Interval,
    open: Option<Span>,
    spans: Vec<Span>,
}

impl Runs {
    fn new(interval: Interval) -> Runs {
        Runs { interval, open: None, spans: vec![] }
    }

    fn add(&mut self, slot: Slot) {
        let one = self.interval.span_of(slot);
        match &mut self.open {
            Some(span) if span.end == one.start => span.end = one.end,
            _ => self.spans.extend(self.open.replace(one)),
        }
    }

    fn done(mut self) -> Spans {
        self.spans.extend(self.open);
        self.spans.into_iter().collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeMap;

    fn bars(rows: &BTreeMap<i64, i64>, scale: u8) -> Bars {
        let by = 10i64.pow(u32::from(scale));
        let bar = |(slot, close): (&i64, &i64)| {
            let price = Decimal { mantissa: close * by, scale };
            Bar::new(Slot(*slot), [price; 4], Some(Decimal { mantissa: *close, scale: 0 }))
        };
        rows.iter().map(bar).collect()
    }

    proptest! {
        /// Matched and alone add up to each side, and equal bars are equal whatever digits they are written with.
        #[test]
        fn every_bar_is_matched_or_alone(
            a in prop::collection::btree_map(0i64..200, 1i64..5, 0..100),
            b in prop::collection::btree_map(0i64..200, 1i64..5, 0..100),
        ) {
            let found = compare(Interval::Daily, &bars(&a, 2), &bars(&b, 0), Tolerance::default(), 1000);
            let both = a.keys().filter(|k| b.contains_key(k)).count() as u64;
            prop_assert_eq!(found.matched, both);
            prop_assert_eq!(found.matched + Interval::Daily.count(&found.only_here), a.len() as u64);
            prop_assert_eq!(found.matched + Interval::Daily.count(&found.only_there), b.len() as u64);
            let same = a.iter().filter(|(k, v)| b.get(k) == Some(v)).count() as u64;
            prop_assert_eq!((found.equal, found.differences.len() as u64), (same, both - same));
        }
    }

    #[test]
    fn a_tick_apart_is_the_same_where_a_tick_is_allowed() {
        let (a, mut b) = (bars(&BTreeMap::from([(1, 10)]), 2), bars(&BTreeMap::from([(1, 10)]), 2));
        let price = |text: &str| text.parse::<Decimal>().unwrap();
        b.rows[0] = Bar::new(Slot(1), [price("10"), price("10.01"), price("10.00"), price("10.000")], Some(price("10")));
        let tick = Tolerance { tick: "0.01".parse().ok(), ticks: 1 };
        assert_eq!(compare(Interval::Daily, &a, &b, tick, 9).equal, 1);
        let strict = compare(Interval::Daily, &a, &b, Tolerance::default(), 9);
        assert_eq!((strict.equal, strict.by_column), (0, [0, 1, 0, 0, 0, 0]));
    }
}
