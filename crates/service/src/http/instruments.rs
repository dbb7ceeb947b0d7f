//! What can be traded, and the series kept of it.

use super::{problem::Refusal, query::Query};
use actix_web::{
    get,
    web::{Data, Json},
};
use mizuno_api::{FormerSymbol, Instrument, KnownSplit, Series};
use mizuno_core::{Slot, finding::Split, spans::hull};
use mizuno_desk::{Desk, moments};
use mizuno_research::Research;
use mizuno_store::series::SeriesRow;
use serde::Deserialize;
use std::collections::HashMap;
use utoipa::IntoParams;

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct Search {
    /// Words that must all occur in the symbol, name, former symbols, kind, venue, contract month or strike.
    q: Option<String>,
    /// How many at most; 1000 when left out.
    most: Option<usize>,
}

/// Searches the instruments.
#[utoipa::path(params(Search), responses((status = 200, body = Vec<Instrument>)))]
#[get("/api/v1/instruments")]
pub(super) async fn list_instruments(research: Data<Research>, search: Query<Search>) -> Result<Json<Vec<Instrument>>, Refusal> {
    let desk = &research.desk;
    let setup = desk.setup();
    let splits = research.splits(&setup, desk.store.newest()).await?;
    let mut series: HashMap<String, Vec<String>> = HashMap::new();
    for row in desk.store.series().await?.iter() {
        series.entry(row.key.symbol.clone()).or_default().push(row.key.to_string());
    }
    let shown = |i: &mizuno_core::Instrument| Instrument {
        symbol: i.symbol.clone(),
        name: i.name.clone(),
        kind: i.kind.clone(),
        venue: i.venue.clone(),
        currency: i.currency.clone(),
        tick_size: i.tick_size.map(|d| d.to_string()),
        listed: i.listed.map(|d| d.to_string()),
        last_traded: i.last_traded.map(|d| d.to_string()),
        multiplier: i.multiplier.map(|d| d.to_string()),
        expiry: i.expiry.map(|d| d.to_string()),
        strike: i.strike.map(|d| d.to_string()),
        former: i.former.iter().map(|f| FormerSymbol { symbol: f.symbol.clone(), until: f.until.to_string() }).collect(),
        splits: splits.of(&setup, &i.symbol).unwrap_or_default().iter().map(known_split).collect(),
        series: series.get(&i.symbol).cloned().unwrap_or_default(),
    };
    let found = setup.index.find(search.q.as_deref().unwrap_or_default(), search.most.unwrap_or(1000));
    Ok(Json(found.into_iter().map(|at| shown(&setup.config.instruments[at])).collect()))
}

fn known_split(split: &Split) -> KnownSplit {
    KnownSplit { ex_date: split.ex_date.to_string(), new: split.new, old: split.old }
}

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct Which {
    /// Symbol of an instrument.
    instrument: Option<String>,
    /// An interval.
    interval: Option<String>,
}

/// The series kept, with how complete each is.
#[utoipa::path(params(Which), responses((status = 200, body = Vec<Series>)))]
#[get("/api/v1/series")]
pub(super) async fn list_series(desk: Data<Desk>, which: Query<Which>) -> Result<Json<Vec<Series>>, Refusal> {
    let setup = desk.setup();
    let symbol = which.instrument.as_deref().map(|s| setup.instrument(s)).transpose()?.map(|i| i.symbol.clone());
    let all = desk.store.series().await?;
    setup.check_names(&all, None, None, which.interval.as_deref())?;
    let wanted = |r: &&SeriesRow| {
        symbol.as_ref().is_none_or(|s| *s == r.key.symbol) && which.interval.as_ref().is_none_or(|i| *i == r.key.interval.to_string())
    };
    let views = desk.views(&setup, all.iter().filter(wanted).cloned().collect()).await?;
    let all = Slot(i64::MIN)..Slot(i64::MAX);
    let shown = views.iter().map(|v| {
        let key = &v.row.key;
        let held = hull(&v.standing.held);
        Series {
            name: key.to_string(),
            symbol: key.symbol.clone(),
            venue: v.post.venue.code.clone(),
            interval: key.interval.to_string(),
            side: key.side.to_string(),
            source: key.source.clone(),
            first: held.as_ref().map(|s| moments::written(key.interval, s.start)),
            last: held.as_ref().map(|s| moments::written(key.interval, Slot(s.end.0 - key.interval.step()))),
            bars: v.bars(),
            completeness: super::wire::completeness(v.completeness(&all)),
        }
    });
    Ok(Json(shown.collect()))
}
