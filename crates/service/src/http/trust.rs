//! Trust or doubt: series compared, bars traced to the bytes they came from, what was restated.

use super::{problem::Refusal, query::Query};
use crate::{desk::Desk, lineage, moments, setup::Setup};
use actix_web::{
    get,
    web::{Data, Json},
};
use mizuno_api::{BarVersion, Compared, ComparedBar, Restatement, Stretch};
use mizuno_config::GOLDEN;
use mizuno_core::{
    Aligned, Bars, Calendar, SeriesKey, Slot, Span, Spans, Timestamp,
    compare::{COLUMNS, Comparison, Tolerance, compare},
    diagnose::diagnose,
};
use mizuno_store::series::SeriesRow;
use serde::Deserialize;
use std::sync::Arc;
use utoipa::IntoParams;

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct Pair {
    /// Name of a series.
    here: String,
    /// Name of another, or of the same.
    there: String,
    /// First trade date or instant.
    from: Option<String>,
    /// Last trade date, included, or an instant, not included.
    to: Option<String>,
    /// The first series as it was known at this instant.
    here_as_of: Option<String>,
    /// The second series as it was known at this instant.
    there_as_of: Option<String>,
    /// So many ticks apart is still the same; 0 when left out.
    ticks: Option<u32>,
    /// Differences listed at most; 50 when left out.
    most: Option<usize>,
}

/// Compares two series, or one as of two dates: what matches, what differs, and whether it does so all along.
#[utoipa::path(params(Pair), responses((status = 200, body = Compared)))]
#[get("/api/v1/comparison")]
pub(super) async fn compare_series(desk: Data<Desk>, pair: Query<Pair>) -> Result<Json<Compared>, Refusal> {
    let setup = desk.setup();
    let (here, there) = (named(&desk, &setup, &pair.here).await?, named(&desk, &setup, &pair.there).await?);
    let interval = here.interval;
    if interval != there.interval {
        return Err(Refusal::invalid(format!("{here} and {there} have bars of other lengths; compare series of one interval")));
    }
    let instrument = setup.instrument(&here.symbol)?;
    let calendar = setup.calendar_of(instrument)?;
    let span = moments::span(moments::Asked { from: pair.from.as_deref(), to: pair.to.as_deref() }, interval, calendar)?;
    let desk = desk.into_inner();
    let as_of = desk.pinned("here_as_of", pair.here_as_of.as_deref()).await?;
    let a = all_bars(&desk, &setup, &here, calendar, span.clone(), as_of).await?;
    let as_of = desk.pinned("there_as_of", pair.there_as_of.as_deref()).await?;
    let b = all_bars(&desk, &setup, &there, calendar, span, as_of).await?;
    let tolerance = Tolerance { tick: instrument.tick_size, ticks: pair.ticks.unwrap_or(0) };
    let most = pair.most.unwrap_or(50);
    let found = compare(interval, &a, &b, tolerance, most);
    // What is the same, or nearly, needs no diagnosis. Advice is for a source's profile, and a golden series has none.
    let close = found.equal * 100 >= found.matched * 99 && found.only_here.is_empty() && found.only_there.is_empty();
    let (usual, odd, source) = if there.source == GOLDEN { (&b, &a, &here.source) } else { (&a, &b, &there.source) };
    let diagnosis = match close || source == GOLDEN {
        true => vec![],
        false => diagnose(interval, calendar, &Aligned::of(usual), &Aligned::of(odd)).iter().map(|s| s.advice(interval, source)).collect(),
    };
    Ok(Json(shown(&here, &there, &found, diagnosis)))
}

/// The name of a stored series, or of a golden one in which some source has a part.
async fn named(desk: &Desk, setup: &Setup, name: &str) -> Result<SeriesKey, Refusal> {
    match name.parse::<SeriesKey>() {
        Ok(key) if key.source == GOLDEN => {
            let key = setup.present(key);
            let lineup = desk.lineup(setup, &key, desk.store.newest()).await?;
            if lineup.parts.is_empty() { Err(desk.no_series(name).await?.into()) } else { Ok(key) }
        }
        _ => Ok(desk.series_named(setup, name).await?.key),
    }
}

/// The bars of a stored series or a golden one, as of an instant.
async fn all_bars(
    desk: &Arc<Desk>,
    setup: &Setup,
    key: &SeriesKey,
    calendar: &Calendar,
    span: Span,
    as_of: Timestamp,
) -> Result<Bars, Refusal> {
    if key.source != GOLDEN {
        let row = desk.series_named(setup, &key.to_string()).await?;
        return Ok(desk.store.bars(&row, span, as_of).await?);
    }
    let lineup = desk.lineup(setup, key, as_of).await?;
    let mut reading = desk.read_golden(lineup, calendar, span, as_of).await?;
    let mut out = Bars::default();
    while let Some(made) = reading.next().await? {
        out.rows.extend(made.bars.rows);
    }
    Ok(out)
}

fn shown(here: &SeriesKey, there: &SeriesKey, found: &Comparison, diagnosis: Vec<String>) -> Compared {
    let interval = here.interval;
    let stretches = |spans: &Spans| {
        let stretch =
            |s: &Span| Stretch { from: moments::wire(interval, s.start), to: moments::wire(interval, s.end), slots: interval.count([s]) };
        spans.iter().take(50).map(stretch).collect()
    };
    let difference = |d: &mizuno_core::compare::Difference| ComparedBar {
        at: moments::wire(interval, d.slot),
        columns: COLUMNS.iter().zip(d.columns).filter(|(_, differs)| *differs).map(|(name, _)| (*name).to_owned()).collect(),
        here: lineage::values(&d.here, false),
        there: lineage::values(&d.there, false),
    };
    Compared {
        here: here.to_string(),
        there: there.to_string(),
        matched: found.matched,
        equal: found.equal,
        differing: COLUMNS.iter().zip(found.by_column).map(|(name, n)| ((*name).to_owned(), n)).collect(),
        only_here: interval.count(&found.only_here),
        only_there: interval.count(&found.only_there),
        only_here_at: stretches(&found.only_here),
        only_there_at: stretches(&found.only_there),
        differences: found.differences.iter().map(difference).collect(),
        diagnosis,
    }
}

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct OneBar {
    /// Name of a series.
    series: String,
    /// The bar's trade date or instant.
    at: String,
}

/// Every version a bar has had, with the fetch that brought it and the very line or element it stands on.
#[utoipa::path(params(OneBar), responses((status = 200, body = Vec<BarVersion>)))]
#[get("/api/v1/lineage")]
pub(super) async fn trace_bar(desk: Data<Desk>, which: Query<OneBar>) -> Result<Json<Vec<BarVersion>>, Refusal> {
    let setup = desk.setup();
    let (row, slot) = match which.series.parse::<SeriesKey>() {
        Ok(key) if key.source == GOLDEN => {
            let key = setup.present(key);
            let slot = slot_of(&key, &which.at)?;
            (taken_from(&desk, &setup, &key, slot).await?.ok_or_else(|| no_bar(&key, &which.at))?, slot)
        }
        _ => {
            let row = desk.series_named(&setup, &which.series).await?;
            let slot = slot_of(&row.key, &which.at)?;
            (row, slot)
        }
    };
    let versions = lineage::trace(&desk, &setup, &row, slot).await?;
    if versions.is_empty() {
        return Err(no_bar(&row.key, &which.at));
    }
    Ok(Json(versions))
}

fn slot_of(key: &SeriesKey, at: &str) -> Result<Slot, Refusal> {
    let (_, slot) = moments::parse_gap_id(&format!("{key}@{at}")).map_err(|_| {
        Refusal::invalid(format!("at: `{at}` is not a moment of {key}; give the date or the instant that its bar is labelled with"))
    })?;
    Ok(slot)
}

fn no_bar(key: &SeriesKey, at: &str) -> Refusal {
    let (id, hint) = (format!("{key}@{at}"), "a gap says why there is none".to_owned());
    crate::ServiceError::Unknown { kind: "bar", id, hint, see: "gaps" }.into()
}

/// The series that a golden bar is taken from; `None` where there is no bar.
async fn taken_from(desk: &Data<Desk>, setup: &Setup, key: &SeriesKey, slot: Slot) -> Result<Option<SeriesRow>, Refusal> {
    let instant = desk.pinned("as_of", None).await?;
    let calendar = setup.calendar_of(setup.instrument(&key.symbol)?)?;
    let lineup = desk.lineup(setup, key, instant).await?;
    let rows: Vec<SeriesRow> = lineup.parts.iter().map(|p| p.row.clone()).collect();
    let mut reading = desk.clone().into_inner().read_golden(lineup, calendar, key.interval.span_of(slot), instant).await?;
    while let Some(made) = reading.next().await? {
        if let Some(at) = made.bars.rows.iter().position(|b| b.slot == slot) {
            return Ok(rows.into_iter().nth(usize::from(made.from[at])));
        }
    }
    Ok(None)
}

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct Lately {
    /// How many days back they were learned; 7 when left out.
    days: Option<u32>,
    /// Only of this instrument.
    instrument: Option<String>,
    /// Only of this source.
    source: Option<String>,
    /// At most; 500 when left out.
    most: Option<usize>,
}

/// Bars that a source has changed after we held them: from what, to what, when it was learned and by which fetch; newest first.
#[utoipa::path(params(Lately), responses((status = 200, body = Vec<Restatement>)))]
#[get("/api/v1/restatements")]
pub(super) async fn list_restatements(desk: Data<Desk>, which: Query<Lately>) -> Result<Json<Vec<Restatement>>, Refusal> {
    let setup: std::sync::Arc<Setup> = desk.setup();
    let symbol = which.instrument.as_deref().map(|s| setup.instrument(s)).transpose()?.map(|i| i.symbol.clone());
    setup.check_names(&desk.store.series().await?, which.source.as_deref(), None, None)?;
    let days = i64::from(which.days.unwrap_or(7).min(36_500));
    let since: Timestamp = desk.clock.now().plus(-days * mizuno_core::time::DAY);
    let wanted =
        |key: &SeriesKey| symbol.as_ref().is_none_or(|s| *s == key.symbol) && which.source.as_ref().is_none_or(|s| *s == key.source);
    Ok(Json(lineage::restatements(&desk, since, &wanted, which.most.unwrap_or(500)).await?))
}
