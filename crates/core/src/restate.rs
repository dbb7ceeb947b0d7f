//! A source that says something else than before: how far it went, and whether it changed its whole basis.

use crate::{
    bar::{Bars, DoesNotFit},
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

/// A factor nearer to 1 than this is no change of basis.
const LEAST: f64 = 0.002;
/// Bars that must agree on a factor.
const SEVERAL: usize = 2;

/// Judges an answer's bars against those known of the same slots, both in slot order.
///
/// A basis has changed when the source adjusts, at least two bars moved, and
/// all four prices of every bar before some date moved by one factor, as far
/// as rounding lets them.
///
/// # Errors
/// When the two cannot be written with the same digits.
pub fn judge(known: &Bars, said: &Bars, adjusts: bool, policy: Policy) -> Result<Judged, DoesNotFit> {
    let scale = known.price_scale.max(said.price_scale);
    let (mut a, mut b) = (known.clone(), said.clone());
    a.rescale(scale, a.volume_scale)?;
    b.rescale(scale, b.volume_scale)?;
    let mut pairs = vec![];
    for bar in &b.rows {
        if let Ok(at) = a.rows.binary_search_by_key(&bar.slot, |k| k.slot) {
            pairs.push((bar.slot, a.rows[at], *bar));
        }
    }
    let prices = |x: &crate::Bar| [x.open.0, x.high.0, x.low.0, x.close.0];
    if adjusts && let Some(factor) = common_factor(&pairs.iter().map(|(_, x, y)| (prices(x), prices(y))).collect::<Vec<_>>()) {
        return Ok(Judged { held: vec![], basis: Some(factor) });
    }
    let Policy::HoldAbove(most) = policy else { return Ok(Judged::default()) };
    let moved = |x: &crate::Bar, y: &crate::Bar| {
        let share = |(a, b): (i64, i64)| if a == 0 { 1.0 } else { ((b - a) as f64 / a as f64).abs() };
        prices(x).into_iter().zip(prices(y)).map(share).fold(0.0, f64::max)
    };
    let held = pairs.iter().map(|(slot, x, y)| (*slot, moved(x, y))).filter(|(_, by)| *by > most).collect();
    Ok(Judged { held, basis: None })
}

/// The one factor between all prices of the bars up to the last that moved.
fn common_factor(pairs: &[([i64; 4], [i64; 4])]) -> Option<f64> {
    let moved = pairs.iter().rposition(|(x, y)| x != y).map(|last| &pairs[..=last])?;
    if moved.len() < SEVERAL {
        return None;
    }
    let (sum_x, sum_y) =
        moved.iter().flat_map(|(x, y)| x.iter().zip(y)).fold((0i128, 0i128), |s, (x, y)| (s.0 + i128::from(*x), s.1 + i128::from(*y)));
    let factor = sum_y as f64 / sum_x as f64;
    // Each side is rounded to a unit of the last digit, the first's rounding grows with the factor.
    let rounding = 0.51 + 0.51 * factor.abs();
    let agrees = |x: &i64, y: &i64| (*x as f64 * factor - *y as f64).abs() <= rounding + *x as f64 * 1e-6;
    let all = moved.iter().flat_map(|(x, y)| x.iter().zip(y)).all(|(x, y)| agrees(x, y));
    (all && factor.is_finite() && factor > 0.0 && (factor - 1.0).abs() > LEAST).then_some(factor)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Bar, Price};
    use proptest::prelude::*;

    fn bars(rows: &[[i64; 4]], scale: u8) -> Bars {
        let bar = |(i, p): (usize, &[i64; 4])| {
            let [open, high, low, close] = p.map(Price);
            Bar { slot: Slot(i as i64), open, high, low, close, volume: None }
        };
        Bars { price_scale: scale, volume_scale: 0, rows: rows.iter().enumerate().map(bar).collect() }
    }

    #[test]
    fn a_changed_basis_is_one_factor_and_a_correction_is_not() {
        let known = bars(&[[1000, 1040, 990, 1020], [1020, 1060, 1000, 1050], [1050, 1070, 1030, 1033]], 2);
        let halved = bars(&[[500, 520, 495, 510], [510, 530, 500, 525], [525, 535, 515, 517]], 2);
        let found = judge(&known, &halved, true, Policy::HoldAbove(0.05)).unwrap();
        assert!((found.basis.unwrap() - 0.5).abs() < 1e-3 && found.held.is_empty(), "{found:?}");
        let raw = judge(&known, &halved, false, Policy::HoldAbove(0.05)).unwrap();
        assert_eq!((raw.basis, raw.held.len()), (None, 3), "a source that does not adjust has no basis to change");
        let mut corrected = known.clone();
        corrected.rows[1].close.0 += 2;
        assert_eq!(judge(&known, &corrected, true, Policy::HoldAbove(0.05)).unwrap(), Judged::default());
        corrected.rows[1].high.0 = 2000;
        let held = judge(&known, &corrected, true, Policy::HoldAbove(0.05)).unwrap();
        assert_eq!((held.basis, held.held[0].0), (None, Slot(1)));
        assert_eq!(judge(&known, &corrected, true, Policy::Take).unwrap(), Judged::default());
        // The newest bar came after the split and is as it was.
        let mut partly = halved.clone();
        partly.rows[2] = known.rows[2];
        assert!(judge(&known, &partly, true, Policy::Take).unwrap().basis.is_some());
    }

    proptest! {
        /// Any factor is recognised through rounding, and the same bars again never are.
        #[test]
        fn factors_are_recognised_through_rounding(
            rows in prop::collection::vec([500i64..900_000, 500i64..900_000, 500i64..900_000, 500i64..900_000], 2..10),
            by in prop_oneof![1.02f64..20.0, 0.05f64..0.98],
        ) {
            let known = bars(&rows, 2);
            let moved: Vec<[i64; 4]> = rows.iter().map(|r| r.map(|p| (p as f64 * by).round() as i64)).collect();
            let found = judge(&known, &bars(&moved, 2), true, Policy::Take).unwrap();
            prop_assert!(found.basis.is_some_and(|f| (f / by - 1.0).abs() < 0.02), "{found:?} {by}");
            prop_assert_eq!(judge(&known, &known, true, Policy::HoldAbove(0.0)).unwrap(), Judged::default());
        }
    }
}
