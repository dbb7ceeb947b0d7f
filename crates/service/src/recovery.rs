//! What a process that was killed left undone.
//!
//! Answers whose bytes are kept and whose bars are not are understood again,
//! without the network. Runs that were under way are taken up with the same
//! order: the plan then asks only for what is still missing.

use crate::{desk::Desk, error::ServiceError, run::Order};
use mizuno_store::{
    fetches::{Failure, FetchRow},
    runs::{Reason, RunRow, State},
};
use std::{collections::HashSet, sync::Arc};

pub(crate) async fn recover(desk: &Arc<Desk>) -> Result<(), ServiceError> {
    for fetch in desk.store.to_replay().await? {
        replay(desk, &fetch).await?;
    }
    desk.store.interrupt_runs(desk.clock.now()).await?;
    let mut seen = HashSet::new();
    for run in desk.store.runs(None, 1000).await? {
        let order: Order = serde_json::from_str(&run.scope).unwrap_or_default();
        let newest = seen.insert((run.collector.clone(), order.gaps.is_empty()));
        if newest && run.state == State::Interrupted {
            take_up(desk, &run, order).await;
        }
    }
    Ok(())
}

async fn take_up(desk: &Arc<Desk>, run: &RunRow, order: Order) {
    match desk.start_run(&run.collector, Reason::Recovery, order).await {
        Ok(again) => {
            tracing::info!(interrupted = run.id, run = again.id, collector = run.collector, "taking up the run that was cut short")
        }
        Err(error) => tracing::warn!(interrupted = run.id, collector = run.collector, %error, "the run that was cut short is not taken up"),
    }
}

async fn replay(desk: &Arc<Desk>, fetch: &FetchRow) -> Result<(), ServiceError> {
    let rows = desk.store.series().await?;
    let series = rows.into_iter().find(|s| s.id == fetch.series);
    let (Some(series), Some(digest)) = (series, &fetch.payload) else { return Ok(()) };
    let Some(post) = desk.post_of(&series.key) else {
        let message = "no collector keeps this series any more; its payload is kept".to_owned();
        let failure = Failure { class: "not-understood".to_owned(), message };
        return Ok(desk.store.mark_failed(fetch.id, failure).await?);
    };
    let body = desk.store.payload(digest).await?;
    match mizuno_sources::decode::decode(post.offer, post.venue, &body, None) {
        Ok(decoded) => {
            desk.keep(&post, &series, fetch.id, fetch.asked_at, &decoded, &body).await?;
            tracing::info!(fetch = fetch.id, series = %series.key, "understood a kept answer again");
        }
        Err(failure) => {
            let failure = Failure { class: failure.class.word().to_owned(), message: failure.message };
            desk.store.mark_failed(fetch.id, failure).await?;
        }
    }
    Ok(())
}
