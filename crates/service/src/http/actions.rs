//! Corporate actions: shown with what they do to prices, entered by people, and withdrawn.

use super::{
    problem::Refusal,
    query::{Nothing, Query},
    wire,
};
use actix_web::{
    HttpResponse, delete, get, post,
    web::{Data, Json, Path},
};
use mizuno_api::{Actions, EnterActions, InstrumentEvent};
use mizuno_core::Instrument;
use mizuno_research::Research;
use serde::Deserialize;
use utoipa::IntoParams;

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct Which {
    /// Symbol of an instrument, present or former.
    instrument: String,
    /// Only what was known at this instant.
    as_of: Option<String>,
}

/// The corporate actions of an instrument: who told of each and when, what it does to prices before it, and why where it does nothing.
#[utoipa::path(params(Which), responses((status = 200, body = Actions)))]
#[get("/api/v1/actions")]
pub(super) async fn list_actions(research: Data<Research>, which: Query<Which>) -> Result<Json<Actions>, Refusal> {
    let instant = research.desk.pinned("as_of", which.as_of.as_deref()).await?;
    let setup = research.desk.setup_at(instant).await?;
    let (adjusted, conflicts) = research.actions_of(&setup, &which.instrument, instant).await?;
    let instrument = setup.instrument(&which.instrument)?;
    Ok(Json(Actions {
        instrument: setup.symbol_then(instrument).to_owned(),
        as_of: instant.to_string(),
        actions: adjusted.actions.iter().map(wire::action).collect(),
        events: events(instrument),
        conflicts,
        checked: research.agreed(&setup, &which.instrument, instant).await?.into_iter().map(wire::action_check).collect(),
    }))
}

/// What happened to an instrument beside its actions, in order.
fn events(instrument: &Instrument) -> Vec<InstrumentEvent> {
    let listed = instrument.listed.map(|date| (date, "listed".to_owned()));
    let mut names: Vec<&str> = instrument.former.iter().map(|f| f.symbol.as_str()).collect();
    names.push(&instrument.symbol);
    let renamed =
        instrument.former.iter().zip(&names[1..]).map(|(f, next)| (f.until, format!("{} is called {next} from here on", f.symbol)));
    let last = instrument.last_traded.map(|date| (date, "last traded".to_owned()));
    let mut all: Vec<_> = listed.into_iter().chain(renamed).chain(last).collect();
    all.sort_by_key(|(date, _)| *date);
    all.into_iter().map(|(date, what)| InstrumentEvent { date: date.to_string(), what }).collect()
}

/// Enters corporate actions in a person's name, all or none. They go before what lists say.
#[utoipa::path(request_body = EnterActions, responses((status = 201, description = "Their numbers", body = Vec<i64>)))]
#[post("/api/v1/actions")]
pub(super) async fn enter_actions(research: Data<Research>, _: Query<Nothing>, ask: Json<EnterActions>) -> Result<HttpResponse, Refusal> {
    let EnterActions { actions, by, reason } = ask.into_inner();
    let rows = actions.into_iter().map(|a| (a.instrument, a.kind, a.terms)).collect();
    let ids = research.enter_actions(&research.desk.setup(), rows, &by, &reason).await?;
    Ok(HttpResponse::Created().json(ids))
}

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct Withdrawn {
    /// Who withdraws it.
    by: String,
    /// Why.
    why: String,
}

/// Withdraws an action that a person entered. It stays known as of instants before.
#[utoipa::path(
    params(("id" = i64, Path, description = "Its number"), Withdrawn),
    responses((status = 204, description = "Withdrawn"))
)]
#[delete("/api/v1/actions/{id}")]
pub(super) async fn withdraw_action(research: Data<Research>, id: Path<i64>, ask: Query<Withdrawn>) -> Result<HttpResponse, Refusal> {
    research.withdraw_action(*id, &ask.by, &ask.why).await?;
    Ok(HttpResponse::NoContent().finish())
}
