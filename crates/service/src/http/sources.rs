//! Trying sources, their lists, and taking up a changed configuration.

use super::{
    problem::Refusal,
    query::{Nothing, Query},
    wire,
};
use actix_web::{
    HttpResponse, get, post,
    web::{Data, Json, Path},
};
use mizuno_api::{Decide, ListChange, ListStatus, Reloaded, Tried, Try};
use mizuno_collect::Collect;
use serde::Deserialize;
use utoipa::IntoParams;

/// Asks a source for one window of one instrument and says what it would make of the answer; nothing is kept.
#[utoipa::path(request_body = Try, responses((status = 200, body = Tried)))]
#[post("/api/v1/tries")]
pub(super) async fn try_source(collect: Data<Collect>, ask: Json<Try>) -> Result<Json<Tried>, Refusal> {
    Ok(Json(wire::tried(&collect.try_source(wire::trial(ask.into_inner())).await?)))
}

/// The lists that sources keep, with how the newest collection of each went.
#[utoipa::path(responses((status = 200, body = Vec<ListStatus>)))]
#[get("/api/v1/lists")]
pub(super) async fn show_lists(collect: Data<Collect>, _: Query<Nothing>) -> Result<Json<Vec<ListStatus>>, Refusal> {
    Ok(Json(collect.list_standings().await?.iter().map(wire::list).collect()))
}

/// Collects a list now.
#[utoipa::path(
    params(("source" = String, Path, description = "Name of the source"), ("list" = String, Path, description = "Name of the list")),
    responses((status = 200, body = ListStatus))
)]
#[post("/api/v1/lists/{source}/{list}")]
pub(super) async fn collect_list(collect: Data<Collect>, which: Path<(String, String)>) -> Result<Json<ListStatus>, Refusal> {
    let (source, list) = which.into_inner();
    Ok(Json(wire::list(&collect.collect_list(&source, &list).await?)))
}

/// Takes a list that was held back since it is so much shorter than before, or refuses it.
#[utoipa::path(
    params(("source" = String, Path, description = "Name of the source"), ("list" = String, Path, description = "Name of the list")),
    request_body = Decide,
    responses((status = 204, description = "Decided"))
)]
#[post("/api/v1/lists/{source}/{list}/decision")]
pub(super) async fn decide_list(collect: Data<Collect>, which: Path<(String, String)>, ask: Json<Decide>) -> Result<HttpResponse, Refusal> {
    let (source, list) = which.into_inner();
    collect.decide_list(&source, &list, ask.take, &ask.by).await?;
    Ok(HttpResponse::NoContent().finish())
}

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct Since {
    /// How many days back; 7 when left out.
    days: Option<u32>,
}

/// What lists said that they had not said before, newest first.
#[utoipa::path(params(Since), responses((status = 200, body = Vec<ListChange>)))]
#[get("/api/v1/lists/changes")]
pub(super) async fn list_changes(collect: Data<Collect>, since: Query<Since>) -> Result<Json<Vec<ListChange>>, Refusal> {
    let days = i64::from(since.days.unwrap_or(7).min(36_500));
    let since = collect.desk.clock.now().plus(-days * mizuno_core::time::DAY);
    Ok(Json(collect.list_changes(since).await?.into_iter().map(wire::list_change).collect()))
}

/// Reads the configuration again and puts it to work; a broken one leaves the old one at work.
#[utoipa::path(responses((status = 200, body = Reloaded)))]
#[post("/api/v1/reload")]
pub(super) async fn reload(collect: Data<Collect>) -> Result<Json<Reloaded>, Refusal> {
    Ok(Json(Reloaded { changes: collect.reload(mizuno_research::question::saved::check).await? }))
}
