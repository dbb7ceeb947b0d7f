//! What a person accepts: absences and findings.

use super::{
    problem::Refusal,
    query::{Nothing, Query},
    wire,
};
use actix_web::{
    HttpResponse, delete, get, post,
    web::{Data, Json, Path},
};
use mizuno_api::{Excuse, NewExcuse};
use mizuno_desk::Desk;
use mizuno_research::{Research, excusing::Excused};

/// All excuses ever given, newest first.
#[utoipa::path(responses((status = 200, body = Vec<Excuse>)))]
#[get("/api/v1/excuses")]
pub(super) async fn list_excuses(desk: Data<Desk>, _: Query<Nothing>) -> Result<Json<Vec<Excuse>>, Refusal> {
    let series = desk.store.series().await?;
    let rows = desk.store.excuses().await?;
    let shown = rows.iter().filter_map(|row| Some(wire::excuse(row, &series.get(row.series)?.key)));
    Ok(Json(shown.collect()))
}

/// Accepts absences or findings, with a name and a note; all of them or, when one cannot be found, none.
#[utoipa::path(request_body = NewExcuse, responses((status = 201, body = Vec<Excuse>)))]
#[post("/api/v1/excuses")]
pub(super) async fn give_excuse(research: Data<Research>, ask: Json<NewExcuse>) -> Result<HttpResponse, Refusal> {
    let NewExcuse { gaps, findings, series, from, to, by, note } = ask.into_inner();
    let what = match (&gaps[..], &findings[..], series, from, to) {
        ([_, ..], [], None, None, None) => Excused::Gaps(gaps),
        ([], [_, ..], None, _, _) => Excused::Findings(findings),
        ([], [], Some(series), Some(from), Some(to)) => Excused::Stretch { series, from, to },
        _ => return Err(Refusal::invalid("name either gaps, or findings, or a series with from and to".to_owned())),
    };
    let given = research.excuse(&research.desk.setup(), what, &by, &note).await?;
    Ok(HttpResponse::Created().json(given.iter().map(|(row, key)| wire::excuse(row, key)).collect::<Vec<_>>()))
}

/// Takes an excuse back; its slots are missing again.
#[utoipa::path(params(("id" = i64, Path, description = "Number of the excuse")), responses((status = 204, description = "Taken back")))]
#[delete("/api/v1/excuses/{id}")]
pub(super) async fn revoke_excuse(research: Data<Research>, id: Path<i64>) -> Result<HttpResponse, Refusal> {
    research.revoke(*id).await?;
    Ok(HttpResponse::NoContent().finish())
}
