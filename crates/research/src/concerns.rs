//! What a person should know of the bars that are held: what is damaged, doubtful, or being examined.

use crate::{Research, checking::Suspicions};
use mizuno_desk::{Concern, DeskError, Setup, View};
use mizuno_store::editions::State;
use std::sync::Arc;

impl Research {
    /// Everything about bars that a person should know of, in no order. `busy` says whether a collector has a run under way.
    pub async fn concerns(
        self: &Arc<Self>,
        setup: &Arc<Setup>,
        views: &[View<'_>],
        busy: &dyn Fn(&str) -> bool,
    ) -> Result<Vec<Concern>, DeskError> {
        let Suspicions { doubts, notices, series, damaged, unchecked, conflicts } = self.suspicions(setup, views, busy).await?;
        let mut concerns = vec![
            Concern::Damaged(damaged),
            Concern::ListsDisagree(conflicts),
            Concern::Suspicious { doubts, notices, series },
            Concern::Checking(unchecked),
        ];
        concerns.extend(self.of_editions(setup).await?);
        let now = self.desk.store.newest();
        // Others are made of those, and what is in doubt is told once.
        for name in
            setup.config.universes.values().filter(|u| u.any_of.is_empty() && u.all_of.is_empty() && u.rule.is_none()).map(|u| &u.name)
        {
            let universe = self.universe(setup, name, now).await?;
            let unknown = universe.unresolved.iter().map(|u| format!("{} is no instrument of ours", u.said));
            let told: Vec<String> = unknown.chain(universe.conflicts.iter().cloned()).chain(universe.unread.iter().cloned()).collect();
            if let Some(first) = told.first() {
                concerns.push(Concern::UniverseDoubted { universe: name.clone(), first: first.clone(), count: told.len() as u64 });
            }
        }
        Ok(concerns)
    }

    /// Editions that are held up, or could not be made.
    async fn of_editions(&self, setup: &Setup) -> Result<Vec<Concern>, DeskError> {
        let newest = self.desk.store.newest_editions().await?;
        let mut out = vec![];
        for spec in setup.config.editions.keys() {
            if let Some(held) = self.held_up(spec) {
                out.push(Concern::EditionHeldUp { edition: spec.clone(), due: held.due, why: held.why });
            }
            if let Some(why) = self.storage_behind(spec) {
                out.push(Concern::StorageBehind { edition: spec.clone(), why });
            }
            if let Some(row) = newest.iter().find(|row| row.spec == *spec && row.state == State::Failed) {
                out.push(Concern::EditionFailed { edition: format!("{spec}/{}", row.number), why: row.remark.clone().unwrap_or_default() });
            }
        }
        Ok(out)
    }
}
