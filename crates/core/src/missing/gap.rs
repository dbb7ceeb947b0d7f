//! What is missing, in stretches, with the cause of each.
//!
//! Gaps are computed from the calendar, what is held and what was asked, each
//! time somebody looks. They are never stored, so they cannot go stale.

use crate::{
    interval::Interval,
    slot::{Overlap, Slot, Span},
    spans::{Spans, hull, within},
    standing::Standing,
    time::{SECOND, Timestamp},
};
use rangemap::RangeMap;
use std::fmt;

/// Why a stretch of slots has no bars. Later ones in this list outrank earlier ones.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Cause {
    /// Nobody has asked the source for it.
    NeverAsked,
    /// The source does not go back that far.
    BeyondReach,
    /// The source answered, and had nothing at all for the window.
    SourceHadNothing,
    /// The source answered with bars around it, and left these out.
    LeftOut,
    /// Asked for, and every attempt failed.
    FetchFailed,
    /// A bar came that cannot be true.
    Quarantined,
    /// The bar is not finished, or the source does not publish it yet.
    NotYetDue,
}

impl Cause {
    /// All causes, in order.
    pub const ALL: [Cause; 7] = [
        Cause::NeverAsked,
        Cause::BeyondReach,
        Cause::SourceHadNothing,
        Cause::LeftOut,
        Cause::FetchFailed,
        Cause::Quarantined,
        Cause::NotYetDue,
    ];

    /// The word used in files, on the command line and over HTTP.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Cause::NeverAsked => "never-asked",
            Cause::BeyondReach => "beyond-reach",
            Cause::SourceHadNothing => "source-had-nothing",
            Cause::LeftOut => "left-out",
            Cause::FetchFailed => "fetch-failed",
            Cause::Quarantined => "quarantined",
            Cause::NotYetDue => "not-yet-due",
        }
    }

    /// Whether asking the same source again can close such a gap now.
    #[must_use]
    pub fn can_refetch(self) -> bool {
        !matches!(self, Cause::BeyondReach | Cause::NotYetDue)
    }
}

impl fmt::Display for Cause {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// How one fetch of this series ended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Asked {
    /// The ledger's number of the fetch.
    pub fetch: i64,
    /// The window asked for.
    pub window: Span,
    /// When it was asked for, the last time: an answer knows nothing of what came after that.
    pub sent: Timestamp,
    /// When the answer came.
    pub at: Timestamp,
    /// What came of it.
    pub outcome: Outcome,
}

/// What came of a fetch, as far as gaps are concerned.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// Sound bars came.
    Bars,
    /// A sound answer without any row.
    Nothing,
    /// No usable answer.
    Failed,
}

/// A maximal stretch of expected slots that are neither held nor excused, with one cause.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Gap {
    /// From the first missing slot to the end of the last. Closed hours inside it are not missing.
    pub span: Span,
    /// How many slots are missing.
    pub slots: u64,
    /// Why.
    pub cause: Cause,
    /// The latest fetch that asked for it, if any.
    pub fetch: Option<i64>,
    /// How many fetches asked for its first slot.
    pub asked: u32,
}

/// What explains the gaps of one series.
#[derive(Clone, Debug, Default)]
pub struct Evidence {
    /// Every fetch of the series that has ended, oldest first.
    pub asked: Vec<Asked>,
    /// Slots whose bars are in quarantine.
    pub quarantined: Spans,
    /// What the source can be asked for now; slots before it are beyond reach, slots after it not yet due.
    pub reach: Option<Span>,
}

/// The gaps of one series, in time order. Together they are exactly `standing.missing()`.
///
/// ```
/// use mizuno_core::{Interval, Slot, Spans, gap::{Asked, Cause, Evidence, Outcome, gaps}, standing::Standing, Timestamp};
/// let spans = |all: &[(i64, i64)]| all.iter().map(|(a, b)| Slot(*a)..Slot(*b)).collect::<Spans>();
/// let standing = Standing { expected: spans(&[(0, 10)]), held: spans(&[(0, 4), (6, 8)]), excused: Spans::new() };
/// let at = Timestamp(5);
/// let asked = vec![Asked { fetch: 1, window: Slot(0)..Slot(8), sent: at, at, outcome: Outcome::Bars }];
/// let found = gaps(Interval::Daily, &standing, &Evidence { asked, ..Evidence::default() });
/// let told: Vec<_> = found.iter().map(|g| (g.span.clone(), g.cause)).collect();
/// assert_eq!(told, [(Slot(4)..Slot(6), Cause::LeftOut), (Slot(8)..Slot(10), Cause::NeverAsked)]);
/// ```
#[must_use]
pub fn gaps(interval: Interval, standing: &Standing, evidence: &Evidence) -> Vec<Gap> {
    let missing = standing.missing();
    let Some(all) = hull(&missing) else { return vec![] };
    let causes = paint(&all, evidence);
    let asked = evidence.asked_by_slot();
    let mut out: Vec<Gap> = vec![];
    for span in missing.iter() {
        for (piece, &(cause, fetch)) in causes.overlapping(span) {
            let piece = piece.clip(span);
            let slots = interval.count([&piece]);
            match out.last_mut() {
                Some(gap)
                    if gap.cause == cause
                        && gap.fetch == fetch
                        && (gap.span.end >= piece.start || !standing.expected.overlaps(&(gap.span.end..piece.start))) =>
                {
                    gap.span.end = piece.end;
                    gap.slots += slots;
                }
                _ => out.push(Gap { asked: asked(piece.start), span: piece, slots, cause, fetch }),
            }
        }
    }
    out
}

impl Evidence {
    /// How many fetches asked for a slot: as many as began by then, less those that ended.
    fn asked_by_slot(&self) -> impl Fn(Slot) -> u32 {
        let [mut starts, mut ends] = [|w: &Span| w.start, |w: &Span| w.end]
            .map(|edge| -> Vec<Slot> { self.asked.iter().map(|a| &a.window).filter(|w| w.start < w.end).map(edge).collect() });
        starts.sort_unstable();
        ends.sort_unstable();
        move |slot| (starts.partition_point(|s| *s <= slot) - ends.partition_point(|e| *e <= slot)) as u32
    }
}

/// The cause of every slot of `all`, weakest first so that the stronger ones cover them.
fn paint(all: &Span, evidence: &Evidence) -> RangeMap<Slot, (Cause, Option<i64>)> {
    let mut causes = RangeMap::new();
    causes.insert(all.clone(), (Cause::NeverAsked, None));
    let mut over = |span: Span, cause: (Cause, Option<i64>)| {
        let span = span.clip(all);
        if span.start < span.end {
            causes.insert(span, cause);
        }
    };
    let reach = evidence.reach.clone().unwrap_or(all.clone());
    over(all.start..reach.start, (Cause::BeyondReach, None));
    for asked in &evidence.asked {
        let cause = match asked.outcome {
            Outcome::Bars => Cause::LeftOut,
            Outcome::Nothing => Cause::SourceHadNothing,
            Outcome::Failed => Cause::FetchFailed,
        };
        over(asked.window.clone(), (cause, Some(asked.fetch)));
    }
    let mut latest: RangeMap<Slot, i64> = RangeMap::new();
    if !evidence.quarantined.is_empty() {
        evidence.asked.iter().filter(|a| a.window.start < a.window.end).for_each(|a| latest.insert(a.window.clone(), a.fetch));
    }
    for span in evidence.quarantined.iter() {
        over(span.clone(), (Cause::Quarantined, latest.get(&span.start).copied()));
    }
    over(reach.end..all.end, (Cause::NotYetDue, None));
    causes
}

/// Slots that a source has answered without, and that need not be asked for
/// again just yet: after the first such answer they rest for `rest`
/// microseconds, and twice as long after each further one, up to `most`.
///
/// An answer counts against a slot only when the bar should long have been there when it was sent: `settled` gives, for
/// that instant, the end of the slots whose bars were published a grace before. A bar that comes
/// a little late is asked for again at the next poll.
///
/// Failures do not rest here; the retry policy paces those.
#[must_use]
pub fn resting(missing: &Spans, asked: &[Asked], now: Timestamp, rest: i64, most: i64, settled: impl Fn(Timestamp) -> Slot) -> Spans {
    let mut answers: RangeMap<Slot, (u32, Timestamp)> = RangeMap::new();
    for a in asked.iter().filter(|a| a.outcome != Outcome::Failed) {
        let old = a.window.start..a.window.end.min(settled(a.sent));
        for span in within(missing, &old).iter() {
            let before: Vec<_> = answers.overlapping(span).map(|(r, &(n, _))| (r.clip(span), n)).collect();
            answers.insert(span.clone(), (1, a.at));
            for (piece, n) in before {
                answers.insert(piece, (n + 1, a.at));
            }
        }
    }
    let rests = |&(n, at): &(u32, Timestamp)| now < at.plus(rest.saturating_mul(1 << (n - 1).min(20)).min(most));
    answers.iter().filter(|(_, answer)| rests(answer)).map(|(span, _)| span.clone()).collect()
}

/// Half a day of rest after the first answer without a bar.
pub const FIRST_REST: i64 = 12 * 3600 * SECOND;
/// A fortnight of rest at most.
pub const LONGEST_REST: i64 = 14 * 86_400 * SECOND;

#[cfg(test)]
#[path = "gap_test.rs"]
mod tests;
