//! Fetches, and the bytes they brought.

use super::{problem::Refusal, query::Query, wire};
use actix_web::{
    HttpResponse, get,
    web::{Data, Json, Path},
};
use mizuno_api::Fetch;
use mizuno_desk::{Desk, DeskError};
use mizuno_store::fetches::Filter;
use serde::Deserialize;
use utoipa::IntoParams;

/// Lines of a payload shown with its fetch.
const FIRST_LINES: usize = 12;

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct Which {
    /// Only fetches of this run.
    run: Option<i64>,
    /// Only fetches of this series.
    series: Option<String>,
    /// Only fetches of this source.
    source: Option<String>,
    /// `failed`, `stored` or `answered`.
    state: Option<String>,
    /// Fetches at most; 100 when left out.
    most: Option<u32>,
}

/// The fetches, newest first.
#[utoipa::path(params(Which), responses((status = 200, body = Vec<Fetch>)))]
#[get("/api/v1/fetches")]
pub(super) async fn list_fetches(desk: Data<Desk>, which: Query<Which>) -> Result<Json<Vec<Fetch>>, Refusal> {
    let all = desk.store.series().await?;
    let series = match &which.series {
        None => None,
        Some(name) => match all.iter().find(|row| row.key.to_string() == *name) {
            Some(row) => Some(row.id),
            None => return Err(desk.no_series(name).await?.into()),
        },
    };
    if let Some(state) = which.state.as_deref().filter(|s| !["failed", "stored", "answered"].contains(s)) {
        return Err(Refusal::invalid(format!("state: `{state}` is none; a fetch is failed, stored or answered")));
    }
    if let Some(run) = which.run {
        desk.store.run(run).await?;
    }
    desk.setup().check_names(&all, which.source.as_deref(), None, None)?;
    let filter = Filter { run: which.run, series, source: which.source.as_deref(), state: which.state.as_deref(), ..Filter::default() };
    let rows = desk.store.fetches(filter, which.most.unwrap_or(100).into()).await?;
    Ok(Json(rows.iter().filter_map(|row| Some(wire::fetch(row, &all.get(row.series)?.key))).collect()))
}

/// One fetch, with the first lines of its payload.
#[utoipa::path(params(("id" = i64, Path, description = "Number of the fetch")), responses((status = 200, body = Fetch)))]
#[get("/api/v1/fetches/{id}")]
pub(super) async fn show_fetch(desk: Data<Desk>, id: Path<i64>) -> Result<Json<Fetch>, Refusal> {
    let row = desk.store.fetch(*id).await?;
    let all = desk.store.series().await?;
    let series = all.get(row.series).ok_or_else(|| Refusal::invalid(format!("fetch {id} belongs to no series")))?;
    let mut shown = wire::fetch(&row, &series.key);
    shown.pages = desk.store.pages(&row).await?.into_iter().map(wire::page).collect();
    if let Some(digest) = &row.payload {
        let body = desk.store.payload(digest).await?;
        let text = desk.setup().without_secrets(&mizuno_sources::failure::beginning(&body));
        shown.first_lines = Some(text.lines().take(FIRST_LINES).map(|l| l.chars().take(400).collect()).collect());
    }
    Ok(Json(shown))
}

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct Whole {
    /// Which page of the answer, from 1; the first when left out.
    page: Option<usize>,
}

/// The exact bytes a fetch was answered with.
#[utoipa::path(
    params(("id" = i64, Path, description = "Number of the fetch"), Whole),
    responses((status = 200, description = "The bytes", content_type = "application/octet-stream"), (status = 404, description = "No such fetch, or no answer", body = mizuno_api::Problem, content_type = "application/problem+json"))
)]
#[get("/api/v1/fetches/{id}/payload")]
pub(super) async fn serve_payload(desk: Data<Desk>, id: Path<i64>, which: Query<Whole>) -> Result<HttpResponse, Refusal> {
    let row = desk.store.fetch(*id).await?;
    let none = || DeskError::Unknown {
        kind: "payload of fetch",
        id: id.to_string(),
        hint: "the source gave no answer at all".to_owned(),
        see: "",
    };
    let pages = desk.store.pages(&row).await?;
    let digest = pages.into_iter().nth(which.page.unwrap_or(1).saturating_sub(1)).and_then(|p| p.payload).ok_or_else(none)?;
    let body = desk.store.payload(&digest).await?;
    // Never shown as a page: what a source sent may be a page meant to mislead.
    Ok(HttpResponse::Ok()
        .content_type("application/octet-stream")
        .insert_header(("Content-Disposition", format!("attachment; filename=\"fetch-{id}.payload\"")))
        .insert_header(("ETag", format!("\"{digest}\"")))
        .body(body))
}
