//! The network interface under `/api/v1`, and the console.

mod actions;
mod bars;
mod body;
mod chains;
mod concerns;
mod console;
mod coverage;
mod editions;
mod events;
mod excuses;
mod fetches;
mod findings;
mod gaps;
mod guard;
mod history;
mod instruments;
mod pictures;
mod problem;
mod query;
mod questions;
mod representation;
mod runs;
mod seats;
mod sources;
mod sql;
mod status;
mod statuses;
mod trust;
mod universes;
pub mod wire;

use actix_web::{
    App, HttpResponse, HttpServer,
    dev::Server,
    middleware::{Compress, DefaultHeaders, from_fn},
    web::{self, Data, JsonConfig, PathConfig, ServiceConfig},
};
use mizuno_collect::Collect;
use mizuno_research::Research;
use problem::Refusal;
use std::{io, net::TcpListener, sync::Arc};
use utoipa::OpenApi;

/// The largest request body taken, in bytes.
const LARGEST_BODY: usize = 64 * 1024;

/// Lists the handlers once, for the routes and for the document that describes them.
macro_rules! handlers {
    ($($topic:ident::$handler:ident),* $(,)?) => {
        #[derive(OpenApi)]
        #[openapi(
            info(title = "Mizuno", description = "Complete, reproducible price bars and the story of each.", license(name = "Apache-2.0")),
            paths($($topic::$handler),*),
            components(schemas(mizuno_api::Event))
        )]
        struct Document;

        fn routes(config: &mut ServiceConfig) {
            config$(.service($topic::$handler))*;
        }
    };
}

handlers![
    status::show_status,
    instruments::list_instruments,
    instruments::list_series,
    bars::serve_bars,
    bars::serve_long_question,
    bars::explain,
    bars::explain_long_question,
    sql::translate,
    sql::translate_long_question,
    pictures::draw,
    coverage::show_coverage,
    gaps::list_gaps,
    gaps::list_quarantine,
    gaps::list_holes,
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
    history::list_configurations,
    history::show_configuration,
    history::serve_file,
    actions::list_actions,
    actions::enter_actions,
    actions::withdraw_action,
    chains::list_chains,
    chains::show_chain,
    editions::list_editions,
    editions::list_of_spec,
    editions::make_edition,
    editions::expire_editions,
    editions::show_edition,
    editions::decide_edition,
    editions::verify_edition,
    editions::show_difference,
    sql::declare_tables,
    editions::serve_edition_file,
    universes::list_universes,
    universes::show_universe,
    questions::list_questions,
    questions::show_question,
    questions::save_question,
    questions::remove_question,
    excuses::list_excuses,
    excuses::give_excuse,
    excuses::revoke_excuse,
    events::stream_events,
];

/// The OpenAPI 3.1 document of the interface, as JSON.
#[must_use]
pub fn openapi() -> String {
    let mut document = serde_json::to_value(Document::openapi()).unwrap_or_default();
    statuses::add_common(&mut document);
    serde_json::to_string_pretty(&document).unwrap_or_default()
}

pub(crate) fn server(collect: &Arc<Collect>, research: &Arc<Research>, listener: TcpListener) -> io::Result<Server> {
    let (collect, research) = (collect.clone(), research.clone());
    let seats = Data::new(seats::Seats::default());
    let server = HttpServer::new(move || {
        App::new()
            .app_data(Data::from(collect.desk.clone()))
            .app_data(Data::from(collect.clone()))
            .app_data(Data::from(research.clone()))
            .app_data(seats.clone())
            .app_data(JsonConfig::default().limit(LARGEST_BODY).error_handler(|e, _| Refusal::from(e).into()))
            .app_data(PathConfig::default().error_handler(|e, _| Refusal::invalid(e.to_string()).into()))
            .wrap(from_fn(representation::validate_listings))
            .wrap(Compress::default())
            .wrap(from_fn(representation::validators_by_coding))
            .wrap(from_fn(representation::head_as_get))
            .wrap(DefaultHeaders::new().add(("X-Content-Type-Options", "nosniff")).add(("Referrer-Policy", "no-referrer")))
            .wrap(from_fn(guard::our_own_only))
            .configure(routes)
            .route("/api/v1/openapi.json", web::get().to(document))
            .default_service(web::route().to(console::page))
    });
    // An answer's last small packet must not wait for the reader to acknowledge those before it: that takes forty milliseconds.
    Ok(server.workers(2).tcp_nodelay(true).disable_signals().shutdown_timeout(2).listen(listener)?.run())
}

async fn document() -> HttpResponse {
    HttpResponse::Ok().content_type("application/json").body(openapi())
}
