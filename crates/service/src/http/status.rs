//! How everything stands.

use super::problem::Refusal;
use crate::{
    desk::Desk,
    schedule,
    views::{View, sum},
};
use actix_web::{get, web::Data, web::Json};
use mizuno_api::{CollectorStatus, Concern, SourceStatus, Status, Totals, VenueStatus};
use mizuno_core::{Timestamp, gap::Cause};
use mizuno_store::fetches::Filter;

/// Everything on one screen: what runs, what is late, failed, missing or in quarantine.
#[utoipa::path(responses((status = 200, body = Status)))]
#[get("/api/v1/status")]
pub(super) async fn show_status(desk: Data<Desk>) -> Result<Json<Status>, Refusal> {
    let now = desk.clock.now();
    let views = desk.all_views().await?;
    let mut collectors = vec![];
    for name in desk.config.collectors.keys() {
        collectors.push(collector(&desk, name, &views, now).await?);
    }
    let concerns = concerns(&desk, &collectors, &views, now).await?;
    let totals = Totals {
        instruments: desk.config.instruments.len() as u64,
        series: views.len() as u64,
        bars: views.iter().map(|v| v.row.key.interval.count(&v.standing.held)).sum(),
        database_bytes: desk.store.size().await?,
    };
    Ok(Json(Status {
        desk: desk.config.service.desk.clone(),
        version: env!("CARGO_PKG_VERSION").to_owned(),
        now: now.to_string(),
        speed: desk.clock.face().speed,
        all_clear: concerns.is_empty(),
        concerns,
        venues: venues(&desk, now),
        sources: desk.sources.values().map(source).collect(),
        collectors,
        totals,
    }))
}

fn source(source: &mizuno_sources::Source) -> SourceStatus {
    let (calls_in_last_minute, calls_a_minute) = source.calls_in_last_minute();
    SourceStatus { name: source.profile.name.clone(), title: source.profile.title.clone(), calls_in_last_minute, calls_a_minute }
}

fn venues(desk: &Desk, now: Timestamp) -> Vec<VenueStatus> {
    let venue = |v: &mizuno_core::Venue| {
        let session = desk.calendars.get(&v.code).and_then(|c| c.at_or_after(now));
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
    desk.config.venues.values().map(venue).collect()
}

async fn collector(desk: &Desk, name: &str, views: &[View<'_>], now: Timestamp) -> Result<CollectorStatus, Refusal> {
    let post = desk.post(name)?;
    let c = post.collector;
    let last = desk.store.runs(Some(name), 1).await?.into_iter().next();
    let late = !desk.live.is_running(name) && schedule::is_late(&post, now, last.as_ref().map(|r| (r.started_at, r.state)));
    let last = match last {
        Some(run) => Some(desk.shown_run(run.id).await?),
        None => None,
    };
    Ok(CollectorStatus {
        name: c.name.clone(),
        about: c.about.clone(),
        source: c.source.clone(),
        venue: c.venue.clone(),
        interval: c.interval.to_string(),
        instruments: desk.config.instruments_of(c).count() as u64,
        schedule: schedule::in_words(&post),
        next: schedule::next_due(&post, now).map(|t| t.to_string()),
        late,
        last,
        completeness: sum(views.iter().filter(|v| v.post.collector.name == c.name)),
    })
}

/// What needs a person, worst first.
async fn concerns(desk: &Desk, collectors: &[CollectorStatus], views: &[View<'_>], now: Timestamp) -> Result<Vec<Concern>, Refusal> {
    let mut out = vec![];
    let mut add = |kind: &str, count: u64, what: String, next: &str, command: &str| {
        if count > 0 {
            out.push(Concern { kind: kind.to_owned(), count, what, next: next.to_owned(), command: command.to_owned() });
        }
    };
    let late: Vec<&str> = collectors.iter().filter(|c| c.late).map(|c| c.name.as_str()).collect();
    add("late", late.len() as u64, format!("{} should have run and did not", late.join(", ")), "collect it now", "mizuno status");
    let day_ago = now.plus(-mizuno_core::time::DAY);
    let failed = desk.store.fetches(Filter { state: Some("failed"), ..Filter::default() }, 500).await?;
    let failed = failed.iter().filter(|f| f.answered_at > day_ago).count() as u64;
    add(
        "failed",
        failed,
        format!("{} failed in the last 24 hours", counted(failed, "fetch", "fetches")),
        "read why",
        "mizuno fetches --failed",
    );
    for cause in [Cause::FetchFailed, Cause::LeftOut, Cause::SourceHadNothing, Cause::NeverAsked, Cause::BeyondReach] {
        let (mut slots, mut gaps, mut series) = (0, 0, 0);
        for view in views {
            let mine: Vec<_> = view.gaps().into_iter().filter(|g| g.cause == cause).collect();
            slots += mine.iter().map(|g| g.slots).sum::<u64>();
            gaps += mine.len();
            series += usize::from(!mine.is_empty());
        }
        let what = format!(
            "{} missing in {} of {series} series: {}",
            counted(slots, "bar", "bars"),
            counted(gaps as u64, "gap", "gaps"),
            super::gaps::sentence(cause)
        );
        let next = match cause {
            Cause::NeverAsked => "collect them",
            Cause::BeyondReach => "excuse them, or collect from a later date on",
            _ => "repair or excuse them",
        };
        add("missing", slots, what, next, &format!("mizuno gaps --cause {cause}"));
    }
    let unsound = views.iter().flat_map(|v| v.gaps()).filter(|g| g.cause == Cause::Quarantined).map(|g| g.slots).sum::<u64>();
    add(
        "quarantined",
        unsound,
        format!("{} came that cannot be true", counted(unsound, "bar", "bars")),
        "look at the rows, then repair or excuse them",
        "mizuno quarantine",
    );
    Ok(out)
}

fn counted(n: u64, one: &str, many: &str) -> String {
    format!("{n} {}", if n == 1 { one } else { many })
}
