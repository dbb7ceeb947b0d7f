//! Bars with exact prices, and the versions they have had.

use crate::{Interval, decimal::Decimal, slot::Slot, spans::Spans, time::Timestamp};

/// A price as a whole number of its batch's smallest unit (see [`Bars::price_scale`]).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Price(pub i64);

/// A traded quantity as a whole number of its batch's smallest unit (see [`Bars::volume_scale`]).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Volume(pub i64);

/// Open, high, low, close and volume of one slot.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Bar {
    /// The place it stands in, labelled by its open.
    pub slot: Slot,
    /// First price.
    pub open: Price,
    /// Highest price.
    pub high: Price,
    /// Lowest price.
    pub low: Price,
    /// Last price.
    pub close: Price,
    /// Quantity traded; `None` where the source gives none, which is not zero.
    pub volume: Option<Volume>,
}

/// Bars of one series in slot order, with the scales their numbers are written in.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Bars {
    /// Digits after the point in every price.
    pub price_scale: u8,
    /// Digits after the point in every volume.
    pub volume_scale: u8,
    /// The bars themselves.
    pub rows: Vec<Bar>,
}

/// What was known of one slot from one moment on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Version {
    /// When it was learned.
    pub recorded_at: Timestamp,
    /// The fetch that brought it.
    pub fetch: i64,
    /// The bar; a withdrawn bar keeps its slot and has no prices.
    pub bar: Bar,
    /// Whether the source took the bar back.
    pub withdrawn: bool,
}

/// Every version of some bars of one series, sorted by slot, then by when it was learned.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Versions {
    /// Digits after the point in every price.
    pub price_scale: u8,
    /// Digits after the point in every volume.
    pub volume_scale: u8,
    /// The versions themselves.
    pub rows: Vec<Version>,
}

/// A number too large to be written at the scale its neighbours need.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("{number} does not fit into 18 digits with {scale} after the point")]
pub struct DoesNotFit {
    /// The number.
    pub number: Decimal,
    /// The scale it was to be written at.
    pub scale: u8,
}

fn rescale(mantissa: i64, from: u8, to: u8) -> Result<i64, DoesNotFit> {
    let number = Decimal { mantissa, scale: from };
    number.at_scale(to).map(|d| d.mantissa).ok_or(DoesNotFit { number, scale: to })
}

impl Bar {
    fn rescaled(self, price: (u8, u8), volume: (u8, u8)) -> Result<Bar, DoesNotFit> {
        if price.0 == price.1 && volume.0 == volume.1 {
            return Ok(self);
        }
        let p = |x: Price| rescale(x.0, price.0, price.1).map(Price);
        Ok(Bar {
            slot: self.slot,
            open: p(self.open)?,
            high: p(self.high)?,
            low: p(self.low)?,
            close: p(self.close)?,
            volume: self.volume.map(|v| rescale(v.0, volume.0, volume.1).map(Volume)).transpose()?,
        })
    }
}

impl Version {
    /// Versions stand by slot, then by when they were learned, then by fetch.
    fn order(&self) -> (Slot, Timestamp, i64) {
        (self.bar.slot, self.recorded_at, self.fetch)
    }
}

impl Bars {
    /// Appends a bar given as decimals, widening the scales when it has more digits than those before it.
    ///
    /// # Errors
    /// When a number does not fit at the scale the batch then needs; the batch keeps its bars.
    pub fn push(&mut self, slot: Slot, prices: [Decimal; 4], volume: Option<Decimal>) -> Result<(), DoesNotFit> {
        let same = prices.iter().all(|p| p.scale == self.price_scale) && volume.is_none_or(|v| v.scale == self.volume_scale);
        if same && !self.rows.is_empty() {
            let [open, high, low, close] = prices.map(|p| Price(p.mantissa));
            self.rows.push(Bar { slot, open, high, low, close, volume: volume.map(|v| Volume(v.mantissa)) });
            return Ok(());
        }
        let price_scale = prices.iter().map(|p| p.scale).fold(self.price_scale, u8::max);
        let volume_scale = volume.map_or(self.volume_scale, |v| v.scale.max(self.volume_scale));
        self.rescale(price_scale, volume_scale)?;
        let price = |d: Decimal| rescale(d.mantissa, d.scale, price_scale).map(Price);
        self.rows.push(Bar {
            slot,
            open: price(prices[0])?,
            high: price(prices[1])?,
            low: price(prices[2])?,
            close: price(prices[3])?,
            volume: volume.map(|v| rescale(v.mantissa, v.scale, volume_scale).map(Volume)).transpose()?,
        });
        Ok(())
    }

    /// Writes every number at the given scales.
    ///
    /// # Errors
    /// When a number would lose digits or no longer fit; the batch is then unchanged.
    pub fn rescale(&mut self, price_scale: u8, volume_scale: u8) -> Result<(), DoesNotFit> {
        let (price, volume) = ((self.price_scale, price_scale), (self.volume_scale, volume_scale));
        if price.0 != price.1 || volume.0 != volume.1 {
            self.rows = self.rows.iter().map(|b| b.rescaled(price, volume)).collect::<Result<_, _>>()?;
            (self.price_scale, self.volume_scale) = (price_scale, volume_scale);
        }
        Ok(())
    }

    /// A price as the decimal it stands for.
    #[must_use]
    pub fn price(&self, price: Price) -> Decimal {
        Decimal { mantissa: price.0, scale: self.price_scale }
    }

    /// A volume as the decimal it stands for.
    #[must_use]
    pub fn volume(&self, volume: Volume) -> Decimal {
        Decimal { mantissa: volume.0, scale: self.volume_scale }
    }
}

/// The mids of bids and asks of the same slots: half-way between them, price by price, without a volume.
/// Beside each stands the place of its bid in `bid`. Slots that one side lacks have no mid.
///
/// # Errors
/// When a mid does not fit at the digits it needs.
pub fn mid(bid: &Bars, ask: &Bars) -> Result<(Bars, Vec<usize>), DoesNotFit> {
    let scale = bid.price_scale.max(ask.price_scale);
    let asks: std::collections::HashMap<Slot, &Bar> = ask.rows.iter().map(|a| (a.slot, a)).collect();
    let (mut out, mut from) = (Bars::default(), vec![]);
    for (at, b) in bid.rows.iter().enumerate() {
        let Some(a) = asks.get(&b.slot) else { continue };
        let half = |bid_price: Price, ask_price: Price| {
            let sum = rescale(bid_price.0, bid.price_scale, scale)? + rescale(ask_price.0, ask.price_scale, scale)?;
            // Half of a sum has one digit more at most: five tenths.
            let tenths = sum.checked_mul(5).ok_or(DoesNotFit { number: Decimal { mantissa: sum, scale }, scale: scale + 1 })?;
            Ok(Decimal { mantissa: tenths, scale: scale + 1 })
        };
        out.push(b.slot, [half(b.open, a.open)?, half(b.high, a.high)?, half(b.low, a.low)?, half(b.close, a.close)?], None)?;
        from.push(at);
    }
    Ok((out, from))
}

/// How a batch of bars compared with what was already known.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Learned {
    /// Slots that had no bar before.
    pub new: u64,
    /// Bars equal to what was known; nothing is stored for them.
    pub same: u64,
    /// Bars that differ from what was known, and became a further version.
    pub restated: u64,
}

impl Versions {
    /// The last version of each slot learned at or before `as_of`; withdrawn bars are left out.
    #[must_use]
    pub fn as_of(&self, as_of: Timestamp) -> Bars {
        let mut rows: Vec<Bar> = Vec::with_capacity(self.rows.len());
        for group in self.rows.chunk_by(|a, b| a.bar.slot == b.bar.slot) {
            let known = group.iter().rev().find(|v| v.recorded_at <= as_of);
            rows.extend(known.filter(|v| !v.withdrawn).map(|v| v.bar));
        }
        Bars { price_scale: self.price_scale, volume_scale: self.volume_scale, rows }
    }

    /// What a fetch said that was not known: the versions to add, and how the batch compared.
    ///
    /// `bars` must be in slot order with no slot twice.
    ///
    /// # Errors
    /// When the two cannot be written at one scale.
    pub fn news(&self, bars: &Bars, recorded_at: Timestamp, fetch: i64) -> Result<(Versions, Learned), DoesNotFit> {
        let price_scale = self.price_scale.max(bars.price_scale);
        let volume_scale = self.volume_scale.max(bars.volume_scale);
        let mut news = Versions { price_scale, volume_scale, rows: Vec::with_capacity(bars.rows.len()) };
        let mut learned = Learned::default();
        let mut at = 0;
        for bar in &bars.rows {
            let bar = bar.rescaled((bars.price_scale, price_scale), (bars.volume_scale, volume_scale))?;
            at += self.rows[at..].partition_point(|v| v.bar.slot <= bar.slot);
            match at.checked_sub(1).map(|i| self.rows[i]).filter(|v| v.bar.slot == bar.slot) {
                Some(last) => {
                    let known = last.bar.rescaled((self.price_scale, price_scale), (self.volume_scale, volume_scale))?;
                    if !last.withdrawn && known == bar {
                        learned.same += 1;
                        continue;
                    }
                    learned.restated += 1;
                }
                None => learned.new += 1,
            }
            news.rows.push(Version { recorded_at, fetch, bar, withdrawn: false });
        }
        Ok((news, learned))
    }

    /// Takes in further versions, in their place.
    ///
    /// # Errors
    /// When the two cannot be written at one scale; nothing is then added.
    pub fn absorb(&mut self, mut news: Versions) -> Result<(), DoesNotFit> {
        let price_scale = self.price_scale.max(news.price_scale);
        let volume_scale = self.volume_scale.max(news.volume_scale);
        news.rescale(price_scale, volume_scale)?;
        self.rescale(price_scale, volume_scale)?;
        let in_order = self.rows.last().zip(news.rows.first()).is_none_or(|(a, b)| a.order() < b.order());
        self.rows.append(&mut news.rows);
        if !in_order {
            self.rows.sort_by_key(Version::order);
        }
        Ok(())
    }

    /// Writes every number at the given scales.
    ///
    /// # Errors
    /// When a number would lose digits or no longer fit; nothing is then changed.
    pub fn rescale(&mut self, price_scale: u8, volume_scale: u8) -> Result<(), DoesNotFit> {
        let (price, volume) = ((self.price_scale, price_scale), (self.volume_scale, volume_scale));
        if price.0 != price.1 || volume.0 != volume.1 {
            let rescaled = |v: &Version| Ok(Version { bar: v.bar.rescaled(price, volume)?, ..*v });
            self.rows = self.rows.iter().map(rescaled).collect::<Result<_, _>>()?;
            (self.price_scale, self.volume_scale) = (price_scale, volume_scale);
        }
        Ok(())
    }

    /// No versions, at the scales of these.
    #[must_use]
    pub fn without_rows(&self) -> Versions {
        Versions { price_scale: self.price_scale, volume_scale: self.volume_scale, rows: vec![] }
    }

    /// The slots whose last version is a bar.
    #[must_use]
    pub fn held(&self, interval: Interval) -> Spans {
        let mut spans = Spans::new();
        let mut open: Option<crate::Span> = None;
        for group in self.rows.chunk_by(|a, b| a.bar.slot == b.bar.slot) {
            if group.last().is_some_and(|v| v.withdrawn) {
                continue;
            }
            let one = interval.span_of(group[0].bar.slot);
            match &mut open {
                Some(span) if span.end == one.start => span.end = one.end,
                _ => spans.extend(open.replace(one)),
            }
        }
        spans.extend(open);
        spans
    }
}

#[cfg(test)]
#[path = "bar_test.rs"]
mod tests;
