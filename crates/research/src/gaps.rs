//! What is missing, with what other sources say of it and what a person might do; gaps of many series as one; and the gaps
//! of golden series.

use crate::{Research, basis::takes_part, findings::Known, unclear::Unclear, whole::union};
use mizuno_config::GOLDEN;
use mizuno_core::{
    Cause, Gap, Interval, Overlap, SeriesKey, Side, Span, Spans,
    gap::{Asked, Outcome},
    hole::{Hole, gather},
    spans::{intersection, within},
    time::DAY,
};
use mizuno_desk::{DeskError, Setup, View, moments};
use mizuno_store::series::SeriesRow;
use std::collections::{BTreeMap, HashMap, hash_map::Entry};

/// Which gaps are asked about; what is absent narrows nothing.
#[derive(Clone, Debug, Default)]
pub struct Wanted {
    /// Symbol of an instrument, present or former.
    pub instrument: Option<String>,
    /// Name of a series.
    pub series: Option<String>,
    /// Name of a source.
    pub source: Option<String>,
    /// An interval.
    pub interval: Option<String>,
    /// First trade date or instant.
    pub from: Option<String>,
    /// Last trade date, included, or an instant, not included.
    pub to: Option<String>,
    /// The causes.
    pub causes: Vec<Cause>,
}

impl Wanted {
    /// The stretch asked about, in the slots of a series.
    fn span(&self, view: &View<'_>) -> Result<Span, DeskError> {
        let asked = moments::Asked { from: self.from.as_deref(), to: self.to.as_deref() };
        moments::span(asked, view.row.key.interval, view.post.calendar)
    }

    /// The gaps of a series that are asked about.
    fn of(&self, view: &View<'_>) -> Result<Vec<Gap>, DeskError> {
        let span = self.span(view)?;
        let of_these = |g: &&Gap| self.causes.contains(&g.cause) && g.span.overlaps(&span);
        Ok(view.gaps().iter().filter(of_these).cloned().collect())
    }
}

/// What a person might do about a gap.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Suggestion {
    /// It is not due yet.
    Wait,
    /// Ask for it again.
    Refetch,
    /// Accept that there is none.
    Excuse,
    /// Nothing: the golden series takes it from another source.
    Fill,
}

impl Suggestion {
    /// Its name in the interface.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Suggestion::Wait => "wait",
            Suggestion::Refetch => "refetch",
            Suggestion::Excuse => "excuse",
            Suggestion::Fill => "fill",
        }
    }
}

/// A gap of one series, with what is known beside it.
#[derive(Clone, Debug)]
pub struct Explained {
    /// The gap.
    pub gap: Gap,
    /// What the failed fetch behind it said.
    pub reason: Option<String>,
    /// Sources that have bars of it, and how many.
    pub have: Vec<(String, u64)>,
    /// Sources that were asked and have none of it either.
    pub have_none: Vec<String>,
    /// The first source that has all of it.
    pub whole: Option<String>,
    /// What a person might do.
    pub suggestion: Suggestion,
}

/// A gap of a golden series: what none of its sources has.
#[derive(Clone, Debug)]
pub struct GoldenGap {
    /// The golden series.
    pub series: SeriesKey,
    /// Where.
    pub span: Span,
    /// How many bars.
    pub slots: u64,
    /// What each source says of it; the most hopeful first.
    pub said: Vec<(String, Gap)>,
    /// What a person might do.
    pub suggestion: Suggestion,
}

impl Research {
    /// The series asked about, as they stand.
    ///
    /// # Errors
    /// When something is named that nobody knows, or the store cannot be read.
    pub async fn series_with_gaps<'s>(&self, setup: &'s Setup, wanted: &Wanted) -> Result<Vec<View<'s>>, DeskError> {
        let symbol = wanted.instrument.as_deref().map(|s| setup.instrument(s)).transpose()?.map(|i| i.symbol.clone());
        let all = self.desk.store.series().await?;
        setup.check_names(&all, wanted.source.as_deref(), wanted.series.as_deref(), wanted.interval.as_deref())?;
        let is_wanted = |r: &&SeriesRow| {
            symbol.as_ref().is_none_or(|s| *s == r.key.symbol)
                && wanted.source.as_ref().is_none_or(|s| *s == r.key.source)
                && wanted.series.as_ref().is_none_or(|s| *s == r.key.to_string())
                && wanted.interval.as_ref().is_none_or(|i| *i == r.key.interval.to_string())
        };
        self.desk.views(setup, all.iter().filter(is_wanted).cloned().collect()).await
    }

    /// Gaps of these series, newest first, `most` at most, each with the place of its series among them.
    ///
    /// # Errors
    /// When the range cannot be read, or the store.
    pub async fn gaps(
        &self,
        setup: &Setup,
        views: &[View<'_>],
        wanted: &Wanted,
        most: usize,
    ) -> Result<Vec<(usize, Explained)>, DeskError> {
        let mut found = vec![];
        for (at, view) in views.iter().enumerate() {
            found.extend(wanted.of(view)?.into_iter().map(|gap| (at, gap)));
        }
        found.sort_by_key(|(at, gap)| std::cmp::Reverse(end_of(views[*at].row.key.interval, &gap.span)));
        found.truncate(most);
        let reasons = self.reasons(&found).await?;
        // The other series of the same instruments are the witnesses. Where nothing was narrowed they are here already.
        let narrowed = wanted.series.is_some() || wanted.source.is_some();
        let others = if narrowed { self.others(setup, views, &found).await? } else { vec![] };
        let mut witnesses: Witnesses<'_, '_> = HashMap::new();
        for other in if narrowed { &others } else { views } {
            let key = &other.row.key;
            witnesses.entry((key.symbol.as_str(), key.interval, key.side)).or_default().push(other);
        }
        let explained = |(at, gap): (usize, Gap)| {
            let reason = gap.fetch.and_then(|f| reasons.get(&f)).filter(|s| !s.is_empty()).cloned();
            (at, explain(&views[at], gap, reason, &witnesses))
        };
        Ok(found.into_iter().map(explained).collect())
    }

    /// What the failed fetches behind some gaps said.
    async fn reasons(&self, found: &[(usize, Gap)]) -> Result<HashMap<i64, String>, DeskError> {
        let mut out = HashMap::new();
        for fetch in found.iter().filter(|(_, g)| g.cause == Cause::FetchFailed).filter_map(|(_, g)| g.fetch) {
            if let Entry::Vacant(place) = out.entry(fetch) {
                let failure = self.desk.store.fetch(fetch).await?.failure;
                place.insert(failure.map(|f| format!("{}: {}", f.class, f.message)).unwrap_or_default());
            }
        }
        Ok(out)
    }

    async fn others<'s>(&self, setup: &'s Setup, views: &[View<'_>], found: &[(usize, Gap)]) -> Result<Vec<View<'s>>, DeskError> {
        let symbols: std::collections::HashSet<&str> = found.iter().map(|(at, _)| views[*at].row.key.symbol.as_str()).collect();
        let all = self.desk.store.series().await?;
        self.desk.views(setup, all.iter().filter(|r| symbols.contains(r.key.symbol.as_str())).cloned().collect()).await
    }
}

/// Where a span ends, so that days and instants can be put in order.
fn end_of(interval: Interval, span: &Span) -> i64 {
    if interval.is_intraday() { span.end.0 } else { span.end.0 * DAY }
}

/// The views of each instrument, interval and side: witnesses for each other.
type Witnesses<'v, 'd> = HashMap<(&'v str, Interval, Side), Vec<&'v View<'d>>>;

fn explain(view: &View<'_>, gap: Gap, reason: Option<String>, witnesses: &Witnesses<'_, '_>) -> Explained {
    let key = &view.row.key;
    let here = |set: &Spans| within(set, &gap.span);
    let missing = here(&view.standing.missing());
    let has_answered = |w: &View<'_>| {
        let covers = |a: &Asked| a.outcome != Outcome::Failed && a.window.contains(&gap.span.start);
        w.evidence.asked.iter().any(covers)
    };
    let (mut have, mut have_none, mut whole) = (vec![], vec![], None);
    let all = witnesses.get(&(key.symbol.as_str(), key.interval, key.side)).into_iter().flatten();
    for witness in all.filter(|w| w.row.key.source != key.source) {
        let name = &witness.row.key.source;
        let there = key.interval.count(intersection(&missing, &here(&witness.standing.held)));
        if there > 0 {
            whole = whole.or((there == gap.slots).then(|| name.clone()));
            have.push((name.clone(), there));
        } else if has_answered(witness) {
            have_none.push(name.clone());
        }
    }
    // Asked twice and more, and still without: the source will not have it.
    let in_vain = gap.asked >= 2;
    let suggestion = match gap.cause {
        Cause::NotYetDue => Suggestion::Wait,
        Cause::BeyondReach if whole.is_some() => Suggestion::Fill,
        Cause::BeyondReach => Suggestion::Excuse,
        Cause::LeftOut | Cause::SourceHadNothing | Cause::Quarantined if in_vain && whole.is_some() => Suggestion::Fill,
        Cause::LeftOut | Cause::SourceHadNothing | Cause::Quarantined if in_vain => Suggestion::Excuse,
        _ => Suggestion::Refetch,
    };
    Explained { gap, reason, have, have_none, whole, suggestion }
}

/// Gaps of many series of a venue, source, interval and side as one.
#[derive(Clone, Debug)]
pub struct HoleIn {
    /// The venue.
    pub venue: String,
    /// The source.
    pub source: String,
    /// The interval.
    pub interval: Interval,
    /// The side.
    pub side: Side,
    /// The stretch, its cause, and how many bars it lacks.
    pub hole: Hole,
    /// The ids of the gaps it is made of.
    pub gaps: Vec<String>,
    /// How many series there are that might have it.
    pub of: usize,
}

/// A series, and its gaps that are asked about.
type Member<'v, 'd> = (&'v View<'d>, Vec<Gap>);

/// The gaps asked about, those of many series at once as one; newest first, `most` at most.
///
/// # Errors
/// When the range cannot be read.
pub fn holes(views: &[View<'_>], wanted: &Wanted, most: usize) -> Result<Vec<HoleIn>, DeskError> {
    let mut groups: BTreeMap<(&str, &str, Interval, Side), Vec<Member<'_, '_>>> = BTreeMap::new();
    for view in views {
        let key = &view.row.key;
        groups.entry((&view.post.venue.code, &key.source, key.interval, key.side)).or_default().push((view, wanted.of(view)?));
    }
    let mut out = vec![];
    for ((venue, source, interval, side), members) in &groups {
        let gaps: Vec<&[Gap]> = members.iter().map(|(_, gaps)| &gaps[..]).collect();
        for hole in gather(&gaps) {
            let id = |(s, g): &(usize, usize)| moments::gap_id(&members[*s].0.row.key, members[*s].1[*g].span.start);
            out.push(HoleIn {
                venue: (*venue).to_owned(),
                source: (*source).to_owned(),
                interval: *interval,
                side: *side,
                gaps: hole.gaps.iter().map(id).collect(),
                hole,
                of: members.len(),
            });
        }
    }
    out.sort_by_key(|h| std::cmp::Reverse(end_of(h.interval, &h.hole.span)));
    out.truncate(most);
    Ok(out)
}

/// The gaps of golden series: what none of an instrument's sources has; newest first, `most` at most.
///
/// # Errors
/// When the range cannot be read.
pub fn golden_gaps(
    setup: &Setup,
    (known, unclear): (&Known, &Unclear),
    views: &[View<'_>],
    wanted: &Wanted,
    most: usize,
) -> Result<Vec<GoldenGap>, DeskError> {
    let mut groups: BTreeMap<(&str, Interval, Side), Vec<&View<'_>>> = BTreeMap::new();
    for view in views.iter().filter(|v| takes_part(setup, known, &v.row.key).is_ok()) {
        let key = &view.row.key;
        groups.entry((&key.symbol, key.interval, key.side)).or_default().push(view);
    }
    let mut out = vec![];
    for ((symbol, interval, side), members) in groups {
        let series = SeriesKey { symbol: symbol.to_owned(), interval, side, source: GOLDEN.to_owned() };
        let Some(whole) = union(setup, members.iter().map(|v| v.sighted()), unclear) else { continue };
        let within = wanted.span(members[0])?;
        let told: Vec<(&str, &[Gap])> = members.iter().map(|v| (v.row.key.source.as_str(), v.gaps())).collect();
        // The gaps of each source stand in order, and so do those of the whole: each is gone through once.
        let mut at = vec![0usize; told.len()];
        for (span, slots) in whole.gaps().into_iter().filter(|(s, _)| s.overlaps(&within)) {
            for (place, (_, gaps)) in at.iter_mut().zip(&told) {
                while gaps.get(*place).is_some_and(|g| g.span.end <= span.start) {
                    *place += 1;
                }
            }
            let says = |((source, gaps), place): (&(&str, &[Gap]), &usize)| {
                let gap = gaps.get(*place).filter(|g| g.span.start < span.end)?;
                Some(((*source).to_owned(), gap.clone()))
            };
            let mut said: Vec<(String, Gap)> = told.iter().zip(&at).filter_map(says).collect();
            // The most hopeful cause: what has not been asked for may still come.
            said.sort_by_key(|(_, gap)| hope(gap));
            if !said.first().is_some_and(|(_, gap)| wanted.causes.contains(&gap.cause)) {
                continue;
            }
            let again = said.iter().any(|(_, g)| g.cause.can_refetch() && g.asked < 2);
            let suggestion = if again { Suggestion::Refetch } else { Suggestion::Excuse };
            out.push(GoldenGap { series: series.clone(), span, slots, said, suggestion });
        }
    }
    out.sort_by(|a, b| {
        let key = |g: &GoldenGap| moments::written(g.series.interval, g.span.end);
        key(b).cmp(&key(a))
    });
    out.truncate(most);
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
