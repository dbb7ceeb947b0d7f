//! What has been ruled of bars, series by series: stamps that were refused because the venue was closed, and findings that a person accepted.

use crate::Research;
use mizuno_core::{Slot, Span, Timestamp, check::Flaw, finding::Finding};
use mizuno_desk::DeskError;
use mizuno_store::quarantine::Slots;
use std::{collections::HashMap, sync::Arc};

/// What had been ruled by an instant.
pub(crate) struct Rulings {
    /// Stamps refused because the venue was closed, in order.
    refused: HashMap<i64, Vec<Slot>>,
    /// The checks whose findings a person accepted, and where.
    accepted: HashMap<i64, Vec<(String, Span)>>,
}

/// How many are remembered: those of now, and of an instant that is compared with it.
pub(crate) const REMEMBERED: usize = 4;

impl Rulings {
    /// Stamps of a series that were refused because the venue was closed, in order.
    pub(crate) fn refused(&self, series: i64) -> &[Slot] {
        self.refused.get(&series).map_or(&[], Vec::as_slice)
    }

    /// What a person accepted of a series: the check, and where.
    pub(crate) fn accepted(&self, series: i64) -> &[(String, Span)] {
        self.accepted.get(&series).map_or(&[], Vec::as_slice)
    }

    /// Whether a person accepted a finding.
    pub(crate) fn has_accepted(&self, series: i64, f: &Finding) -> bool {
        let takes = |(check, span): &(String, Span)| check == f.check.word() && span.start <= f.span.start && f.span.end <= span.end;
        self.accepted(series).iter().any(takes)
    }
}

impl Research {
    /// What had been ruled by an instant. That as of an instant after the last ruling is read once: a collector that brings bars by
    /// the second rules nothing.
    pub(crate) async fn rulings(&self, as_of: Timestamp) -> Result<Arc<Rulings>, DeskError> {
        let since = self.desk.store.judged_since();
        if as_of < since {
            return Ok(Arc::new(self.read_rulings(as_of).await?));
        }
        self.ruled.recall_or(since, self.read_rulings(as_of)).await
    }

    async fn read_rulings(&self, as_of: Timestamp) -> Result<Rulings, DeskError> {
        let series = self.desk.store.series().await?;
        let mut refused: HashMap<i64, Vec<Slot>> = HashMap::new();
        for (id, slots) in self.desk.store.slots_with(Flaw::ClosedMarket.word(), as_of).await? {
            let Some(interval) = series.get(id).map(|row| row.key.interval) else { continue };
            let all = refused.entry(id).or_default();
            match slots {
                Slots::One(slot) => all.push(slot),
                Slots::Several(spans) => {
                    all.extend(spans.iter().flat_map(|s| (s.start.0..s.end.0).step_by(interval.step() as usize)).map(Slot));
                }
            }
        }
        refused.values_mut().for_each(|slots| {
            slots.sort_unstable();
            slots.dedup();
        });
        Ok(Rulings { refused, accepted: self.desk.store.accepted(as_of).await? })
    }
}
