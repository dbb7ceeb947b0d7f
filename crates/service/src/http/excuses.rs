//! What a person accepts: absences and findings.

use super::{problem::Refusal, wire};
use crate::{desk::Desk, error::ServiceError, moments, setup::Setup};
use actix_web::{
    HttpResponse, delete, get, post,
    web::{Data, Json, Path},
};
use mizuno_api::{Event, Excuse, NewExcuse};
use mizuno_core::{SeriesKey, Span, Timestamp};
use mizuno_store::series::SeriesRow;

/// All excuses ever given, newest first.
#[utoipa::path(responses((status = 200, body = Vec<Excuse>)))]
#[get("/api/v1/excuses")]
pub(super) async fn list_excuses(desk: Data<Desk>) -> Result<Json<Vec<Excuse>>, Refusal> {
    let series = desk.store.series().await?;
    let rows = desk.store.excuses().await?;
    let shown = rows.iter().filter_map(|row| Some(wire::excuse(row, &series.iter().find(|s| s.id == row.series)?.key)));
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
    let ids = desk.store.excuse(spans, by.to_owned(), note.to_owned(), desk.clock.now()).await?;
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
    let known = desk.known(setup, Timestamp::MAX).await?;
    let mut out = vec![];
    for id in ids {
        let unknown =
            || ServiceError::Unknown { kind: "finding", id: id.clone(), hint: "list them again with: mizuno findings".to_owned() };
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
            let wanted = ask.gaps.iter().map(|id| moments::parse_gap_id(id)).collect::<Result<Vec<_>, _>>()?;
            let mut rows = wanted.iter().map(|(key, _)| find(key)).collect::<Result<Vec<_>, _>>()?;
            rows.sort_by_key(|r| r.id);
            rows.dedup_by_key(|r| r.id);
            let views = desk.views(setup, rows).await?;
            let gaps: Vec<_> = views.iter().flat_map(|v| v.gaps().into_iter().map(move |g| (&v.row, g.span))).collect();
            let gap = |(id, (key, slot)): (&String, &(SeriesKey, mizuno_core::Slot))| {
                let found = gaps.iter().find(|(row, span)| row.key == *key && span.start == *slot);
                let hint = "it may have been closed or have moved; list the gaps again".to_owned();
                found
                    .map(|(row, span)| ((*row).clone(), span.clone()))
                    .ok_or_else(|| ServiceError::Unknown { kind: "gap", id: id.clone(), hint }.into())
            };
            ask.gaps.iter().zip(&wanted).map(gap).collect()
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

/// Takes an excuse back; its slots are missing again.
#[utoipa::path(params(("id" = i64, Path, description = "Number of the excuse")), responses((status = 204, description = "Taken back")))]
#[delete("/api/v1/excuses/{id}")]
pub(super) async fn revoke_excuse(desk: Data<Desk>, id: Path<i64>) -> Result<HttpResponse, Refusal> {
    desk.store.revoke_excuse(*id, desk.clock.now()).await?;
    desk.events.tell(Event::Excuses);
    Ok(HttpResponse::NoContent().finish())
}
