//! What a person accepts: absences and findings.

use super::{
    problem::Refusal,
    query::{Nothing, Query},
    wire,
};
use crate::{desk::Desk, error::ServiceError, golden::takes_part, moments, setup::Setup, views::union};
use actix_web::{
    HttpResponse, delete, get, post,
    web::{Data, Json, Path},
};
use mizuno_api::{Event, Excuse, NewExcuse};
use mizuno_config::GOLDEN;
use mizuno_core::{SeriesKey, Span};
use mizuno_store::series::SeriesRow;
use std::collections::HashMap;

/// All excuses ever given, newest first.
#[utoipa::path(responses((status = 200, body = Vec<Excuse>)))]
#[get("/api/v1/excuses")]
pub(super) async fn list_excuses(desk: Data<Desk>, _: Query<Nothing>) -> Result<Json<Vec<Excuse>>, Refusal> {
    let series: HashMap<i64, SeriesKey> = desk.store.series().await?.into_iter().map(|s| (s.id, s.key)).collect();
    let rows = desk.store.excuses().await?;
    let shown = rows.iter().filter_map(|row| Some(wire::excuse(row, series.get(&row.series)?)));
    Ok(Json(shown.collect()))
}

/// Accepts absences or findings, with a name and a note; all of them or, when one cannot be found, none.
#[utoipa::path(request_body = NewExcuse, responses((status = 201, body = Vec<Excuse>)))]
#[post("/api/v1/excuses")]
pub(super) async fn give_excuse(desk: Data<Desk>, ask: Json<NewExcuse>) -> Result<HttpResponse, Refusal> {
    let ask = ask.into_inner();
    let (by, note) = (ask.by.trim(), ask.note.trim());
    if by.is_empty() || note.is_empty() {
        return Err(Refusal::invalid("an excuse needs a name (`by`) and a reason (`note`); nothing closes silently".to_owned()));
    }
    let setup = desk.setup();
    let accepted: Vec<Accepted> = match ask.findings[..] {
        [] => stretches(&desk, &setup, &ask).await?.into_iter().map(|(row, span)| (row, span, None)).collect(),
        _ if ask.gaps.is_empty() && ask.series.is_none() => found(&desk, &setup, &ask.findings).await?,
        _ => return Err(Refusal::invalid("name either gaps, or findings, or a series with from and to".to_owned())),
    };
    let spans = accepted.iter().map(|(row, span, check)| (row.id, span.clone(), check.clone())).collect();
    let ids = desk.store.excuse(spans, by.to_owned(), note.to_owned()).await?;
    desk.events.tell(Event::Excuses);
    let all = desk.store.excuses().await?;
    let given = all.iter().filter(|e| ids.contains(&e.id));
    let shown = given.filter_map(|e| Some(wire::excuse(e, &accepted.iter().find(|(row, ..)| row.id == e.series)?.0.key)));
    Ok(HttpResponse::Created().json(shown.collect::<Vec<_>>()))
}

/// What is accepted: the series, the span, and the check when it is a finding.
type Accepted = (SeriesRow, Span, Option<String>);

/// The findings of these ids.
async fn found(desk: &Desk, setup: &Setup, ids: &[String]) -> Result<Vec<Accepted>, Refusal> {
    let all = desk.store.series().await?;
    let known = desk.known(setup, desk.store.newest()).await?;
    let mut out = vec![];
    for id in ids {
        let unknown = || ServiceError::Unknown { kind: "finding", id: id.clone(), hint: "list them again".to_owned(), see: "findings" };
        let (key, _) = moments::parse_gap_id(id.split('#').next().unwrap_or_default()).map_err(|_| unknown())?;
        let row = all.iter().find(|r| r.key == key).ok_or_else(unknown)?;
        let judged = desk.findings(setup, row, &known).await?;
        let one = judged.into_iter().find(|j| moments::finding_id(&key, &j.finding) == *id).ok_or_else(unknown)?;
        out.push((row.clone(), one.finding.span, Some(one.finding.check.word().to_owned())));
    }
    Ok(out)
}

/// The series and spans an excuse is about.
async fn stretches(desk: &Desk, setup: &Setup, ask: &NewExcuse) -> Result<Vec<(SeriesRow, Span)>, Refusal> {
    let all = desk.store.series().await?;
    let names: Vec<String> = all.iter().map(|s| s.key.to_string()).collect();
    let find = |key: &SeriesKey| {
        let unknown = || ServiceError::unknown("series", &key.to_string(), names.iter().map(String::as_str));
        all.iter().find(|s| s.key == *key).cloned().ok_or_else(unknown)
    };
    match (&ask.gaps[..], &ask.series, &ask.from, &ask.to) {
        ([_, ..], None, None, None) => {
            let mut wanted = vec![];
            let mut golden = vec![];
            for id in &ask.gaps {
                let (key, slot) = moments::parse_gap_id(id)?;
                match key.source == GOLDEN {
                    true => golden.extend(of_golden(desk, setup, id, &setup.present(key), slot).await?),
                    false => wanted.push((id.clone(), (setup.present(key), slot))),
                }
            }
            if wanted.is_empty() {
                return Ok(golden);
            }
            let mut rows = wanted.iter().map(|(_, (key, _))| find(key)).collect::<Result<Vec<_>, _>>()?;
            rows.sort_by_key(|r| r.id);
            rows.dedup_by_key(|r| r.id);
            let views = desk.views(setup, rows).await?;
            let gaps: Vec<_> = views.iter().flat_map(|v| v.gaps().iter().map(move |g| (&v.row, g.span.clone()))).collect();
            let gap = |(id, (key, slot)): &(String, (SeriesKey, mizuno_core::Slot))| -> Result<(SeriesRow, Span), Refusal> {
                let found = gaps.iter().find(|(row, span)| row.key == *key && span.start == *slot);
                let hint = "it may have been closed or have moved; list the gaps again".to_owned();
                found
                    .map(|(row, span)| ((*row).clone(), span.clone()))
                    .ok_or_else(|| ServiceError::Unknown { kind: "gap", id: id.clone(), hint, see: "gaps" }.into())
            };
            let own = wanted.iter().map(gap).collect::<Result<Vec<_>, _>>()?;
            Ok(golden.into_iter().chain(own).collect())
        }
        ([], Some(name), Some(from), Some(to)) => {
            let key = name.parse::<SeriesKey>().map_err(|e| Refusal::invalid(e.to_string()))?;
            let row = find(&key)?;
            let post = setup.post_of(&key).ok_or_else(|| Refusal::invalid(format!("no collector keeps {key}")))?;
            let span = moments::span(moments::Asked { from: Some(from), to: Some(to) }, key.interval, post.calendar)?;
            Ok(vec![(row, span)])
        }
        _ => Err(Refusal::invalid("name either gaps, or a series with from and to".to_owned())),
    }
}

/// The gaps at each source that make a gap of a golden series: who accepts that nobody has a bar accepts it at each of them.
async fn of_golden(
    desk: &Desk,
    setup: &Setup,
    id: &str,
    key: &SeriesKey,
    slot: mizuno_core::Slot,
) -> Result<Vec<(SeriesRow, Span)>, Refusal> {
    let splits = desk.splits(setup, desk.store.newest()).await?;
    let mut rows = desk.store.sources_of(&key.symbol, key.interval, key.side).await?;
    rows.retain(|r| takes_part(setup, &splits, &r.key).is_ok());
    let views = desk.views(setup, rows).await?;
    let whole = union(setup, &views);
    let span = whole.and_then(|w| w.gaps().into_iter().map(|(span, _)| span).find(|span| span.start == slot));
    let hint = "it may have been closed or have moved; list the gaps again".to_owned();
    let span = span.ok_or_else(|| ServiceError::Unknown { kind: "gap", id: id.to_owned(), hint, see: "gaps" })?;
    let without = views.iter().filter(|v| v.standing.missing().overlaps(&span));
    Ok(without.map(|v| (v.row.clone(), span.clone())).collect())
}

/// Takes an excuse back; its slots are missing again.
#[utoipa::path(params(("id" = i64, Path, description = "Number of the excuse")), responses((status = 204, description = "Taken back")))]
#[delete("/api/v1/excuses/{id}")]
pub(super) async fn revoke_excuse(desk: Data<Desk>, id: Path<i64>) -> Result<HttpResponse, Refusal> {
    desk.store.revoke_excuse(*id).await?;
    desk.events.tell(Event::Excuses);
    Ok(HttpResponse::NoContent().finish())
}
