//! When lists are collected: once a day, before the first run that needs them, and one of each source at a time.

use crate::Collect;
use mizuno_config::profile::{List, ListKind, Profile};
use mizuno_core::{Timestamp, TradeDate, Venue, calendar::on_the_wall, time::MINUTE};
use mizuno_desk::Setup;
use mizuno_store::lists::ListFetchRow;
use std::{
    collections::HashMap,
    sync::{Arc, Mutex, PoisonError},
};
use tokio::sync::watch;

/// Whose turn it is. A source that does not answer keeps only its own lists waiting.
#[derive(Default)]
pub(crate) struct Listing {
    /// By source: held while one of its lists is asked for and taken in.
    turns: Mutex<HashMap<String, Arc<tokio::sync::Mutex<()>>>>,
    /// Held while what a list said is taken in, whichever source said it.
    pub taking_in: tokio::sync::Mutex<()>,
}

impl Listing {
    /// The turn of a source, to be waited for.
    pub fn turn_of(&self, source: &str) -> Arc<tokio::sync::Mutex<()>> {
        self.turns.lock().unwrap_or_else(PoisonError::into_inner).entry(source.to_owned()).or_default().clone()
    }
}

impl Collect {
    /// Collects the instrument lists of a collector's source that never were: without them nobody knows what it calls ours. One that is
    /// being collected is waited for, until what it says is at work. `waits` is told the source before each wait.
    pub(crate) async fn list_first(&self, collector: &str, waits: impl Fn(&str)) {
        loop {
            let setup = self.desk.setup();
            let Ok(post) = setup.post(collector) else { return };
            let profile = &post.source.profile;
            self.list_first_of(profile, &waits).await;
            if self.is_at_work(profile) {
                return;
            }
        }
    }

    async fn list_first_of(&self, profile: &Profile, waits: impl Fn(&str)) {
        let name = &profile.name;
        let turn = self.listing.turn_of(name);
        if turn.try_lock().is_err() {
            waits(name);
            drop(turn.lock().await);
        }
        let done = self.desk.store.list_fetches().await.unwrap_or_default();
        for list in profile.lists.iter().filter(|l| l.of == ListKind::Instruments) {
            if done.iter().any(|f| f.source == *name && f.list == list.name && f.failure.is_none()) {
                continue;
            }
            waits(name);
            if let Err(error) = self.collect_list(name, &list.name).await {
                tracing::warn!(source = name, list = list.name, %error, "the list was not collected before the run");
            }
        }
    }

    pub(crate) fn is_at_work(&self, profile: &Arc<Profile>) -> bool {
        has(&self.desk.setup(), profile)
    }

    /// Waits until a profile is no longer at work: its source has another, or is gone.
    pub(crate) async fn replaced(&self, profile: &Arc<Profile>) {
        let mut changes = self.desk.changes();
        while self.is_at_work(profile) && changes.changed().await.is_ok() {}
    }
}

/// Whether a profile is at work in a setup, and not another of its source.
fn has(setup: &Setup, profile: &Arc<Profile>) -> bool {
    setup.sources.get(&profile.name).is_some_and(|source| Arc::ptr_eq(&source.profile, profile))
}

/// A list that could not be collected is asked for again after so long, in microseconds.
const AGAIN_AFTER: i64 = 15 * MINUTE;

/// When a list is collected next after its newest collection: on the next day, or soon where that failed. `None` where there was none.
pub(crate) fn next_due(list: &List, venue: &Venue, newest: Option<&ListFetchRow>) -> Option<Timestamp> {
    let ListFetchRow { asked_at, failure, .. } = newest?;
    let today = asked_at.date_in(&venue.zone);
    let at = |day: TradeDate| on_the_wall(&venue.zone, day, list.daily_at);
    let daily = if at(today) > *asked_at { at(today) } else { at(today.plus(1)) };
    Some(if failure.is_some() { daily.min(asked_at.plus(AGAIN_AFTER)) } else { daily })
}

/// Collects every list once a day, until the setup has `changed`. Of a source whose profile is another than in the setup before, what could
/// not be collected is asked for at once.
pub(crate) fn start(collect: &Arc<Collect>, setup: &Setup, before: Option<&Setup>, changed: &watch::Receiver<u64>) {
    for (name, source) in &setup.sources {
        let corrected = before.is_some_and(|before| !has(before, &source.profile));
        for list in &source.profile.lists {
            let Some(venue) = setup.config.venues.get(&list.venue) else { continue };
            let kept = Kept { collect: collect.clone(), source: name.clone(), list: list.clone(), venue: venue.clone() };
            tokio::spawn(kept.keep(corrected, changed.clone()));
        }
    }
}

/// A list that is kept up to date.
struct Kept {
    collect: Arc<Collect>,
    source: String,
    list: List,
    venue: Venue,
}

impl Kept {
    async fn keep(self, mut corrected: bool, mut changed: watch::Receiver<u64>) {
        let mut due = self.due(corrected).await;
        loop {
            tokio::select! {
                () = self.collect.desk.clock.sleep_until(due) => {}
                _ = changed.changed() => return,
            }
            let turn = self.collect.listing.turn_of(&self.source);
            let _one_of_its_source = turn.lock().await;
            // While it waited for its turn another setup may have begun to keep it, or somebody has collected it.
            if changed.has_changed().unwrap_or(true) {
                return;
            }
            if self.due(corrected).await <= self.collect.desk.clock.now()
                && let Err(error) = self.collect.collect_in_turn(&self.source, &self.list.name).await
            {
                tracing::warn!(source = self.source, list = self.list.name, %error, "the list was not collected");
            }
            corrected = false;
            // Where nothing was kept, it is due still.
            due = self.due(corrected).await.max(self.collect.desk.clock.now().plus(MINUTE));
        }
    }

    /// When it is to be collected. What was missed while nobody ran is caught up once.
    async fn due(&self, corrected: bool) -> Timestamp {
        let newest = self.collect.desk.store.list_fetches().await.unwrap_or_default();
        let newest = newest.iter().find(|f| f.source == self.source && f.list == self.list.name);
        let again = |f: &&ListFetchRow| !(corrected && f.failure.is_some());
        next_due(&self.list, &self.venue, newest.filter(again)).unwrap_or_else(|| self.collect.desk.clock.now())
    }
}
