//! Bars with exact numbers, each with the digits it was printed with.

use crate::{
    decimal::{ABSENT, Decimal, MAX_SCALE},
    slot::Slot,
};

/// Open, high, low and close of one slot, with its volume and open interest where a source gives them.
///
/// The digits of a number are its own: 7.50 stays 7.50 beside 1200000.000001. Bars are equal when their values are.
///
/// ```
/// use mizuno_core::{Bar, Decimal, Slot};
/// let price = |text: &str| text.parse::<Decimal>().unwrap();
/// let bar = Bar::new(Slot(20_188), ["7.5", "7.55", "7.45", "7.50"].map(price), None);
/// assert_eq!((bar.close().to_string(), bar.close() == bar.open()), ("7.50".to_owned(), true));
/// ```
#[derive(Clone, Copy)]
pub struct Bar {
    /// The place it stands in, labelled by its open.
    pub slot: Slot,
    /// Digits of open, high, low, close, volume and open interest: 64 bytes a bar in all, since millions are read at once.
    pub(super) mantissas: [i64; 6],
    /// How many digits of each stand after the point; the rest is room for further numbers.
    pub(super) decimals: [u8; 8],
}

/// One of the numbers of a bar.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Field {
    /// [`Bar::open`].
    Open,
    /// [`Bar::high`].
    High,
    /// [`Bar::low`].
    Low,
    /// [`Bar::close`].
    Close,
    /// [`Bar::volume`].
    Volume,
    /// [`Bar::open_interest`].
    OpenInterest,
}

impl Bar {
    /// A bar of these prices (open, high, low, close); a volume of `None` is one the source does not give, which is not zero.
    #[must_use]
    #[inline]
    pub fn new(slot: Slot, prices: [Decimal; 4], volume: Option<Decimal>) -> Bar {
        let [o, h, l, c] = prices;
        let (v, places) = volume.map_or((0, ABSENT), |v| (v.mantissa, v.scale));
        Bar {
            slot,
            mantissas: [o.mantissa, h.mantissa, l.mantissa, c.mantissa, v, 0],
            decimals: [o.scale, h.scale, l.scale, c.scale, places, ABSENT, ABSENT, ABSENT],
        }
    }

    /// The bar with other prices (open, high, low, close), and all else as it is.
    ///
    /// ```
    /// use mizuno_core::{Bar, Decimal, Slot};
    /// let number = |text: &str| text.parse::<Decimal>().unwrap();
    /// let bar = Bar::new(Slot(20_188), ["7.50"; 4].map(number), Some(number("300"))).with_open_interest(Some(number("5120")));
    /// let shifted = bar.with_prices(["8.50"; 4].map(number));
    /// assert_eq!((shifted.close(), shifted.volume(), shifted.open_interest()), (number("8.50"), bar.volume(), bar.open_interest()));
    /// ```
    #[must_use]
    #[inline]
    pub fn with_prices(mut self, prices: [Decimal; 4]) -> Bar {
        for (at, price) in prices.into_iter().enumerate() {
            (self.mantissas[at], self.decimals[at]) = (price.mantissa, price.scale);
        }
        self
    }

    /// The bar with another open interest: contracts that are open at its end, `None` where the source does not say.
    ///
    /// ```
    /// use mizuno_core::{Bar, Decimal, Slot};
    /// let bar = Bar::new(Slot(20_188), ["7.50"; 4].map(|p| p.parse::<Decimal>().unwrap()), None);
    /// assert_eq!(bar.with_open_interest(Some("5120".parse()?)).open_interest().unwrap().to_string(), "5120");
    /// # Ok::<(), mizuno_core::decimal::DecimalError>(())
    /// ```
    #[must_use]
    #[inline]
    pub fn with_open_interest(mut self, number: Option<Decimal>) -> Bar {
        (self.mantissas[5], self.decimals[5]) = number.map_or((0, ABSENT), |n| (n.mantissa, n.scale));
        self
    }

    /// A bar whose slot is kept and whose numbers are not there: what stands where a source took a bar back.
    #[must_use]
    pub fn nothing(slot: Slot) -> Bar {
        Bar::new(slot, [Decimal { mantissa: 0, scale: 0 }; 4], None)
    }

    #[inline]
    fn number(&self, at: usize) -> Decimal {
        Decimal { mantissa: self.mantissas[at], scale: self.decimals[at] }
    }

    /// One of its numbers, where it has that.
    #[must_use]
    #[inline]
    pub fn get(&self, field: Field) -> Option<Decimal> {
        let number = self.number(field as usize);
        (number.scale != ABSENT).then_some(number)
    }

    /// First price.
    #[must_use]
    pub fn open(&self) -> Decimal {
        self.number(0)
    }

    /// Highest price.
    #[must_use]
    pub fn high(&self) -> Decimal {
        self.number(1)
    }

    /// Lowest price.
    #[must_use]
    pub fn low(&self) -> Decimal {
        self.number(2)
    }

    /// Last price.
    #[must_use]
    pub fn close(&self) -> Decimal {
        self.number(3)
    }

    /// Open, high, low and close.
    #[must_use]
    pub fn prices(&self) -> [Decimal; 4] {
        [0, 1, 2, 3].map(|at| self.number(at))
    }

    /// Quantity traded; `None` where the source gives none.
    #[must_use]
    pub fn volume(&self) -> Option<Decimal> {
        self.get(Field::Volume)
    }

    /// Contracts open at its end; `None` where the source does not say.
    #[must_use]
    pub fn open_interest(&self) -> Option<Decimal> {
        self.get(Field::OpenInterest)
    }

    /// Whether it says all that `other` says, and a number beside that `other` lacks: nothing is taken back.
    ///
    /// ```
    /// use mizuno_core::{Bar, Decimal, Slot};
    /// let number = |text: &str| text.parse::<Decimal>().unwrap();
    /// let early = Bar::new(Slot(1), ["7.50"; 4].map(number), Some(number("300")));
    /// let later = early.with_open_interest(Some(number("5120")));
    /// assert!(later.completes(&early) && !early.completes(&later) && !early.completes(&early));
    /// ```
    #[must_use]
    pub fn completes(&self, other: &Bar) -> bool {
        let says = |own: Option<Decimal>, others: Option<Decimal>| others.is_none() || own == others;
        self.slot == other.slot
            && self != other
            && self.prices() == other.prices()
            && says(self.volume(), other.volume())
            && says(self.open_interest(), other.open_interest())
    }

    /// Its typical price, as near as a float comes to it: a third of high, low and close together.
    ///
    /// ```
    /// use mizuno_core::{Bar, Decimal, Slot};
    /// let bar = Bar::new(Slot(20_188), ["7.50", "7.70", "7.40", "7.55"].map(|p| p.parse::<Decimal>().unwrap()), None);
    /// assert!((bar.typical() - 7.55).abs() < 1e-12);
    /// ```
    #[must_use]
    pub fn typical(&self) -> f64 {
        (self.high().to_f64() + self.low().to_f64() + self.close().to_f64()) / 3.0
    }

    /// Whether all numbers of two bars are printed alike: equal values with other digits are not.
    #[must_use]
    pub fn is_printed_as(&self, other: &Bar) -> bool {
        (self.mantissas, self.decimals) == (other.mantissas, other.decimals)
    }

    /// Whether all prices have `price` digits after the point, the volume, if there is one, has `volume`, and the open interest `interest`.
    #[must_use]
    #[inline]
    pub fn is_printed_with(&self, price: u8, volume: u8, interest: u8) -> bool {
        let [o, h, l, c, v, i, ..] = self.decimals;
        [o, h, l, c] == [price; 4] && (v == volume || v == ABSENT) && (i == interest || i == ABSENT)
    }
}

impl PartialEq for Bar {
    fn eq(&self, other: &Bar) -> bool {
        self.slot == other.slot
            && (self.mantissas == other.mantissas && self.decimals == other.decimals
                || self.prices() == other.prices() && self.volume() == other.volume() && self.open_interest() == other.open_interest())
    }
}

impl Eq for Bar {}

impl std::fmt::Debug for Bar {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let [o, h, l, c] = self.prices();
        write!(f, "{}: {o} {h} {l} {c}", self.slot.0)?;
        self.volume().map_or(Ok(()), |v| write!(f, " volume {v}"))?;
        self.open_interest().map_or(Ok(()), |n| write!(f, " open interest {n}"))
    }
}

/// Bars of one series in slot order.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Bars {
    /// The bars themselves.
    pub rows: Vec<Bar>,
}

impl FromIterator<Bar> for Bars {
    fn from_iter<I: IntoIterator<Item = Bar>>(bars: I) -> Bars {
        Bars { rows: bars.into_iter().collect() }
    }
}

/// How much room numbers take: the most digits before the point and after it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Digits {
    /// Before the point.
    pub whole: u8,
    /// After the point.
    pub scale: u8,
}

impl Digits {
    /// Room for all numbers of both.
    #[must_use]
    pub fn and(self, other: Digits) -> Digits {
        Digits { whole: self.whole.max(other.whole), scale: self.scale.max(other.scale) }
    }

    /// Whether all of them fit into 18 digits at one scale.
    #[must_use]
    pub fn fit(self) -> bool {
        self.whole + self.scale <= MAX_SCALE
    }

    /// Makes room for a further number.
    pub fn take(&mut self, number: Decimal) {
        *self = self.and(Digits { whole: number.whole_digits(), scale: number.scale });
    }
}

impl Bars {
    /// The room that prices and volumes take.
    #[must_use]
    pub fn digits(&self) -> (Digits, Digits) {
        digits(self.rows.iter())
    }
}

/// The room that prices and volumes of some bars take.
pub fn digits<'b>(bars: impl Iterator<Item = &'b Bar>) -> (Digits, Digits) {
    let (mut price, mut volume) = (Extremes::default(), Extremes::default());
    for bar in bars {
        bar.prices().into_iter().for_each(|p| price.take(p));
        bar.volume().into_iter().for_each(|v| volume.take(v));
    }
    (price.digits(), volume.digits())
}

/// The least and the largest number at each scale that some have: digits before the point are those of them, which are few.
#[derive(Debug, Default)]
pub struct Extremes([Option<(i64, i64)>; MAX_SCALE as usize + 1]);

impl Extremes {
    /// Looks at a further number.
    #[inline]
    pub fn take(&mut self, number: Decimal) {
        let ends = &mut self.0[usize::from(number.scale.min(MAX_SCALE))];
        *ends = Some(ends.map_or((number.mantissa, number.mantissa), |(low, high)| (low.min(number.mantissa), high.max(number.mantissa))));
    }

    /// The least and the largest of all; `None` of none.
    #[must_use]
    pub fn ends(&self) -> Option<(Decimal, Decimal)> {
        let number = |scale: usize, mantissa| Decimal { mantissa, scale: scale as u8 };
        let each = self.0.iter().enumerate().filter_map(|(scale, ends)| ends.map(|(low, high)| (number(scale, low), number(scale, high))));
        each.reduce(|(low, high), (lower, higher)| (low.min(lower), high.max(higher)))
    }

    fn digits(&self) -> Digits {
        let mut out = Digits::default();
        for (scale, ends) in (0..).zip(self.0) {
            ends.into_iter().flat_map(|(low, high)| [low, high]).for_each(|mantissa| out.take(Decimal { mantissa, scale }));
        }
        out
    }
}

/// The mids of bids and asks of the same slots: half-way between them, price by price, without a volume.
/// Beside each stands the place of its bid in `bid`. Slots that one side lacks have no mid, nor have those
/// whose mid takes more than 18 digits: their bids' places are the second part of the answer.
///
/// ```
/// use mizuno_core::{Bar, Bars, Decimal, Slot, bar::mid};
/// let bars = |close: &str| Bars { rows: vec![Bar::new(Slot(1), [close; 4].map(|p| p.parse::<Decimal>().unwrap()), None)] };
/// let (mids, without) = mid(&bars("1.1000"), &bars("1.1003"));
/// assert_eq!((mids[0].0.close().to_string(), without.len()), ("1.10015".to_owned(), 0));
/// ```
#[must_use]
pub fn mid(bid: &Bars, ask: &Bars) -> (Vec<(Bar, usize)>, Vec<usize>) {
    let asks: std::collections::HashMap<Slot, &Bar> = ask.rows.iter().map(|a| (a.slot, a)).collect();
    let (mut out, mut too_precise) = (vec![], vec![]);
    for (at, b) in bid.rows.iter().enumerate() {
        let Some(a) = asks.get(&b.slot) else { continue };
        let (bids, asks) = (b.prices(), a.prices());
        let halves: Option<Vec<Decimal>> = bids.into_iter().zip(asks).map(|(b, a)| half_way(b, a)).collect();
        match halves.as_deref() {
            Some(&[open, high, low, close]) => out.push((Bar::new(b.slot, [open, high, low, close], None), at)),
            _ => too_precise.push(at),
        }
    }
    (out, too_precise)
}

/// Half of a sum has one digit more at most: five tenths.
fn half_way(a: Decimal, b: Decimal) -> Option<Decimal> {
    let scale = a.scale.max(b.scale);
    let tenths = (a.units(scale) + b.units(scale)) * 5;
    if scale == MAX_SCALE {
        return None;
    }
    let mantissa = i64::try_from(tenths).ok().filter(|m| m.unsigned_abs() < 1_000_000_000_000_000_000)?;
    Some(Decimal { mantissa, scale: scale + 1 })
}

#[cfg(test)]
#[path = "bar_test.rs"]
mod tests;
