//! Runs: looked at, started, cancelled.

use super::{problem::Refusal, query::Query};
use crate::{desk::Desk, moments, run::Order, setup::Setup};
use actix_web::{
    HttpResponse, get, post,
    web::{Data, Json, Path},
};
use mizuno_api::{Repair, Resume, Run, StartAudit, StartRun};
use mizuno_config::GOLDEN;
use mizuno_store::runs::Reason;
use serde::Deserialize;
use std::collections::BTreeMap;
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
pub(super) async fn list_runs(desk: Data<Desk>, which: Query<Which>) -> Result<Json<Vec<Run>>, Refusal> {
    let setup = desk.setup();
    if let Some(name) = &which.collector {
        setup.post(name)?;
    }
    let mut out = vec![];
    for row in desk.store.runs(which.collector.as_deref(), which.most.unwrap_or(50).into()).await? {
        out.push(desk.shown(&row).await?);
    }
    Ok(Json(out))
}

/// One run, with its figures as they stand.
#[utoipa::path(params(("id" = i64, Path, description = "Number of the run")), responses((status = 200, body = Run)))]
#[get("/api/v1/runs/{id}")]
pub(super) async fn show_run(desk: Data<Desk>, id: Path<i64>) -> Result<Json<Run>, Refusal> {
    Ok(Json(desk.shown_run(*id).await?))
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
pub(super) async fn start_run(desk: Data<Desk>, ask: Json<StartRun>) -> Result<HttpResponse, Refusal> {
    let setup = desk.setup();
    let ask = ask.into_inner();
    let mut symbols = vec![];
    for symbol in &ask.instruments {
        symbols.push(setup.instrument(symbol)?.symbol.clone());
    }
    let order = Order { symbols, from: ask.from, to: ask.to, again: ask.again, ..Order::default() };
    let run = desk.into_inner().start_run(&ask.collector, Reason::Request, order).await?;
    Ok(HttpResponse::Accepted().json(run))
}

/// Takes a run up again that was cancelled or left windows unanswered: what is still missing of it, or only what failed.
#[utoipa::path(
    params(("id" = i64, Path, description = "Number of the run")),
    request_body = Resume,
    responses((status = 202, body = Run))
)]
#[post("/api/v1/runs/{id}/resume")]
pub(super) async fn resume_run(desk: Data<Desk>, id: Path<i64>, ask: Json<Resume>) -> Result<HttpResponse, Refusal> {
    let row = desk.store.run(*id).await?;
    let mut order: Order = serde_json::from_str(&row.scope).unwrap_or_default();
    if ask.failed_only {
        order.failed_of = Some(row.id);
    }
    let run = desk.into_inner().start_run(&row.collector, Reason::Request, order).await?;
    Ok(HttpResponse::Accepted().json(run))
}

/// Fetches some gaps again, with a run for each collector they belong to.
#[utoipa::path(request_body = Repair, responses((status = 202, body = Vec<Run>)))]
#[post("/api/v1/repairs")]
pub(super) async fn repair_gaps(desk: Data<Desk>, ask: Json<Repair>) -> Result<HttpResponse, Refusal> {
    let setup = desk.setup();
    let mut orders: BTreeMap<String, Order> = BTreeMap::new();
    for id in &with_sources(&desk, &setup, ask.into_inner().gaps).await? {
        let (key, _) = moments::parse_gap_id(id)?;
        setup.instrument(&key.symbol)?;
        let post = setup
            .post_of(&key)
            .ok_or_else(|| Refusal::invalid(format!("no collector keeps {key}, so there is nobody to ask for `{id}`")))?;
        orders.entry(post.collector.name.clone()).or_default().gaps.push(id.clone());
    }
    if orders.is_empty() {
        return Err(Refusal::invalid("name at least one gap".to_owned()).see("gaps"));
    }
    let desk = desk.into_inner();
    let mut runs = vec![];
    for (collector, order) in orders {
        runs.push(desk.start_run(&collector, Reason::Repair, order).await?);
    }
    Ok(HttpResponse::Accepted().json(runs))
}

/// The ids of gaps, with those of golden series replaced by the gaps that each of its sources has there.
async fn with_sources(desk: &Desk, setup: &Setup, ids: Vec<String>) -> Result<Vec<String>, Refusal> {
    let mut out = vec![];
    for id in ids {
        let (key, slot) = moments::parse_gap_id(&id)?;
        if key.source != GOLDEN {
            out.push(id);
            continue;
        }
        let rows = desk.store.sources_of(&key.symbol, key.interval, key.side).await?;
        for view in desk.views(setup, rows).await? {
            let here = view.gaps().iter().filter(|g| g.cause.can_refetch() && g.span.contains(&slot));
            out.extend(here.map(|g| moments::gap_id(&view.row.key, g.span.start)));
        }
    }
    Ok(out)
}

/// Asks a source again for a random sample of what a collector holds, to see whether it says the same.
#[utoipa::path(request_body = StartAudit, responses((status = 202, body = Run)))]
#[post("/api/v1/audits")]
pub(super) async fn start_audit(desk: Data<Desk>, ask: Json<StartAudit>) -> Result<HttpResponse, Refusal> {
    if ask.windows == 0 {
        return Err(Refusal::invalid("windows: 0 would ask for nothing; say how many windows to ask for again".to_owned()));
    }
    let order = Order { audit: Some(ask.windows), ..Order::default() };
    let run = desk.into_inner().start_run(&ask.collector, Reason::Request, order).await?;
    Ok(HttpResponse::Accepted().json(run))
}

/// Stops a run; what it has under way is finished and kept.
#[utoipa::path(params(("id" = i64, Path, description = "Number of the run")), responses((status = 200, body = Run)))]
#[post("/api/v1/runs/{id}/cancel")]
pub(super) async fn cancel_run(desk: Data<Desk>, id: Path<i64>) -> Result<Json<Run>, Refusal> {
    Ok(Json(desk.cancel_run(*id).await?))
}
