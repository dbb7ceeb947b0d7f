//! Continuous series of futures: chains and their rolls.

use super::{
    problem::Refusal,
    query::{AsOf, Query},
};
use actix_web::{
    get,
    web::{Data, Json, Path},
};
use mizuno_api::{ChainTold, Contract, Roll};
use mizuno_core::{Decimal, TradeDate};
use mizuno_desk::Setup;
use mizuno_research::{Research, rolled::Chain};

/// Every continuous series in short.
#[utoipa::path(params(AsOf), responses((status = 200, body = Vec<mizuno_api::Chain>)))]
#[get("/api/v1/chains")]
pub(super) async fn list_chains(research: Data<Research>, when: Query<AsOf>) -> Result<Json<Vec<mizuno_api::Chain>>, Refusal> {
    let instant = research.desk.pinned("as_of", when.as_of.as_deref()).await?;
    let named = when.as_of.as_ref().map(|_| instant);
    let setup = research.desk.setup_at(instant).await?;
    let research = research.into_inner();
    let mut out = vec![];
    for name in setup.config.chains.keys() {
        let chain = research.chain(&setup, name, instant, named).await?;
        out.extend(short(&setup, &chain));
    }
    Ok(Json(out))
}

/// A continuous series: its contracts, its rolls with both closes of each, and what is told of it.
#[utoipa::path(params(AsOf), responses((status = 200, body = ChainTold)))]
#[get("/api/v1/chains/{name}")]
pub(super) async fn show_chain(research: Data<Research>, name: Path<String>, when: Query<AsOf>) -> Result<Json<ChainTold>, Refusal> {
    let instant = research.desk.pinned("as_of", when.as_of.as_deref()).await?;
    let named = when.as_of.as_ref().map(|_| instant);
    let setup = research.desk.setup_at(instant).await?;
    let chain = research.into_inner().chain(&setup, &name, instant, named).await?;
    let short = short(&setup, &chain).ok_or_else(|| Refusal::invalid(format!("{name} is no longer configured")))?;
    let text = |date: Option<TradeDate>| date.map(|d| d.to_string());
    let contract = |(at, i): (usize, &mizuno_core::Instrument)| {
        let (days, legs) = (&chain.contracts[at].days, &chain.rolled.legs);
        let mut own = legs.iter().filter(|leg| leg.contract == at);
        let first = own.next();
        Contract {
            instrument: setup.symbol_then(i).to_owned(),
            expiry: text(i.expiry),
            first_notice: text(i.first_notice),
            last_traded: text(i.last_traded),
            bars_from: text(days.first().map(|d| d.date)),
            bars_to: text(days.last().map(|d| d.date)),
            from: text(first.map(|leg| leg.from)),
            to: text(own.next_back().or(first).and_then(|leg| leg.to)),
        }
    };
    let mut notes = chain.rolled.notes.clone();
    notes.extend(chain.without_ratio());
    Ok(Json(ChainTold {
        chain: short,
        as_of: instant.to_string(),
        chain_of: chain.instruments.iter().enumerate().map(contract).collect(),
        rolled: chain.rolled.rolls.iter().rev().map(|roll| told(&chain, roll)).collect(),
        notes,
    }))
}

fn short(setup: &Setup, chain: &Chain) -> Option<mizuno_api::Chain> {
    let described = setup.config.chains.get(&chain.name)?;
    let newest = chain.rolled.legs.last().filter(|leg| leg.to.is_none());
    Some(mizuno_api::Chain {
        name: chain.name.clone(),
        title: described.title.clone(),
        made_of: described.made_of(),
        rule: described.rule(),
        contracts: chain.contracts.len() as u64,
        rolls: chain.rolled.rolls.len() as u64,
        contract: newest.map(|leg| chain.contracts[leg.contract].symbol.clone()),
        since: newest.map(|leg| leg.from.to_string()),
    })
}

fn told(chain: &Chain, roll: &mizuno_core::roll::Roll) -> Roll {
    let text = |of: fn((TradeDate, Decimal, Decimal)) -> String| roll.closes.map(of);
    Roll {
        decided: roll.decided.to_string(),
        from: roll.from.to_string(),
        old: chain.contracts[roll.contracts.0].symbol.clone(),
        new: chain.contracts[roll.contracts.1].symbol.clone(),
        closes_on: text(|(on, ..)| on.to_string()),
        old_close: text(|(_, old, _)| old.to_string()),
        new_close: text(|(.., new)| new.to_string()),
        difference: roll.closes.and_then(|(_, old, new)| new.minus(old)).map(|d| d.to_string()),
        ratio: roll.ratio().map(|ratio| ratio.to_string()),
        at_the_latest: roll.at_the_latest,
        why: roll.why.clone(),
    }
}
