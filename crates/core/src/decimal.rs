//! Exact decimal numbers: what a source printed, and nothing else.

use std::fmt;

/// Digits kept after the point, at most.
pub const MAX_SCALE: u8 = 12;

/// `mantissa / 10^scale`, exactly.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
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
    /// More digits than eighteen, or more than twelve after the point.
    #[error("`{0}` has more digits than can be kept exactly (18, of which 12 after the point)")]
    TooPrecise(String),
}

const LIMIT: i64 = 1_000_000_000_000_000_000;

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

    /// A number with an exponent or more digits, or what is no number at all.
    fn unusual(text: &[u8], negative: bool, digits: &[u8]) -> Result<Decimal, DecimalError> {
        let lossy = || String::from_utf8_lossy(text).into_owned();
        let mut mantissa: i64 = 0;
        let mut scale: i32 = 0;
        let (mut seen, mut point, mut exponent) = (false, false, 0i32);
        for (i, &byte) in digits.iter().enumerate() {
            match byte {
                b'0'..=b'9' => {
                    seen = true;
                    mantissa = mantissa
                        .checked_mul(10)
                        .and_then(|m| m.checked_add(i64::from(byte - b'0')))
                        .ok_or_else(|| DecimalError::TooPrecise(lossy()))?;
                    scale += i32::from(point);
                }
                b'.' if !point => point = true,
                b'e' | b'E' if seen => {
                    exponent = std::str::from_utf8(&digits[i + 1..])
                        .ok()
                        .and_then(|t| t.parse().ok())
                        .filter(|e| (-40..=40).contains(e))
                        .ok_or_else(|| DecimalError::NotANumber(lossy()))?;
                    break;
                }
                _ => return Err(DecimalError::NotANumber(lossy())),
            }
        }
        if !seen {
            return Err(DecimalError::NotANumber(lossy()));
        }
        scale -= exponent;
        while scale > i32::from(MAX_SCALE) && mantissa % 10 == 0 {
            mantissa /= 10;
            scale -= 1;
        }
        while scale < 0 {
            mantissa = mantissa.checked_mul(10).ok_or_else(|| DecimalError::TooPrecise(lossy()))?;
            scale += 1;
        }
        if scale > i32::from(MAX_SCALE) || mantissa >= LIMIT {
            return Err(DecimalError::TooPrecise(lossy()));
        }
        Ok(Decimal { mantissa: if negative { -mantissa } else { mantissa }, scale: scale as u8 })
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

/// Ten to the `n`, while it fits.
#[must_use]
pub fn power(n: u8) -> Option<i64> {
    10i64.checked_pow(u32::from(n))
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
        assert!(matches!("0.1234567890123".parse::<Decimal>(), Err(DecimalError::TooPrecise(_))));
        assert!(matches!("12345678901234567890".parse::<Decimal>(), Err(DecimalError::TooPrecise(_))));
    }

    #[test]
    fn exponents_are_exact_or_refused() {
        assert_eq!("1.2e3".parse::<Decimal>().unwrap().to_string(), "1200");
        assert_eq!("5e-2".parse::<Decimal>().unwrap().to_string(), "0.05");
        assert!("1e-13".parse::<Decimal>().is_err());
    }

    proptest! {
        #[test]
        fn printing_and_reading_is_the_identity(mantissa in -(LIMIT - 1)..LIMIT, scale in 0..=MAX_SCALE) {
            let number = Decimal { mantissa, scale };
            let read: Decimal = number.to_string().parse().unwrap();
            prop_assert_eq!(read.at_scale(scale), Some(number));
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
