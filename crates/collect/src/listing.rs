//! When lists are collected: once a day, before the first run that needs them, and one of each source at a time.

use crate::{Collect, lists::next_due};
use mizuno_config::profile::{List, ListKind, Profile};
use std::{
    collections::HashMap,
    sync::{Arc, Mutex, PoisonError},
};

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
        self.desk.setup().sources.get(&profile.name).is_some_and(|s| Arc::ptr_eq(&s.profile, profile))
    }

    /// Waits until a profile is no longer at work: its source has another, or is gone.
    pub(crate) async fn replaced(&self, profile: &Arc<Profile>) {
        let mut changes = self.desk.changes();
        while self.is_at_work(profile) && changes.changed().await.is_ok() {}
    }
}

/// Collects every list once a day, for as long as the setup holds.
pub(crate) fn start(collect: &Arc<Collect>) {
    let setup = collect.desk.setup();
    for (name, source) in &setup.sources {
        for list in &source.profile.lists {
            tokio::spawn(keep(collect.clone(), name.clone(), list.clone()));
        }
    }
}

async fn keep(collect: Arc<Collect>, source: String, list: List) {
    let mut changes = collect.desk.changes();
    let Some(venue) = collect.desk.setup().config.venues.get(&list.venue).cloned() else { return };
    let last = collect.desk.store.list_fetches().await.unwrap_or_default();
    let mut last = last.iter().find(|f| f.source == source && f.list == list.name).map(|f| f.asked_at);
    loop {
        let now = collect.desk.clock.now();
        // What was missed while nobody ran is caught up once.
        let due = last.map_or(now, |at| next_due(&list, &venue, at));
        tokio::select! {
            () = collect.desk.clock.sleep_until(due) => {}
            _ = changes.changed() => return,
        }
        last = Some(collect.desk.clock.now());
        if let Err(error) = collect.collect_list(&source, &list.name).await {
            tracing::warn!(source, list = list.name, %error, "the list was not collected");
        }
    }
}
