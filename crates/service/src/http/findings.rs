//! What the checks found, how they look, and who takes part in a golden series.

use super::{
    problem::Refusal,
    query::{Nothing, Query},
    wire,
};
use crate::{
    desk::Desk,
    error::ServiceError,
    findings::{Judged, offer_of},
    moments,
    setup::Setup,
    views::union,
};
use actix_web::{
    HttpResponse, get, post,
    web::{Data, Json, Path},
};
use mizuno_api::{CheckInfo, Decide, Event, Finding, LeftOut, Lineup, LineupSource, RankedFrom, Settle};
use mizuno_config::profile::Adjusted;
use mizuno_core::{
    Interval, SeriesKey, Side, Slot, Span, Timestamp, TradeDate,
    finding::{Check, Rules},
};
use mizuno_store::series::SeriesRow;
use serde::Deserialize;
use utoipa::IntoParams;

/// Bars of other sources read to hold against one finding, at most.
const EVIDENCE: u64 = 2_000;

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
pub(super) async fn list_findings(desk: Data<Desk>, which: Query<Which>) -> Result<Json<Vec<Finding>>, Refusal> {
    let setup = desk.setup();
    let symbol = which.instrument.as_deref().map(|s| setup.instrument(s)).transpose()?.map(|i| i.symbol.clone());
    if let Some(word) = which.check.as_deref().filter(|w| Check::ALL.iter().all(|c| c.word() != *w)) {
        let words: Vec<_> = Check::ALL.iter().map(|c| c.word()).collect();
        return Err(Refusal::invalid(format!("check: `{word}` is not a check; there is {}", words.join(", "))));
    }
    let all = desk.store.series().await?;
    setup.check_names(&all, which.source.as_deref(), which.series.as_deref(), None)?;
    let wanted = |r: &&SeriesRow| {
        symbol.as_ref().is_none_or(|s| *s == r.key.symbol)
            && which.series.as_ref().is_none_or(|s| *s == r.key.to_string())
            && which.source.as_ref().is_none_or(|s| *s == r.key.source)
    };
    let known = desk.known(&setup, desk.store.newest()).await?;
    let mut found: Vec<(&SeriesRow, Judged)> = vec![];
    for row in all.iter().filter(wanted) {
        let of_row = match desk.findings(&setup, row, &known).await {
            // One that cannot be read is told of by the status; the others are looked at all the same.
            Err(ServiceError::Store(error)) if error.is_of_the_series() && which.series.is_none() => continue,
            judged => judged?,
        };
        found.extend(of_row.into_iter().map(|judged| (row, judged)));
    }
    found.retain(|(_, j)| which.check.as_deref().is_none_or(|w| w == j.finding.check.word()));
    found.retain(|(_, j)| which.accepted.unwrap_or(false) || !j.accepted);
    let moment = |row: &SeriesRow, slot: Slot| if row.key.interval.is_intraday() { slot.0 } else { slot.0 * mizuno_core::time::DAY };
    found.sort_by_key(|(row, j)| std::cmp::Reverse((j.finding.check.severity(), moment(row, j.finding.span.end))));
    found.truncate(which.most.unwrap_or(500));
    let mut out = vec![];
    for (row, judged) in &found {
        let evidence = evidence(&desk, &setup, &all, row, judged).await?;
        out.extend(shown(&setup, &row.key, judged, evidence));
    }
    Ok(Json(out))
}

fn shown(setup: &Setup, key: &SeriesKey, judged: &Judged, evidence: String) -> Option<Finding> {
    let venue = setup.config.venues.get(&setup.known(&key.symbol)?.venue)?;
    let f = &judged.finding;
    Some(Finding {
        id: moments::finding_id(key, f),
        series: key.to_string(),
        check: f.check.word().to_owned(),
        severity: f.check.severity().word().to_owned(),
        explanation: f.check.explanation().to_owned(),
        from: moments::wire(key.interval, f.span.start),
        to: moments::wire(key.interval, f.span.end),
        when: moments::spoken(key.interval, venue, &f.span),
        bars: f.bars,
        detail: f.detail.clone(),
        evidence,
        accepted: judged.accepted,
    })
}

/// What other sources with prices as traded have where a finding is.
async fn evidence(desk: &Desk, setup: &Setup, all: &[SeriesRow], row: &SeriesRow, judged: &Judged) -> Result<String, Refusal> {
    let as_traded = |key: &SeriesKey| offer_of(setup, key).is_some_and(|o| o.adjusted == Adjusted::No);
    let key = &row.key;
    if judged.finding.bars > EVIDENCE || !as_traded(key) {
        return Ok("not held against other sources".to_owned());
    }
    let span = &judged.finding.span;
    let mine = desk.store.bars(row, span.clone(), Timestamp::MAX).await?;
    let (mut agree, mut differ) = (vec![], vec![]);
    let other = |s: &&SeriesRow| (&s.key.symbol, s.key.interval, s.key.side) == (&key.symbol, key.interval, key.side) && s.id != row.id;
    for witness in all.iter().filter(other).filter(|s| as_traded(&s.key)) {
        let theirs = desk.store.bars(witness, span.clone(), Timestamp::MAX).await?;
        let pairs: Vec<bool> = theirs
            .rows
            .iter()
            .filter_map(|t| Some(t.prices() == mine.rows[mine.rows.binary_search_by_key(&t.slot, |m| m.slot).ok()?].prices()))
            .collect();
        match pairs.iter().filter(|same| **same).count() {
            _ if pairs.is_empty() => {}
            same if same == pairs.len() => agree.push(witness.key.source.as_str()),
            _ => differ.push(witness.key.source.as_str()),
        }
    }
    let verb = |n: usize, one: &'static str, many: &'static str| if n == 1 { one } else { many };
    Ok(match (&agree[..], &differ[..]) {
        ([], []) => "no other source has it".to_owned(),
        (same, []) => format!("{} {} the same", same.join(" and "), verb(same.len(), "has", "have")),
        ([], other) => format!("{} {} otherwise", other.join(" and "), verb(other.len(), "says", "say")),
        (same, other) => format!(
            "{} {} the same, {} {} otherwise",
            same.join(" and "),
            verb(same.len(), "has", "have"),
            other.join(" and "),
            verb(other.len(), "says", "say")
        ),
    })
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
pub(super) async fn show_lineup(desk: Data<Desk>, whose: Query<Whose>) -> Result<Json<Lineup>, Refusal> {
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
    let lineup = desk.lineup(&setup, &key, desk.store.newest()).await?;
    let views = desk.views(&setup, lineup.parts.iter().map(|p| p.row.clone()).collect()).await?;
    let all: Span = Slot(i64::MIN)..Slot(i64::MAX);
    let whole = union(&setup, &views).map(|w| w.completeness(&all)).unwrap_or_default();
    let names = lineup.sources();
    let ranks = lineup.ranks.iter().map(|(from, places)| RankedFrom {
        from: (*from != TradeDate(i32::MIN)).then(|| from.to_string()),
        sources: places.iter().map(|p| names[*p].clone()).collect(),
    });
    let sources = lineup.parts.iter().map(|p| LineupSource {
        source: p.row.key.source.clone(),
        basis: p.basis_in_words().to_owned(),
        doubted: interval.count(&p.doubted),
        completeness: views.iter().find(|v| v.row.id == p.row.id).map(|v| wire::completeness(v.completeness(&all))).unwrap_or_default(),
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
pub(super) async fn settle(desk: Data<Desk>, ask: Json<Settle>) -> Result<HttpResponse, Refusal> {
    let by = ask.by.trim();
    if by.is_empty() {
        return Err(Refusal::invalid("a decision needs a name (`by`)".to_owned()));
    }
    desk.settle(&ask.series, by).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Takes a bar that was held back, or leaves the one held before.
#[utoipa::path(
    params(("id" = i64, Path, description = "Number of the row in quarantine")),
    request_body = Decide,
    responses((status = 204, description = "Decided"))
)]
#[post("/api/v1/quarantine/{id}/decision")]
pub(super) async fn decide(desk: Data<Desk>, id: Path<i64>, ask: Json<Decide>) -> Result<HttpResponse, Refusal> {
    let by = ask.by.trim();
    if by.is_empty() {
        return Err(Refusal::invalid("a decision needs a name (`by`)".to_owned()));
    }
    desk.decide(*id, ask.take, by.to_owned()).await?;
    desk.events.tell(Event::Excuses);
    Ok(HttpResponse::NoContent().finish())
}
