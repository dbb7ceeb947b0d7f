//! Questions saved under a name: listed, read with their history, saved, and taken away.

use super::{
    problem::Refusal,
    query::{Nothing, Query},
};
use actix_web::{
    HttpResponse, delete, get, put,
    web::{Data, Json, Path},
};
use mizuno_api::{SaveQuestion, SavedQuestion};
use mizuno_research::{
    Research,
    question::{Question, given::Given, saved::Saved},
};
use serde::Deserialize;
use utoipa::IntoParams;

fn wire(saved: Saved) -> SavedQuestion {
    SavedQuestion { name: saved.name, toml: saved.text, by: saved.by, saved_at: saved.saved_at.map(|at| at.to_string()) }
}

/// The questions saved under a name: the operator's, which are files of the configuration, and those of researchers.
#[utoipa::path(responses((status = 200, body = Vec<SavedQuestion>)))]
#[get("/api/v1/questions")]
pub(super) async fn list_questions(research: Data<Research>, _: Query<Nothing>) -> Result<Json<Vec<SavedQuestion>>, Refusal> {
    let saved = research.saved_questions(&research.desk.setup()).await?;
    Ok(Json(saved.into_iter().map(wire).collect()))
}

/// What a name has meant, the newest first.
#[utoipa::path(params(("name" = String, Path, description = "The name")), responses((status = 200, body = Vec<SavedQuestion>)))]
#[get("/api/v1/questions/{name}")]
pub(super) async fn show_question(research: Data<Research>, name: Path<String>) -> Result<Json<Vec<SavedQuestion>>, Refusal> {
    let saved = research.saved_under(&research.desk.setup(), &name).await?;
    Ok(Json(saved.into_iter().map(wire).collect()))
}

/// Saves a question under a name, in the place of what the name meant before; its history is kept.
#[utoipa::path(
    params(("name" = String, Path, description = "The name: letters, digits, - and _")),
    request_body = SaveQuestion,
    responses((status = 200, body = Vec<SavedQuestion>))
)]
#[put("/api/v1/questions/{name}")]
pub(super) async fn save_question(
    research: Data<Research>,
    name: Path<String>,
    ask: Json<SaveQuestion>,
) -> Result<Json<Vec<SavedQuestion>>, Refusal> {
    let given = if ask.text.trim_start().starts_with('{') { Given::from_json(&ask.text) } else { Given::from_toml(&ask.text) };
    let question = Question::read(given.map_err(Refusal::invalid)?).map_err(|problems| Refusal::invalid(problems.join("; ")))?;
    let setup = research.desk.setup();
    research.save(&setup, &name, &question, &ask.by).await?;
    Ok(Json(research.saved_under(&setup, &name).await?.into_iter().map(wire).collect()))
}

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct By {
    /// Who takes it away.
    by: String,
}

/// Takes a name away; its history stays.
#[utoipa::path(
    params(("name" = String, Path, description = "The name"), By),
    responses((status = 204, description = "Taken away"))
)]
#[delete("/api/v1/questions/{name}")]
pub(super) async fn remove_question(research: Data<Research>, name: Path<String>, by: Query<By>) -> Result<HttpResponse, Refusal> {
    research.unsave(&research.desk.setup(), &name, &by.by).await?;
    Ok(HttpResponse::NoContent().finish())
}
