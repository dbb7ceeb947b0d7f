//! What the checks find in all series together. Of a few that have changed it is worked out while somebody waits, of many
//! in the background: a morning's look must not wait until thousands have been read.

use crate::{Research, findings::Judged};
use mizuno_core::finding::{Finding, Severity};
use mizuno_desk::{DeskError, Setup, View};
use mizuno_store::series::SeriesRow;
use std::sync::Arc;

/// So many series are examined while somebody waits.
const AT_ONCE: usize = 200;

/// Doubts and notices that nobody accepted, in how many series, and which series cannot be read, and why.
#[derive(Default)]
pub struct Suspicions {
    pub doubts: u64,
    pub notices: u64,
    pub series: u64,
    pub damaged: Vec<String>,
    /// Series that are being examined, and are told of as they were before.
    pub unchecked: u64,
    /// What lists of splits say against each other.
    pub conflicts: Vec<String>,
}

impl Suspicions {
    fn take(&mut self, found: &[Finding]) {
        let doubted = found.iter().filter(|f| f.check.severity() == Severity::Doubt).count() as u64;
        self.doubts += doubted;
        self.notices += found.len() as u64 - doubted;
        self.series += u64::from(!found.is_empty());
    }
}

fn not_accepted(judged: Vec<Judged>) -> Vec<Finding> {
    judged.into_iter().filter(|j| !j.accepted).map(|j| j.finding).collect()
}

impl Research {
    /// What the checks find in these series. Series under collection are told of as they were before.
    pub async fn suspicions(
        self: &Arc<Self>,
        setup: &Arc<Setup>,
        views: &[View<'_>],
        busy: &dyn Fn(&str) -> bool,
    ) -> Result<Suspicions, DeskError> {
        let known = self.known(setup, self.desk.store.newest()).await?;
        let mut out = Suspicions { conflicts: known.actions.conflicts.clone(), ..Suspicions::default() };
        let mut stale = vec![];
        for view in views {
            if busy(&view.post.collector.name) {
                out.take(&self.last_found(view.row.id));
                continue;
            }
            match self.findings_at_hand(setup, &view.row, &known)? {
                Some(judged) => out.take(&not_accepted(judged)),
                None => stale.push(&view.row),
            }
        }
        if stale.len() > AT_ONCE {
            out.unchecked = stale.len() as u64;
            stale.iter().for_each(|row| out.take(&self.last_found(row.id)));
            self.examine_later(setup.clone(), stale.into_iter().cloned().collect());
            return Ok(out);
        }
        for row in stale {
            match self.findings(setup, row, &known).await {
                Err(DeskError::Store(error)) if error.is_of_the_series() => out.damaged.push(format!("{}: {error}", row.key)),
                judged => out.take(&not_accepted(judged?)),
            }
        }
        Ok(out)
    }

    /// Examines some series, one after another, unless that is under way.
    fn examine_later(self: &Arc<Self>, setup: Arc<Setup>, rows: Vec<SeriesRow>) {
        let research = self.clone();
        self.desk.home.spawn(async move {
            let Ok(_alone) = research.examining.try_lock() else { return };
            let Ok(known) = research.known(&setup, research.desk.store.newest()).await else { return };
            for row in rows {
                // What cannot be read is told by whoever looks when few are left.
                let _ = research.findings(&setup, &row, &known).await;
            }
        });
    }
}
