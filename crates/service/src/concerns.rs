//! What a person should know of this morning, worst first.
//!
//! A concern is worked out here and put into words at the edge. To add one: a variant, where it is found, and its words in
//! `http/concerns.rs`.

use crate::{
    basis::HELD_BACK, checking::Suspicions, desk::Desk, error::ServiceError, lateness::Late, schedule::Punctuality, setup::Setup,
    views::View,
};
use mizuno_core::{Timestamp, gap::Cause, time::DAY};
use mizuno_sources::Standing;
use std::{
    collections::{BTreeMap, HashMap},
    sync::Arc,
};

/// Something that a person should know of.
pub(crate) enum Concern {
    /// Nothing can be written, and why.
    NotWriting(String),
    /// Series that cannot be read, each with the reason.
    Damaged(Vec<String>),
    /// Collectors that should have run and did not.
    Late(Vec<String>),
    /// Collectors with a schedule and no next time.
    NoNextTime(Vec<String>),
    /// Fetches that failed in the last day.
    FetchesFailed(u64),
    /// Sources that kept failing and are left alone for a while.
    Paused(Vec<String>),
    /// A source that answers "too many calls" although its declared limit is kept.
    Slowed { source: String, refused_at: u32, declared: u32 },
    /// A source that publishes later than its profile says.
    PublishesLate(Late),
    /// Series that are still read as before their source changed its basis; the first of them.
    OnTheOldBasis { series: String, since: Timestamp, reason: String, count: u64 },
    /// Series that could be collected again on their new basis only in part; the first of them.
    OnTwoBases { series: String, reason: String, count: u64 },
    /// A list that would end so many of its entries that a person has to say whether that is so.
    ListHeldBack { list: String, rows: u64, would_end: u64 },
    /// Lists in which a key stands more than once, and how often.
    KeysTwice(Vec<(String, u64)>),
    /// What lists say against each other; the first of it.
    ListsDisagree { first: String, count: u64 },
    /// Lists that could not be collected.
    ListsFailed(Vec<String>),
    /// Bars that are missing for a cause.
    Missing { cause: Cause, sum: MissingSum },
    /// Bars that came and cannot be true.
    Quarantined(u64),
    /// What the checks found and nobody accepted.
    Suspicious { doubts: u64, notices: u64, series: u64 },
    /// Bars that wait for a decision, since their source changed them by more than its policy takes.
    HeldBack(u64),
    /// Series that are being examined again.
    Checking(u64),
    /// Bars that sources changed in the last day, and by how many fetches.
    Restated { bars: u64, fetches: u64 },
}

/// How much is missing for one cause.
#[derive(Clone, Copy, Default)]
pub(crate) struct MissingSum {
    pub slots: u64,
    pub gaps: u64,
    pub series: u64,
}

impl Concern {
    /// Whether a person has something to do; otherwise it is only to be known.
    pub(crate) fn needs_a_person(&self) -> bool {
        !matches!(self, Concern::Checking(_) | Concern::Restated { .. })
    }

    /// How many things it is about.
    pub(crate) fn count(&self) -> u64 {
        match self {
            Concern::NotWriting(_) | Concern::Slowed { .. } | Concern::PublishesLate(_) | Concern::ListHeldBack { .. } => 1,
            Concern::Damaged(names) | Concern::Late(names) | Concern::NoNextTime(names) => names.len() as u64,
            Concern::Paused(names) | Concern::ListsFailed(names) => names.len() as u64,
            Concern::KeysTwice(lists) => lists.len() as u64,
            Concern::FetchesFailed(n) | Concern::Quarantined(n) | Concern::HeldBack(n) | Concern::Checking(n) => *n,
            Concern::OnTheOldBasis { count, .. } | Concern::OnTwoBases { count, .. } | Concern::ListsDisagree { count, .. } => *count,
            Concern::Missing { sum, .. } => sum.slots,
            Concern::Suspicious { doubts, notices, .. } => doubts + notices,
            Concern::Restated { bars, .. } => *bars,
        }
    }
}

impl Desk {
    /// Everything that a person should know of, worst first: what stops the service, what does not run, what sources and
    /// lists do, what is missing, and what is doubtful.
    pub(crate) async fn concerns(
        self: &Arc<Desk>,
        setup: &Arc<Setup>,
        views: &[View<'_>],
        punctuality: &[Punctuality],
        now: Timestamp,
    ) -> Result<Vec<Concern>, ServiceError> {
        let suspicions = self.suspicions(setup, views).await?;
        let mut out = vec![];
        out.extend(self.store.stopped_writing().map(Concern::NotWriting));
        out.push(Concern::Damaged(suspicions.damaged.clone()));
        let named = |wanted: fn(&Punctuality) -> bool| punctuality.iter().filter(|p| wanted(p)).map(|p| p.collector.clone()).collect();
        out.push(Concern::Late(named(|p| p.late)));
        out.push(Concern::NoNextTime(named(|p| p.has_no_next)));
        out.push(Concern::FetchesFailed(self.store.failed_since(now.plus(-DAY)).await?));
        out.extend(of_sources(setup));
        out.extend(self.late_publishers(views, now).await?.into_iter().map(Concern::PublishesLate));
        out.extend(self.basis_concerns(views, now).await?);
        out.extend(self.list_concerns(&suspicions).await?);
        out.extend(missing(views));
        out.extend(self.doubtful(suspicions, now).await?);
        out.retain(|concern| concern.count() > 0);
        Ok(out)
    }

    /// Series whose source changed its basis, and that have not been collected again as a whole.
    async fn basis_concerns(&self, views: &[View<'_>], now: Timestamp) -> Result<Vec<Concern>, ServiceError> {
        let names: HashMap<i64, String> = views.iter().map(|v| (v.row.id, v.row.key.to_string())).collect();
        let name = |series: i64| names.get(&series).cloned().unwrap_or_default();
        let all = self.store.rebasings(None).await?;
        let (lasting, ended): (Vec<_>, Vec<_>) = all.into_iter().partition(|r| r.ended_at.is_none());
        let mut lasting: Vec<_> = lasting.into_iter().filter_map(|r| Some((name(r.series), r.began_at, r.reason?))).collect();
        lasting.sort();
        let ended = ended.into_iter().filter(|r| r.in_part && r.ended_at.is_some_and(|at| at > now.plus(-DAY)));
        let mut in_part: Vec<_> = ended.map(|r| (name(r.series), r.reason.unwrap_or_default())).collect();
        in_part.sort();
        let count = lasting.len() as u64;
        let old = lasting.into_iter().next().map(|(series, since, reason)| Concern::OnTheOldBasis { series, since, reason, count });
        let count = in_part.len() as u64;
        let two = in_part.into_iter().next().map(|(series, reason)| Concern::OnTwoBases { series, reason, count });
        Ok(old.into_iter().chain(two).collect())
    }

    async fn list_concerns(&self, suspicions: &Suspicions) -> Result<Vec<Concern>, ServiceError> {
        let lists = self.list_statuses().await?;
        let name = |l: &mizuno_api::ListStatus| format!("{}/{}", l.source, l.list);
        let held = lists.iter().filter_map(|l| Some(Concern::ListHeldBack { list: name(l), rows: l.rows, would_end: l.would_end? }));
        let mut out: Vec<Concern> = held.collect();
        out.push(Concern::KeysTwice(lists.iter().filter(|l| l.repeated > 0).map(|l| (name(l), l.repeated)).collect()));
        let first = suspicions.conflicts.first().cloned().unwrap_or_default();
        out.push(Concern::ListsDisagree { first, count: suspicions.conflicts.len() as u64 });
        out.push(Concern::ListsFailed(lists.iter().filter(|l| l.failure.is_some()).map(name).collect()));
        Ok(out)
    }

    /// What came and is not believed, or not yet, and what is only to be known.
    async fn doubtful(&self, found: Suspicions, now: Timestamp) -> Result<Vec<Concern>, ServiceError> {
        let (bars, fetches) = self.store.restated_since(now.plus(-DAY)).await?;
        Ok(vec![
            Concern::Suspicious { doubts: found.doubts, notices: found.notices, series: found.series },
            Concern::HeldBack(self.store.undecided(HELD_BACK).await?),
            Concern::Checking(found.unchecked),
            Concern::Restated { bars, fetches },
        ])
    }
}

fn of_sources(setup: &Setup) -> Vec<Concern> {
    let paused = setup.sources.iter().filter(|(_, s)| matches!(s.gate().standing(), Standing::Paused(_)));
    let mut out = vec![Concern::Paused(paused.map(|(name, _)| name.clone()).collect())];
    out.extend(setup.sources.iter().filter_map(|(name, source)| {
        let refused_at = source.gate().slowed()?;
        Some(Concern::Slowed { source: name.clone(), refused_at, declared: source.profile.limits.calls_per_minute })
    }));
    out
}

/// What is missing, a concern for each cause.
fn missing(views: &[View<'_>]) -> Vec<Concern> {
    let mut sums: BTreeMap<Cause, MissingSum> = BTreeMap::new();
    for view in views {
        let mut mine: BTreeMap<Cause, MissingSum> = BTreeMap::new();
        for gap in view.gaps() {
            let sum = mine.entry(gap.cause).or_default();
            (sum.slots, sum.gaps) = (sum.slots + gap.slots, sum.gaps + 1);
        }
        for (cause, one) in mine {
            let sum = sums.entry(cause).or_default();
            *sum = MissingSum { slots: sum.slots + one.slots, gaps: sum.gaps + one.gaps, series: sum.series + 1 };
        }
    }
    let sum = |cause: Cause| sums.get(&cause).copied().unwrap_or_default();
    let worst_first = [Cause::FetchFailed, Cause::LeftOut, Cause::SourceHadNothing, Cause::NeverAsked, Cause::BeyondReach];
    let mut out: Vec<Concern> = worst_first.into_iter().map(|cause| Concern::Missing { cause, sum: sum(cause) }).collect();
    out.push(Concern::Quarantined(sum(Cause::Quarantined).slots));
    out
}
