//! The network interface under `/api/v1`, and the console.

mod bars;
mod concerns;
mod console;
mod coverage;
mod events;
mod excuses;
mod fetches;
mod findings;
mod gaps;
mod guard;
mod holes;
mod instruments;
mod problem;
mod query;
mod representation;
mod runs;
mod sources;
mod status;
mod statuses;
mod trust;
pub(crate) mod wire;

use crate::desk::Desk;
use actix_web::{
    App, HttpResponse, HttpServer,
    dev::Server,
    middleware::{Compress, DefaultHeaders, from_fn},
    web::{self, Data, JsonConfig, PathConfig},
};
use problem::Refusal;
use std::{io, net::TcpListener, sync::Arc};
use utoipa::OpenApi;

/// The largest request body taken, in bytes.
const LARGEST_BODY: usize = 64 * 1024;

#[derive(OpenApi)]
#[openapi(
    info(title = "Mizuno", description = "Complete, reproducible price bars and the story of each.", license(name = "Apache-2.0")),
    paths(
        status::show_status,
        instruments::list_instruments,
        instruments::list_series,
        bars::serve_bars,
        coverage::show_coverage,
        gaps::list_gaps,
        gaps::list_quarantine,
        holes::list_holes,
        findings::list_findings,
        findings::list_checks,
        findings::show_lineup,
        findings::decide,
        findings::settle,
        runs::list_runs,
        runs::show_run,
        runs::start_run,
        runs::repair_gaps,
        runs::start_audit,
        runs::cancel_run,
        runs::resume_run,
        sources::try_source,
        sources::show_lists,
        sources::list_changes,
        sources::collect_list,
        sources::decide_list,
        sources::reload,
        trust::compare_series,
        trust::trace_bar,
        trust::list_restatements,
        fetches::list_fetches,
        fetches::show_fetch,
        fetches::serve_payload,
        excuses::list_excuses,
        excuses::give_excuse,
        excuses::revoke_excuse,
        events::stream_events
    ),
    components(schemas(mizuno_api::Event))
)]
struct Document;

/// The OpenAPI 3.1 document of the interface, as JSON.
#[must_use]
pub fn openapi() -> String {
    let mut document = serde_json::to_value(Document::openapi()).unwrap_or_default();
    statuses::add_common(&mut document);
    serde_json::to_string_pretty(&document).unwrap_or_default()
}

pub(crate) fn server(desk: Arc<Desk>, listener: TcpListener) -> io::Result<Server> {
    let server = HttpServer::new(move || {
        App::new()
            .app_data(Data::from(desk.clone()))
            .app_data(JsonConfig::default().limit(LARGEST_BODY).error_handler(|e, _| Refusal::from(e).into()))
            .app_data(PathConfig::default().error_handler(|e, _| Refusal::invalid(e.to_string()).into()))
            .wrap(from_fn(representation::validate_listings))
            .wrap(Compress::default())
            .wrap(from_fn(representation::validators_by_coding))
            .wrap(from_fn(representation::head_as_get))
            .wrap(DefaultHeaders::new().add(("X-Content-Type-Options", "nosniff")).add(("Referrer-Policy", "no-referrer")))
            .wrap(from_fn(guard::our_own_only))
            .service(status::show_status)
            .service(instruments::list_instruments)
            .service(instruments::list_series)
            .service(bars::serve_bars)
            .service(coverage::show_coverage)
            .service(gaps::list_gaps)
            .service(gaps::list_quarantine)
            .service(holes::list_holes)
            .service(findings::list_findings)
            .service(findings::list_checks)
            .service(findings::show_lineup)
            .service(findings::decide)
            .service(findings::settle)
            .service(runs::list_runs)
            .service(runs::show_run)
            .service(runs::start_run)
            .service(runs::repair_gaps)
            .service(runs::start_audit)
            .service(runs::cancel_run)
            .service(runs::resume_run)
            .service(sources::try_source)
            .service(sources::show_lists)
            .service(sources::list_changes)
            .service(sources::collect_list)
            .service(sources::decide_list)
            .service(sources::reload)
            .service(trust::compare_series)
            .service(trust::trace_bar)
            .service(trust::list_restatements)
            .service(fetches::list_fetches)
            .service(fetches::show_fetch)
            .service(fetches::serve_payload)
            .service(excuses::list_excuses)
            .service(excuses::give_excuse)
            .service(excuses::revoke_excuse)
            .service(events::stream_events)
            .route("/api/v1/openapi.json", web::get().to(document))
            .default_service(web::route().to(console::page))
    });
    Ok(server.workers(2).disable_signals().shutdown_timeout(2).listen(listener)?.run())
}

async fn document() -> HttpResponse {
    HttpResponse::Ok().content_type("application/json").body(openapi())
}
