//! Gaps asked for again: by their ids, with a run for each collector they belong to; a run taken up again; an audit.

use crate::{Collect, Order};
use mizuno_config::GOLDEN;
use mizuno_desk::{DeskError, Setup, events::RunNow, moments};
use mizuno_store::runs::Reason;
use std::{collections::BTreeMap, sync::Arc};

impl Collect {
    /// Fetches some gaps again. A gap of a golden series stands for the gaps that each of its sources has there.
    ///
    /// # Errors
    /// When an id cannot be read or nobody collects its series, none is named, or a repair is under way.
    pub async fn repair(self: &Arc<Self>, gaps: Vec<String>) -> Result<Vec<RunNow>, DeskError> {
        let setup = self.desk.setup();
        let mut orders: BTreeMap<String, Order> = BTreeMap::new();
        for id in self.with_sources(&setup, gaps).await? {
            let (key, _) = moments::parse_gap_id(&id)?;
            setup.instrument(&key.symbol)?;
            let post = setup
                .post_of(&key)
                .ok_or_else(|| DeskError::Invalid(format!("no collector keeps {key}, so there is nobody to ask for `{id}`")))?;
            orders.entry(post.collector.name.clone()).or_default().gaps.push(id);
        }
        if orders.is_empty() {
            return Err(DeskError::Invalid("name at least one gap".to_owned()));
        }
        let mut runs = vec![];
        for (collector, order) in orders {
            runs.push(self.start_run(&collector, Reason::Repair, order).await?);
        }
        Ok(runs)
    }

    /// The ids of gaps, with those of golden series replaced by the gaps that each of its sources has there.
    async fn with_sources(&self, setup: &Setup, ids: Vec<String>) -> Result<Vec<String>, DeskError> {
        let mut out = vec![];
        for id in ids {
            let (key, slot) = moments::parse_gap_id(&id)?;
            if key.source != GOLDEN {
                out.push(id);
                continue;
            }
            let rows = self.desk.store.sources_of(&key.symbol, key.interval, key.side).await?;
            for view in self.desk.views(setup, rows).await? {
                let here = view.gaps().iter().filter(|g| g.cause.can_refetch() && g.span.contains(&slot));
                out.extend(here.map(|g| moments::gap_id(&view.row.key, g.span.start)));
            }
        }
        Ok(out)
    }

    /// Takes a run up again that was cancelled or left windows unanswered: what is still missing of it, or only what failed.
    ///
    /// # Errors
    /// When there is no such run, or its collector is at work.
    pub async fn resume(self: &Arc<Self>, run: i64, failed_only: bool) -> Result<RunNow, DeskError> {
        let row = self.desk.store.run(run).await?;
        let mut order = Order::of(&row);
        if failed_only {
            order.failed_of = Some(row.id);
        }
        self.start_run(&row.collector, Reason::Request, order).await
    }

    /// Asks a source again for `windows` windows of what a collector holds, taken at random.
    ///
    /// # Errors
    /// When it is none, or the collector is not known or audited at this moment.
    pub async fn audit(self: &Arc<Self>, collector: &str, windows: u32) -> Result<RunNow, DeskError> {
        if windows == 0 {
            return Err(DeskError::Invalid("windows: 0 would ask for nothing; say how many windows to ask for again".to_owned()));
        }
        self.start_run(collector, Reason::Request, Order { audit: Some(windows), ..Order::default() }).await
    }
}
