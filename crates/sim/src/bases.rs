//! Made-up second looks with and without a changed basis, to measure [`mizuno_core::restate`] on.
//!
//! A source that adjusts restates everything before a day by one factor when a
//! dividend is paid or shares are split. What must not be taken for that is a
//! correction: single bars, some closes, a decimal point in the wrong place.

use mizuno_core::{
    Bar, Bars, Decimal, Slot,
    restate::{Policy, judge},
};
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg64Mcg;

/// How often a change of basis was seen, and where there was none.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Bases {
    /// Answers after a dividend or a split.
    pub changed: u64,
    /// Of these, told as a change of basis, with the right factor.
    pub found: u64,
    /// Answers with corrections, and no change of basis.
    pub corrected: u64,
    /// Of these, taken for one.
    pub mistaken: u64,
}

/// Prices in ticks: open, high, low, close.
type Row = [i64; 4];

/// Judges `each` answers of either kind, all made from `seed`.
#[must_use]
pub fn measure(seed: u64, each: usize) -> Bases {
    let mut dice = Pcg64Mcg::seed_from_u64(seed ^ 0xba5e);
    let mut out = Bases::default();
    for _ in 0..each {
        let scale = dice.random_range(2..=4);
        let known = walk(&mut dice, scale);
        let (said, factor) = adjusted(&mut dice, &known);
        out.changed += 1;
        let found = judge(&bars(&known, scale), &bars(&said, scale), true, Policy::Take).basis;
        out.found += u64::from(found.is_some_and(|by| (by / factor - 1.0).abs() < 0.01));

        let known = walk(&mut dice, scale);
        let said = corrected(&mut dice, &known);
        out.corrected += 1;
        out.mistaken += u64::from(judge(&bars(&known, scale), &bars(&said, scale), true, Policy::Take).basis.is_some());
    }
    out
}

fn bars(rows: &[Row], scale: u8) -> Bars {
    let bar = |(i, row): (usize, &Row)| Bar::new(Slot(i as i64), row.map(|mantissa| Decimal { mantissa, scale }), None);
    rows.iter().enumerate().map(bar).collect()
}

/// Five to forty sessions of something that costs between two and three hundred.
fn walk(dice: &mut Pcg64Mcg, scale: u8) -> Vec<Row> {
    let unit = 10f64.powi(i32::from(scale));
    let mut price = dice.random_range(2.0..300.0) * unit;
    let a_day = dice.random_range(0.005..0.03);
    let days = dice.random_range(5..40);
    let day = |_| {
        let open = price;
        price *= 1.0 + dice.random_range(-a_day..a_day);
        let [low, high] = [open.min(price), open.max(price)];
        [open, high * (1.0 + dice.random_range(0.0..a_day)), low * (1.0 - dice.random_range(0.0..a_day)), price].map(|p| p.round() as i64)
    };
    (0..days).map(day).collect()
}

/// The same with a dividend of at least one tick, or a split, in force from some day on: three bars at least are older.
fn adjusted(dice: &mut Pcg64Mcg, known: &[Row]) -> (Vec<Row>, f64) {
    let ex = dice.random_range(3..=known.len());
    let close = known[ex - 1][3] as f64;
    let factor = if dice.random_bool(0.7) {
        let ticks = (close * 10f64.powf(dice.random_range(-4.0..-1.3))).max(1.0).round();
        1.0 - ticks / close
    } else {
        [0.5, 1.0 / 3.0, 0.25, 0.1, 2.0 / 3.0, 0.8, 2.0, 10.0][dice.random_range(0..8)]
    };
    let moved = |row: &Row| row.map(|p| (p as f64 * factor).round() as i64);
    (known.iter().enumerate().map(|(i, row)| if i < ex { moved(row) } else { *row }).collect(), factor)
}

/// The same with corrections in it.
fn corrected(dice: &mut Pcg64Mcg, known: &[Row]) -> Vec<Row> {
    let mut said = known.to_vec();
    let at = dice.random_range(0..said.len());
    match dice.random_range(0..5) {
        // One price of one bar.
        0 => said[at][dice.random_range(0..4)] += dice.random_range(1..50),
        // The whole of one bar, as where a decimal point stood wrong.
        1 => said[at] = said[at].map(|p| p * 10),
        // Settlement prices: some closes, a few ticks either way.
        2 => said.iter_mut().for_each(|row| row[3] += dice.random_range(-3..=3)),
        // Each bar a little, and each on its own.
        3 => {
            for row in &mut said {
                let by = 1.0 + dice.random_range(-0.02..0.02);
                *row = row.map(|p| (p as f64 * by).round() as i64);
            }
        }
        // The highs and lows of a stretch, once cancelled trades are out.
        _ => {
            for row in &mut said[at..] {
                row[1] -= (row[1] - row[0].max(row[3])) / 2;
                row[2] += (row[0].min(row[3]) - row[2]) / 2;
            }
        }
    }
    said
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn changes_of_basis_are_found_and_corrections_are_not_taken_for_one() {
        let found = measure(20_250_410, 2_000);
        assert_eq!((found.changed, found.corrected), (2_000, 2_000));
        assert!(found.found as f64 >= 0.98 * found.changed as f64, "{found:?}");
        assert!(found.mistaken * 500 <= found.corrected, "{found:?}");
    }
}
