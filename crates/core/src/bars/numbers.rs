//! Columns of exact numbers: thousands are read, checked and written at a time.

use crate::{
    bar::{Bar, Field},
    decimal::{ABSENT, Decimal},
};

/// Exact numbers in order, each with the digits it was printed with, in nine bytes each. Some may be absent.
///
/// ```
/// use mizuno_core::{Decimal, numbers::Numbers};
/// let number = |text: &str| text.parse::<Decimal>().ok();
/// let closes: Numbers = ["7.50", "", "7.5"].map(number).into_iter().collect();
/// assert_eq!((closes.len(), closes.get(1), closes.alike()), (3, None, None));
/// let volumes: Numbers = ["300", "1200"].map(number).into_iter().collect();
/// assert_eq!(volumes.alike(), Some((&[300, 1200][..], 0)));
/// ```
#[derive(Clone, Debug, Default)]
pub struct Numbers {
    mantissas: Vec<i64>,
    /// Digits after the point of each, [`ABSENT`] where there is no number.
    scales: Vec<u8>,
}

impl Numbers {
    /// How many there are, with those that are absent.
    #[must_use]
    pub fn len(&self) -> usize {
        self.scales.len()
    }

    /// Whether there are none, not even absent ones.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.scales.is_empty()
    }

    /// The number at a place; `None` where it is absent, and behind the last.
    #[must_use]
    #[inline]
    pub fn get(&self, at: usize) -> Option<Decimal> {
        let scale = *self.scales.get(at)?;
        (scale != ABSENT).then(|| Decimal { mantissa: self.mantissas[at], scale })
    }

    /// All of them in order.
    pub fn iter(&self) -> impl ExactSizeIterator<Item = Option<Decimal>> {
        let pairs = self.mantissas.iter().zip(&self.scales);
        pairs.map(|(&mantissa, &scale)| (scale != ABSENT).then_some(Decimal { mantissa, scale }))
    }

    /// The digits of all as whole numbers, and how many of these stand after the point, where none is absent and all have as many.
    #[must_use]
    pub fn alike(&self) -> Option<(&[i64], u8)> {
        let first = *self.scales.first().filter(|scale| **scale != ABSENT)?;
        // Without a branch for each: most columns are alike to the end.
        let other = self.scales.iter().fold(0, |other, scale| other | (scale ^ first));
        (other == 0).then_some((&self.mantissas[..], first))
    }

    /// One number of each of some bars.
    #[must_use]
    pub fn of(field: Field, bars: &[Bar]) -> Numbers {
        let mut out = Numbers::default();
        out.add(field, bars);
        out
    }

    /// Puts one number of each of some bars behind them.
    pub fn add(&mut self, field: Field, bars: &[Bar]) {
        let at = field as usize;
        self.mantissas.extend(bars.iter().map(|bar| bar.mantissas[at]));
        self.scales.extend(bars.iter().map(|bar| bar.decimals[at]));
    }

    /// Marks the places at which the two are not printed alike: numbers of equal value and other digits are not.
    ///
    /// ```
    /// use mizuno_core::{Decimal, numbers::Numbers};
    /// let numbers = |texts: [&str; 3]| texts.map(|text| text.parse::<Decimal>().ok()).into_iter().collect::<Numbers>();
    /// let mut differs = [false; 3];
    /// numbers(["7.50", "", "7.5"]).mark(&numbers(["7.50", "", "7.50"]), &mut differs);
    /// assert_eq!(differs, [false, false, true]);
    /// ```
    pub fn mark(&self, other: &Numbers, differs: &mut [bool]) {
        let pairs = self.mantissas.iter().zip(&self.scales).zip(other.mantissas.iter().zip(&other.scales));
        for (differs, ((a, digits), (b, other_digits))) in differs.iter_mut().zip(pairs) {
            *differs |= digits != other_digits || (a != b && *digits != ABSENT);
        }
    }

    /// Puts those of another behind them.
    pub fn append(&mut self, more: Numbers) {
        self.mantissas.extend(more.mantissas);
        self.scales.extend(more.scales);
    }
}

impl Extend<Option<Decimal>> for Numbers {
    #[inline]
    fn extend<I: IntoIterator<Item = Option<Decimal>>>(&mut self, numbers: I) {
        let numbers = numbers.into_iter();
        let (least, _) = numbers.size_hint();
        self.mantissas.reserve(least);
        self.scales.reserve(least);
        for number in numbers {
            let (mantissa, scale) = number.map_or((0, ABSENT), |n| (n.mantissa, n.scale));
            self.mantissas.push(mantissa);
            self.scales.push(scale);
        }
    }
}

impl FromIterator<Option<Decimal>> for Numbers {
    fn from_iter<I: IntoIterator<Item = Option<Decimal>>>(numbers: I) -> Numbers {
        let mut out = Numbers::default();
        out.extend(numbers);
        out
    }
}

/// Equal where their values are, as numbers are.
impl PartialEq for Numbers {
    fn eq(&self, other: &Numbers) -> bool {
        self.iter().eq(other.iter())
    }
}

#[cfg(test)]
#[path = "numbers_test.rs"]
mod tests;
