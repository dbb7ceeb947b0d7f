//! When collectors run by themselves: functions of their schedules and their venues' calendars.

use crate::setup::Post;
use mizuno_config::Schedule;
use mizuno_core::{Timestamp, time::SECOND};

/// The next `most` moments after `after`.
pub fn upcoming(post: &Post<'_>, after: Timestamp, most: usize) -> Vec<Timestamp> {
    std::iter::successors(next_due(post, after), |at| next_due(post, *at)).take(most).collect()
}

/// The first moment after `after` at which a collector runs by itself.
pub fn next_due(post: &Post<'_>, after: Timestamp) -> Option<Timestamp> {
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
pub fn last_due(post: &Post<'_>, now: Timestamp) -> Option<Timestamp> {
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

/// Whether it should have run by now and has not, with an hour's grace; `last` is when its newest run began.
pub fn is_late(post: &Post<'_>, now: Timestamp, last: Option<Timestamp>) -> bool {
    let Some(due) = last_due(post, now.plus(-3600 * SECOND)) else { return false };
    last.is_none_or(|started| started < due)
}

/// A schedule as a person reads it back.
pub fn in_words(post: &Post<'_>) -> String {
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
pub fn length(micros: i64) -> String {
    let seconds = micros / SECOND;
    let parts = [(seconds / 3600, "h"), (seconds / 60 % 60, "m"), (seconds % 60, "s")];
    let shown: Vec<String> = parts.iter().filter(|(n, _)| *n > 0).map(|(n, unit)| format!("{n}{unit}")).collect();
    if shown.is_empty() { "0s".to_owned() } else { shown.join(" ") }
}
