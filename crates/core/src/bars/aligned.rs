//! Bars in whole units of one scale, for statistics: medians, ratios and steps of a tick.
//!
//! Exact bars have digits of their own each. What looks for patterns in
//! thousands of them counts in units instead. Where the largest number and the finest
//! one do not fit into 18 digits together, the finest are rounded: nothing
//! that is kept or served comes from here.

use crate::{
    bar::Bars,
    decimal::{Decimal, half_to_even},
    slot::Slot,
};

/// A bar in units.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct AlignedBar {
    /// The place it stands in.
    pub slot: Slot,
    /// First price.
    pub open: i64,
    /// Highest price.
    pub high: i64,
    /// Lowest price.
    pub low: i64,
    /// Last price.
    pub close: i64,
    /// Quantity traded.
    pub volume: Option<i64>,
}

/// Bars of one series in slot order, in units of one scale.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Aligned {
    /// A unit of price is ten to the minus this.
    pub price_scale: u8,
    /// A unit of volume is ten to the minus this.
    pub volume_scale: u8,
    /// The bars themselves.
    pub rows: Vec<AlignedBar>,
}

/// A number in units of a scale, rounded where it is finer.
fn units(number: Decimal, scale: u8) -> i64 {
    if number.scale == scale {
        return number.mantissa;
    }
    let units = match number.scale.checked_sub(scale) {
        Some(finer @ 1..) => half_to_even(i128::from(number.mantissa), 10i128.pow(u32::from(finer))),
        _ => number.units(scale),
    };
    i64::try_from(units).unwrap_or(if units < 0 { i64::MIN } else { i64::MAX })
}

impl Aligned {
    /// Bars at the finest scale at which all of them fit, or at the given scales where these are finer and fit.
    #[must_use]
    pub fn of(bars: &Bars) -> Aligned {
        let (price, volume) = bars.digits();
        let scale = |digits: crate::bar::Digits| digits.scale.min(18 - digits.whole.min(18));
        Aligned::at(bars, scale(price), scale(volume))
    }

    fn at(bars: &Bars, price_scale: u8, volume_scale: u8) -> Aligned {
        let row = |bar: &crate::Bar| {
            let [open, high, low, close] = bar.prices().map(|p| units(p, price_scale));
            AlignedBar { slot: bar.slot, open, high, low, close, volume: bar.volume().map(|v| units(v, volume_scale)) }
        };
        Aligned { price_scale, volume_scale, rows: bars.rows.iter().map(row).collect() }
    }

    /// The same bars in units of other scales; `None` when they do not fit.
    #[must_use]
    pub fn rescaled(&self, price_scale: u8, volume_scale: u8) -> Option<Aligned> {
        let to = |mantissa: i64, from: u8, scale: u8| Decimal { mantissa, scale: from }.at_scale(scale).map(|d| d.mantissa);
        let price = |p: i64| to(p, self.price_scale, price_scale);
        let row = |b: &AlignedBar| {
            let volume = match b.volume {
                Some(v) => Some(to(v, self.volume_scale, volume_scale)?),
                None => None,
            };
            Some(AlignedBar {
                slot: b.slot,
                open: price(b.open)?,
                high: price(b.high)?,
                low: price(b.low)?,
                close: price(b.close)?,
                volume,
            })
        };
        Some(Aligned { price_scale, volume_scale, rows: self.rows.iter().map(row).collect::<Option<_>>()? })
    }

    /// A price in units as the decimal it stands for.
    #[must_use]
    pub fn price(&self, units: i64) -> Decimal {
        Decimal { mantissa: units, scale: self.price_scale }
    }
}

impl From<&Aligned> for Bars {
    fn from(aligned: &Aligned) -> Bars {
        let number = |mantissa: i64, scale: u8| Decimal { mantissa, scale };
        let bar = |b: &AlignedBar| {
            let prices = [b.open, b.high, b.low, b.close].map(|p| number(p, aligned.price_scale));
            crate::Bar::new(b.slot, prices, b.volume.map(|v| number(v, aligned.volume_scale)))
        };
        aligned.rows.iter().map(bar).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Bar;

    #[test]
    fn units_are_exact_where_they_fit_and_rounded_where_they_do_not() {
        let bar = |at: i64, text: &str| Bar::new(Slot(at), [text.parse().unwrap(); 4], None);
        let close = Aligned::of(&[bar(1, "7.5"), bar(2, "7.25")].into_iter().collect());
        assert_eq!((close.price_scale, close.rows[0].close, close.rows[1].close), (2, 750, 725));
        let far = Aligned::of(&[bar(1, "0.123456789012"), bar(2, "1234567.5")].into_iter().collect());
        assert_eq!((far.price_scale, far.price(far.rows[0].close).to_string()), (11, "0.12345678901".to_owned()));
        assert_eq!(far.price(far.rows[1].close), "1234567.5".parse().unwrap());
    }
}
