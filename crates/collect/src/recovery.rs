//! What a process that was killed left undone.
//!
//! Answers whose bytes are kept and whose bars are not are understood again,
//! without the network. Runs that were under way are taken up with the same
//! order: the plan then asks only for what is still missing.

use crate::{Collect, Order, run::Heard};
use mizuno_desk::{DeskError, Setup, kept::to_understand};
use mizuno_store::{fetch::Failed, fetch::FetchRow, runs::State, series::SeriesList};
use std::{collections::HashSet, sync::Arc};

pub async fn recover(collect: &Arc<Collect>) -> Result<(), DeskError> {
    let (setup, all) = (collect.desk.setup(), collect.desk.store.series().await?);
    for fetch in collect.desk.store.to_replay().await? {
        replay(collect, &setup, &all, &fetch).await?;
    }
    collect.end_abandoned_rebasings().await?;
    collect.desk.store.interrupt_runs().await?;
    let mut seen = HashSet::new();
    for run in collect.desk.store.runs(None, 1000).await? {
        let order = Order::of(&run);
        let newest = seen.insert(order.place(&run.collector));
        if newest && run.state == State::Interrupted {
            collect.take_up((run.id, &run.collector), order).await;
        }
    }
    Ok(())
}

async fn replay(collect: &Arc<Collect>, setup: &Setup, all: &SeriesList, fetch: &FetchRow) -> Result<(), DeskError> {
    let Some(series) = all.get(fetch.series) else { return Ok(()) };
    let Some(post) = setup.post_of(&series.key) else {
        let message = "no collector keeps this series any more; its payload is kept".to_owned();
        let failure = Failed { class: "not-understood".to_owned(), message };
        return Ok(collect.desk.store.mark_failed(fetch.id, failure).await?);
    };
    let answered = collect.desk.store.answered_pages(fetch).await?;
    let pages = to_understand(&answered);
    let (profile, symbol) = (&post.source.profile, post.symbol_for(setup, &series.key.symbol, &fetch.window));
    let most = profile.limits.largest_answer();
    match mizuno_sources::decode::decode(post.offer, post.venue, &profile.symbols.of(&symbol), most, &pages) {
        Ok(decoded) => {
            let standards = post.standards(series.key.interval, fetch.asked_at, fetch.answered_at);
            let heard = Heard { run: fetch.run, window: &fetch.window, decoded: &decoded, pages: &pages };
            let understood = match collect.understand(&post, series, &standards, heard).await {
                Err(DeskError::Store(error)) if error.is_of_the_series() => {
                    return Ok(collect.desk.store.mark_failed(fetch.id, Failed::not_stored(&error)).await?);
                }
                understood => understood?,
            };
            collect.desk.store.keep_understood(fetch.clone(), series.key.interval, understood).await?;
            tracing::info!(fetch = fetch.id, series = %series.key, "understood a kept answer again");
        }
        Err(failure) => {
            let failure = Failed { class: failure.class.word().to_owned(), message: failure.message };
            collect.desk.store.mark_failed(fetch.id, failure).await?;
        }
    }
    Ok(())
}
