//! Questions as SQL, and the statements that make the table of an edition known to an engine.

use super::{
    bars::{Keys, from_body, pairs, read, refused},
    problem::Refusal,
    query::Query,
};
use actix_web::{
    HttpRequest, HttpResponse, get, post,
    web::{Bytes, Data, Path},
};
use mizuno_research::{
    Research,
    question::{Question, given::Given},
    sql::Engine,
};
use serde::Deserialize;
use std::sync::Arc;
use utoipa::IntoParams;

/// The media type of SQL (RFC 6922).
const SQL: &str = "application/sql";

/// Which table, and for whom.
#[derive(Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct Over {
    /// The edition whose table is read, as `desk/3` or `desk/latest`; the newest of the one spec that has a table when left out.
    edition: Option<String>,
    /// `datafusion` (also when left out), `duckdb` or `spark`.
    engine: Option<String>,
}

impl Over {
    /// What stands behind the question mark beside the keys of a question.
    fn among(pairs: &mut Vec<(String, String)>) -> Over {
        let mut take = |key: &str| pairs.iter().position(|(k, _)| k == key).map(|at| pairs.remove(at).1);
        Over { edition: take("edition"), engine: take("engine") }
    }

    fn engine(&self) -> Result<Engine, Refusal> {
        self.engine.as_deref().map_or(Ok(Engine::DataFusion), str::parse).map_err(Refusal::invalid)
    }
}

/// A question as a query over the table of an edition: the rows of its answer as of the edition's instant. What a query cannot say is refused by
/// name.
#[utoipa::path(
    params(Keys, Over),
    responses(
        (status = 200, description = "The query; the header Mizuno-Edition names the edition, Mizuno-As-Of its instant", content((String = "application/sql"))),
        (status = 404, description = "No such edition, instrument or series", body = mizuno_api::Problem, content_type = "application/problem+json"),
    )
)]
#[get("/api/v1/translation")]
pub(super) async fn translate(research: Data<Research>, request: HttpRequest) -> Result<HttpResponse, Refusal> {
    let mut given = pairs(&request)?;
    let over = Over::among(&mut given);
    let question = read(&research, Given::from_pairs(given).map_err(Refusal::invalid)?).await?;
    translated(research.into_inner(), question, &over).await
}

/// The same for a question that is too long for an address.
#[utoipa::path(
    params(Over),
    request_body(content((mizuno_api::AnyQuestion = "application/json"), (String = "application/toml"))),
    responses((status = 200, description = "The query", content((String = "application/sql"))))
)]
#[post("/api/v1/translation")]
pub(super) async fn translate_long_question(research: Data<Research>, request: HttpRequest, body: Bytes) -> Result<HttpResponse, Refusal> {
    let mut given = pairs(&request)?;
    let over = Over::among(&mut given);
    if let Some((key, _)) = given.first() {
        return Err(refused(vec![format!("{key}: write it into the question, and leave it out of the address")]));
    }
    let question = from_body(&research, &request, &body).await?;
    translated(research.into_inner(), question, &over).await
}

async fn translated(research: Arc<Research>, question: Question, over: &Over) -> Result<HttpResponse, Refusal> {
    let translated = research.sql(question, over.edition.as_deref(), over.engine()?).await?;
    Ok(HttpResponse::Ok()
        .content_type(SQL)
        .insert_header(("Mizuno-Edition", translated.edition))
        .insert_header(("Mizuno-As-Of", translated.instant.to_string()))
        .body(translated.sql))
}

/// For whom, and where the files are.
#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct Declared {
    /// `datafusion` (also when left out), `duckdb` or `spark`.
    engine: Option<String>,
    /// The folder of the edition as the engine sees it; where it was published when left out.
    place: Option<String>,
}

/// The statements that make the tables of an edition known to an engine.
#[utoipa::path(
    params(
        ("spec" = String, Path, description = "The name of the spec"),
        ("which" = String, Path, description = "Its number, its label, or `latest`"),
        Declared
    ),
    responses(
        (status = 200, description = "The statements", content((String = "application/sql"))),
        (status = 404, description = "No such edition", body = mizuno_api::Problem, content_type = "application/problem+json"),
    )
)]
#[get("/api/v1/editions/{spec}/{which}/tables")]
pub(super) async fn declare_tables(
    research: Data<Research>,
    path: Path<(String, String)>,
    query: Query<Declared>,
) -> Result<HttpResponse, Refusal> {
    let over = Over { edition: None, engine: query.engine.clone() };
    let statements = research.declaration((&path.0, &path.1), over.engine()?, query.place.as_deref()).await?;
    Ok(HttpResponse::Ok().content_type(SQL).body(statements))
}
