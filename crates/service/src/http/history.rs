//! What changed when in the configuration.

use super::{
    problem::Refusal,
    query::{Nothing, Query},
};
use actix_web::{
    HttpResponse, get,
    web::{Data, Json, Path},
};
use mizuno_api::{AcceptedConfiguration, FileChange};
use mizuno_desk::{
    Desk, Setup,
    history::{self, Accepted, Change},
};
use serde::Deserialize;
use utoipa::IntoParams;

fn wire(setup: &Setup, accepted: Accepted, whole: bool) -> AcceptedConfiguration {
    let change = |c: history::FileChange| FileChange {
        path: c.path,
        change: match c.change {
            Change::New => "new",
            Change::Changed => "changed",
            Change::Gone => "gone",
        }
        .to_owned(),
        added: c.added as u64,
        removed: c.removed as u64,
        difference: whole.then(|| setup.without_secrets(&c.difference)),
    };
    AcceptedConfiguration {
        number: accepted.id,
        accepted_at: accepted.accepted_at.to_string(),
        files: accepted.files as u64,
        changes: accepted.changes.into_iter().map(change).collect(),
    }
}

/// The configurations that the service accepted, the newest first, each with the files that changed in it.
#[utoipa::path(responses((status = 200, body = Vec<AcceptedConfiguration>)))]
#[get("/api/v1/history")]
pub(super) async fn list_configurations(desk: Data<Desk>, _: Query<Nothing>) -> Result<Json<Vec<AcceptedConfiguration>>, Refusal> {
    let setup = desk.setup();
    Ok(Json(desk.history().await?.into_iter().map(|a| wire(&setup, a, false)).collect()))
}

/// One of them, with the difference of each file that changed.
#[utoipa::path(
    params(("number" = i64, Path, description = "The number of the configuration")),
    responses((status = 200, body = AcceptedConfiguration))
)]
#[get("/api/v1/history/{number}")]
pub(super) async fn show_configuration(desk: Data<Desk>, number: Path<i64>) -> Result<Json<AcceptedConfiguration>, Refusal> {
    Ok(Json(wire(&desk.setup(), desk.accepted_as(*number).await?, true)))
}

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct WhichFile {
    /// Path of the file within the configuration, as in `ranking.toml`.
    path: String,
}

/// A file as it stood in one of them.
#[utoipa::path(
    params(("number" = i64, Path, description = "The number of the configuration"), WhichFile),
    responses((status = 200, description = "The text of the file", body = String, content_type = "text/plain"))
)]
#[get("/api/v1/history/{number}/file")]
pub(super) async fn serve_file(desk: Data<Desk>, number: Path<i64>, which: Query<WhichFile>) -> Result<HttpResponse, Refusal> {
    let text = desk.text_then(*number, &which.path).await?;
    Ok(HttpResponse::Ok().content_type("text/plain; charset=utf-8").body(desk.setup().without_secrets(&text)))
}
