//! What is known of one series, worked out when it has changed, or when what is expected of it has.
//!
//! Nothing here is stored. A sight is kept in memory with what it followed from: the series as it last changed, the
//! setup, and what is due at the moment. Of thousands of series looked at again and again only those are
//! worked out anew in which something has happened.

use mizuno_core::{
    Completeness, Interval, Slot, Span, Spans, Timestamp, TradeDate,
    gap::{self, Evidence, Gap, Outcome},
    quiet::is_lively,
    spans::difference,
    standing::Standing,
};
use std::{
    collections::HashMap,
    sync::{
        Arc, Mutex, MutexGuard, OnceLock, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
};

/// What of a look follows from the instant and the collector alone.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Moment {
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
pub struct Sight {
    /// No other has it.
    pub(crate) serial: u64,
    interval: Interval,
    /// What is expected, held and excused.
    pub standing: Standing,
    /// What explains its gaps.
    pub evidence: Evidence,
    /// Slots without a bar in which it is only quiet; not expected, and looked at again like the others.
    pub quiet: Spans,
    /// What the source could be asked for.
    pub in_reach: Span,
    /// How much later than its profile says a bar may come before its absence counts, in microseconds.
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
    pub fn gaps(&self) -> &[Gap] {
        self.gaps.get_or_init(|| gap::gaps(self.interval, &self.standing, &self.evidence))
    }

    /// How many bars there are.
    pub fn bars(&self) -> u64 {
        *self.bars.get_or_init(|| self.interval.count(&self.standing.held))
    }

    /// Figures over the slots in `span` that should be had by now: expected, and neither too young nor beyond the source's depth.
    pub fn completeness(&self, span: &Span) -> Completeness {
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
    pub(crate) fn answered(&self) -> Spans {
        self.evidence.asked.iter().filter(|a| a.outcome != Outcome::Failed).map(|a| a.window.clone()).collect()
    }

    pub(crate) fn is_lively(&self) -> bool {
        *self.lively.get_or_init(|| is_lively(self.interval, &self.standing, &self.answered()))
    }

    /// The same, with some of what is expected only quiet.
    pub(crate) fn with_quiet(&self, quiet: Spans) -> Sight {
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

    /// The sight with what is only quiet, where it was worked out from the same before.
    pub(crate) fn recall_usual(&self, series: i64, followed_from: u64) -> Option<Arc<Sight>> {
        self.lock().get(&series).and_then(|r| r.usual.clone()).filter(|(from, _)| *from == followed_from).map(|(_, usual)| usual)
    }

    /// Keeps the sight with what is only quiet beside `sight`, as long as that is the newest.
    pub(crate) fn remember_usual(&self, series: i64, sight: &Sight, followed_from: u64, usual: Arc<Sight>) {
        if let Some(r) = self.lock().get_mut(&series).filter(|r| r.sight.serial == sight.serial) {
            r.usual = Some((followed_from, usual));
        }
    }
}
