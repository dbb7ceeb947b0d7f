//! Gaps of many series told as one, and the gaps of golden series.

use super::{
    gaps::{Which, sentence},
    problem::Refusal,
    query::Query,
};
use crate::{
    desk::Desk,
    findings::Splits,
    golden::takes_part,
    moments,
    setup::Setup,
    views::{View, union},
};
use actix_web::{
    get,
    web::{Data, Json},
};
use mizuno_api::Hole;
use mizuno_config::GOLDEN;
use mizuno_core::{Gap, Interval, SeriesKey, Side, gap::Cause, hole::gather};
use std::collections::BTreeMap;

/// The gaps, those of many series at once told as one; newest first.
#[utoipa::path(params(Which), responses((status = 200, body = Vec<Hole>)))]
#[get("/api/v1/holes")]
pub(super) async fn list_holes(desk: Data<Desk>, which: Query<Which>) -> Result<Json<Vec<Hole>>, Refusal> {
    let setup = desk.setup();
    let views = which.views(&desk, &setup).await?;
    Ok(Json(holes(&views, &which)?))
}

/// A series, and its gaps that are asked about.
type Member<'v, 'd> = (&'v View<'d>, Vec<Gap>);

/// The holes that the gaps let through by `which` make.
pub(crate) fn holes(views: &[View<'_>], which: &Which) -> Result<Vec<Hole>, Refusal> {
    let mut groups: BTreeMap<(&str, &str, Interval, Side), Vec<Member<'_, '_>>> = BTreeMap::new();
    for view in views {
        let key = &view.row.key;
        let gaps = which.of(view)?;
        groups.entry((&view.post.venue.code, &key.source, key.interval, key.side)).or_default().push((view, gaps));
    }
    let mut out = vec![];
    for ((venue, source, interval, side), members) in &groups {
        let gaps: Vec<&[Gap]> = members.iter().map(|(_, gaps)| &gaps[..]).collect();
        for hole in gather(&gaps) {
            let id = |(s, g): &(usize, usize)| moments::gap_id(&members[*s].0.row.key, members[*s].1[*g].span.start);
            let end = if interval.is_intraday() { hole.span.end.0 } else { hole.span.end.0 * mizuno_core::time::DAY };
            let shown = Hole {
                venue: (*venue).to_owned(),
                source: (*source).to_owned(),
                interval: interval.to_string(),
                side: side.to_string(),
                from: moments::wire(*interval, hole.span.start),
                to: moments::wire(*interval, hole.span.end),
                when: moments::spoken(*interval, members[0].0.post.venue, &hole.span),
                slots: hole.slots,
                series: hole.gaps.len() as u64,
                of: members.len() as u64,
                cause: hole.cause.word().to_owned(),
                because: sentence(hole.cause).to_owned(),
                gaps: hole.gaps.iter().map(id).collect(),
            };
            out.push((end, shown));
        }
    }
    out.sort_by_key(|(end, _)| std::cmp::Reverse(*end));
    Ok(out.into_iter().map(|(_, hole)| hole).take(which.most()).collect())
}

/// The gaps of golden series: what none of an instrument's sources has. Each names what every source says of it.
pub(crate) fn golden_gaps(setup: &Setup, splits: &Splits, views: &[View<'_>], which: &Which) -> Result<Vec<mizuno_api::Gap>, Refusal> {
    let mut groups: BTreeMap<(&str, Interval, Side), Vec<&View<'_>>> = BTreeMap::new();
    for view in views.iter().filter(|v| takes_part(setup, splits, &v.row.key).is_ok()) {
        let key = &view.row.key;
        groups.entry((&key.symbol, key.interval, key.side)).or_default().push(view);
    }
    let (mut out, causes) = (vec![], which.causes()?);
    for ((symbol, interval, side), members) in groups {
        let key = SeriesKey { symbol: symbol.to_owned(), interval, side, source: GOLDEN.to_owned() };
        let Some(whole) = union(setup, &members) else { continue };
        let venue = members[0].post.venue;
        let within = which.span(members[0])?;
        let told: Vec<(&str, &[Gap])> = members.iter().map(|v| (v.row.key.source.as_str(), v.gaps())).collect();
        // The gaps of each source stand in order, and so do those of the whole: each is gone through once.
        let mut at = vec![0usize; told.len()];
        for (span, slots) in whole.gaps().iter().filter(|(s, _)| s.start < within.end && s.end > within.start) {
            for (place, (_, gaps)) in at.iter_mut().zip(&told) {
                while gaps.get(*place).is_some_and(|g| g.span.end <= span.start) {
                    *place += 1;
                }
            }
            let says = |((source, gaps), place): (&(&str, &[Gap]), &usize)| {
                let gap = gaps.get(*place).filter(|g| g.span.start < span.end)?;
                Some(((*source).to_owned(), gap.clone()))
            };
            let said: Vec<(String, Gap)> = told.iter().zip(&at).filter_map(says).collect();
            // The most hopeful cause: what has not been asked for may still come.
            let Some((_, first)) = said.iter().min_by_key(|(_, g)| hope(g)) else { continue };
            if !causes.contains(&first.cause) {
                continue;
            }
            let because: Vec<String> = said.iter().map(|(source, g)| format!("{source}: {}", g.cause)).collect();
            out.push(mizuno_api::Gap {
                id: moments::gap_id(&key, span.start),
                series: key.to_string(),
                from: moments::wire(interval, span.start),
                to: moments::wire(interval, span.end),
                when: moments::spoken(interval, venue, span),
                slots: *slots,
                cause: first.cause.word().to_owned(),
                because: because.join("; "),
                fetch: first.fetch,
                asked: said.iter().map(|(_, g)| g.asked).max().unwrap_or(0),
                evidence: "no source that takes part has it".to_owned(),
                suggestion: if said.iter().any(|(_, g)| g.cause.can_refetch() && g.asked < 2) { "refetch" } else { "excuse" }.to_owned(),
            });
        }
    }
    out.sort_by(|a, b| b.to.cmp(&a.to));
    out.truncate(which.most());
    Ok(out)
}

fn hope(gap: &Gap) -> u32 {
    match gap.cause {
        Cause::NeverAsked => 0,
        Cause::FetchFailed => 1,
        Cause::LeftOut | Cause::SourceHadNothing | Cause::Quarantined => 2 + gap.asked,
        Cause::NotYetDue => 90,
        Cause::BeyondReach => 100,
    }
}
