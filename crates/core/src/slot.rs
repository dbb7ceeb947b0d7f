//! Places on the time grid, and half-open sets of them.

use crate::time::{Timestamp, TradeDate};
use rangemap::RangeSet;
use std::ops::Range;

/// One place on a series' time grid where a bar may stand, labelled by its open.
///
/// The unit is that of the series' interval: microseconds since the epoch for
/// intraday bars, days since the epoch (a trade date) for daily bars. The two
/// never meet, because a series has one interval; [`crate::Interval`] knows
/// which of them applies.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Slot(pub i64);

impl Slot {
    /// The place of an intraday bar that opens at `open`.
    #[must_use]
    pub fn at(open: Timestamp) -> Slot {
        Slot(open.0)
    }

    /// The place of the daily bar of `date`.
    #[must_use]
    pub fn on(date: TradeDate) -> Slot {
        Slot(i64::from(date.0))
    }

    /// The instant, for a slot of an intraday series.
    #[must_use]
    pub fn instant(self) -> Timestamp {
        Timestamp(self.0)
    }

    /// The trade date, for a slot of a daily series.
    #[must_use]
    pub fn date(self) -> TradeDate {
        TradeDate(self.0.clamp(i64::from(i32::MIN), i64::from(i32::MAX)) as i32)
    }
}

/// A half-open stretch of slots: `start` is in it, `end` is not.
pub type Span = Range<Slot>;

/// A set of slots as disjoint half-open spans.
pub type Spans = RangeSet<Slot>;

/// The slots of `from` that are not in `without`.
#[must_use]
pub fn difference(from: &Spans, without: &Spans) -> Spans {
    from.iter().flat_map(|span| without.gaps(span)).collect()
}

/// The slots in both sets.
#[must_use]
pub fn intersection(a: &Spans, b: &Spans) -> Spans {
    a.intersection(b).collect()
}

/// The slots in either set.
#[must_use]
pub fn union(a: &Spans, b: &Spans) -> Spans {
    let mut out = a.clone();
    out.extend(b.iter().cloned());
    out
}

/// The slots of `set` that lie in `span`.
#[must_use]
pub fn within(set: &Spans, span: &Span) -> Spans {
    set.overlapping(span).map(|s| s.start.max(span.start)..s.end.min(span.end)).filter(|s| s.start < s.end).collect()
}

/// The smallest span that contains the whole set; `None` for the empty set.
#[must_use]
pub fn hull(set: &Spans) -> Option<Span> {
    Some(set.first()?.start..set.last()?.end)
}
