//! What is missing and why, and what is not believed.

use super::problem::Refusal;
use crate::{desk::Desk, moments, views::View};
use actix_web::{
    get,
    web::{Data, Json, Query},
};
use mizuno_api::{Gap, Quarantined};
use mizuno_core::{
    Interval, Side, Spans,
    check::Flaw,
    gap::{Asked, Cause, Outcome},
    slot::{difference, intersection, within},
};
use mizuno_store::fetches::Filter;
use serde::Deserialize;
use std::collections::HashMap;
use utoipa::IntoParams;

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct Which {
    /// Symbol of an instrument.
    instrument: Option<String>,
    /// Name of a series.
    series: Option<String>,
    /// An interval.
    interval: Option<String>,
    /// A cause; when left out, all that asking or excusing can close: not `beyond-reach`, not `not-yet-due`.
    cause: Option<String>,
    /// First trade date or instant.
    from: Option<String>,
    /// Last trade date, included, or an instant, not included.
    to: Option<String>,
    /// Gaps at most; 1000 when left out.
    most: Option<usize>,
}

/// The gaps, newest first.
#[utoipa::path(params(Which), responses((status = 200, body = Vec<Gap>)))]
#[get("/api/v1/gaps")]
pub(super) async fn list_gaps(desk: Data<Desk>, which: Query<Which>) -> Result<Json<Vec<Gap>>, Refusal> {
    let setup = desk.setup();
    let cause = match which.cause.as_deref() {
        None | Some("any") => None,
        Some(word) => Some(Cause::ALL.into_iter().find(|c| c.word() == word).ok_or_else(|| {
            let words: Vec<_> = Cause::ALL.iter().map(|c| c.word()).collect();
            Refusal::invalid(format!("cause: `{word}` is not a cause; it is any, {}", words.join(", ")))
        })?),
    };
    let symbol = which.instrument.as_deref().map(|s| setup.instrument(s)).transpose()?.map(|i| i.symbol.clone());
    let mut rows = desk.store.series().await?;
    rows.retain(|r| symbol.as_ref().is_none_or(|s| *s == r.key.symbol));
    rows.retain(|r| which.series.as_ref().is_none_or(|s| *s == r.key.to_string()));
    rows.retain(|r| which.interval.as_ref().is_none_or(|i| *i == r.key.interval.to_string()));
    let asked = moments::Asked { from: which.from.as_deref(), to: which.to.as_deref() };
    let mut found = vec![];
    let views = desk.views(&setup, rows).await?;
    for view in &views {
        let span = moments::span(asked, view.row.key.interval, view.post.calendar)?;
        let wanted = |g: &mizuno_core::Gap| match (cause, which.cause.as_deref()) {
            (Some(c), _) => g.cause == c,
            (None, Some(_)) => true,
            (None, None) => g.cause.can_refetch(),
        };
        found
            .extend(view.gaps().into_iter().filter(|g| wanted(g) && g.span.start < span.end && g.span.end > span.start).map(|g| (view, g)));
    }
    let end = |(view, g): &(&View<'_>, mizuno_core::Gap)| match view.row.key.interval {
        mizuno_core::Interval::Daily => g.span.end.0 * mizuno_core::time::DAY,
        mizuno_core::Interval::Intraday { .. } => g.span.end.0,
    };
    found.sort_by_key(|f| std::cmp::Reverse(end(f)));
    found.truncate(which.most.unwrap_or(1000));
    let reasons = reasons(&desk, &found).await?;
    // The other series of the same instruments are the witnesses.
    let others = match &which.series {
        // All series of the instruments asked about are here already.
        None => vec![],
        Some(_) => {
            let mut others = desk.store.series().await?;
            others.retain(|r| found.iter().any(|(v, _)| v.row.key.symbol == r.key.symbol));
            desk.views(&setup, others).await?
        }
    };
    let mut witnesses: Witnesses<'_, '_> = HashMap::new();
    for other in if which.series.is_some() { &others } else { &views } {
        let key = &other.row.key;
        witnesses.entry((key.symbol.as_str(), key.interval, key.side)).or_default().push(other);
    }
    Ok(Json(found.iter().map(|(view, gap)| shown(view, gap, &reasons, &witnesses)).collect()))
}

/// What the failed fetches behind some gaps said.
async fn reasons(desk: &Desk, found: &[(&View<'_>, mizuno_core::Gap)]) -> Result<HashMap<i64, String>, Refusal> {
    let mut out = HashMap::new();
    for fetch in found.iter().filter(|(_, g)| g.cause == Cause::FetchFailed).filter_map(|(_, g)| g.fetch) {
        if let std::collections::hash_map::Entry::Vacant(place) = out.entry(fetch) {
            let row = desk.store.fetches(Filter { id: Some(fetch), ..Filter::default() }, 1).await?.pop();
            place.insert(row.and_then(|r| r.failure).map(|f| format!("{}: {}", f.class, f.message)).unwrap_or_default());
        }
    }
    Ok(out)
}

/// The views of each instrument, interval and side: witnesses for each other.
type Witnesses<'v, 'd> = HashMap<(&'v str, Interval, Side), Vec<&'v View<'d>>>;

/// What other sources of the same instrument, interval and side have where one has a gap.
fn evidence(view: &View<'_>, gap: &mizuno_core::Gap, witnesses: &Witnesses<'_, '_>) -> String {
    let key = &view.row.key;
    let here = |set: &Spans| within(set, &gap.span);
    let standing = &view.standing;
    let missing = difference(&difference(&here(&standing.expected), &here(&standing.held)), &here(&standing.excused));
    let has_answered = |w: &View<'_>| {
        let covers = |a: &Asked| a.outcome != Outcome::Failed && a.window.contains(&gap.span.start);
        w.evidence.asked.iter().any(covers)
    };
    let (mut have, mut have_none) = (vec![], vec![]);
    for witness in witnesses.get(&(key.symbol.as_str(), key.interval, key.side)).into_iter().flatten() {
        let name = &witness.row.key.source;
        let there = key.interval.count(&intersection(&missing, &here(&witness.standing.held)));
        if *name == key.source {
            continue;
        } else if there > 0 {
            have.push(format!("{name} has {there} of these {} bars", gap.slots));
        } else if has_answered(witness) {
            have_none.push(name.as_str());
        }
    }
    match (&have[..], &have_none[..]) {
        ([], []) => "no other source says anything of it".to_owned(),
        ([], none) => format!("{} has none either: probably nothing was traded", none.join(" and ")),
        (have, _) => format!("{}: really missing", have.join(", ")),
    }
}

fn shown(view: &View<'_>, gap: &mizuno_core::Gap, reasons: &HashMap<i64, String>, witnesses: &Witnesses<'_, '_>) -> Gap {
    let key = &view.row.key;
    let said = gap.fetch.and_then(|f| reasons.get(&f)).filter(|s| !s.is_empty());
    let suggestion = match gap.cause {
        Cause::NotYetDue => "wait",
        Cause::BeyondReach => "excuse",
        // Asked twice and more, and still without: the source will not have it.
        Cause::LeftOut | Cause::SourceHadNothing | Cause::Quarantined if gap.asked >= 2 => "excuse",
        _ => "refetch",
    };
    Gap {
        id: moments::gap_id(key, gap.span.start),
        series: key.to_string(),
        from: moments::wire(key.interval, gap.span.start),
        to: moments::wire(key.interval, gap.span.end),
        when: moments::spoken(key.interval, view.post.venue, &gap.span),
        slots: gap.slots,
        cause: gap.cause.word().to_owned(),
        because: said.cloned().unwrap_or_else(|| sentence(gap.cause).to_owned()),
        fetch: gap.fetch,
        asked: gap.asked,
        evidence: evidence(view, gap, witnesses),
        suggestion: suggestion.to_owned(),
    }
}

/// A cause in a sentence.
pub(super) fn sentence(cause: Cause) -> &'static str {
    match cause {
        Cause::NeverAsked => "the source has not been asked for it yet",
        Cause::BeyondReach => "the source does not go back that far",
        Cause::SourceHadNothing => "the source answered and had nothing for the whole window",
        Cause::LeftOut => "the source answered with bars around it and left these out",
        Cause::FetchFailed => "every attempt to fetch it failed",
        Cause::Quarantined => "a bar came that cannot be true, and is in quarantine",
        Cause::NotYetDue => "the bar is not finished or not published yet",
    }
}

#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct Newest {
    /// Rows at most; 200 when left out.
    most: Option<i64>,
}

/// Rows that are not believed, newest first.
#[utoipa::path(params(Newest), responses((status = 200, body = Vec<Quarantined>)))]
#[get("/api/v1/quarantine")]
pub(super) async fn list_quarantine(desk: Data<Desk>, newest: Query<Newest>) -> Result<Json<Vec<Quarantined>>, Refusal> {
    let series: HashMap<i64, _> = desk.store.series().await?.into_iter().map(|s| (s.id, s.key)).collect();
    let rows = desk.store.quarantine(None, newest.most.unwrap_or(200)).await?;
    let shown = rows.into_iter().filter_map(|row| {
        let key = series.get(&row.series)?;
        let flaw = Flaw::ALL.into_iter().find(|f| f.word() == row.suspect.flaw);
        Some(Quarantined {
            series: key.to_string(),
            fetch: row.fetch,
            at: row.suspect.slot.map(|s| moments::wire(key.interval, s)),
            page: row.suspect.page + 1,
            line: row.suspect.line,
            because: flaw.map_or("the row cannot be read as the profile says", Flaw::explanation).to_owned(),
            flaw: row.suspect.flaw,
            text: row.suspect.text,
        })
    });
    Ok(Json(shown.collect()))
}
