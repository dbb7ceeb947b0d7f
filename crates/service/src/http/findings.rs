//! What the checks found, how they look, and who takes part in a golden series.

use super::{
    problem::Refusal,
    query::{Nothing, Query},
    wire,
};
use actix_web::{
    HttpResponse, get, post,
    web::{Data, Json, Path},
};
use mizuno_api::{CheckInfo, Decide, Finding, LeftOut, Lineup, LineupSource, RankedFrom, Settle};
use mizuno_collect::Collect;
use mizuno_core::{
    Interval, SeriesKey, Side, Slot, Span, TradeDate,
    finding::{Check, Rules},
};
use mizuno_desk::{Setup, View, moments};
use mizuno_research::{
    Research,
    golden::Part,
    noticed::{Noticed, WhichFindings, Witnesses},
    whole::union,
};
use serde::Deserialize;
use utoipa::IntoParams;

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct Which {
    /// Symbol of an instrument.
    instrument: Option<String>,
    /// Name of a series.
    series: Option<String>,
    /// Name of a source.
    source: Option<String>,
    /// Name of a check.
    check: Option<String>,
    /// Also those that a person accepted; not when left out.
    accepted: Option<bool>,
    /// At most; 500 when left out.
    most: Option<usize>,
}

/// What the checks find in the bars as they are now: doubts first, then the newest.
#[utoipa::path(params(Which), responses((status = 200, body = Vec<Finding>)))]
#[get("/api/v1/findings")]
pub(super) async fn list_findings(research: Data<Research>, which: Query<Which>) -> Result<Json<Vec<Finding>>, Refusal> {
    let check = |word: &str| {
        Check::ALL.into_iter().find(|c| c.word() == word).ok_or_else(|| {
            let words: Vec<_> = Check::ALL.iter().map(|c| c.word()).collect();
            Refusal::invalid(format!("check: `{word}` is not a check; there is {}", words.join(", ")))
        })
    };
    let wanted = WhichFindings {
        instrument: which.instrument.clone(),
        series: which.series.clone(),
        source: which.source.clone(),
        check: which.check.as_deref().map(check).transpose()?,
        accepted: which.accepted.unwrap_or(false),
        most: which.most.unwrap_or(500),
    };
    let setup = research.desk.setup();
    let found = research.noticed(&setup, &wanted).await?;
    Ok(Json(found.iter().filter_map(|noticed| shown(&setup, noticed)).collect()))
}

fn shown(setup: &Setup, Noticed { series: key, judged, witnesses }: &Noticed) -> Option<Finding> {
    let venue = setup.config.venues.get(&setup.known(&key.symbol)?.venue)?;
    let f = &judged.finding;
    Some(Finding {
        id: moments::finding_id(key, f),
        series: key.to_string(),
        check: f.check.word().to_owned(),
        severity: f.check.severity().word().to_owned(),
        explanation: f.check.explanation().to_owned(),
        from: moments::written(key.interval, f.span.start),
        to: moments::written(key.interval, f.span.end),
        when: moments::spoken(key.interval, venue, &f.span),
        bars: f.bars,
        detail: f.detail.clone(),
        evidence: evidence(f.check, witnesses.as_ref()),
        accepted: judged.accepted,
    })
}

/// What other sources have where a finding is, in a sentence.
fn evidence(check: Check, witnesses: Option<&Witnesses>) -> String {
    if check == Check::UnexplainedStep {
        return "held against the closes of sources that tell prices as traded".to_owned();
    }
    let Some(Witnesses { agree, differ }) = witnesses else { return "not held against other sources".to_owned() };
    let same = format!("{} {} the same", agree.join(" and "), if agree.len() == 1 { "has" } else { "have" });
    let otherwise = |verb: &str| format!("{} {verb} otherwise", differ.join(" and "));
    let says = if differ.len() == 1 { "says" } else { "say" };
    match (&agree[..], &differ[..]) {
        ([], []) => "no other source has bars there".to_owned(),
        (_, []) => same,
        ([], _) => otherwise(says),
        _ => format!("{same}, {}", otherwise(says)),
    }
}

/// The checks, and how they look when `checks.toml` does not say otherwise.
#[utoipa::path(responses((status = 200, body = Vec<CheckInfo>)))]
#[get("/api/v1/checks")]
pub(super) async fn list_checks(_: Query<Nothing>) -> Json<Vec<CheckInfo>> {
    let rules = Rules::default();
    let info = |check: Check| CheckInfo {
        name: check.word().to_owned(),
        explanation: check.explanation().to_owned(),
        severity: check.severity().word().to_owned(),
        limit: rules.of(check).map_or(0.0, |r| r.limit),
        unit: check.usual_limit().1.to_owned(),
    };
    Json(Check::ALL.map(info).to_vec())
}

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct Whose {
    /// Symbol of an instrument.
    instrument: String,
    /// Interval; 1d when left out.
    interval: Option<String>,
    /// `trade` (also when left out), `bid`, `ask` or `mid`.
    side: Option<String>,
}

/// How the sources of an instrument rank in its golden series, who takes part and who does not, and why.
#[utoipa::path(params(Whose), responses((status = 200, body = Lineup)))]
#[get("/api/v1/lineup")]
pub(super) async fn show_lineup(research: Data<Research>, whose: Query<Whose>) -> Result<Json<Lineup>, Refusal> {
    let desk = &research.desk;
    let setup = desk.setup();
    let interval: Interval = whose
        .interval
        .as_deref()
        .unwrap_or("1d")
        .parse()
        .map_err(|e: mizuno_core::interval::NotAnInterval| Refusal::invalid(e.to_string()))?;
    let side: Side =
        whose.side.as_deref().unwrap_or("trade").parse().map_err(|e: mizuno_core::series::NotASeries| Refusal::invalid(e.to_string()))?;
    let symbol = setup.instrument(&whose.instrument)?.symbol.clone();
    let key = SeriesKey { symbol, interval, side, source: mizuno_config::GOLDEN.to_owned() };
    let lineup = research.lineup(&setup, &key, desk.store.newest()).await?;
    let views = desk.views(&setup, lineup.parts.iter().map(|p| p.row.clone()).collect()).await?;
    let unclear = research.unclear_in(&setup, &lineup, desk.store.newest()).await?;
    let all: Span = Slot(i64::MIN)..Slot(i64::MAX);
    let whole = union(&setup, views.iter().map(View::sighted), &unclear).map(|w| w.completeness(&all)).unwrap_or_default();
    let names = lineup.sources();
    let ranks = lineup.ranks.iter().map(|(from, places)| RankedFrom {
        from: (*from != TradeDate(i32::MIN)).then(|| from.to_string()),
        sources: places.iter().map(|p| names[*p].clone()).collect(),
    });
    let view_of = |part: &Part| views.iter().find(|v| v.row.id == part.row.id);
    let sources = lineup.parts.iter().map(|p| LineupSource {
        source: p.row.key.source.clone(),
        basis: p.basis_in_words(),
        doubted: interval.count(&p.doubted),
        unclear: view_of(p).map_or(0, |v| unclear.count(p.row.id, interval, &v.standing.held)),
        completeness: view_of(p).map(|v| wire::completeness(v.completeness(&all))).unwrap_or_default(),
    });
    Ok(Json(Lineup {
        series: lineup.key.to_string(),
        completeness: wire::completeness(whole),
        ranks: ranks.collect(),
        sources: sources.collect(),
        left_out: lineup.left_out.iter().map(|l| LeftOut { source: l.source.clone(), why: l.why.clone() }).collect(),
    }))
}

/// Ends the collecting of a series on its new basis as it is: readers then see what there is.
#[utoipa::path(request_body = Settle, responses((status = 204, description = "Ended")))]
#[post("/api/v1/settlements")]
pub(super) async fn settle(collect: Data<Collect>, ask: Json<Settle>) -> Result<HttpResponse, Refusal> {
    collect.settle(&ask.series, &ask.by).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Takes a bar that was held back, or leaves the one held before.
#[utoipa::path(
    params(("id" = i64, Path, description = "Number of the row in quarantine")),
    request_body = Decide,
    responses((status = 204, description = "Decided"))
)]
#[post("/api/v1/quarantine/{id}/decision")]
pub(super) async fn decide(collect: Data<Collect>, id: Path<i64>, ask: Json<Decide>) -> Result<HttpResponse, Refusal> {
    collect.decide(*id, ask.take, &ask.by).await?;
    Ok(HttpResponse::NoContent().finish())
}
