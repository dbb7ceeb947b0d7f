//! What a source says otherwise than before: held for a person, or followed as a changed basis.

use crate::{Collect, Order};
use futures_util::future::BoxFuture;
use mizuno_config::profile::Adjusted;
use mizuno_core::{
    Bars, Slot,
    restate::{self, Policy},
};
use mizuno_desk::{DeskError, Event, Post, Setup, kept::to_understand};
use mizuno_sources::Class;
use mizuno_store::{
    fetch::Failed,
    fetch::FetchRow,
    fetches::Filter,
    quarantine::Decision,
    runs::{Reason, State},
    series::SeriesRow,
};
use std::{
    collections::{HashMap, HashSet},
    sync::Arc,
};

/// The flaw of a bar that changes more than its source's policy takes.
pub const HELD_BACK: &str = "held-back";

impl Collect {
    /// Takes the bars out of `sound` that wait for a person, and returns their slots.
    /// Notes when all that changed did so by one factor, as when a source adjusts for a split.
    pub async fn hold_back(&self, post: &Post<'_>, series: &SeriesRow, run: i64, sound: &mut Bars) -> Result<Vec<Slot>, DeskError> {
        let policy = post.source.profile.restated.policy();
        let adjusts = post.offer.adjusted != Adjusted::No;
        let (Some(first), Some(last)) = (sound.rows.first(), sound.rows.last()) else { return Ok(vec![]) };
        if !adjusts && policy == Policy::Take {
            return Ok(vec![]);
        }
        let known =
            self.desk.store.bars(series, first.slot..series.key.interval.span_of(last.slot).end, mizuno_core::Timestamp::MAX).await?;
        let judged = restate::judge(&known, sound, adjusts, policy);
        if let Some(factor) = judged.basis {
            tracing::info!(series = %series.key, factor, "the source changed its basis; its past is collected again");
            // What this run brought before is on the new basis too.
            let began_at = self.desk.store.run(run).await?.started_at;
            self.desk.store.begin_rebasing(series.id, format!("{factor:.6}"), began_at).await?;
        }
        let held: Vec<Slot> = judged.held.into_iter().map(|(slot, _)| slot).collect();
        let out: HashSet<Slot> = held.iter().copied().collect();
        sound.rows.retain(|b| !out.contains(&b.slot));
        Ok(held)
    }

    /// After a run: collects again the past of series whose basis changed in it, and lets readers see that when it is all here.
    pub fn follow_basis<'a>(
        self: &'a Arc<Self>,
        setup: &'a Setup,
        collector: &'a str,
        order: &'a Order,
        state: State,
        run: i64,
    ) -> BoxFuture<'a, Result<(), DeskError>> {
        // Boxed, since it starts a run from within the end of one.
        Box::pin(async move { self.follow(setup, collector, order, state, run).await })
    }

    async fn follow(self: &Arc<Self>, setup: &Setup, collector: &str, order: &Order, state: State, run: i64) -> Result<(), DeskError> {
        let open = self.rebasing().await?;
        if open.is_empty() {
            return Ok(());
        }
        let post = setup.post(collector)?;
        let rows: HashMap<i64, SeriesRow> = self.desk.series_of(setup, &post).await?.into_iter().map(|r| (r.id, r)).collect();
        let mine: Vec<&SeriesRow> = open.iter().filter_map(|id| rows.get(id)).collect();
        if order.rebase {
            for row in mine.into_iter().filter(|r| order.symbols.contains(&r.key.symbol)) {
                self.conclude_rebasing(row, run, state).await?;
            }
            return Ok(());
        }
        let symbols: Vec<String> = mine.iter().map(|r| r.key.symbol.clone()).collect();
        if !symbols.is_empty() && state != State::Cancelled {
            let order = Order { symbols, again: true, rebase: true, ..Order::default() };
            match self.start_run(collector, Reason::Recovery, order).await {
                Ok(_) | Err(DeskError::Busy { .. } | DeskError::Stopping) => {}
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }

    /// The series whose past is being collected again.
    async fn rebasing(&self) -> Result<Vec<i64>, DeskError> {
        Ok(self.desk.store.rebasings(None).await?.into_iter().filter(|r| r.ended_at.is_none()).map(|r| r.series).collect())
    }

    /// What became of the new basis of one series in a run: each series is judged by its own windows.
    async fn conclude_rebasing(&self, row: &SeriesRow, run: i64, state: State) -> Result<(), DeskError> {
        let filter = Filter { run: Some(run), series: Some(row.id), ..Filter::default() };
        let mut last: HashMap<(Slot, Slot), FetchRow> = HashMap::new();
        // Newest first: the first of each window is how it ended.
        for fetch in self.desk.store.fetches(filter, i64::MAX).await? {
            last.entry((fetch.window.start, fetch.window.end)).or_insert(fetch);
        }
        let failed: Vec<&Failed> = last.values().filter_map(|f| f.failure.as_ref()).collect();
        let passing = failed.iter().find(|f| Class::of_word(&f.class).is_some_and(Class::may_pass));
        let said =
            |f: &Failed| format!("{} of {} windows cannot be asked for again ({}: {})", failed.len(), last.len(), f.class, f.message);
        match (passing, failed.first()) {
            (None, None) if state == State::Complete || state == State::Incomplete => {
                self.desk.store.end_rebasing(row.id, None).await?;
            }
            (None, Some(failure)) => {
                tracing::warn!(series = %row.key, "what cannot be asked for again keeps its old basis");
                self.desk.store.end_rebasing(row.id, Some(said(failure))).await?;
            }
            (Some(failure), _) => self.desk.store.explain_rebasing(row.id, said(failure)).await?,
            (None, None) => {
                self.desk.store.explain_rebasing(row.id, "its collection was stopped; the next run goes on with it".to_owned()).await?
            }
        }
        Ok(())
    }

    /// Ends the rebasing of every series that no collector keeps any more: nobody would ask for the rest.
    pub async fn end_abandoned_rebasings(&self) -> Result<(), DeskError> {
        let open = self.rebasing().await?;
        if open.is_empty() {
            return Ok(());
        }
        let setup = self.desk.setup();
        for row in self.desk.store.series().await?.iter().filter(|r| open.contains(&r.id) && setup.post_of(&r.key).is_none()) {
            self.desk.store.end_rebasing(row.id, Some("no collector keeps this series any more".to_owned())).await?;
        }
        Ok(())
    }

    /// Ends the rebasing of a series as it is, because a person wants readers to see what there is.
    pub async fn settle(&self, name: &str, by: &str) -> Result<(), DeskError> {
        let by = named(by)?;
        let row = self.desk.series_named(&self.desk.setup(), name).await?;
        match self.desk.store.end_rebasing(row.id, Some(format!("ended as it is by {by}"))).await? {
            true => Ok(()),
            false => Err(DeskError::Over(format!("{name} is not being collected again on another basis"))),
        }
    }

    /// Takes a bar that was held back, or leaves the one held before; either way with a name.
    pub async fn decide(&self, id: i64, taken: bool, by: &str) -> Result<(), DeskError> {
        let unknown = || DeskError::Unknown {
            kind: "bar that is held back",
            id: id.to_string(),
            hint: "look which bars are held back".to_owned(),
            see: "quarantine",
        };
        let by = named(by)?;
        let row = self.desk.store.quarantined(id).await.ok().filter(|q| q.suspect.flaw == HELD_BACK).ok_or_else(unknown)?;
        if let Some(earlier) = &row.decision {
            return Err(DeskError::Over(format!("{} decided on {id} already, at {}", earlier.by, earlier.at)));
        }
        let decision = Decision { taken, by: by.to_owned(), at: self.desk.clock.now() };
        let bars = if taken { Some(self.bar_of(&row).await?) } else { None };
        self.desk.store.decide(id, decision, bars).await?;
        self.desk.events.tell(Event::Excuses);
        Ok(())
    }

    /// The bar of a row in quarantine, understood again from the kept bytes.
    async fn bar_of(&self, row: &mizuno_store::quarantine::QuarantineRow) -> Result<(SeriesRow, Bars), DeskError> {
        let setup = self.desk.setup();
        let gone = |what: &str| DeskError::Invalid(format!("{what}, so the bar cannot be read again from its payload"));
        let all = self.desk.store.series().await?;
        let series = all.get(row.series).ok_or_else(|| gone("its series is gone"))?;
        let post = setup.post_of(&series.key).ok_or_else(|| gone("no collector keeps its series any more"))?;
        let fetch = self.desk.store.fetch(row.fetch).await?;
        let answered = self.desk.store.answered_pages(&fetch).await?;
        let profile = &post.source.profile;
        let symbol = profile.symbols.of(&post.symbol_for(&setup, &series.key.symbol, &fetch.window));
        let decoded =
            mizuno_sources::decode::decode(post.offer, post.venue, &symbol, profile.limits.largest_answer(), &to_understand(&answered))
                .map_err(|f| gone(&f.message))?;
        let mut bars = decoded.bars;
        bars.rows.retain(|b| Some(b.slot) == row.suspect.slot);
        bars.rows.truncate(1);
        if bars.rows.is_empty() { Err(gone("the profile reads its answer otherwise now")) } else { Ok((series.clone(), bars)) }
    }
}

/// The name of who decides.
///
/// # Errors
/// When it is empty: no decision is without a name.
pub(crate) fn named(by: &str) -> Result<&str, DeskError> {
    match by.trim() {
        "" => Err(DeskError::Invalid("a decision needs a name (`by`)".to_owned())),
        by => Ok(by),
    }
}
