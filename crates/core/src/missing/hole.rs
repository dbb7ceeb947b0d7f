//! Gaps of many series at once, told of as one event.
//!
//! A file that never came up, or an outage of an afternoon, leaves a gap in
//! every series of a venue. A person wants to read that once, not five hundred times.

use crate::{
    gap::{Cause, Gap},
    slot::Span,
};
use std::collections::BTreeMap;

/// A stretch that is missing in one series or in many, for one cause.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Hole {
    /// From the first missing slot to the end of the last.
    pub span: Span,
    /// Why.
    pub cause: Cause,
    /// The gaps it is made of, as (place of the series, place of the gap in it), by series.
    pub gaps: Vec<(usize, usize)>,
    /// Missing slots in all of them.
    pub slots: u64,
}

/// Series that must have a gap for it to be an event of all of them.
const SEVERAL: usize = 3;

/// Gathers the gaps of series that belong together: one venue, source, interval and side.
/// What at least half of the series miss is one hole; every other gap is a hole of its own.
///
/// ```
/// use mizuno_core::{Cause, Gap, Slot, hole::gather};
/// let gap = |from: i64, to: i64| Gap { span: Slot(from)..Slot(to), slots: (to - from) as u64, cause: Cause::LeftOut, fetch: None, asked: 1 };
/// let (three, other) = ([gap(4, 6)], [gap(4, 6), gap(8, 9)]);
/// let holes = gather(&[&three, &three, &other]);
/// let told: Vec<_> = holes.iter().map(|h| (h.span.clone(), h.gaps.len(), h.slots)).collect();
/// assert!(told.contains(&(Slot(4)..Slot(6), 3, 6)) && told.contains(&(Slot(8)..Slot(9), 1, 1)));
/// ```
#[must_use]
pub fn gather(series: &[&[Gap]]) -> Vec<Hole> {
    let mut by_span: BTreeMap<(Ends, Cause), Vec<(usize, usize)>> = BTreeMap::new();
    for (s, gaps) in series.iter().enumerate() {
        for (g, gap) in gaps.iter().enumerate() {
            by_span.entry((Ends(gap.span.start.0, gap.span.end.0), gap.cause)).or_default().push((s, g));
        }
    }
    let several = SEVERAL.max(series.len().div_ceil(2));
    let (wide, single): (Vec<_>, Vec<_>) = by_span.into_iter().partition(|(_, gaps)| gaps.len() >= several);
    let hole = |((_, cause), gaps): (_, Vec<(usize, usize)>)| {
        let all = || gaps.iter().map(|(s, g)| &series[*s][*g]);
        Hole {
            span: all().next().map_or(crate::Slot(0)..crate::Slot(0), |g| g.span.clone()),
            cause,
            slots: all().map(|g| g.slots).sum(),
            gaps,
        }
    };
    // By their starts, as the map has them: of thousands of gaps each is held only against the few that begin near it.
    let mut wide: Vec<Hole> = wide.into_iter().map(hole).collect();
    let mut out: Vec<Hole> = vec![];
    for ((span, cause), gaps) in single {
        // A series that missed a little more or less than the others has missed the same.
        let same = |h: &&mut Hole| h.cause == cause && span.mostly(&Ends(h.span.start.0, h.span.end.0));
        let near = span.near();
        let (from, to) = (wide.partition_point(|h| h.span.start.0 < near.0), wide.partition_point(|h| h.span.start.0 <= near.1));
        match wide[from..to].iter_mut().find(same) {
            Some(hole) => {
                hole.slots += gaps.iter().map(|(s, g)| series[*s][*g].slots).sum::<u64>();
                hole.gaps.extend(gaps);
                hole.gaps.sort_unstable();
            }
            None => out.extend(gaps.into_iter().map(|gap| hole(((span, cause), vec![gap])))),
        }
    }
    out.append(&mut wide);
    out.sort_by_key(|h| (h.span.start, h.gaps[0]));
    out
}

/// A span that can be ordered.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct Ends(i64, i64);

impl Ends {
    /// Where a span begins of which most lies in this one: four fifths of the longer of two that share so much leave a quarter
    /// of the shorter.
    fn near(self) -> Ends {
        let quarter = (self.1 - self.0) / 4 + 1;
        Ends(self.0 - quarter, self.0 + quarter)
    }

    /// Whether most of both lies in the other.
    fn mostly(self, other: &Ends) -> bool {
        let both = self.1.min(other.1) - self.0.max(other.0);
        let longer = (self.1 - self.0).max(other.1 - other.0);
        both as f64 >= 0.8 * longer as f64
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Slot;
    use proptest::prelude::*;

    fn gap(from: i64, to: i64, cause: Cause) -> Gap {
        Gap { span: Slot(from)..Slot(to), slots: (to - from) as u64, cause, fetch: None, asked: 0 }
    }

    #[test]
    fn what_all_miss_is_one_event() {
        let missed = gap(100, 200, Cause::FetchFailed);
        let own = gap(300, 310, Cause::LeftOut);
        let a = [missed.clone(), own.clone()];
        let b = [missed.clone()];
        let c = [gap(100, 190, Cause::FetchFailed)];
        let found = gather(&[&a, &b, &b, &c, &[]]);
        assert_eq!(found.len(), 2, "{found:?}");
        assert_eq!((found[0].gaps.clone(), found[0].slots), (vec![(0, 0), (1, 0), (2, 0), (3, 0)], 390));
        assert_eq!((found[1].span.clone(), found[1].gaps.clone()), (own.span, vec![(0, 1)]));
        let two = gather(&[&b, &b, &[], &[], &[]]);
        assert_eq!(two.len(), 2, "two of five are not all: {two:?}");
    }

    #[test]
    fn a_hundred_thousand_gaps_are_gathered_in_one_pass() {
        // Each of forty series has gaps of its own, and one in fifty is everybody's.
        let one = |s: i64, n: i64| {
            gap(n * 1_000 + if n % 50 == 0 { 0 } else { s * 20 }, n * 1_000 + 10 + if n % 50 == 0 { 0 } else { s * 20 }, Cause::LeftOut)
        };
        let series: Vec<Vec<Gap>> = (0..40).map(|s| (0..2_500).map(|n| one(s, n)).collect()).collect();
        let found = gather(&series.iter().map(Vec::as_slice).collect::<Vec<_>>());
        assert_eq!((found.len(), found.iter().filter(|h| h.gaps.len() == 40).count()), (50 + 40 * 2_450, 50));
    }

    proptest! {
        /// What is near enough to share most with a span begins where it is looked for.
        #[test]
        fn what_shares_most_begins_near(a in 0i64..100, long in 1i64..100, b in 0i64..200, other in 1i64..100) {
            let (one, two) = (Ends(a, a + long), Ends(b, b + other));
            let near = one.near();
            prop_assert!(!one.mostly(&two) || (near.0 <= b && b <= near.1), "{a}+{long}, {b}+{other}");
        }

        /// Every gap is in exactly one hole, and no slot is lost or counted twice.
        #[test]
        fn every_gap_is_told_of_once(series in prop::collection::vec(prop::collection::vec((0i64..20, 1i64..5, 0usize..3), 0..6), 0..8)) {
            let series: Vec<Vec<Gap>> = series.into_iter().map(|gaps| {
                gaps.into_iter().enumerate().map(|(i, (at, long, cause))| {
                    let from = i as i64 * 100 + at;
                    gap(from, from + long, Cause::ALL[cause])
                }).collect()
            }).collect();
            let found = gather(&series.iter().map(Vec::as_slice).collect::<Vec<_>>());
            let mut told: Vec<(usize, usize)> = found.iter().flat_map(|h| h.gaps.clone()).collect();
            told.sort_unstable();
            let all: Vec<(usize, usize)> = series.iter().enumerate().flat_map(|(s, gaps)| (0..gaps.len()).map(move |g| (s, g))).collect();
            prop_assert_eq!(told, all);
            prop_assert_eq!(found.iter().map(|h| h.slots).sum::<u64>(), series.iter().flatten().map(|g| g.slots).sum::<u64>());
        }
    }
}
