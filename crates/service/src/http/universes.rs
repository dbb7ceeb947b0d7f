//! Universes: who belonged when.

use super::{
    problem::Refusal,
    query::{AsOf, Query},
};
use actix_web::{
    get,
    web::{Data, Json, Path},
};
use mizuno_api::{MemberChange, Membership, UniverseTold, Unresolved, Without};
use mizuno_core::{
    TradeDate,
    membership::{ALWAYS, STILL},
};
use mizuno_desk::{
    DeskError, Setup,
    universes::{Universe, stretch},
};
use mizuno_research::Research;
use serde::Deserialize;
use utoipa::IntoParams;

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct When {
    /// Only what was known at this instant.
    as_of: Option<String>,
    /// The members on this trade date; on that of the newest session when left out.
    on: Option<String>,
}

/// Every universe in short.
#[utoipa::path(params(AsOf), responses((status = 200, body = Vec<mizuno_api::Universe>)))]
#[get("/api/v1/universes")]
pub(super) async fn list_universes(research: Data<Research>, when: Query<AsOf>) -> Result<Json<Vec<mizuno_api::Universe>>, Refusal> {
    let instant = research.desk.pinned("as_of", when.as_of.as_deref()).await?;
    let setup = research.desk.setup_at(instant).await?;
    let research = research.into_inner();
    let mut out = vec![];
    for (name, described) in &setup.config.universes {
        let universe = research.universe(&setup, name, instant).await?;
        let today = research.newest_session(&setup, &universe, instant);
        out.push(mizuno_api::Universe {
            name: name.clone(),
            title: described.title.clone(),
            made_of: described.made_of(),
            members: universe.on(today).len() as u64,
            ever: universe.members.len() as u64,
            unresolved: universe.unresolved.len() as u64,
            doubts: (universe.conflicts.len() + universe.unread.len()) as u64,
        });
    }
    Ok(Json(out))
}

/// A universe: every stay of every member, who joined and left when, what is in doubt, and whom we have no bars of.
#[utoipa::path(params(When), responses((status = 200, body = UniverseTold)))]
#[get("/api/v1/universes/{name}")]
pub(super) async fn show_universe(research: Data<Research>, name: Path<String>, when: Query<When>) -> Result<Json<UniverseTold>, Refusal> {
    let instant = research.desk.pinned("as_of", when.as_of.as_deref()).await?;
    let on =
        when.on.as_deref().filter(|text| !text.is_empty()).map(|text| {
            text.parse::<TradeDate>().map_err(|e| DeskError::Invalid(format!("on: {e}; write a trade date, as in 2025-03-17")))
        });
    let on = on.transpose()?;
    let setup = research.desk.setup_at(instant).await?;
    let research = research.into_inner();
    let universe = research.universe(&setup, &name, instant).await?;
    let on = on.unwrap_or_else(|| research.newest_session(&setup, &universe, instant));
    let without = research.members_without(&setup, &universe).await?;
    let symbol = |symbol: &str| called(&setup, symbol);
    let mut members: Vec<String> = universe.on(on).into_iter().map(symbol).collect();
    members.sort_unstable();
    let described = setup.config.universes.get(name.as_str());
    Ok(Json(UniverseTold {
        name: universe.name.clone(),
        title: described.map(|d| d.title.clone()).unwrap_or_default(),
        made_of: described.map(|d| d.made_of()).unwrap_or_default(),
        as_of: instant.to_string(),
        on: on.to_string(),
        members,
        known_from: universe.known_from.map(|date| date.to_string()),
        memberships: memberships(&setup, &universe),
        changes: universe
            .changes()
            .into_iter()
            .rev()
            .map(|change| MemberChange {
                date: change.date.to_string(),
                joined: change.joined.iter().map(|s| symbol(s)).collect(),
                left: change.left.iter().map(|s| symbol(s)).collect(),
                members: change.members as u64,
            })
            .collect(),
        conflicts: universe.conflicts.clone(),
        unread: universe.unread.clone(),
        unresolved: universe
            .unresolved
            .iter()
            .map(|u| Unresolved {
                said: u.said.clone(),
                by: u.by.clone(),
                days: stretch(u.stay.days.start, u.stay.days.end),
                hint: u.hint.clone(),
            })
            .collect(),
        without: without.into_iter().map(|(instrument, why)| Without { instrument, why }).collect(),
    }))
}

/// What an instrument was called at the instant of the setup.
fn called(setup: &Setup, symbol: &str) -> String {
    setup.known(symbol).map_or(symbol, |i| setup.symbol_then(i)).to_owned()
}

fn memberships(setup: &Setup, universe: &Universe) -> Vec<Membership> {
    let mut out = vec![];
    for (symbol, stays) in &universe.members {
        let instrument = setup.known(symbol);
        for m in stays {
            let days = &m.stay.days;
            out.push(Membership {
                instrument: called(setup, symbol),
                name: instrument.map(|i| i.name.clone()).unwrap_or_default(),
                from: (days.start != ALWAYS).then(|| days.start.to_string()),
                to: (days.end != STILL).then(|| days.end.to_string()),
                joined_after: m.stay.joined_after.map(|date| date.to_string()),
                left_after: m.stay.left_after.map(|date| date.to_string()),
                called: m.called.clone(),
                by: m.by.clone(),
                learned_at: m.learned.map(|at| at.to_string()),
                joined: m.joined.clone(),
                left: m.left.clone(),
            });
        }
    }
    out.sort_by(|a, b| (&a.instrument, &a.from).cmp(&(&b.instrument, &b.from)));
    out
}
