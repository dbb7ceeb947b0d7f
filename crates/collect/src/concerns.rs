//! What a person should know of collecting: what does not run, what sources and lists do, and what is missing.

use crate::{Collect, Punctuality, basis::HELD_BACK};
use mizuno_core::{Timestamp, gap::Cause, time::DAY};
use mizuno_desk::{Concern, DeskError, Setup, View, concern::MissingSum};
use mizuno_sources::Standing;
use std::collections::{BTreeMap, HashMap};

impl Collect {
    /// Everything about collecting that a person should know of, in no order.
    pub async fn concerns(
        &self,
        setup: &Setup,
        views: &[View<'_>],
        punctuality: &[Punctuality],
        now: Timestamp,
    ) -> Result<Vec<Concern>, DeskError> {
        let store = &self.desk.store;
        let day_ago = now.plus(-DAY);
        let named = |wanted: fn(&Punctuality) -> bool| punctuality.iter().filter(|p| wanted(p)).map(|p| p.collector.clone()).collect();
        let mut out: Vec<Concern> = store.stopped_writing().map(Concern::NotWriting).into_iter().collect();
        out.push(Concern::Late(named(|p| p.late)));
        out.push(Concern::NoNextTime(named(|p| p.has_no_next)));
        out.push(Concern::FetchesFailed(store.failed_since(day_ago).await?));
        out.extend(of_sources(setup));
        out.extend(self.late_publishers(views, now).await?.into_iter().map(Concern::PublishesLate));
        out.extend(self.of_bases(views, day_ago).await?);
        out.extend(self.of_lists().await?);
        out.extend(missing(views));
        out.push(Concern::HeldBack(store.undecided(HELD_BACK).await?));
        let (bars, fetches) = store.restated_since(day_ago).await?;
        out.push(Concern::Restated { bars, fetches });
        Ok(out)
    }

    /// Series whose source changed its basis, and that have not been collected again as a whole.
    async fn of_bases(&self, views: &[View<'_>], day_ago: Timestamp) -> Result<Vec<Concern>, DeskError> {
        let names: HashMap<i64, String> = views.iter().map(|v| (v.row.id, v.row.key.to_string())).collect();
        let name = |series: i64| names.get(&series).cloned().unwrap_or_default();
        let all = self.desk.store.rebasings(None).await?;
        let (lasting, ended): (Vec<_>, Vec<_>) = all.into_iter().partition(|r| r.ended_at.is_none());
        let mut lasting: Vec<_> = lasting.into_iter().filter_map(|r| Some((name(r.series), r.began_at, r.reason?))).collect();
        lasting.sort();
        let ended = ended.into_iter().filter(|r| r.in_part && r.ended_at.is_some_and(|at| at > day_ago));
        let mut in_part: Vec<_> = ended.map(|r| (name(r.series), r.reason.unwrap_or_default())).collect();
        in_part.sort();
        let count = lasting.len() as u64;
        let old = lasting.into_iter().next().map(|(series, since, reason)| Concern::OnTheOldBasis { series, since, reason, count });
        let count = in_part.len() as u64;
        let two = in_part.into_iter().next().map(|(series, reason)| Concern::OnTwoBases { series, reason, count });
        Ok(old.into_iter().chain(two).collect())
    }

    async fn of_lists(&self) -> Result<Vec<Concern>, DeskError> {
        let lists = self.list_standings().await?;
        let last = lists.iter().filter_map(|l| Some((l.name(), l.last.as_ref()?)));
        let mut out = vec![];
        let (mut twice, mut failed) = (vec![], vec![]);
        for (list, last) in last {
            if let Some(would_end) = last.would_end {
                out.push(Concern::ListHeldBack { list: list.clone(), rows: last.rows as u64, would_end: would_end as u64 });
            }
            if last.repeated > 0 {
                twice.push((list.clone(), last.repeated as u64));
            }
            if last.failure.is_some() {
                failed.push(list);
            }
        }
        out.extend([Concern::KeysTwice(twice), Concern::ListsFailed(failed)]);
        Ok(out)
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

/// What is missing, a concern for each cause; rows in quarantine are one of their own.
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
    let concern = |(cause, sum): (Cause, MissingSum)| match cause {
        Cause::NotYetDue => None,
        Cause::Quarantined => Some(Concern::Quarantined(sum.slots)),
        cause => Some(Concern::Missing(cause, sum)),
    };
    sums.into_iter().filter_map(concern).collect()
}
