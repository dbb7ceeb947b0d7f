//! What a person should know of the bars that are held: what is damaged, doubtful, or being examined.

use crate::{Research, checking::Suspicions};
use mizuno_desk::{Concern, DeskError, Setup, View};
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
        Ok(vec![
            Concern::Damaged(damaged),
            Concern::ListsDisagree(conflicts),
            Concern::Suspicious { doubts, notices, series },
            Concern::Checking(unchecked),
        ])
    }
}
