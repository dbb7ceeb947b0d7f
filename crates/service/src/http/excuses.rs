//! Absences that a person accepts.

use super::{problem::Refusal, wire};
use crate::{desk::Desk, error::ServiceError, moments};
use actix_web::{
    delete, get, post,
    web::{Data, Json, Path},
    HttpResponse,
};
use mizuno_api::{Event, Excuse, NewExcuse};
use mizuno_core::{SeriesKey, Span};
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

/// Accepts an absence, with a name and a note.
#[utoipa::path(request_body = NewExcuse, responses((status = 201, body = Excuse)))]
#[post("/api/v1/excuses")]
pub(super) async fn give_excuse(desk: Data<Desk>, ask: Json<NewExcuse>) -> Result<HttpResponse, Refusal> {
    let ask = ask.into_inner();
    let (by, note) = (ask.by.trim().to_owned(), ask.note.trim().to_owned());
    if by.is_empty() || note.is_empty() {
        return Err(Refusal::invalid("an excuse needs a name (`by`) and a reason (`note`); nothing closes silently".to_owned()));
    }
    let (row, span) = stretch(&desk, &ask).await?;
    let now = desk.clock.now();
    let id = desk.store.excuse(row.id, span, by, note, now).await?;
    desk.events.tell(Event::Excuses);
    let given = desk.store.excuses().await?.into_iter().find(|e| e.id == id);
    let given = given.ok_or_else(|| ServiceError::unknown("excuse", &id.to_string(), std::iter::empty()))?;
    Ok(HttpResponse::Created().json(wire::excuse(&given, &row.key)))
}

/// The series and span an excuse is about.
async fn stretch(desk: &Desk, ask: &NewExcuse) -> Result<(SeriesRow, Span), Refusal> {
    let find = async |key: &SeriesKey| {
        let all = desk.store.series().await?;
        let names: Vec<String> = all.iter().map(|s| s.key.to_string()).collect();
        let found = all.into_iter().find(|s| s.key == *key);
        Ok::<_, Refusal>(found.ok_or_else(|| ServiceError::unknown("series", &key.to_string(), names.iter().map(String::as_str)))?)
    };
    match (&ask.gap, &ask.series, &ask.from, &ask.to) {
        (Some(id), None, None, None) => {
            let (key, slot) = moments::parse_gap_id(id)?;
            let row = find(&key).await?;
            let views = desk.views(vec![row.clone()]).await?;
            let gap = views.iter().flat_map(|v| v.gaps()).find(|g| g.span.start == slot);
            let gap = gap.ok_or_else(|| ServiceError::Unknown {
                kind: "gap",
                id: id.clone(),
                hint: "it may have been closed or have moved; list the gaps again".to_owned(),
            })?;
            Ok((row, gap.span))
        }
        (None, Some(name), Some(from), Some(to)) => {
            let key = name.parse::<SeriesKey>().map_err(|e| Refusal::invalid(e.to_string()))?;
            let row = find(&key).await?;
            let post = desk.post_of(&key).ok_or_else(|| Refusal::invalid(format!("no collector keeps {key}")))?;
            let span = moments::span(moments::Asked { from: Some(from), to: Some(to) }, key.interval, post.calendar)?;
            Ok((row, span))
        }
        _ => Err(Refusal::invalid("name either a gap, or a series with from and to".to_owned())),
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
