//! Runs: looked at, started, cancelled.

use super::{problem::Refusal, query::Query, wire};
use actix_web::{
    HttpResponse, get, post,
    web::{Data, Json, Path},
};
use mizuno_api::{Repair, Resume, Run, StartAudit, StartRun};
use mizuno_collect::{Collect, Order};
use mizuno_store::runs::Reason;
use serde::Deserialize;
use utoipa::IntoParams;

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct Which {
    /// Only runs of this collector.
    collector: Option<String>,
    /// Runs at most; 50 when left out.
    most: Option<u32>,
}

/// The runs, newest first.
#[utoipa::path(params(Which), responses((status = 200, body = Vec<Run>)))]
#[get("/api/v1/runs")]
pub(super) async fn list_runs(collect: Data<Collect>, which: Query<Which>) -> Result<Json<Vec<Run>>, Refusal> {
    let setup = collect.desk.setup();
    if let Some(name) = &which.collector {
        setup.post(name)?;
    }
    let mut out = vec![];
    for row in collect.desk.store.runs(which.collector.as_deref(), which.most.unwrap_or(50).into()).await? {
        out.push(wire::run(&collect.shown(&row).await?));
    }
    Ok(Json(out))
}

/// One run, with its figures as they stand.
#[utoipa::path(params(("id" = i64, Path, description = "Number of the run")), responses((status = 200, body = Run)))]
#[get("/api/v1/runs/{id}")]
pub(super) async fn show_run(collect: Data<Collect>, id: Path<i64>) -> Result<Json<Run>, Refusal> {
    Ok(Json(wire::run(&collect.shown_run(*id).await?)))
}

/// Starts a run of a collector now.
#[utoipa::path(
    request_body = StartRun,
    responses(
        (status = 202, body = Run),
        (status = 409, description = "It is running already", body = mizuno_api::Problem, content_type = "application/problem+json"),
    )
)]
#[post("/api/v1/runs")]
pub(super) async fn start_run(collect: Data<Collect>, ask: Json<StartRun>) -> Result<HttpResponse, Refusal> {
    let setup = collect.desk.setup();
    let ask = ask.into_inner();
    let mut symbols = vec![];
    for symbol in &ask.instruments {
        symbols.push(setup.instrument(symbol)?.symbol.clone());
    }
    let order = Order { symbols, from: ask.from, to: ask.to, again: ask.again, ..Order::default() };
    let run = collect.into_inner().start_run(&ask.collector, Reason::Request, order).await?;
    Ok(HttpResponse::Accepted().json(wire::run(&run)))
}

/// Takes a run up again that was cancelled or left windows unanswered: what is still missing of it, or only what failed.
#[utoipa::path(
    params(("id" = i64, Path, description = "Number of the run")),
    request_body = Resume,
    responses((status = 202, body = Run))
)]
#[post("/api/v1/runs/{id}/resume")]
pub(super) async fn resume_run(collect: Data<Collect>, id: Path<i64>, ask: Json<Resume>) -> Result<HttpResponse, Refusal> {
    let run = collect.into_inner().resume(*id, ask.failed_only).await?;
    Ok(HttpResponse::Accepted().json(wire::run(&run)))
}

/// Fetches some gaps again, with a run for each collector they belong to.
#[utoipa::path(request_body = Repair, responses((status = 202, body = Vec<Run>)))]
#[post("/api/v1/repairs")]
pub(super) async fn repair_gaps(collect: Data<Collect>, ask: Json<Repair>) -> Result<HttpResponse, Refusal> {
    let gaps = ask.into_inner().gaps;
    if gaps.is_empty() {
        return Err(Refusal::invalid("name at least one gap".to_owned()).see("gaps"));
    }
    let runs = collect.into_inner().repair(gaps).await?;
    Ok(HttpResponse::Accepted().json(runs.iter().map(wire::run).collect::<Vec<_>>()))
}

/// Asks a source again for a random sample of what a collector holds, to see whether it says the same.
#[utoipa::path(request_body = StartAudit, responses((status = 202, body = Run)))]
#[post("/api/v1/audits")]
pub(super) async fn start_audit(collect: Data<Collect>, ask: Json<StartAudit>) -> Result<HttpResponse, Refusal> {
    let run = collect.into_inner().audit(&ask.collector, ask.windows).await?;
    Ok(HttpResponse::Accepted().json(wire::run(&run)))
}

/// Stops a run; what it has under way is finished and kept.
#[utoipa::path(params(("id" = i64, Path, description = "Number of the run")), responses((status = 200, body = Run)))]
#[post("/api/v1/runs/{id}/cancel")]
pub(super) async fn cancel_run(collect: Data<Collect>, id: Path<i64>) -> Result<Json<Run>, Refusal> {
    Ok(Json(wire::run(&collect.cancel_run(*id).await?)))
}
