//! How everything stands.

use super::{
    concerns,
    problem::Refusal,
    query::{Nothing, Query},
    wire,
};
use actix_web::{get, web::Data, web::Json};
use mizuno_api::{CollectorStatus, SourceStatus, Status, Totals, VenueStatus};
use mizuno_collect::{Collect, Punctuality};
use mizuno_core::Timestamp;
use mizuno_desk::{Setup, View, concern::worst_first, timetable, views::sum};
use mizuno_research::Research;
use mizuno_sources::Standing;

/// Everything on one screen: what runs, what is late, failed, missing or in quarantine.
#[utoipa::path(responses((status = 200, body = Status)))]
#[get("/api/v1/status")]
pub(super) async fn show_status(collect: Data<Collect>, research: Data<Research>, _: Query<Nothing>) -> Result<Json<Status>, Refusal> {
    let (desk, research) = (&collect.desk, research.into_inner());
    let setup = desk.setup();
    let now = desk.clock.now();
    let views = desk.all_views(&setup).await?;
    let punctuality = collect.punctuality(&setup, now).await?;
    let mut told = collect.concerns(&setup, &views, &punctuality, now).await?;
    told.extend(research.concerns(&setup, &views, &|name| collect.live.is_running(name)).await?);
    let concerns: Vec<_> = worst_first(told).iter().map(concerns::wire).collect();
    let mut collectors = vec![];
    for on_time in punctuality {
        collectors.push(collector(&collect, &setup, on_time, &views, now).await?);
    }
    let sources = setup.sources.values().map(|s| source(s, &setup, &views)).collect();
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

fn source(source: &mizuno_sources::Source, setup: &Setup, views: &[View<'_>]) -> SourceStatus {
    let gate = source.gate();
    let name = &source.profile.name;
    let shares = |(other, s): &(&String, &mizuno_sources::Source)| *other != name && std::ptr::eq(s.gate(), gate);
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
        limits_shared_with: setup.sources.iter().filter(shares).map(|(other, _)| other.clone()).collect(),
        slowed_at: gate.slowed(),
        completeness: wire::completeness(sum(views.iter().filter(|v| v.row.key.source == source.profile.name))),
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

async fn collector(
    collect: &Collect,
    setup: &Setup,
    on_time: Punctuality,
    views: &[View<'_>],
    now: Timestamp,
) -> Result<CollectorStatus, Refusal> {
    let post = setup.post(&on_time.collector)?;
    let c = post.collector;
    let last = match on_time.last {
        Some(run) => Some(wire::run(&collect.shown(&run).await?)),
        None => None,
    };
    Ok(CollectorStatus {
        name: c.name.clone(),
        about: c.about.clone(),
        source: c.source.clone(),
        venue: c.venue.clone(),
        interval: c.interval.to_string(),
        instruments: setup.config.instruments_of(c).count() as u64,
        schedule: timetable::in_words(&post),
        zone: post.venue.zone_name().to_owned(),
        next: on_time.next.map(|t| t.to_string()),
        has_no_next: on_time.has_no_next,
        then: timetable::upcoming(&post, now, 3).into_iter().skip(1).map(|t| t.to_string()).collect(),
        late: on_time.late,
        last,
        completeness: wire::completeness(sum(views.iter().filter(|v| v.post.collector.name == c.name))),
    })
}
