//! Middles and deviations that a few wrong values do not move.

/// The middle of some values and how far they usually lie from it.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Usual {
    /// The median.
    pub middle: f64,
    /// The median absolute deviation, scaled so that it is the standard deviation of normal values.
    pub deviation: f64,
}

/// For normal values, the standard deviation is so many times the median absolute deviation: 1 / Φ⁻¹(¾).
const NORMAL: f64 = 1.482_602_218_505_602;

/// The median; of an even number, the upper of the two in the middle. `None` of nothing.
pub fn median(values: &mut [f64]) -> Option<f64> {
    let at = values.len() / 2;
    (!values.is_empty()).then(|| *values.select_nth_unstable_by(at, f64::total_cmp).1)
}

/// Median and scaled median absolute deviation; the values are left in another order.
pub fn usual(values: &mut [f64]) -> Option<Usual> {
    let middle = median(values)?;
    values.iter_mut().for_each(|v| *v = (*v - middle).abs());
    Some(Usual { middle, deviation: NORMAL * median(values)? })
}

/// Values in order, for a window that moves along: what is usual in it is found without sorting anew.
#[derive(Debug, Default)]
pub struct Ordered(Vec<f64>);

impl Ordered {
    /// Puts a value in.
    pub fn put(&mut self, value: f64) {
        let at = self.0.partition_point(|v| v.total_cmp(&value).is_lt());
        self.0.insert(at, value);
    }

    /// Takes out a value that was put in.
    pub fn take(&mut self, value: f64) {
        let at = self.0.partition_point(|v| v.total_cmp(&value).is_lt());
        if at < self.0.len() {
            self.0.remove(at);
        }
    }

    /// The median, as [`median`] has it.
    pub fn middle(&self) -> Option<f64> {
        self.0.get(self.0.len() / 2).copied()
    }

    /// Median and scaled median absolute deviation, as [`usual`] has them.
    pub fn usual(&self) -> Option<Usual> {
        let middle = self.middle()?;
        let at = self.0.len() / 2;
        // From the middle on the distances grow to both sides: so many of the least of them are taken.
        let (mut left, mut right, mut deviation) = (at + 1, at + 1, 0.0);
        for _ in 0..=at {
            let lower = left.checked_sub(1).map(|i| (self.0[i] - middle).abs());
            let upper = self.0.get(right).map(|v| (v - middle).abs());
            deviation = match (lower, upper) {
                (Some(lower), Some(upper)) if upper < lower => {
                    right += 1;
                    upper
                }
                (Some(lower), _) => {
                    left -= 1;
                    lower
                }
                (None, Some(upper)) => {
                    right += 1;
                    upper
                }
                (None, None) => break,
            };
        }
        Some(Usual { middle, deviation: NORMAL * deviation })
    }
}

/// What is usual around each chunk of `reach` values: over the chunk, the one before and the one after.
#[must_use]
pub fn around(values: &[f64], reach: usize) -> Vec<Usual> {
    let reach = reach.max(1);
    (0..values.len())
        .step_by(reach)
        .map(|at| usual(&mut values[at.saturating_sub(reach)..(at + 2 * reach).min(values.len())].to_vec()).unwrap_or_default())
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_window_that_moves_has_what_is_usual_in_it(values in prop::collection::vec(prop_oneof![-3.0f64..3.0, Just(0.5), Just(-1.0)], 1..80), reach in 1usize..30) {
            let mut window = Ordered::default();
            for (at, value) in values.iter().enumerate() {
                window.put(*value);
                if let Some(left) = at.checked_sub(reach) {
                    window.take(values[left]);
                }
                let held = &values[(at + 1).saturating_sub(reach)..=at];
                prop_assert_eq!(window.usual(), usual(&mut held.to_vec()));
            }
        }

        /// Fewer than half the values can be anything and the middle stays among the others.
        #[test]
        fn a_minority_does_not_move_the_middle(sound in prop::collection::vec(-1.0f64..1.0, 11..60), wild in prop::collection::vec(prop::num::f64::NORMAL, 0..5)) {
            let mut all: Vec<f64> = sound.iter().chain(&wild).copied().collect();
            let found = usual(&mut all).unwrap();
            prop_assert!((-1.0..=1.0).contains(&found.middle), "{found:?}");
            prop_assert!(found.deviation <= 2.0 * NORMAL);
        }
    }

    #[test]
    fn normal_values_deviate_by_one() {
        // Quantiles of the normal distribution at odd twentieths.
        let quantiles = [0.0627, 0.1891, 0.3186, 0.4538, 0.5978, 0.7554, 0.9346, 1.1503, 1.4395, 1.9600];
        let mut values: Vec<f64> = quantiles.iter().flat_map(|q| [*q, -q]).collect();
        let found = usual(&mut values).unwrap();
        assert!((found.deviation - 1.0).abs() < 0.15, "{found:?}");
        assert_eq!(median(&mut []), None);
    }
}
