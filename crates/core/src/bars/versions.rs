//! The versions a bar has had: what was known of it, from one moment on.

use crate::{
    bar::{Bar, Bars},
    interval::Interval,
    slot::Slot,
    spans::Spans,
    time::Timestamp,
};

/// What was known of one slot from one moment on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Version {
    /// When it was learned: the stamp of its commit.
    pub recorded_at: Timestamp,
    /// The fetch that brought it.
    pub fetch: i64,
    /// The bar; a withdrawn bar keeps its slot and has no prices.
    pub bar: Bar,
    /// Whether the source took the bar back.
    pub withdrawn: bool,
}

impl Version {
    /// Versions stand by slot, then by when they were learned, then by fetch.
    fn order(&self) -> (Slot, Timestamp, i64) {
        (self.bar.slot, self.recorded_at, self.fetch)
    }

    /// Whether it says something else than the version before it; a bar that only gained a number does not.
    #[must_use]
    pub fn restates(&self, before: &Version) -> bool {
        before.withdrawn || self.withdrawn || !self.bar.completes(&before.bar)
    }
}

/// Every version of some bars of one series, sorted by slot, then by when it was learned.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Versions {
    /// The versions themselves.
    pub rows: Vec<Version>,
}

/// How a batch of bars compared with what was already known.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Learned {
    /// Slots that had no bar before, or one without a number that it has now.
    pub new: u64,
    /// Bars equal to what was known; nothing is stored for them.
    pub same: u64,
    /// Bars that differ from what was known, and became a further version.
    pub restated: u64,
}

impl Versions {
    /// The last version of each slot learned at or before `as_of`; withdrawn bars are left out.
    ///
    /// ```
    /// use mizuno_core::{Bar, Decimal, Slot, Timestamp, Version, Versions};
    /// let bar = |close: &str| Bar::new(Slot(1), [close; 4].map(|p| p.parse::<Decimal>().unwrap()), None);
    /// let version = |at: i64, close: &str| Version { recorded_at: Timestamp(at), fetch: at, bar: bar(close), withdrawn: false };
    /// let versions = Versions { rows: vec![version(10, "7.50"), version(20, "7.55")] };
    /// assert_eq!(versions.as_of(Timestamp(15)).rows, [bar("7.50")]);
    /// assert_eq!(versions.as_of(Timestamp(20)).rows, [bar("7.55")]);
    /// ```
    #[must_use]
    pub fn as_of(&self, as_of: Timestamp) -> Bars {
        let mut rows: Vec<Bar> = Vec::with_capacity(self.rows.len());
        for group in self.rows.chunk_by(|a, b| a.bar.slot == b.bar.slot) {
            let known = group.iter().rev().find(|v| v.recorded_at <= as_of);
            rows.extend(known.filter(|v| !v.withdrawn).map(|v| v.bar));
        }
        Bars { rows }
    }

    /// What a fetch said that was not known: the versions to add, and how the batch compared.
    ///
    /// `bars` must be in slot order with no slot twice.
    ///
    /// ```
    /// use mizuno_core::{Bar, Bars, Decimal, Slot, Timestamp, Versions};
    /// let bar = |slot: i64, close: &str| Bar::new(Slot(slot), [close; 4].map(|p| p.parse::<Decimal>().unwrap()), None);
    /// let (known, _) = Versions::default().news(&Bars { rows: vec![bar(1, "7.50"), bar(2, "7.60")] }, Timestamp(10), 1);
    /// let (news, learned) = known.news(&Bars { rows: vec![bar(1, "7.5"), bar(2, "7.65"), bar(3, "7.7")] }, Timestamp(20), 2);
    /// assert_eq!((learned.same, learned.restated, learned.new, news.rows.len()), (1, 1, 1, 2));
    /// ```
    #[must_use]
    pub fn news(&self, bars: &Bars, recorded_at: Timestamp, fetch: i64) -> (Versions, Learned) {
        let mut news = Versions { rows: Vec::with_capacity(bars.rows.len()) };
        let mut learned = Learned::default();
        let mut at = 0;
        for bar in &bars.rows {
            let version = Version { recorded_at, fetch, bar: *bar, withdrawn: false };
            at += self.rows[at..].partition_point(|v| v.bar.slot <= bar.slot);
            match at.checked_sub(1).map(|i| &self.rows[i]).filter(|v| v.bar.slot == bar.slot) {
                Some(last) if !last.withdrawn && last.bar == *bar => {
                    learned.same += 1;
                    continue;
                }
                Some(last) if version.restates(last) => learned.restated += 1,
                _ => learned.new += 1,
            }
            news.rows.push(version);
        }
        (news, learned)
    }

    /// Takes in further versions, in their place; one that is there already is not taken twice.
    pub fn absorb(&mut self, mut news: Versions) {
        let in_order = self.rows.last().zip(news.rows.first()).is_none_or(|(a, b)| a.order() < b.order());
        self.rows.append(&mut news.rows);
        if !in_order {
            self.rows.sort_by_key(Version::order);
            self.rows.dedup_by_key(|v| v.order());
        }
    }

    /// The slots whose last version learned at or before `as_of` is a bar.
    #[must_use]
    pub fn held(&self, interval: Interval, as_of: Timestamp) -> Spans {
        let known = |group: &[Version]| group.iter().rev().find(|v| v.recorded_at <= as_of).filter(|v| !v.withdrawn).map(|v| v.bar.slot);
        let mut held = Spans::new();
        held.extend(self.rows.chunk_by(|a, b| a.bar.slot == b.bar.slot).filter_map(known).map(|slot| interval.span_of(slot)));
        held
    }
}

#[cfg(test)]
#[path = "versions_test.rs"]
mod tests;
