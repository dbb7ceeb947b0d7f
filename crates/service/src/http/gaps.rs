//! What is missing and why, and what is not believed.

use super::{problem::Refusal, query::Query};
use actix_web::{
    get,
    web::{Data, Json},
};
use mizuno_api::{Gap, Hole, Quarantined, words::count};
use mizuno_collect::basis::HELD_BACK;
use mizuno_core::{Venue, check::Flaw, gap::Cause};
use mizuno_desk::{Desk, View, moments};
use mizuno_research::{
    Research,
    gaps::{self, Explained, GoldenGap, HoleIn, Suggestion, Wanted},
};
use serde::Deserialize;
use utoipa::IntoParams;

#[derive(Deserialize, IntoParams, Default)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct Which {
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
    fn most(&self) -> usize {
        self.most.unwrap_or(1000)
    }

    fn wanted(&self) -> Result<Wanted, Refusal> {
        let causes = match self.cause.as_deref() {
            None => Cause::ALL.into_iter().filter(|c| c.can_refetch()).collect(),
            Some("any") => Cause::ALL.to_vec(),
            Some(word) => Cause::ALL.into_iter().find(|c| c.word() == word).map(|c| vec![c]).ok_or_else(|| {
                let words: Vec<_> = Cause::ALL.iter().map(|c| c.word()).collect();
                Refusal::invalid(format!("cause: `{word}` is not a cause; it is any, {}", words.join(", ")))
            })?,
        };
        Ok(Wanted {
            instrument: self.instrument.clone(),
            series: self.series.clone(),
            source: self.source.clone(),
            interval: self.interval.clone(),
            from: self.from.clone(),
            to: self.to.clone(),
            causes,
        })
    }
}

/// The gaps, newest first.
#[utoipa::path(params(Which), responses((status = 200, body = Vec<Gap>)))]
#[get("/api/v1/gaps")]
pub(super) async fn list_gaps(research: Data<Research>, which: Query<Which>) -> Result<Json<Vec<Gap>>, Refusal> {
    let (setup, wanted) = (research.desk.setup(), which.wanted()?);
    let views = research.series_with_gaps(&setup, &wanted).await?;
    if which.golden == Some(true) {
        let known = research.known(&setup, research.desk.store.newest()).await?;
        let unclear = research.unclear(&setup, &known, views.iter().map(|v| &v.row)).await?;
        let found = gaps::golden_gaps(&setup, (&known, &unclear), &views, &wanted, which.most())?;
        let venue = |g: &GoldenGap| views.iter().find(|v| v.row.key.symbol == g.series.symbol).map(|v| v.post.venue);
        return Ok(Json(found.iter().filter_map(|g| Some(golden(g, venue(g)?))).collect()));
    }
    let found = research.gaps(&setup, &views, &wanted, which.most()).await?;
    Ok(Json(found.into_iter().map(|(at, explained)| shown(&views[at], explained)).collect()))
}

/// The gaps, those of many series at once told as one; newest first.
#[utoipa::path(params(Which), responses((status = 200, body = Vec<Hole>)))]
#[get("/api/v1/holes")]
pub(super) async fn list_holes(research: Data<Research>, which: Query<Which>) -> Result<Json<Vec<Hole>>, Refusal> {
    let (setup, wanted) = (research.desk.setup(), which.wanted()?);
    let views = research.series_with_gaps(&setup, &wanted).await?;
    let found = gaps::holes(&views, &wanted, which.most())?;
    let shown = found.into_iter().filter_map(|h| Some(hole(setup.config.venues.get(&h.venue)?, h)));
    Ok(Json(shown.collect()))
}

fn hole(venue: &Venue, HoleIn { source, interval, side, hole, gaps, of, .. }: HoleIn) -> Hole {
    Hole {
        venue: venue.code.clone(),
        source,
        interval: interval.to_string(),
        side: side.to_string(),
        from: moments::written(interval, hole.span.start),
        to: moments::written(interval, hole.span.end),
        when: moments::spoken(interval, venue, &hole.span),
        slots: hole.slots,
        series: hole.gaps.len() as u64,
        of: of as u64,
        cause: hole.cause.word().to_owned(),
        because: sentence(hole.cause).to_owned(),
        gaps,
    }
}

fn golden(found: &GoldenGap, venue: &Venue) -> Gap {
    let GoldenGap { series: key, span, slots, said, suggestion } = found;
    let because: Vec<String> = said.iter().map(|(source, g)| format!("{source}: {}", g.cause)).collect();
    let first = said.first().map(|(_, gap)| gap);
    Gap {
        id: moments::gap_id(key, span.start),
        series: key.to_string(),
        from: moments::written(key.interval, span.start),
        to: moments::written(key.interval, span.end),
        when: moments::spoken(key.interval, venue, span),
        slots: *slots,
        cause: first.map_or("", |g| g.cause.word()).to_owned(),
        because: because.join("; "),
        fetch: first.and_then(|g| g.fetch),
        asked: said.iter().map(|(_, g)| g.asked).max().unwrap_or(0),
        evidence: "no source that takes part has it".to_owned(),
        suggestion: suggestion.word().to_owned(),
    }
}

/// What other sources have where one has a gap, in a sentence.
fn evidence(explained: &Explained) -> String {
    let (all, some): (Vec<_>, Vec<_>) = explained.have.iter().partition(|(_, bars)| *bars >= explained.gap.slots);
    let all: Vec<&str> = all.into_iter().map(|(source, _)| source.as_str()).collect();
    let whole = (!all.is_empty()).then(|| format!("{} {} it", all.join(" and "), if all.len() == 1 { "has" } else { "have" }));
    let some = some.into_iter().map(|(source, bars)| format!("{source} has {} of {} bars", count(*bars), count(explained.gap.slots)));
    let have: Vec<String> = whole.into_iter().chain(some).collect();
    let said = match (&have[..], &explained.have_none[..]) {
        ([], []) => "no other source says anything of it".to_owned(),
        ([], none) => format!("{} has none either: probably nothing was traded", none.join(" and ")),
        (have, _) => format!("{}: really missing", have.join(", ")),
    };
    match &explained.whole {
        Some(source) if explained.suggestion == Suggestion::Fill => format!("{said}; the golden series takes it from {source}"),
        _ => said,
    }
}

fn shown(view: &View<'_>, explained: Explained) -> Gap {
    let (key, gap) = (&view.row.key, &explained.gap);
    Gap {
        id: moments::gap_id(key, gap.span.start),
        series: key.to_string(),
        from: moments::written(key.interval, gap.span.start),
        to: moments::written(key.interval, gap.span.end),
        when: moments::spoken(key.interval, view.post.venue, &gap.span),
        slots: gap.slots,
        cause: gap.cause.word().to_owned(),
        fetch: gap.fetch,
        asked: gap.asked,
        evidence: evidence(&explained),
        suggestion: explained.suggestion.word().to_owned(),
        because: explained.reason.unwrap_or_else(|| sentence(gap.cause).to_owned()),
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
    let series = desk.store.series().await?;
    let rows = desk.store.quarantine(None, newest.most.unwrap_or(200).into()).await?;
    let shown = rows.into_iter().filter_map(|row| {
        let key = &series.get(row.series)?.key;
        let flaw = Flaw::ALL.into_iter().find(|f| f.word() == row.suspect.flaw);
        Some(Quarantined {
            series: key.to_string(),
            fetch: row.fetch,
            at: row.suspect.slot.map(|s| moments::written(key.interval, s)),
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
