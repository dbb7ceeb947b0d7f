//! Sources that publish later than their profiles say: seen when a bar was due and absent, and came with a later answer.

use crate::Collect;
use mizuno_core::{Interval, Slot, Timestamp, gap::Outcome, time::SECOND};
use mizuno_desk::{DeskError, View, lateness::Late};
use std::collections::HashMap;

/// Series of one collector that are looked at; they are asked for together, so a few tell of all.
const SAMPLE: usize = 4;
/// Bars that must have come late before a source is told to do so regularly.
const SEVERAL: usize = 3;
/// Sessions looked back over.
const SESSIONS: usize = 3;

impl Collect {
    /// The collectors of intraday bars whose source is regularly late.
    pub async fn late_publishers(&self, views: &[View<'_>], now: Timestamp) -> Result<Vec<Late>, DeskError> {
        let mut by_collector: HashMap<&str, Vec<&View<'_>>> = HashMap::new();
        for view in views.iter().filter(|v| v.row.key.interval.is_intraday() && !v.standing.held.is_empty()) {
            let sample = by_collector.entry(&view.post.collector.name).or_default();
            if sample.len() < SAMPLE {
                sample.push(view);
            }
        }
        let mut out = vec![];
        for (collector, sample) in by_collector {
            let mut delays = vec![];
            for view in &sample {
                delays.extend(self.late_bars(view, now).await?);
            }
            delays.sort_unstable();
            let said = sample[0].post.offer.delay;
            if let Some(seen) = delays.last().filter(|_| delays.len() >= SEVERAL) {
                // In steps of ten seconds, as a person would write it.
                let seen = (seen + 10 * SECOND - 1) / (10 * SECOND) * (10 * SECOND);
                out.push(Late { collector: collector.to_owned(), source: sample[0].post.collector.source.clone(), said, seen });
            }
        }
        out.sort_by(|a, b| a.collector.cmp(&b.collector));
        self.desk.late.learn(&out);
        Ok(out)
    }

    /// How long after its end each late bar of the last sessions was first had: those that an earlier answer, sent when they were due, did not have.
    async fn late_bars(&self, view: &View<'_>, now: Timestamp) -> Result<Vec<i64>, DeskError> {
        let (calendar, interval, delay) = (view.post.calendar, view.row.key.interval, view.post.offer.delay);
        let sessions = calendar.sessions();
        let begun = calendar.begun_by(now);
        let Some(first) = sessions[begun.saturating_sub(SESSIONS)..begun].first() else { return Ok(vec![]) };
        let span = Slot::at(first.open())..Slot::at(now);
        let asked = self
            .desk
            .store
            .asked(&[(view.row.id, span.clone())], now.max(self.desk.store.newest()))
            .await?
            .remove(&view.row.id)
            .unwrap_or_default();
        // Only polls tell: what was asked for long after it was due says nothing of when it came.
        let polls: Vec<_> = asked.iter().filter(|a| a.outcome != Outcome::Failed).collect();
        let versions = self.desk.store.versions(&view.row, span, now.max(self.desk.store.newest())).await?;
        let mut out = vec![];
        for group in versions.rows.chunk_by(|a, b| a.bar.slot == b.bar.slot) {
            let (slot, came) = (group[0].bar.slot, group[0].recorded_at);
            let finish = finish(calendar, interval, slot);
            let in_vain = |a: &&&mizuno_core::gap::Asked| {
                a.window.contains(&slot) && a.sent >= finish.plus(delay) && a.at < came && a.fetch != group[0].fetch
            };
            if came.0 - finish.0 < 3600 * SECOND && polls.iter().any(|a| in_vain(&a)) {
                let brought = polls.iter().find(|a| a.fetch == group[0].fetch).map_or(came, |a| a.sent);
                out.push(brought.0 - finish.0);
            }
        }
        Ok(out)
    }
}

fn finish(calendar: &mizuno_core::Calendar, interval: Interval, slot: Slot) -> Timestamp {
    calendar.session_of(interval, slot).map_or(slot.instant().plus(interval.step()), |s| s.finish(interval, slot))
}
