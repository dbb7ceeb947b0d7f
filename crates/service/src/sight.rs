//! What is known of one series, worked out when it has changed, or when what is expected of it has.
//!
//! Nothing here is stored. A sight is kept in memory with what it followed from: the series as it last changed, the
//! setup, and what is due at the moment. Of thousands of series looked at again and again only those are
//! worked out anew in which something has happened.

use crate::views::View;
use mizuno_core::{
    Completeness, Interval, Side, Slot, Span, Spans, Timestamp, TradeDate,
    gap::{self, Evidence, Gap, Outcome},
    plan::Standing,
    quiet::{is_lively, quiet},
    spans::{difference, intersection},
};
use std::{
    collections::HashMap,
    hash::{DefaultHasher, Hash, Hasher},
    sync::{
        Arc, Mutex, MutexGuard, OnceLock, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
};

/// What of a look follows from the instant and the collector alone.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Moment {
    /// The setup it is looked at with.
    pub setup: u64,
    /// Slots are expected before this trade date.
    pub until: TradeDate,
    /// What is due: a bar that the next scheduled run will ask for is not due yet.
    pub due: Span,
    /// What the source can be asked for now.
    pub in_reach: Span,
    /// The sessions of the second look.
    pub recent: Option<Span>,
    /// How much later than its profile says a bar may come before its absence counts, in microseconds.
    pub grace: i64,
}

/// What is known of one series.
pub(crate) struct Sight {
    /// No other has it.
    serial: u64,
    interval: Interval,
    pub standing: Standing,
    /// What explains its gaps.
    pub evidence: Evidence,
    /// Slots without a bar in which it is only quiet; not expected, and looked at again like the others.
    pub quiet: Spans,
    pub in_reach: Span,
    pub grace: i64,
    gaps: OnceLock<Vec<Gap>>,
    whole: OnceLock<Completeness>,
    bars: OnceLock<u64>,
    lively: OnceLock<bool>,
}

impl Sight {
    pub(crate) fn new(interval: Interval, standing: Standing, evidence: Evidence, in_reach: Span, grace: i64) -> Sight {
        static SERIAL: AtomicU64 = AtomicU64::new(0);
        Sight {
            serial: SERIAL.fetch_add(1, Ordering::Relaxed),
            interval,
            standing,
            evidence,
            quiet: Spans::new(),
            in_reach,
            grace,
            gaps: OnceLock::new(),
            whole: OnceLock::new(),
            bars: OnceLock::new(),
            lively: OnceLock::new(),
        }
    }

    /// The gaps, every one with its cause.
    pub(crate) fn gaps(&self) -> &[Gap] {
        self.gaps.get_or_init(|| gap::gaps(self.interval, &self.standing, &self.evidence))
    }

    /// How many bars there are.
    pub(crate) fn bars(&self) -> u64 {
        *self.bars.get_or_init(|| self.interval.count(&self.standing.held))
    }

    /// Figures over the slots in `span` that should be had by now: expected, and neither too young nor beyond the source's depth.
    pub(crate) fn completeness(&self, span: &Span) -> Completeness {
        let within = |span: &Span| {
            let end = self.evidence.reach.as_ref().map_or(span.end, |reach| reach.end.min(span.end));
            Completeness::over(self.interval, &self.standing, &self.quiet, span.start..end.max(span.start))
        };
        match *span == (Slot(i64::MIN)..Slot(i64::MAX)) {
            true => *self.whole.get_or_init(|| within(span)),
            false => within(span),
        }
    }

    /// What the source has answered for.
    fn answered(&self) -> Spans {
        self.evidence.asked.iter().filter(|a| a.outcome != Outcome::Failed).map(|a| a.window.clone()).collect()
    }

    fn is_lively(&self) -> bool {
        *self.lively.get_or_init(|| is_lively(self.interval, &self.standing, &self.answered()))
    }

    /// The same, with some of what is expected only quiet.
    fn with_quiet(&self, quiet: Spans) -> Sight {
        let standing = Standing { expected: difference(&self.standing.expected, &quiet), ..self.standing.clone() };
        Sight { quiet, ..Sight::new(self.interval, standing, self.evidence.clone(), self.in_reach.clone(), self.grace) }
    }
}

/// The newest sight of each series.
#[derive(Default)]
pub(crate) struct Sights(Mutex<HashMap<i64, Remembered>>);

struct Remembered {
    moment: Moment,
    known: Timestamp,
    sight: Arc<Sight>,
    /// The same with what is only quiet, and what that followed from.
    usual: Option<(u64, Arc<Sight>)>,
}

/// Series of one venue, source, interval and side.
type Group = (String, String, Interval, Side);

impl Sights {
    fn lock(&self) -> MutexGuard<'_, HashMap<i64, Remembered>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The sight of a series that changed last at `changed`, as it was known at `known`.
    pub(crate) fn recall(&self, series: i64, moment: &Moment, changed: Timestamp, known: Timestamp) -> Option<Arc<Sight>> {
        let all = self.lock();
        let kept = all.get(&series).filter(|r| changed <= r.known && changed <= known && r.moment == *moment);
        kept.map(|r| r.sight.clone())
    }

    pub(crate) fn remember(&self, series: i64, moment: Moment, known: Timestamp, sight: Arc<Sight>) {
        let mut all = self.lock();
        if all.get(&series).is_none_or(|r| r.known <= known) {
            all.insert(series, Remembered { moment, known, sight, usual: None });
        }
    }

    /// Takes out of what is expected the slots in which thinly traded instruments are only quiet. Series looked at
    /// together are witnesses for each other: the same instrument at another source, and the lively ones of a venue at the same source.
    pub(crate) fn expect_what_is_usual(&self, views: &mut [View<'_>]) {
        let thin: Vec<usize> = (0..views.len()).filter(|at| views[*at].row.key.interval.is_intraday() && !views[*at].is_lively()).collect();
        if thin.is_empty() {
            return;
        }
        let mut elsewhere: HashMap<(String, Interval, Side), Vec<usize>> = HashMap::new();
        let mut together: HashMap<Group, Vec<usize>> = HashMap::new();
        for (at, view) in views.iter().enumerate().filter(|(_, v)| v.row.key.interval.is_intraday()) {
            let key = &view.row.key;
            elsewhere.entry((key.symbol.clone(), key.interval, key.side)).or_default().push(at);
            together.entry(group_of(view)).or_default().push(at);
        }
        let serials = |members: &[usize]| members.iter().map(|at| views[*at].serial).collect::<Vec<_>>();
        let digests: HashMap<&Group, u64> = together.iter().map(|(group, members)| (group, digest(&serials(members)))).collect();
        let mut outages: HashMap<&Group, Spans> = HashMap::new();
        let mut usual = vec![];
        for at in thin {
            let view = &views[at];
            let key = &view.row.key;
            let (Some((group, members)), Some(others)) =
                (together.get_key_value(&group_of(view)), elsewhere.get(&(key.symbol.clone(), key.interval, key.side)))
            else {
                continue;
            };
            let followed_from = digest(&(view.serial, serials(others), digests[group]));
            let kept = self.lock().get(&view.row.id).and_then(|r| r.usual.clone()).filter(|(from, _)| *from == followed_from);
            if let Some((_, sight)) = kept {
                usual.push((at, sight));
                continue;
            }
            let outage = outages.entry(group).or_insert_with(|| outage(views, members));
            let held_elsewhere = others.iter().filter(|other| **other != at).flat_map(|other| views[*other].standing.held.iter());
            let never = held_elsewhere.chain(view.evidence.quarantined.iter()).chain(outage.iter()).cloned().collect();
            let found = quiet(view.post.calendar, key.interval, &view.standing, &view.answered(), &never);
            let sight = if found.is_empty() { view.sight.clone() } else { Arc::new(view.sight.with_quiet(found)) };
            if let Some(r) = self.lock().get_mut(&view.row.id).filter(|r| r.sight.serial == view.serial) {
                r.usual = Some((followed_from, sight.clone()));
            }
            usual.push((at, sight));
        }
        for (at, sight) in usual {
            views[at].sight = sight;
        }
    }
}

fn group_of(view: &View<'_>) -> Group {
    let key = &view.row.key;
    (view.post.venue.code.clone(), key.source.clone(), key.interval, key.side)
}

fn digest(of: &impl Hash) -> u64 {
    let mut hasher = DefaultHasher::new();
    of.hash(&mut hasher);
    hasher.finish()
}

/// The slots that none of the lively series of a group has, though all were asked for; of fewer than three it would say nothing.
fn outage(views: &[View<'_>], members: &[usize]) -> Spans {
    let mut missing = members.iter().map(|at| &views[*at]).filter(|v| v.is_lively()).map(|v| v.standing.missing());
    let (Some(first), Some(second), Some(third)) = (missing.next(), missing.next(), missing.next()) else { return Spans::new() };
    missing.fold(intersection(&intersection(&first, &second), &third), |all, more| intersection(&all, &more))
}
