//! Structural checks: which bars cannot be true, and which are not finished.
//!
//! A bar that fails one is put in quarantine with the reason and the text it
//! came from; it is never served and never lost.

use crate::{
    bar::{Bar, Bars},
    calendar::Calendar,
    interval::Interval,
    slot::Slot,
    time::Timestamp,
};
use std::fmt;

/// Why a bar cannot be true.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Flaw {
    /// Its high is below its low.
    HighBelowLow,
    /// Its open or close lies outside its high and low.
    OutsideRange,
    /// A price of zero or less, for what cannot have one.
    PriceNotPositive,
    /// A negative volume.
    NegativeVolume,
    /// A negative open interest.
    NegativeInterest,
    /// Its stamp is not on the interval's grid.
    OffGrid,
    /// The venue was closed.
    ClosedMarket,
    /// It opens after the answer had come.
    FromTheFuture,
    /// The same answer has two different bars for this slot.
    Contradicted,
}

impl Flaw {
    /// All flaws.
    pub const ALL: [Flaw; 9] = [
        Flaw::HighBelowLow,
        Flaw::OutsideRange,
        Flaw::PriceNotPositive,
        Flaw::NegativeVolume,
        Flaw::NegativeInterest,
        Flaw::OffGrid,
        Flaw::ClosedMarket,
        Flaw::FromTheFuture,
        Flaw::Contradicted,
    ];

    /// The word used in files, on the command line and over HTTP.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Flaw::HighBelowLow => "high-below-low",
            Flaw::OutsideRange => "outside-range",
            Flaw::PriceNotPositive => "price-not-positive",
            Flaw::NegativeVolume => "negative-volume",
            Flaw::NegativeInterest => "negative-interest",
            Flaw::OffGrid => "off-grid",
            Flaw::ClosedMarket => "closed-market",
            Flaw::FromTheFuture => "from-the-future",
            Flaw::Contradicted => "contradicted",
        }
    }

    /// One sentence a person can act on.
    #[must_use]
    pub fn explanation(self) -> &'static str {
        match self {
            Flaw::HighBelowLow => "the high is below the low; ask again, or look whether the profile swaps two columns",
            Flaw::OutsideRange => "the open or the close lies outside high and low; look whether the profile swaps columns",
            Flaw::PriceNotPositive => "a price is zero or negative; such a row often stands for a day without trades",
            Flaw::NegativeVolume => "the volume is negative",
            Flaw::NegativeInterest => "the open interest is negative",
            Flaw::OffGrid => "the stamp is not on the interval's grid; look at the profile's stamp convention",
            Flaw::ClosedMarket => "the venue was closed then; look at the profile's zone, or at the venue's calendar",
            Flaw::FromTheFuture => "the bar opens after the answer had come; look at the profile's zone",
            Flaw::Contradicted => "one answer gave two different bars for this slot; neither is believed",
        }
    }
}

impl fmt::Display for Flaw {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// What the checks need to know of a series and an answer.
#[derive(Clone, Copy, Debug)]
pub struct Standards<'c> {
    /// The venue's sessions.
    pub calendar: &'c Calendar,
    /// The series' interval.
    pub interval: Interval,
    /// When the answer was asked for.
    pub asked_at: Timestamp,
    /// When it was complete: a bar may open while an answer is on its way.
    pub answered_at: Timestamp,
    /// Whether prices of zero or less can be true, as they can for spreads and some contracts.
    pub any_price: bool,
}

/// An answer's bars, sorted into what to keep and what not to.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Sorted {
    /// Sound, finished bars in slot order, no slot twice.
    pub sound: Bars,
    /// Bars that cannot be true, with the index of the row they came from.
    pub flawed: Vec<(usize, Flaw)>,
    /// Bars still open when asked for; dropped, since a later answer has them finished.
    pub unfinished: u64,
    /// Rows that repeated another row of the same answer.
    pub repeated: u64,
}

/// Sorts the rows of one answer, which may come in any order.
#[must_use]
pub fn sort(answer: &Bars, standards: &Standards<'_>) -> Sorted {
    let mut out = Sorted::default();
    let mut order: Vec<usize> = (0..answer.rows.len()).collect();
    order.sort_by_key(|&i| answer.rows[i].slot);
    for group in order.chunk_by(|&a, &b| answer.rows[a].slot == answer.rows[b].slot) {
        let bar = answer.rows[group[0]];
        if group.iter().any(|&i| answer.rows[i] != bar) {
            out.flawed.extend(group.iter().map(|&i| (i, Flaw::Contradicted)));
            continue;
        }
        out.repeated += group.len() as u64 - 1;
        match judge(&bar, standards) {
            Verdict::Sound => out.sound.rows.push(bar),
            Verdict::Unfinished => out.unfinished += 1,
            Verdict::Flawed(flaw) => out.flawed.push((group[0], flaw)),
        }
    }
    out
}

enum Verdict {
    Sound,
    Unfinished,
    Flawed(Flaw),
}

fn judge(bar: &Bar, standards: &Standards<'_>) -> Verdict {
    let Standards { calendar, interval, asked_at, answered_at, any_price } = *standards;
    let Some(session) = calendar.session_of(interval, bar.slot) else {
        return Verdict::Flawed(Flaw::ClosedMarket);
    };
    let open = match interval {
        Interval::Daily => session.open(),
        Interval::Intraday { .. } => bar.slot.instant(),
    };
    if open > answered_at {
        return Verdict::Flawed(Flaw::FromTheFuture);
    }
    if interval.is_intraday() && !on_grid(session, interval, bar.slot) {
        return Verdict::Flawed(Flaw::OffGrid);
    }
    if session.finish(interval, bar.slot) > asked_at {
        return Verdict::Unfinished;
    }
    shape(bar, any_price).map_or(Verdict::Sound, Verdict::Flawed)
}

fn on_grid(session: &crate::Session, interval: Interval, slot: Slot) -> bool {
    let stretch = session.stretches.iter().find(|s| s.contains(&slot.instant()));
    stretch.is_some_and(|s| (slot.0 - s.start.0) % interval.step() == 0)
}

/// The flaw of a bar seen on its own, whatever its time.
fn shape(bar: &Bar, any_price: bool) -> Option<Flaw> {
    let [open, high, low, close] = bar.prices();
    if high < low {
        Some(Flaw::HighBelowLow)
    } else if high < open.max(close) || low > open.min(close) {
        Some(Flaw::OutsideRange)
    } else if low.mantissa <= 0 && !any_price {
        Some(Flaw::PriceNotPositive)
    } else if bar.volume().is_some_and(|v| v.mantissa < 0) {
        Some(Flaw::NegativeVolume)
    } else if bar.open_interest().is_some_and(|n| n.mantissa < 0) {
        Some(Flaw::NegativeInterest)
    } else {
        None
    }
}

#[cfg(test)]
#[path = "check_test.rs"]
mod tests;
