//! What is missing and why, and what is not believed.

use super::{problem::Refusal, query::Query};
use crate::{basis::HELD_BACK, desk::Desk, moments, setup::Setup, views::View};
use actix_web::{
    get,
    web::{Data, Json},
};
use mizuno_api::{Gap, Quarantined};
use mizuno_core::{
    Interval, Side, Span, Spans,
    check::Flaw,
    gap::{Asked, Cause, Outcome},
    spans::{difference, intersection, within},
};
use serde::Deserialize;
use std::collections::HashMap;
use utoipa::IntoParams;

#[derive(Deserialize, IntoParams, Default)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct Which {
    /// Symbol of an instrument.
    instrument: Option<String>,
    /// Name of a series.
    series: Option<String>,
    /// Name of a source.
    source: Option<String>,
    /// An interval.
    interval: Option<String>,
    /// A cause; when left out, all that asking or excusing can close: not `beyond-reach`, not `not-yet-due`.
    cause: Option<String>,
    /// First trade date or instant.
    from: Option<String>,
    /// Last trade date, included, or an instant, not included.
    to: Option<String>,
    /// Instead the gaps of golden series: what none of an instrument's sources has.
    golden: Option<bool>,
    /// Gaps at most; 1000 when left out.
    most: Option<usize>,
}

impl Which {
    pub(super) fn most(&self) -> usize {
        self.most.unwrap_or(1000)
    }

    /// The series asked about.
    pub(super) async fn views<'s>(&self, desk: &Desk, setup: &'s Setup) -> Result<Vec<View<'s>>, Refusal> {
        let symbol = self.instrument.as_deref().map(|s| setup.instrument(s)).transpose()?.map(|i| i.symbol.clone());
        let mut rows = desk.store.series().await?;
        setup.check_names(&rows, self.source.as_deref(), self.series.as_deref(), self.interval.as_deref())?;
        rows.retain(|r| symbol.as_ref().is_none_or(|s| *s == r.key.symbol));
        rows.retain(|r| self.series.as_ref().is_none_or(|s| *s == r.key.to_string()));
        rows.retain(|r| self.source.as_ref().is_none_or(|s| *s == r.key.source));
        rows.retain(|r| self.interval.as_ref().is_none_or(|i| *i == r.key.interval.to_string()));
        Ok(desk.views(setup, rows).await?)
    }

    /// The stretch asked about, in the slots of a series.
    pub(super) fn span(&self, view: &View<'_>) -> Result<Span, Refusal> {
        let asked = moments::Asked { from: self.from.as_deref(), to: self.to.as_deref() };
        Ok(moments::span(asked, view.row.key.interval, view.post.calendar)?)
    }

    /// The causes asked about.
    pub(super) fn causes(&self) -> Result<Vec<Cause>, Refusal> {
        match self.cause.as_deref() {
            None => Ok(Cause::ALL.into_iter().filter(|c| c.can_refetch()).collect()),
            Some("any") => Ok(Cause::ALL.to_vec()),
            Some(word) => Cause::ALL.into_iter().find(|c| c.word() == word).map(|c| vec![c]).ok_or_else(|| {
                let words: Vec<_> = Cause::ALL.iter().map(|c| c.word()).collect();
                Refusal::invalid(format!("cause: `{word}` is not a cause; it is any, {}", words.join(", ")))
            }),
        }
    }

    /// The gaps of a series that are asked about.
    pub(super) fn of(&self, view: &View<'_>) -> Result<Vec<mizuno_core::Gap>, Refusal> {
        let (wanted, span) = (self.causes()?, self.span(view)?);
        let of_these = |g: &&mizuno_core::Gap| wanted.contains(&g.cause) && g.span.start < span.end && g.span.end > span.start;
        Ok(view.gaps().iter().filter(of_these).cloned().collect())
    }
}

/// The gaps, newest first.
#[utoipa::path(params(Which), responses((status = 200, body = Vec<Gap>)))]
#[get("/api/v1/gaps")]
pub(super) async fn list_gaps(desk: Data<Desk>, which: Query<Which>) -> Result<Json<Vec<Gap>>, Refusal> {
    let setup = desk.setup();
    let views = which.views(&desk, &setup).await?;
    if which.golden == Some(true) {
        let splits = desk.splits(&setup, desk.store.newest()).await?;
        return Ok(Json(super::holes::golden_gaps(&setup, &splits, &views, &which)?));
    }
    let mut found = vec![];
    for view in &views {
        found.extend(which.of(view)?.into_iter().map(|g| (view, g)));
    }
    let end = |(view, g): &(&View<'_>, mizuno_core::Gap)| match view.row.key.interval {
        mizuno_core::Interval::Daily => g.span.end.0 * mizuno_core::time::DAY,
        mizuno_core::Interval::Intraday { .. } => g.span.end.0,
    };
    found.sort_by_key(|f| std::cmp::Reverse(end(f)));
    found.truncate(which.most());
    let reasons = reasons(&desk, &found).await?;
    // The other series of the same instruments are the witnesses.
    let narrowed = which.series.is_some() || which.source.is_some();
    let others = match narrowed {
        // All series of the instruments asked about are here already.
        false => vec![],
        true => {
            let mut others = desk.store.series().await?;
            others.retain(|r| found.iter().any(|(v, _)| v.row.key.symbol == r.key.symbol));
            desk.views(&setup, others).await?
        }
    };
    let mut witnesses: Witnesses<'_, '_> = HashMap::new();
    for other in if narrowed { &others } else { &views } {
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
            let failure = desk.store.fetch(fetch).await?.failure;
            place.insert(failure.map(|f| format!("{}: {}", f.class, f.message)).unwrap_or_default());
        }
    }
    Ok(out)
}

/// The views of each instrument, interval and side: witnesses for each other.
type Witnesses<'v, 'd> = HashMap<(&'v str, Interval, Side), Vec<&'v View<'d>>>;

/// What other sources of the same instrument, interval and side have where one has a gap, and the first that has all of it.
fn evidence<'v>(view: &View<'_>, gap: &mizuno_core::Gap, witnesses: &Witnesses<'v, '_>) -> (String, Option<&'v str>) {
    let key = &view.row.key;
    let here = |set: &Spans| within(set, &gap.span);
    let standing = &view.standing;
    let missing = difference(&difference(&here(&standing.expected), &here(&standing.held)), &here(&standing.excused));
    let has_answered = |w: &View<'_>| {
        let covers = |a: &Asked| a.outcome != Outcome::Failed && a.window.contains(&gap.span.start);
        w.evidence.asked.iter().any(covers)
    };
    let (mut have, mut have_none, mut whole) = (vec![], vec![], None);
    for witness in witnesses.get(&(key.symbol.as_str(), key.interval, key.side)).into_iter().flatten() {
        let name = &witness.row.key.source;
        let there = key.interval.count(intersection(&missing, &here(&witness.standing.held)));
        if *name == key.source {
            continue;
        } else if there > 0 {
            whole = whole.or((there == gap.slots).then_some(name.as_str()));
            have.push(format!("{name} has {there} of these {} bars", gap.slots));
        } else if has_answered(witness) {
            have_none.push(name.as_str());
        }
    }
    let said = match (&have[..], &have_none[..]) {
        ([], []) => "no other source says anything of it".to_owned(),
        ([], none) => format!("{} has none either: probably nothing was traded", none.join(" and ")),
        (have, _) => format!("{}: really missing", have.join(", ")),
    };
    (said, whole)
}

fn shown(view: &View<'_>, gap: &mizuno_core::Gap, reasons: &HashMap<i64, String>, witnesses: &Witnesses<'_, '_>) -> Gap {
    let key = &view.row.key;
    let said = gap.fetch.and_then(|f| reasons.get(&f)).filter(|s| !s.is_empty());
    let (evidence, whole) = evidence(view, gap, witnesses);
    let in_vain = gap.asked >= 2;
    let suggestion = match gap.cause {
        Cause::NotYetDue => "wait",
        Cause::BeyondReach if whole.is_some() => "fill",
        Cause::BeyondReach => "excuse",
        Cause::LeftOut | Cause::SourceHadNothing | Cause::Quarantined if in_vain && whole.is_some() => "fill",
        // Asked twice and more, and still without: the source will not have it.
        Cause::LeftOut | Cause::SourceHadNothing | Cause::Quarantined if in_vain => "excuse",
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
        evidence: match whole {
            Some(source) if suggestion == "fill" => format!("{evidence}; the golden series takes it from {source}"),
            _ => evidence,
        },
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
    most: Option<u32>,
}

/// Rows that are not believed, newest first.
#[utoipa::path(params(Newest), responses((status = 200, body = Vec<Quarantined>)))]
#[get("/api/v1/quarantine")]
pub(super) async fn list_quarantine(desk: Data<Desk>, newest: Query<Newest>) -> Result<Json<Vec<Quarantined>>, Refusal> {
    let series: HashMap<i64, _> = desk.store.series().await?.into_iter().map(|s| (s.id, s.key)).collect();
    let rows = desk.store.quarantine(None, newest.most.unwrap_or(200).into()).await?;
    let shown = rows.into_iter().filter_map(|row| {
        let key = series.get(&row.series)?;
        let flaw = Flaw::ALL.into_iter().find(|f| f.word() == row.suspect.flaw);
        Some(Quarantined {
            series: key.to_string(),
            fetch: row.fetch,
            at: row.suspect.slot.map(|s| moments::wire(key.interval, s)),
            page: row.suspect.page + 1,
            line: row.suspect.line,
            id: row.id,
            because: match flaw {
                Some(flaw) => flaw.explanation(),
                None if row.suspect.flaw == HELD_BACK => {
                    "it changes a bar by more than the source's policy takes by itself; take it or refuse it"
                }
                None => "the row cannot be read as the profile says",
            }
            .to_owned(),
            decision: row.decision.map(|d| format!("{} by {}, {}", if d.taken { "taken" } else { "refused" }, d.by, d.at)),
            rows: row.suspect.count,
            flaw: row.suspect.flaw,
            text: row.suspect.text,
        })
    });
    Ok(Json(shown.collect()))
}
