//! Trust or doubt: series compared, bars traced to the bytes they came from, what was restated.

use super::{problem::Refusal, query::Query, wire};
use actix_web::{
    get,
    web::{Data, Json},
};
use mizuno_api::{BarVersion, Compared, ComparedBar, Restatement, Stretch};
use mizuno_config::GOLDEN;
use mizuno_core::{
    SeriesKey, Slot, Span, Spans, Timestamp,
    compare::{COLUMNS, Comparison},
};
use mizuno_desk::{DeskError, moments};
use mizuno_research::{Research, comparison};
use serde::Deserialize;
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
pub(super) async fn compare_series(research: Data<Research>, pair: Query<Pair>) -> Result<Json<Compared>, Refusal> {
    let setup = research.desk.setup();
    let (here, there) = (research.series_or_golden(&setup, &pair.here).await?, research.series_or_golden(&setup, &pair.there).await?);
    let here_at = research.desk.pinned("here_as_of", pair.here_as_of.as_deref()).await?;
    let there_at = research.desk.pinned("there_as_of", pair.there_as_of.as_deref()).await?;
    let asked = comparison::Pair {
        here: (here, here_at),
        there: (there, there_at),
        from: pair.from.clone(),
        to: pair.to.clone(),
        ticks: pair.ticks.unwrap_or(0),
        most: pair.most.unwrap_or(50),
    };
    let (found, diagnosis) = research.compare(&setup, &asked).await?;
    Ok(Json(shown(&asked.here.0, &asked.there.0, &found, diagnosis)))
}

fn shown(here: &SeriesKey, there: &SeriesKey, found: &Comparison, diagnosis: Vec<String>) -> Compared {
    let interval = here.interval;
    let stretches = |spans: &Spans| {
        let stretch = |s: &Span| Stretch {
            from: moments::written(interval, s.start),
            to: moments::written(interval, s.end),
            slots: interval.count([s]),
        };
        spans.iter().take(50).map(stretch).collect()
    };
    let difference = |d: &mizuno_core::compare::Difference| ComparedBar {
        at: moments::written(interval, d.slot),
        columns: COLUMNS.iter().zip(d.columns).filter(|(_, differs)| *differs).map(|(name, _)| (*name).to_owned()).collect(),
        here: wire::values(&d.here, false),
        there: wire::values(&d.there, false),
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
pub(super) async fn trace_bar(research: Data<Research>, which: Query<OneBar>) -> Result<Json<Vec<BarVersion>>, Refusal> {
    let setup = research.desk.setup();
    let (row, slot) = match which.series.parse::<SeriesKey>() {
        Ok(key) if key.source == GOLDEN => {
            let key = setup.present(key);
            let slot = slot_of(&key, &which.at)?;
            (research.taken_from(&setup, &key, slot).await?.ok_or_else(|| no_bar(&key, &which.at))?, slot)
        }
        _ => {
            let row = research.desk.series_named(&setup, &which.series).await?;
            let slot = slot_of(&row.key, &which.at)?;
            (row, slot)
        }
    };
    let versions = research.trace(&setup, &row, slot).await?;
    if versions.is_empty() {
        return Err(no_bar(&row.key, &which.at));
    }
    Ok(Json(versions.iter().map(|v| wire::traced(&row.key, v)).collect()))
}

fn slot_of(key: &SeriesKey, at: &str) -> Result<Slot, Refusal> {
    let (_, slot) = moments::parse_gap_id(&format!("{key}@{at}")).map_err(|_| {
        Refusal::invalid(format!("at: `{at}` is not a moment of {key}; give the date or the instant that its bar is labelled with"))
    })?;
    Ok(slot)
}

fn no_bar(key: &SeriesKey, at: &str) -> Refusal {
    let (id, hint) = (format!("{key}@{at}"), "a gap says why there is none".to_owned());
    DeskError::Unknown { kind: "bar", id, hint, see: "gaps" }.into()
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
pub(super) async fn list_restatements(research: Data<Research>, which: Query<Lately>) -> Result<Json<Vec<Restatement>>, Refusal> {
    let desk = &research.desk;
    let setup = desk.setup();
    let symbol = which.instrument.as_deref().map(|s| setup.instrument(s)).transpose()?.map(|i| i.symbol.clone());
    setup.check_names(&*desk.store.series().await?, which.source.as_deref(), None, None)?;
    let days = i64::from(which.days.unwrap_or(7).min(36_500));
    let since: Timestamp = desk.clock.now().plus(-days * mizuno_core::time::DAY);
    let wanted =
        |key: &SeriesKey| symbol.as_ref().is_none_or(|s| *s == key.symbol) && which.source.as_ref().is_none_or(|s| *s == key.source);
    let found = research.restatements(since, &wanted, which.most.unwrap_or(500)).await?;
    Ok(Json(found.iter().map(wire::restated).collect()))
}
