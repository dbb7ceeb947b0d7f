//! Exact decimal numbers: what a source printed, and nothing else.

use num_bigint::BigInt;
use num_rational::BigRational;
use std::fmt;

/// Digits kept after the point, at most.
pub const MAX_SCALE: u8 = 18;

/// What stands in the place of [`Decimal::scale`] where numbers are kept close together and one is absent.
pub(crate) const ABSENT: u8 = u8::MAX;

/// `mantissa / 10^scale`, exactly. Two are equal when their values are: 7.5 is 7.50, and each is printed as it was written.
///
/// ```
/// use mizuno_core::Decimal;
/// let price: Decimal = "7.50".parse()?;
/// assert_eq!(price.to_string(), "7.50");
/// assert_eq!(price, "7.5".parse()?);
/// assert!(price < "7.489999771118164e1".parse()?);
/// # Ok::<(), mizuno_core::decimal::DecimalError>(())
/// ```
#[derive(Clone, Copy, Debug)]
pub struct Decimal {
    /// All digits, as one whole number.
    pub mantissa: i64,
    /// How many of them stand after the point, at most [`MAX_SCALE`].
    pub scale: u8,
}

/// A number that cannot be kept exactly.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum DecimalError {
    /// Not a plain decimal number.
    #[error("`{0}` is not a decimal number")]
    NotANumber(String),
    /// More significant digits than eighteen, or more than eighteen before or after the point.
    #[error("`{0}` has more digits than can be kept exactly (18)")]
    TooPrecise(String),
}

/// `value / unit` to the nearest whole number, half to even; `unit` is above nought.
fn halved_to_even(value: i128, unit: i128) -> i128 {
    let (whole, rest) = (value.div_euclid(unit), value.rem_euclid(unit));
    match (rest * 2).cmp(&unit) {
        std::cmp::Ordering::Less => whole,
        std::cmp::Ordering::Greater => whole + 1,
        std::cmp::Ordering::Equal => whole + whole.rem_euclid(2),
    }
}

/// The least number of nineteen digits: none that is kept has so many.
pub(crate) const LIMIT: i64 = 1_000_000_000_000_000_000;

impl Decimal {
    /// Reads `12`, `-0.50`, `+3.25` or `1.2e3`; nothing is rounded.
    ///
    /// # Errors
    /// When the bytes are not such a number, or it needs more than 18 digits
    /// or more than [`MAX_SCALE`] after the point.
    #[inline]
    pub fn parse(text: &[u8]) -> Result<Decimal, DecimalError> {
        let (negative, digits) = match text {
            [b'-', rest @ ..] => (true, rest),
            [b'+', rest @ ..] => (false, rest),
            rest => (false, rest),
        };
        match plain(digits) {
            Some((mantissa, scale)) => Ok(Decimal { mantissa: if negative { -mantissa } else { mantissa }, scale }),
            None => Decimal::unusual(text, negative, digits),
        }
    }

    /// Whether two numbers are printed alike: equal values with other digits are not.
    ///
    /// ```
    /// use mizuno_core::Decimal;
    /// let (short, long): (Decimal, Decimal) = ("7.5".parse()?, "7.50".parse()?);
    /// assert!(short == long && !short.is_printed_as(long));
    /// # Ok::<(), mizuno_core::decimal::DecimalError>(())
    /// ```
    #[must_use]
    pub fn is_printed_as(self, other: Decimal) -> bool {
        (self.mantissa, self.scale) == (other.mantissa, other.scale)
    }

    /// The number with `decimals` digits after the point, half to even. One that has no more is as it was.
    ///
    /// ```
    /// use mizuno_core::Decimal;
    /// let price: Decimal = "7.125".parse()?;
    /// assert_eq!(price.rounded(2).to_string(), "7.12");
    /// assert_eq!(price.rounded(4).to_string(), "7.125");
    /// # Ok::<(), mizuno_core::decimal::DecimalError>(())
    /// ```
    #[must_use]
    pub fn rounded(self, decimals: u8) -> Decimal {
        if self.scale <= decimals {
            return self;
        }
        let unit = 10i64.pow(u32::from(self.scale - decimals));
        Decimal { mantissa: halved_to_even(i128::from(self.mantissa), i128::from(unit)) as i64, scale: decimals }
    }

    /// The nearest multiple of `tick`, half to even; the number itself where the tick is not above nought or the multiple has
    /// more digits than can be kept.
    ///
    /// ```
    /// use mizuno_core::Decimal;
    /// let price: Decimal = "7.13".parse()?;
    /// assert_eq!(price.to_tick("0.05".parse()?).to_string(), "7.15");
    /// # Ok::<(), mizuno_core::decimal::DecimalError>(())
    /// ```
    #[must_use]
    pub fn to_tick(self, tick: Decimal) -> Decimal {
        let scale = self.scale.max(tick.scale);
        let (value, step) = (self.units(scale), tick.units(scale));
        if step <= 0 {
            return self;
        }
        let Some(units) = halved_to_even(value, step).checked_mul(i128::from(tick.mantissa)) else { return self };
        match i64::try_from(units) {
            Ok(mantissa) if mantissa.unsigned_abs() < LIMIT.unsigned_abs() => Decimal { mantissa, scale: tick.scale },
            _ => self,
        }
    }

    /// A number with an exponent or more digits, or what is no number at all.
    fn unusual(text: &[u8], negative: bool, digits: &[u8]) -> Result<Decimal, DecimalError> {
        let (mantissa, mut scale) = Decimal::taken_apart(text, digits)?;
        let lossy = || DecimalError::TooPrecise(String::from_utf8_lossy(text).into_owned());
        let mut mantissa = mantissa.ok_or_else(lossy)?;
        // Noughts behind the point that there is no room for say nothing.
        while (scale > i32::from(MAX_SCALE) || (scale > 0 && mantissa >= i128::from(LIMIT))) && mantissa % 10 == 0 {
            mantissa /= 10;
            scale -= 1;
        }
        while scale < 0 && mantissa < i128::from(LIMIT) {
            mantissa *= 10;
            scale += 1;
        }
        if !(0..=i32::from(MAX_SCALE)).contains(&scale) || mantissa >= i128::from(LIMIT) {
            return Err(lossy());
        }
        let mantissa = mantissa as i64;
        Ok(Decimal { mantissa: if negative { -mantissa } else { mantissa }, scale: scale as u8 })
    }

    /// All digits of a number as one, as far as they fit (up to 37), and how many of them stand after the point.
    fn taken_apart(text: &[u8], digits: &[u8]) -> Result<(Option<i128>, i32), DecimalError> {
        let wrong = || DecimalError::NotANumber(String::from_utf8_lossy(text).into_owned());
        let mut mantissa: Option<i128> = Some(0);
        let (mut scale, mut seen, mut point, mut exponent) = (0i32, false, false, 0i32);
        for (i, &byte) in digits.iter().enumerate() {
            match byte {
                b'0'..=b'9' => {
                    seen = true;
                    mantissa = mantissa.and_then(|m| m.checked_mul(10)?.checked_add(i128::from(byte - b'0')));
                    scale += i32::from(point);
                }
                b'.' if !point => point = true,
                b'e' | b'E' if seen => {
                    let read = std::str::from_utf8(&digits[i + 1..]).ok().and_then(|t| t.parse().ok());
                    exponent = read.filter(|e| (-40..=40).contains(e)).ok_or_else(wrong)?;
                    break;
                }
                _ => return Err(wrong()),
            }
        }
        if seen { Ok((mantissa, scale - exponent)) } else { Err(wrong()) }
    }

    /// Reads a number of any length and rounds it to `decimals` digits after the point, half to even:
    /// for sources that print binary floats.
    ///
    /// ```
    /// use mizuno_core::Decimal;
    /// assert_eq!(Decimal::parse_rounded(b"7.489999771118164", 2)?.to_string(), "7.49");
    /// assert_eq!(Decimal::parse_rounded(b"7.5", 2)?.to_string(), "7.50");
    /// # Ok::<(), mizuno_core::decimal::DecimalError>(())
    /// ```
    ///
    /// # Errors
    /// When the bytes are no number, or it has more than 18 digits once rounded.
    pub fn parse_rounded(text: &[u8], decimals: u8) -> Result<Decimal, DecimalError> {
        let (negative, digits) = match text {
            [b'-', rest @ ..] => (true, rest),
            [b'+', rest @ ..] => (false, rest),
            rest => (false, rest),
        };
        let lossy = || DecimalError::TooPrecise(String::from_utf8_lossy(text).into_owned());
        let (mantissa, scale) = Decimal::taken_apart(text, digits)?;
        let (mantissa, away) = (mantissa.ok_or_else(lossy)?, scale - i32::from(decimals));
        let rounded = match u32::try_from(away) {
            Ok(drop) => 10i128.checked_pow(drop).map(|by| half_to_even(mantissa, by)),
            Err(_) => 10i128.checked_pow(away.unsigned_abs()).and_then(|by| mantissa.checked_mul(by)),
        };
        let mantissa = rounded.and_then(|m| i64::try_from(m).ok()).filter(|m| *m < LIMIT).ok_or_else(lossy)?;
        Ok(Decimal { mantissa: if negative { -mantissa } else { mantissa }, scale: decimals })
    }

    /// The value, as near as a float comes to it.
    #[must_use]
    pub fn to_f64(self) -> f64 {
        // Powers of ten are exact as far as a scale goes.
        self.mantissa as f64 / power(self.scale).map_or_else(|| 10f64.powi(i32::from(self.scale)), |power| power as f64)
    }

    /// The value as an exact fraction.
    #[must_use]
    pub fn fraction(self) -> BigRational {
        BigRational::new(self.mantissa.into(), BigInt::from(10).pow(u32::from(self.scale)))
    }

    /// All digits at a scale of at least its own, as one whole number; 36 digits at most.
    ///
    /// ```
    /// use mizuno_core::Decimal;
    /// assert_eq!("7.5".parse::<Decimal>()?.units(3), 7_500);
    /// # Ok::<(), mizuno_core::decimal::DecimalError>(())
    /// ```
    #[must_use]
    pub fn units(self, scale: u8) -> i128 {
        let more = scale.saturating_sub(self.scale);
        i128::from(self.mantissa) * power(more).map_or_else(|| 10i128.pow(u32::from(more)), i128::from)
    }

    /// Digits before the point; none for less than one.
    #[must_use]
    pub fn whole_digits(self) -> u8 {
        let digits = self.mantissa.unsigned_abs().checked_ilog10().map_or(0, |n| n as u8 + 1);
        digits.saturating_sub(self.scale)
    }

    /// The difference from another number, exactly; `None` where it has more than 18 digits.
    ///
    /// ```
    /// use mizuno_core::Decimal;
    /// let number = |text: &str| text.parse::<Decimal>().unwrap();
    /// assert_eq!(number("7.5").minus(number("7.65")).unwrap().to_string(), "-0.15");
    /// ```
    #[must_use]
    pub fn minus(self, other: Decimal) -> Option<Decimal> {
        let scale = self.scale.max(other.scale);
        let mantissa = i64::try_from(self.units(scale) - other.units(scale)).ok()?;
        (mantissa.abs() < LIMIT).then_some(Decimal { mantissa, scale })
    }

    /// The same number with exactly `scale` digits after the point; `None`
    /// when digits would be lost or no longer fit.
    #[must_use]
    pub fn at_scale(self, scale: u8) -> Option<Decimal> {
        let mantissa = if scale >= self.scale {
            self.mantissa.checked_mul(power(scale - self.scale)?)?
        } else {
            let by = power(self.scale - scale)?;
            (self.mantissa % by == 0).then_some(self.mantissa / by)?
        };
        (mantissa.abs() < LIMIT).then_some(Decimal { mantissa, scale })
    }
}

/// A quotient, rounded half to even.
#[must_use]
pub fn half_to_even(number: i128, by: i128) -> i128 {
    let (whole, rest) = (number.div_euclid(by), number.rem_euclid(by));
    match (rest * 2).cmp(&by) {
        std::cmp::Ordering::Less => whole,
        std::cmp::Ordering::Greater => whole + 1,
        std::cmp::Ordering::Equal => whole + whole.rem_euclid(2),
    }
}

impl PartialEq for Decimal {
    fn eq(&self, other: &Decimal) -> bool {
        self.cmp(other).is_eq()
    }
}

impl Eq for Decimal {}

impl PartialOrd for Decimal {
    fn partial_cmp(&self, other: &Decimal) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Decimal {
    #[inline]
    fn cmp(&self, other: &Decimal) -> std::cmp::Ordering {
        if self.scale == other.scale {
            return self.mantissa.cmp(&other.mantissa);
        }
        let scale = self.scale.max(other.scale);
        self.units(scale).cmp(&other.units(scale))
    }
}

/// Digits with at most one point among them, at most eighteen, which cannot overflow; `None` for anything else.
#[inline]
fn plain(text: &[u8]) -> Option<(i64, u8)> {
    let (whole, rest) = digits(0, text);
    let before = text.len() - rest.len();
    let (mantissa, scale, rest) = match rest {
        [b'.', fraction @ ..] => {
            let (mantissa, rest) = digits(whole, fraction);
            (mantissa, fraction.len() - rest.len(), rest)
        }
        rest => (whole, 0, rest),
    };
    let fits = (1..=18).contains(&(before + scale)) && scale <= usize::from(MAX_SCALE);
    (rest.is_empty() && fits).then_some((mantissa, scale as u8))
}

/// Reads on from `value` as far as there are digits, and gives what follows them.
#[inline]
fn digits(mut value: i64, text: &[u8]) -> (i64, &[u8]) {
    let mut rest = text;
    while let [digit @ b'0'..=b'9', after @ ..] = rest {
        value = value.wrapping_mul(10).wrapping_add(i64::from(digit & 0x0f));
        rest = after;
    }
    (value, rest)
}

/// The powers of ten that 64 bits hold.
const POWERS: [i64; 19] = {
    let mut out = [1; 19];
    let mut at = 1;
    while at < out.len() {
        out[at] = out[at - 1] * 10;
        at += 1;
    }
    out
};

/// Ten to the `n`, while it fits.
#[must_use]
pub fn power(n: u8) -> Option<i64> {
    POWERS.get(usize::from(n)).copied()
}

impl fmt::Display for Decimal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Decimal { mantissa, scale } = *self;
        if scale == 0 {
            return write!(f, "{mantissa}");
        }
        let by = 10u64.pow(u32::from(scale.min(MAX_SCALE)));
        let sign = if mantissa < 0 { "-" } else { "" };
        let all = mantissa.unsigned_abs();
        write!(f, "{sign}{}.{:0width$}", all / by, all % by, width = usize::from(scale))
    }
}

impl std::str::FromStr for Decimal {
    type Err = DecimalError;

    fn from_str(text: &str) -> Result<Self, DecimalError> {
        Decimal::parse(text.as_bytes())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_is_not_a_number_is_refused_with_its_text() {
        for text in ["", "-", ".", "1.2.3", "12,5", " 1", "NaN", "1e", "e5", "1e99"] {
            let error = text.parse::<Decimal>().unwrap_err();
            assert!(error.to_string().contains(text), "{error}");
        }
        assert!(matches!("0.1234567890123456789".parse::<Decimal>(), Err(DecimalError::TooPrecise(_))));
        assert!(matches!("0.0000000000000000001".parse::<Decimal>(), Err(DecimalError::TooPrecise(_))));
        assert!(matches!("12345678901234567890".parse::<Decimal>(), Err(DecimalError::TooPrecise(_))));
    }

    #[test]
    fn exponents_are_exact_or_refused() {
        assert_eq!("1.2e3".parse::<Decimal>().unwrap().to_string(), "1200");
        assert_eq!("5e-2".parse::<Decimal>().unwrap().to_string(), "0.05");
        assert_eq!("1e-13".parse::<Decimal>().unwrap().to_string(), "0.0000000000001");
        assert!("1e-19".parse::<Decimal>().is_err() && "1e18".parse::<Decimal>().is_err());
        assert_eq!("1e17".parse::<Decimal>().unwrap().to_string(), "100000000000000000");
        assert_eq!("12.50000000000000000000".parse::<Decimal>().unwrap(), "12.5".parse::<Decimal>().unwrap());
    }

    #[test]
    fn floats_are_rounded_half_to_even_and_only_once() {
        let rounded = |text: &str, to| Decimal::parse_rounded(text.as_bytes(), to).map(|d| d.to_string());
        assert_eq!(rounded("7.489999771118164", 4).unwrap(), "7.4900");
        assert_eq!(rounded("-0.125", 2).unwrap(), "-0.12");
        assert_eq!(rounded("0.375", 2).unwrap(), "0.38");
        assert_eq!(rounded("123.00000000000000000000000001", 2).unwrap(), "123.00");
        assert_eq!(rounded("1.5e3", 1).unwrap(), "1500.0");
        assert!(rounded("12345678901234567", 2).is_err() && rounded("nought", 2).is_err());
    }

    /// The printed digits, which equality does not look at.
    fn printed(d: Decimal) -> (i64, u8) {
        (d.mantissa, d.scale)
    }

    proptest! {
        #[test]
        fn printing_and_reading_is_the_identity(mantissa in -(LIMIT - 1)..LIMIT, scale in 0..=MAX_SCALE) {
            let number = Decimal { mantissa, scale };
            let read: Decimal = number.to_string().parse().unwrap();
            prop_assert_eq!(printed(read), printed(number));
        }

        /// Order is that of the values, whatever the digits: held against whole numbers of the finest unit.
        #[test]
        fn numbers_are_ordered_by_value(a in -(LIMIT - 1)..LIMIT, b in -(LIMIT - 1)..LIMIT, s in 0..=MAX_SCALE, t in 0..=MAX_SCALE) {
            let (x, y) = (Decimal { mantissa: a, scale: s }, Decimal { mantissa: b, scale: t });
            prop_assert_eq!(x.cmp(&y), x.units(MAX_SCALE).cmp(&y.units(MAX_SCALE)));
            prop_assert!(x.whole_digits() <= 18 && x.units(s).abs() < 10i128.pow(u32::from(x.whole_digits() + s)));
        }

        #[test]
        fn rescaling_never_changes_the_value(mantissa in -1_000_000i64..1_000_000, scale in 0u8..6, to in 0u8..9) {
            let number = Decimal { mantissa, scale };
            if let Some(other) = number.at_scale(to) {
                prop_assert_eq!(other.at_scale(scale), Some(number));
            }
        }
    }
}
