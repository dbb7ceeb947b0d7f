//! When collectors run by themselves.

use crate::{desk::Desk, desk::Post, run::Order};
use mizuno_config::Schedule;
use mizuno_core::{Timestamp, time::SECOND};
use mizuno_store::runs::{Reason, State};
use std::sync::Arc;

/// Starts a task for each collector that has a schedule.
pub(crate) fn start(desk: &Arc<Desk>) {
    for (name, collector) in &desk.config.collectors {
        if collector.schedule.is_some() {
            tokio::spawn(keep(desk.clone(), name.clone()));
        }
    }
}

/// Runs one collector whenever it is due. What was missed while nobody ran is caught up once.
async fn keep(desk: Arc<Desk>, name: String) {
    let last = desk.store.runs(Some(&name), 1).await.ok().and_then(|runs| runs.into_iter().next());
    let mut since = last.map_or(Timestamp::MIN, |run| run.started_at);
    loop {
        let Ok(post) = desk.post(&name) else { return };
        let now = desk.clock.now();
        let missed = last_due(&post, now).is_some_and(|due| due > since);
        if !missed {
            let Some(due) = next_due(&post, now) else { return };
            desk.clock.sleep_until(due).await;
        }
        if desk.live.is_running(&name) {
            // A run never overlaps itself; what came due under it is caught up once it has ended.
            desk.live.ended(&name).await;
            continue;
        }
        since = desk.clock.now();
        if let Err(error) = desk.start_run(&name, Reason::Schedule, Order::default()).await {
            tracing::warn!(collector = name, %error, "the scheduled run did not start");
        }
    }
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
        Some(Schedule::Cron(cron)) => format!("{} ({}, cron)", cron.pattern, post.venue.zone_name()),
    }
}

/// A length of time as it is written in configuration files.
fn length(micros: i64) -> String {
    let seconds = micros / SECOND;
    let parts = [(seconds / 3600, "h"), (seconds / 60 % 60, "m"), (seconds % 60, "s")];
    let shown: Vec<String> = parts.iter().filter(|(n, _)| *n > 0).map(|(n, unit)| format!("{n}{unit}")).collect();
    if shown.is_empty() { "0s".to_owned() } else { shown.join(" ") }
}
