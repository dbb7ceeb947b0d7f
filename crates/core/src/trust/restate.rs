//! A source that says something else than before: how far it went, and whether it changed its whole basis.

use crate::{
    bar::{Bar, Bars},
    decimal::Decimal,
    slot::Slot,
};

/// How far a bar may move and still be taken without a person.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub enum Policy {
    /// Any change is taken.
    #[default]
    Take,
    /// A price that moved by more than this share of itself is held for a person.
    HoldAbove(f64),
}

/// What comes of bars that a source restates.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Judged {
    /// Slots whose bars are held for a person, with the share by which a price moved.
    pub held: Vec<(Slot, f64)>,
    /// When all that changed did so by one factor: the source changed its basis.
    pub basis: Option<f64>,
}

/// Bars that must agree on a factor.
const SEVERAL: usize = 2;
/// Where a move is so small that rounding hides it in some prices, so many bars must agree ...
const SEVERAL_ROUNDED: usize = 3;
/// ... and so large a share of their prices must have moved all the same.
const MOVED: f64 = 0.5;
/// Sources that compute with binary floats are right to this share of a price.
const FLOAT: f64 = 1e-6;

/// Judges an answer's bars against those known of the same slots, both in slot order.
///
/// A basis has changed when the source adjusts and all prices of every bar before some date moved by one
/// factor, as far as rounding lets them. How large the factor is does not matter: a small dividend moves
/// prices by a few hundredths of a percent. A restated bar among others that stayed is no change of basis.
///
/// ```
/// use mizuno_core::{Bar, Bars, Decimal, Slot, restate::{Policy, judge}};
/// let bar = |slot: i64, close: &str| Bar::new(Slot(slot), [close; 4].map(|p| p.parse::<Decimal>().unwrap()), None);
/// let known = Bars { rows: vec![bar(1, "10.00"), bar(2, "11.00"), bar(3, "12.00")] };
/// let one = Bars { rows: vec![bar(1, "10.00"), bar(2, "19.00"), bar(3, "12.00")] };
/// assert_eq!(judge(&known, &one, true, Policy::HoldAbove(0.05)).held[0].0, Slot(2));
/// let halved = Bars { rows: vec![bar(1, "5.00"), bar(2, "5.50"), bar(3, "6.00")] };
/// assert_eq!(judge(&known, &halved, true, Policy::Take).basis, Some(0.5));
/// ```
#[must_use]
pub fn judge(known: &Bars, said: &Bars, adjusts: bool, policy: Policy) -> Judged {
    let mut pairs: Vec<(&Bar, &Bar)> = vec![];
    for bar in &said.rows {
        if let Ok(at) = known.rows.binary_search_by_key(&bar.slot, |k| k.slot) {
            pairs.push((&known.rows[at], bar));
        }
    }
    if adjusts && let Some(factor) = common_factor(&pairs) {
        return Judged { held: vec![], basis: Some(factor) };
    }
    let Policy::HoldAbove(most) = policy else { return Judged::default() };
    let share = |(a, b): (Decimal, Decimal)| if a.mantissa == 0 { 1.0 } else { (b.to_f64() / a.to_f64() - 1.0).abs() };
    let moved = |x: &Bar, y: &Bar| x.prices().into_iter().zip(y.prices()).map(share).fold(0.0, f64::max);
    let held = pairs.iter().map(|(x, y)| (x.slot, moved(x, y))).filter(|(_, by)| *by > most).collect();
    Judged { held, basis: None }
}

/// The one factor between all prices of the bars up to the last that moved.
fn common_factor(pairs: &[(&Bar, &Bar)]) -> Option<f64> {
    let last = pairs.iter().rposition(|(x, y)| moves(x, y).any(|m| m != 0.0))?;
    let bars = &pairs[..=last];
    let all: Vec<f64> = bars.iter().flat_map(|(x, y)| moves(x, y)).collect();
    let moved = all.iter().filter(|m| **m != 0.0).count();
    let one_way = all.iter().all(|m| *m >= 0.0) || all.iter().all(|m| *m <= 0.0);
    let each_moved = bars.iter().all(|(x, y)| moves(x, y).any(|m| m != 0.0));
    let enough = match moved == all.len() {
        true => bars.len() >= SEVERAL,
        false => bars.len() >= SEVERAL_ROUNDED && moved as f64 >= MOVED * all.len() as f64,
    };
    if !one_way || !each_moved || !enough {
        return None;
    }
    // Both sides are rounded to half a unit of their last digit: each pair leaves a stretch of factors, and some factor must lie in all.
    let (mut least, mut most) = (0.0f64, f64::INFINITY);
    for (x, y) in bars.iter().flat_map(|(x, y)| x.prices().into_iter().zip(y.prices())) {
        let (a, b) = (x.to_f64(), y.to_f64());
        let (half_a, half_b) =
            (0.505 * 10f64.powi(-i32::from(x.scale)) + a.abs() * FLOAT, 0.505 * 10f64.powi(-i32::from(y.scale)) + b.abs() * FLOAT);
        if a <= half_a {
            // What is not above nought says nothing of a factor.
            continue;
        }
        least = least.max((b - half_b) / (a + half_a));
        most = most.min((b + half_b) / (a - half_a));
    }
    let sums = bars.iter().fold((0.0, 0.0), |s, (x, y)| (s.0 + sum(x), s.1 + sum(y)));
    let factor = (sums.1 / sums.0).clamp(least.min(most), most);
    (least <= most && most.is_finite() && factor > 0.0).then_some(factor)
}

/// How far each price moved, as a share of itself; nothing where only a float's last digits differ.
fn moves(x: &Bar, y: &Bar) -> impl Iterator<Item = f64> {
    x.prices().into_iter().zip(y.prices()).map(|(a, b)| {
        let share = if a == b { 0.0 } else { b.to_f64() / a.to_f64() - 1.0 };
        if share.abs() <= 2.0 * FLOAT { 0.0 } else { share }
    })
}

fn sum(bar: &Bar) -> f64 {
    bar.prices().into_iter().map(Decimal::to_f64).sum()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn bars(rows: &[[i64; 4]], scale: u8) -> Bars {
        let bar = |(i, p): (usize, &[i64; 4])| Bar::new(Slot(i as i64), p.map(|mantissa| Decimal { mantissa, scale }), None);
        rows.iter().enumerate().map(bar).collect()
    }

    const KNOWN: [[i64; 4]; 3] = [[1000, 1040, 990, 1020], [1020, 1060, 1000, 1050], [1050, 1070, 1030, 1033]];

    fn judged(said: &[[i64; 4]], adjusts: bool, policy: Policy) -> Judged {
        judge(&bars(&KNOWN, 2), &bars(said, 2), adjusts, policy)
    }

    #[test]
    fn a_changed_basis_is_one_factor_and_a_correction_is_not() {
        let halved = [[500, 520, 495, 510], [510, 530, 500, 525], [525, 535, 515, 517]];
        let found = judged(&halved, true, Policy::HoldAbove(0.05));
        assert!((found.basis.unwrap() - 0.5).abs() < 1e-3 && found.held.is_empty(), "{found:?}");
        let raw = judged(&halved, false, Policy::HoldAbove(0.05));
        assert_eq!((raw.basis, raw.held.len()), (None, 3), "a source that does not adjust has no basis to change");
        let mut corrected = KNOWN;
        corrected[1][3] += 2;
        assert_eq!(judged(&corrected, true, Policy::HoldAbove(0.05)), Judged::default());
        corrected[1][1] = 2000;
        let held = judged(&corrected, true, Policy::HoldAbove(0.05));
        assert_eq!((held.basis, held.held[0].0), (None, Slot(1)));
        assert_eq!(judged(&corrected, true, Policy::Take), Judged::default());
        // The newest bar came after the split and is as it was.
        let mut partly = halved;
        partly[2] = KNOWN[2];
        assert!(judged(&partly, true, Policy::Take).basis.is_some());
    }

    #[test]
    fn a_small_dividend_is_a_change_of_basis_too() {
        // A dividend of a cent on a price of ten: a tenth of a percent.
        let less = KNOWN.map(|bar| bar.map(|p| p - 1));
        assert!((judged(&less, true, Policy::Take).basis.unwrap() - 0.999).abs() < 2e-4);
        // Every price of one bar a cent lower, and its neighbours as they were, is a correction.
        let mut one = KNOWN;
        one[2] = less[2];
        assert_eq!(judged(&one, true, Policy::Take).basis, None);
        // All closes a cent lower, and nothing else, is one too.
        let closes = KNOWN.map(|[o, h, l, c]| [o, h, l, c - 1]);
        assert_eq!(judged(&closes, true, Policy::Take).basis, None);
    }

    #[test]
    fn floats_that_tremble_are_no_change_of_basis() {
        let bar = |at: i64, text: &str| Bar::new(Slot(at), [text.parse().unwrap(); 4], None);
        let known: Bars = [bar(1, "7.489999771118164"), bar(2, "7.510000228881836")].into_iter().collect();
        let said: Bars = [bar(1, "7.489999771118165"), bar(2, "7.510000228881837")].into_iter().collect();
        assert_eq!(judge(&known, &said, true, Policy::Take).basis, None);
        let adjusted: Bars = [bar(1, "7.482509775543213"), bar(2, "7.502490219116211")].into_iter().collect();
        assert!(judge(&known, &adjusted, true, Policy::Take).basis.is_some());
    }

    proptest! {
        /// Any factor is recognised through rounding, however small, as long as it moves a price by more than its last digit;
        /// and the same bars again never are.
        #[test]
        fn factors_are_recognised_through_rounding(
            rows in prop::collection::vec([2_000i64..900_000, 2_000i64..900_000, 2_000i64..900_000, 2_000i64..900_000], 2..10),
            by in prop_oneof![1.001f64..20.0, 0.05f64..0.999],
        ) {
            let known = bars(&rows, 2);
            let moved: Vec<[i64; 4]> = rows.iter().map(|r| r.map(|p| (p as f64 * by).round() as i64)).collect();
            let found = judge(&known, &bars(&moved, 2), true, Policy::Take);
            prop_assert!(found.basis.is_some_and(|f| (f / by - 1.0).abs() < 0.02), "{found:?} {by}");
            prop_assert_eq!(judge(&known, &known, true, Policy::HoldAbove(0.0)), Judged::default());
        }
    }
}
