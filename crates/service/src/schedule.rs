//! When collectors run by themselves.

use crate::{
    desk::Desk,
    error::ServiceError,
    run::Order,
    setup::{Post, Setup},
};
use mizuno_config::Schedule;
use mizuno_core::{Timestamp, time::SECOND};
use mizuno_store::runs::{Reason, RunRow, State};
use std::sync::Arc;

/// Calendars reach 400 days ahead, and are worked out anew long before they end, in microseconds.
const RENEWED_EVERY: i64 = 60 * 86_400 * SECOND;

/// Keeps every collector and list of the setup at work to its schedule, and of the next setup when another is put to work.
pub(crate) fn keep_all(desk: &Arc<Desk>) {
    let desk = desk.clone();
    tokio::spawn(async move {
        let mut changes = desk.changes();
        loop {
            crate::lists::start(&desk);
            for (name, collector) in &desk.setup().config.collectors {
                match &collector.schedule {
                    None => {}
                    Some(Schedule::Dropped(quiet)) => drop(tokio::spawn(watch(desk.clone(), name.clone(), *quiet))),
                    Some(_) => drop(tokio::spawn(keep(desk.clone(), name.clone()))),
                }
                if let Some(audit) = &collector.audit {
                    drop(tokio::spawn(keep_audit(desk.clone(), name.clone(), audit.clone())));
                }
            }
            let renewal = desk.clock.now().plus(RENEWED_EVERY);
            tokio::select! {
                changed = changes.changed() => if changed.is_err() { return },
                () = desk.clock.sleep_until(renewal) => {
                    if let Err(error) = desk.renew().await {
                        tracing::error!(%error, "the calendars cannot be renewed");
                    }
                    changes.borrow_and_update();
                }
            }
        }
    });
}

/// Runs one collector whenever it is due. What was missed while nobody ran is caught up once.
async fn keep(desk: Arc<Desk>, name: String) {
    let mut changes = desk.changes();
    let setup = desk.setup();
    let last = desk.newest_run(&name).await.ok().flatten();
    let mut since = last.map_or(Timestamp::MIN, |run| run.started_at);
    loop {
        let Ok(post) = setup.post(&name) else { return };
        let now = desk.clock.now();
        let missed = last_due(&post, now).is_some_and(|due| due > since);
        if !missed {
            let Some(due) = next_due(&post, now) else { return };
            tokio::select! {
                () = desk.clock.sleep_until(due) => {}
                _ = changes.changed() => return,
            }
        }
        if desk.live.is_running(&name) {
            // A run never overlaps itself; what came due under it is caught up once it has ended.
            tokio::select! {
                () = desk.live.ended(&name) => {}
                _ = changes.changed() => return,
            }
            continue;
        }
        since = desk.clock.now();
        if let Err(error) = desk.start_run(&name, Reason::Schedule, Order::default()).await {
            tracing::warn!(collector = name, %error, "the scheduled run did not start");
        }
    }
}

/// Audits what one collector holds whenever that is due; one that was missed waits for the next.
async fn keep_audit(desk: Arc<Desk>, name: String, audit: mizuno_config::collector::Audit) {
    let mut changes = desk.changes();
    let setup = desk.setup();
    loop {
        let Ok(post) = setup.post(&name) else { return };
        let now = jiff::Zoned::new(desk.clock.now().to_jiff(), post.venue.zone.clone());
        let Ok(due) = audit.cron.find_next_occurrence(&now, false) else { return };
        tokio::select! {
            () = desk.clock.sleep_until(due.timestamp().into()) => {}
            _ = changes.changed() => return,
        }
        let order = Order { audit: Some(audit.windows), ..Order::default() };
        if let Err(error) = desk.start_run(&name, Reason::Schedule, order).await {
            tracing::warn!(collector = name, %error, "the audit did not start");
        }
    }
}

/// Runs one collector whenever the files of its source's folder have changed and then lain still for `quiet`.
async fn watch(desk: Arc<Desk>, name: String, quiet: i64) {
    let mut changes = desk.changes();
    let setup = desk.setup();
    let Some(folder) = setup.post(&name).ok().and_then(|p| p.source.folder().cloned()) else { return };
    let pause = std::time::Duration::from_micros(quiet.max(200_000).unsigned_abs());
    let (mut taken, mut seen) = (vec![], vec![]);
    loop {
        let now = files(&folder);
        if now == seen && now != taken && !desk.live.is_running(&name) {
            match desk.start_run(&name, Reason::Schedule, Order::default()).await {
                Ok(_) => taken = now.clone(),
                Err(error) => tracing::warn!(collector = name, %error, "the run for dropped files did not start"),
            }
        }
        seen = now;
        tokio::select! {
            () = tokio::time::sleep(pause) => {}
            _ = changes.changed() => return,
        }
    }
}

/// Names, sizes and times of the files of a folder and of the folders in it.
fn files(folder: &std::path::Path) -> Vec<(std::path::PathBuf, u64, Option<std::time::SystemTime>)> {
    let mut out = vec![];
    let mut folders = vec![folder.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(&folder).into_iter().flatten().flatten() {
            match entry.metadata() {
                Ok(found) if found.is_dir() => folders.push(entry.path()),
                Ok(found) => out.push((entry.path(), found.len(), found.modified().ok())),
                Err(_) => {}
            }
        }
    }
    out.sort();
    out
}

/// The next `most` moments after `after`.
pub(crate) fn upcoming(post: &Post<'_>, after: Timestamp, most: usize) -> Vec<Timestamp> {
    std::iter::successors(next_due(post, after), |at| next_due(post, *at)).take(most).collect()
}

/// The first moment after `after` at which a collector runs by itself.
pub(crate) fn next_due(post: &Post<'_>, after: Timestamp) -> Option<Timestamp> {
    let sessions = post.calendar.sessions();
    match post.collector.schedule.as_ref()? {
        Schedule::AfterClose(delay) => {
            let at = sessions.partition_point(|s| s.close().plus(*delay) <= after);
            sessions.get(at).map(|s| s.close().plus(*delay))
        }
        Schedule::WhileOpen(every) => {
            let last = |s: &mizuno_core::Session| s.close().plus(post.offer.delay + SECOND);
            let session = sessions.get(sessions.partition_point(|s| last(s) <= after))?;
            let open = session.open();
            let ticks = (after.0 - open.0).div_euclid(*every).max(0) + 1;
            Some(open.plus(ticks * every).min(last(session)))
        }
        Schedule::Cron(cron) => {
            let wall = after.to_jiff();
            let zoned = jiff::Zoned::new(wall, post.venue.zone.clone());
            cron.find_next_occurrence(&zoned, false).ok().map(|z| z.timestamp().into())
        }
        Schedule::Dropped(_) => None,
    }
}

/// The last moment at or before `now` at which it should have run; `None` when it never should have.
pub(crate) fn last_due(post: &Post<'_>, now: Timestamp) -> Option<Timestamp> {
    let mut from = now.plus(-SECOND);
    for days in [1, 2, 4, 8, 16, 32, 64] {
        from = from.min(now.plus(-days * 86_400 * SECOND));
        let mut due = next_due(post, from).filter(|due| *due <= now);
        while let Some(later) = due.and_then(|d| next_due(post, d)).filter(|later| *later <= now) {
            due = Some(later);
        }
        if due.is_some() {
            return due;
        }
    }
    None
}

/// Whether a collector runs when it should.
pub(crate) struct Punctuality {
    pub collector: String,
    /// Its newest scheduled or ordered run; repairs and audits do not count.
    pub last: Option<RunRow>,
    /// It should have run by itself and did not.
    pub late: bool,
    /// When it runs by itself next.
    pub next: Option<Timestamp>,
    /// It has a schedule, which names no next time.
    pub has_no_next: bool,
}

impl Desk {
    /// Whether the collectors run when they should, in their order.
    pub(crate) async fn punctuality(&self, setup: &Setup, now: Timestamp) -> Result<Vec<Punctuality>, ServiceError> {
        let mut out = vec![];
        for name in setup.config.collectors.keys() {
            let post = setup.post(name)?;
            let last = self.newest_run(name).await?;
            let next = next_due(&post, now);
            let by_the_clock = post.collector.schedule.as_ref().is_some_and(|s| !matches!(s, Schedule::Dropped(_)));
            out.push(Punctuality {
                collector: name.clone(),
                late: !self.live.is_running(name) && is_late(&post, now, last.as_ref().map(|r| (r.started_at, r.state))),
                has_no_next: by_the_clock && next.is_none(),
                next,
                last,
            });
        }
        Ok(out)
    }
}

/// Whether it should have run by now and has not, with an hour's grace.
pub(crate) fn is_late(post: &Post<'_>, now: Timestamp, last: Option<(Timestamp, State)>) -> bool {
    let Some(due) = last_due(post, now.plus(-3600 * SECOND)) else { return false };
    last.is_none_or(|(started, _)| started < due)
}

/// A schedule as a person reads it back.
pub(crate) fn in_words(post: &Post<'_>) -> String {
    let venue = &post.venue.code;
    match &post.collector.schedule {
        None => "only when asked".to_owned(),
        Some(Schedule::AfterClose(delay)) => format!("{} after each close of {venue}", length(*delay)),
        Some(Schedule::WhileOpen(every)) => format!("every {} while {venue} is open", length(*every)),
        Some(Schedule::Dropped(_)) => "when files are dropped".to_owned(),
        Some(Schedule::Cron(cron)) => format!("{} ({}, cron)", cron.pattern, post.venue.zone_name()),
    }
}

/// A length of time as it is written in configuration files.
pub(crate) fn length(micros: i64) -> String {
    let seconds = micros / SECOND;
    let parts = [(seconds / 3600, "h"), (seconds / 60 % 60, "m"), (seconds % 60, "s")];
    let shown: Vec<String> = parts.iter().filter(|(n, _)| *n > 0).map(|(n, unit)| format!("{n}{unit}")).collect();
    if shown.is_empty() { "0s".to_owned() } else { shown.join(" ") }
}
