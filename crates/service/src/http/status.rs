//! How everything stands.

use super::{
    problem::Refusal,
    query::{Nothing, Query},
};
use crate::{
    basis::HELD_BACK,
    checking::Suspicions,
    desk::Desk,
    schedule,
    setup::Setup,
    views::{View, sum},
};
use actix_web::{get, web::Data, web::Json};
use mizuno_api::{CollectorStatus, Concern, SourceStatus, Status, Totals, VenueStatus};
use mizuno_core::{Timestamp, gap::Cause};
use mizuno_sources::Standing;
use std::{collections::BTreeMap, sync::Arc};

/// Everything on one screen: what runs, what is late, failed, missing or in quarantine.
#[utoipa::path(responses((status = 200, body = Status)))]
#[get("/api/v1/status")]
pub(super) async fn show_status(desk: Data<Desk>, _: Query<Nothing>) -> Result<Json<Status>, Refusal> {
    let desk = desk.into_inner();
    let setup = desk.setup();
    let now = desk.clock.now();
    let views = desk.all_views(&setup).await?;
    let mut collectors = vec![];
    for name in setup.config.collectors.keys() {
        collectors.push(collector(&desk, &setup, name, &views, now).await?);
    }
    let sources: Vec<SourceStatus> = setup.sources.values().map(|s| source(s, &views)).collect();
    let concerns = concerns(&desk, &setup, &collectors, &sources, &views, now).await?;
    let totals = Totals {
        instruments: setup.config.instruments.len() as u64,
        series: views.len() as u64,
        bars: views.iter().map(|v| v.bars()).sum(),
        database_bytes: desk.store.size().await?,
    };
    Ok(Json(Status {
        desk: setup.config.service.desk.clone(),
        version: env!("CARGO_PKG_VERSION").to_owned(),
        now: now.to_string(),
        speed: desk.clock.face().speed,
        all_clear: concerns.is_empty(),
        concerns,
        venues: venues(&setup, now),
        sources,
        collectors,
        totals,
    }))
}

fn source(source: &mizuno_sources::Source, views: &[View<'_>]) -> SourceStatus {
    let gate = source.gate();
    let (state, until) = match gate.standing() {
        Standing::Ready => ("ready", None),
        Standing::LeftAlone(until) => ("left-alone", Some(until)),
        Standing::UsedUp(until) => ("used-up", Some(until)),
        Standing::Paused(until) => ("paused", Some(until)),
    };
    let (calls_today, calls_a_day) = gate.used_today().unzip();
    SourceStatus {
        name: source.profile.name.clone(),
        title: source.profile.title.clone(),
        state: state.to_owned(),
        until: until.map(|t| t.to_string()),
        key: source.profile.key.as_ref().map(|_| source.has_key()),
        calls_in_last_minute: gate.used_this_minute(),
        calls_a_minute: source.profile.limits.calls_per_minute,
        calls_today,
        calls_a_day,
        slowed_at: gate.slowed(),
        completeness: sum(views.iter().filter(|v| v.row.key.source == source.profile.name)),
    }
}

fn venues(setup: &Setup, now: Timestamp) -> Vec<VenueStatus> {
    let venue = |v: &mizuno_core::Venue| {
        let session = setup.calendars.get(&v.code).and_then(|c| c.at_or_after(now));
        VenueStatus {
            code: v.code.clone(),
            name: v.name.clone(),
            zone: v.zone_name().to_owned(),
            open: session.is_some_and(|s| s.stretches.iter().any(|r| r.contains(&now))),
            session: session.map(|s| s.date.to_string()),
            opens: session.map(|s| s.open().to_string()),
            closes: session.map(|s| s.close().to_string()),
        }
    };
    setup.config.venues.values().map(venue).collect()
}

async fn collector(desk: &Desk, setup: &Setup, name: &str, views: &[View<'_>], now: Timestamp) -> Result<CollectorStatus, Refusal> {
    let post = setup.post(name)?;
    let c = post.collector;
    let last = desk.newest_run(name).await?;
    let late = !desk.live.is_running(name) && schedule::is_late(&post, now, last.as_ref().map(|r| (r.started_at, r.state)));
    let last = match last {
        Some(run) => Some(desk.shown(&run).await?),
        None => None,
    };
    Ok(CollectorStatus {
        name: c.name.clone(),
        about: c.about.clone(),
        source: c.source.clone(),
        venue: c.venue.clone(),
        interval: c.interval.to_string(),
        instruments: setup.config.instruments_of(c).count() as u64,
        schedule: schedule::in_words(&post),
        zone: post.venue.zone_name().to_owned(),
        next: schedule::next_due(&post, now).map(|t| t.to_string()),
        has_no_next: post.collector.schedule.as_ref().is_some_and(|s| !matches!(s, mizuno_config::Schedule::Dropped(_)))
            && schedule::next_due(&post, now).is_none(),
        then: schedule::upcoming(&post, now, 3).into_iter().skip(1).map(|t| t.to_string()).collect(),
        late,
        last,
        completeness: sum(views.iter().filter(|v| v.post.collector.name == c.name)),
    })
}

/// What needs a person, worst first, and then what is only to be known.
async fn concerns(
    desk: &Arc<Desk>,
    setup: &Arc<Setup>,
    collectors: &[CollectorStatus],
    sources: &[SourceStatus],
    views: &[View<'_>],
    now: Timestamp,
) -> Result<Vec<Concern>, Refusal> {
    let mut out = vec![];
    let mut add = |kind: &str, count: u64, what: String, next: &str, command: &str| {
        if count > 0 {
            let needs_a_person = ![RESTATED, CHECKING].contains(&kind);
            out.push(Concern { kind: kind.to_owned(), needs_a_person, count, what, next: next.to_owned(), command: command.to_owned() });
        }
    };
    let Suspicions { doubts, notices, series, damaged, unchecked } = desk.suspicions(setup, views).await?;
    let stopped = desk.store.stopped_writing();
    add(
        "not-writing",
        u64::from(stopped.is_some()),
        format!("nothing can be written: {}", stopped.unwrap_or_default()),
        "make room or mend the disk; reading goes on, and writing by itself as soon as it is possible",
        "mizuno status",
    );
    add(
        "damaged",
        damaged.len() as u64,
        format!("{} cannot be read: {}", counted(damaged.len() as u64, "series", "series"), damaged[..damaged.len().min(3)].join("; ")),
        "check the disk, then put a copy of the data directory back; what sources say meanwhile is kept",
        "mizuno fetches --failed",
    );
    let late: Vec<&str> = collectors.iter().filter(|c| c.late).map(|c| c.name.as_str()).collect();
    add(
        "late",
        late.len() as u64,
        format!("{} should have run and did not", late.join(", ")),
        "collect it now",
        &format!("mizuno collect {}", late.first().unwrap_or(&"")),
    );
    let never: Vec<&str> = collectors.iter().filter(|c| c.has_no_next).map(|c| c.name.as_str()).collect();
    add(
        "late",
        never.len() as u64,
        format!("{} has a schedule and no next time", never.join(", ")),
        "look at its schedule, and at the venue's sessions",
        "mizuno schedule",
    );
    let day_ago = now.plus(-mizuno_core::time::DAY);
    let failed = desk.store.failed_since(day_ago).await?;
    add(
        "failed",
        failed,
        format!("{} failed in the last 24 hours", counted(failed, "fetch", "fetches")),
        "read why",
        "mizuno fetches --failed",
    );
    let troubled: Vec<&SourceStatus> = sources.iter().filter(|s| s.state == "paused").collect();
    let names: Vec<&str> = troubled.iter().map(|s| s.name.as_str()).collect();
    add(
        "paused",
        troubled.len() as u64,
        format!("{} kept failing; probed again by itself", names.join(", ")),
        "read why",
        "mizuno fetches --failed",
    );
    for slowed in sources.iter().filter_map(|s| Some((s, s.slowed_at?))) {
        let (source, calls) = slowed;
        add(
            "limit",
            1,
            format!("{} says too many calls at {calls} a minute; the profile says {}", source.name, source.calls_a_minute),
            "it is asked more slowly by itself; write what it means into calls_per_minute",
            &format!("mizuno fetches --failed --source {}", source.name),
        );
    }
    for late in desk.late_publishers(views, now).await? {
        add(
            "slow-source",
            1,
            format!(
                "{} publishes up to {} after a bar's end; the profile says {} ({})",
                late.source,
                schedule::length(late.seen),
                schedule::length(late.said),
                late.collector
            ),
            &format!("write delay = \"{}\" into its profile", schedule::length(late.seen).replace(' ', "")),
            "mizuno schedule",
        );
    }
    let names: std::collections::HashMap<i64, String> = views.iter().map(|v| (v.row.id, v.row.key.to_string())).collect();
    let rebasings = desk.store.rebasings(None).await?;
    let lasting: Vec<_> = rebasings.iter().filter(|r| r.ended_at.is_none() && r.reason.is_some()).collect();
    if let Some(first) = lasting.first() {
        let name = names.get(&first.series).cloned().unwrap_or_default();
        add(
            "new-basis",
            lasting.len() as u64,
            format!(
                "{} still read as before the source changed its basis: {name} since {}, {}",
                counted(lasting.len() as u64, "series is", "series are"),
                first.began_at,
                first.reason.as_deref().unwrap_or_default()
            ),
            "each run goes on with what is missing; or let readers see what there is",
            &format!("mizuno settle {name} --by NAME"),
        );
    }
    let in_part: Vec<_> = rebasings.iter().filter(|r| r.in_part && r.ended_at.is_some_and(|at| at > day_ago)).collect();
    if let Some(first) = in_part.first() {
        add(
            "new-basis",
            in_part.len() as u64,
            format!(
                "{} on two bases since the source changed its own: {}, {}",
                counted(in_part.len() as u64, "series stands", "series stand"),
                names.get(&first.series).cloned().unwrap_or_default(),
                first.reason.as_deref().unwrap_or_default()
            ),
            "what could not be collected again keeps its old prices; compare it with another source",
            "mizuno findings",
        );
    }
    let all_lists = desk.list_statuses().await?;
    for (list, gone) in all_lists.iter().filter_map(|l| Some((l, l.would_end?))) {
        let name = format!("{}/{}", list.source, list.list);
        add(
            "list-held-back",
            1,
            format!("{name} has {} now; that would end {gone} of its entries", counted(list.rows, "row", "rows")),
            "look at it; take it if that is so, or refuse it and collect it again",
            &format!("mizuno lists {name} --take --by NAME"),
        );
    }
    let twice: Vec<String> =
        all_lists.iter().filter(|l| l.repeated > 0).map(|l| format!("{}/{} ({})", l.source, l.list, l.repeated)).collect();
    add(
        "conflict",
        twice.len() as u64,
        format!("one key stands twice in {}", twice.join(", ")),
        "the last row counts; look at the list's key",
        "mizuno lists",
    );
    let conflicts = desk.splits(setup, desk.store.newest()).await?.conflicts;
    if let Some(first) = conflicts.first() {
        add(
            "conflict",
            conflicts.len() as u64,
            format!("lists contradict each other: {first}"),
            "see what is right, and mend the list that is not",
            "mizuno lists",
        );
    }
    let lists: Vec<String> = all_lists.into_iter().filter(|l| l.failure.is_some()).map(|l| format!("{}/{}", l.source, l.list)).collect();
    add("failed", lists.len() as u64, format!("{} could not be collected", lists.join(", ")), "read why", "mizuno lists");
    let mut sums: BTreeMap<Cause, (u64, u64, u64)> = BTreeMap::new();
    for view in views {
        let mut mine: BTreeMap<Cause, (u64, u64)> = BTreeMap::new();
        for gap in view.gaps() {
            let (slots, gaps) = mine.entry(gap.cause).or_default();
            (*slots, *gaps) = (*slots + gap.slots, *gaps + 1);
        }
        for (cause, (slots, gaps)) in mine {
            let sum = sums.entry(cause).or_default();
            *sum = (sum.0 + slots, sum.1 + gaps, sum.2 + 1);
        }
    }
    for cause in [Cause::FetchFailed, Cause::LeftOut, Cause::SourceHadNothing, Cause::NeverAsked, Cause::BeyondReach] {
        let (slots, gaps, series) = sums.get(&cause).copied().unwrap_or_default();
        let what = format!(
            "{} missing in {} of {series} series: {}",
            counted(slots, "bar", "bars"),
            counted(gaps, "gap", "gaps"),
            super::gaps::sentence(cause)
        );
        let next = match cause {
            Cause::NeverAsked => "collect them",
            Cause::BeyondReach => "excuse them, or collect from a later date on",
            _ => "repair or excuse them",
        };
        add("missing", slots, what, next, &format!("mizuno gaps --cause {cause}"));
    }
    let unsound = sums.get(&Cause::Quarantined).map_or(0, |sum| sum.0);
    add(
        "quarantined",
        unsound,
        format!("{} came that cannot be true", counted(unsound, "bar", "bars")),
        "look at the rows, then repair or excuse them",
        "mizuno quarantine",
    );
    let what = format!("{} and {} in {series} series", counted(doubts, "doubt", "doubts"), counted(notices, "notice", "notices"));
    add("suspicious", doubts + notices, what, "see what other sources say, then accept them with a note", "mizuno findings");
    let held_back = desk.store.undecided(HELD_BACK).await?;
    let what = format!(
        "{} waiting for a decision: a source changed a price by more than its policy takes",
        counted(held_back, "bar is", "bars are")
    );
    add("held-back", held_back, what, "take or refuse them", "mizuno quarantine");
    let (bars, fetches) = desk.store.restated_since(day_ago).await?;
    let what = format!("{} restated by {} in the last 24 hours", counted(bars, "bar", "bars"), counted(fetches, "fetch", "fetches"));
    let what_is_checked =
        format!("{} being checked again; what was found before is counted", counted(unchecked, "series is", "series are"));
    add(CHECKING, unchecked, what_is_checked, "look again in a while", "mizuno status");
    add(RESTATED, bars, what, "see what changed", "mizuno restatements --days 1");
    Ok(out)
}

/// What a source changed is taken, and only to be known.
const RESTATED: &str = "restated";
/// Many series have changed, and the checks go through them.
const CHECKING: &str = "checking";

fn counted(n: u64, one: &str, many: &str) -> String {
    format!("{} {}", mizuno_api::words::count(n), if n == 1 { one } else { many })
}
