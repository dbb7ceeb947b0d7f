//! When collectors run by themselves.

use crate::{Collect, Order};
use mizuno_config::Schedule;
use mizuno_core::{Timestamp, time::SECOND};
use mizuno_desk::{
    DeskError,
    timetable::{last_due, next_due},
};
use mizuno_store::runs::Reason;
use std::sync::Arc;

/// Calendars reach 400 days ahead, and are worked out anew long before they end, in microseconds.
const RENEWED_EVERY: i64 = 60 * 86_400 * SECOND;

/// Keeps every collector and list of the setup at work to its schedule, and of the next setup when another is put to work.
pub fn keep_all(collect: &Arc<Collect>) {
    let collect = collect.clone();
    tokio::spawn(async move {
        let mut changes = collect.desk.changes();
        let mut before = None;
        loop {
            let setup = collect.desk.setup();
            crate::listing::start(&collect, &setup, before.as_deref(), &changes);
            for (name, collector) in &setup.config.collectors {
                match &collector.schedule {
                    None => {}
                    Some(Schedule::Dropped(quiet)) => drop(tokio::spawn(watch(collect.clone(), name.clone(), *quiet))),
                    Some(_) => drop(tokio::spawn(keep(collect.clone(), name.clone()))),
                }
                if let Some(audit) = &collector.audit {
                    drop(tokio::spawn(keep_audit(collect.clone(), name.clone(), audit.clone())));
                }
            }
            before = Some(setup);
            let renewal = collect.desk.clock.now().plus(RENEWED_EVERY);
            tokio::select! {
                changed = changes.changed() => if changed.is_err() { return },
                () = collect.desk.clock.sleep_until(renewal) => {
                    if let Err(error) = collect.renew().await {
                        tracing::error!(%error, "the calendars cannot be renewed");
                    }
                    changes.borrow_and_update();
                }
            }
        }
    });
}

/// Runs one collector whenever it is due. What was missed while nobody ran is caught up once.
async fn keep(collect: Arc<Collect>, name: String) {
    let mut changes = collect.desk.changes();
    let setup = collect.desk.setup();
    let last = collect.newest_run(&name).await.ok().flatten();
    let mut since = last.map_or(Timestamp::MIN, |run| run.started_at);
    loop {
        let Ok(post) = setup.post(&name) else { return };
        let now = collect.desk.clock.now();
        let missed = last_due(&post, now).is_some_and(|due| due > since);
        if !missed {
            let Some(due) = next_due(&post, now) else { return };
            tokio::select! {
                () = collect.desk.clock.sleep_until(due) => {}
                _ = changes.changed() => return,
            }
        }
        if collect.live.is_running(&name) {
            // A run never overlaps itself; what came due under it is caught up once it has ended.
            tokio::select! {
                () = collect.live.ended(&name) => {}
                _ = changes.changed() => return,
            }
            continue;
        }
        since = collect.desk.clock.now();
        match collect.start_run(&name, Reason::Schedule, Order::default()).await {
            Ok(_) => {}
            Err(DeskError::Stopping) => return,
            Err(error) => tracing::warn!(collector = name, %error, "the scheduled run did not start"),
        }
    }
}

/// Audits what one collector holds whenever that is due; one that was missed waits for the next.
async fn keep_audit(collect: Arc<Collect>, name: String, audit: mizuno_config::collector::Audit) {
    let mut changes = collect.desk.changes();
    let setup = collect.desk.setup();
    loop {
        let Ok(post) = setup.post(&name) else { return };
        let now = jiff::Zoned::new(collect.desk.clock.now().to_jiff(), post.venue.zone.clone());
        let Ok(due) = audit.cron.find_next_occurrence(&now, false) else { return };
        tokio::select! {
            () = collect.desk.clock.sleep_until(due.timestamp().into()) => {}
            _ = changes.changed() => return,
        }
        let order = Order { audit: Some(audit.windows), ..Order::default() };
        match collect.start_run(&name, Reason::Schedule, order).await {
            Ok(_) => {}
            Err(DeskError::Stopping) => return,
            Err(error) => tracing::warn!(collector = name, %error, "the audit did not start"),
        }
    }
}

/// Runs one collector whenever the files of its source's folder have changed and then lain still for `quiet`.
async fn watch(collect: Arc<Collect>, name: String, quiet: i64) {
    let mut changes = collect.desk.changes();
    let setup = collect.desk.setup();
    let Some(folder) = setup.post(&name).ok().and_then(|p| p.source.folder().cloned()) else { return };
    let pause = std::time::Duration::from_micros(quiet.max(200_000).unsigned_abs());
    let (mut taken, mut seen) = (vec![], vec![]);
    loop {
        let now = files(&folder);
        if now == seen && now != taken && !collect.live.is_running(&name) {
            match collect.start_run(&name, Reason::Schedule, Order::default()).await {
                Ok(_) => taken = now.clone(),
                Err(DeskError::Stopping) => return,
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
