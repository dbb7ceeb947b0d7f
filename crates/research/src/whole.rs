//! A golden series as a whole: what any of its sources is expected to have, and has.

use crate::{golden::ranked_span, unclear::Unclear};
use mizuno_core::{
    Completeness, Interval, Slot, Span, Spans,
    gap::{self, Evidence},
    spans::{self, difference, intersection, within},
    standing::Standing,
};
use mizuno_desk::{Setup, sight::Sight};
use mizuno_store::series::SeriesRow;
use std::borrow::Cow;

/// What a golden series is expected to have, and has: what any source that takes part in it does, on the dates for which it is ranked.
pub struct Whole {
    /// The interval of its bars.
    pub interval: Interval,
    /// What is expected, held and excused.
    pub standing: Standing,
    /// Slots in which it is only quiet, at every source.
    quiet: Spans,
    /// A slot at or after it is not due from any source.
    due: Slot,
}

/// The series of a source with what is known of it.
pub type Sighted<'v> = (&'v SeriesRow, &'v Sight);

/// What is known of the sources that take part in a golden series as one; `None` of none. Where it is not clear what was paid, a source has
/// no part.
pub fn union<'v>(setup: &Setup, sources: impl IntoIterator<Item = Sighted<'v>>, unclear: &Unclear) -> Option<Whole> {
    let mut sources = sources.into_iter().peekable();
    let key = &sources.peek()?.0.key;
    let (interval, calendar) = (key.interval, setup.calendar_of(setup.known(&key.symbol)?).ok()?);
    let part = |(row, sight): Sighted<'v>| {
        let ranked = ranked_span(setup, calendar, &row.key);
        (sight, unclear.of(row.id).map_or(ranked.clone(), |unclear| difference(&ranked, unclear)))
    };
    let sights: Vec<(&Sight, Spans)> = sources.map(part).collect();
    let always = Spans::from([Slot(i64::MIN)..Slot(i64::MAX)]);
    let all = |of: &dyn Fn(&'v Sight) -> Cow<'v, Spans>| -> Spans {
        let ranked = sights.iter().map(|(sight, ranked)| match of(sight) {
            all if *ranked == always => all,
            all => Cow::Owned(intersection(&all, ranked)),
        });
        // Sources of one instrument mostly have the same.
        ranked.reduce(|a, b| if a == b { a } else { Cow::Owned(spans::union(&a, &b)) }).unwrap_or_default().into_owned()
    };
    let due = sights.iter().filter_map(|(sight, _)| sight.evidence.reach.as_ref().map(|r| r.end)).max().unwrap_or(Slot(i64::MAX));
    let held = all(&|sight| Cow::Borrowed(&sight.standing.held));
    let wanted = all(&|sight| Cow::Borrowed(&sight.standing.expected));
    if sights.iter().all(|(sight, _)| sight.quiet.is_empty() && sight.standing.excused.is_empty()) {
        let standing = Standing { expected: wanted, held, excused: Spans::new() };
        return Some(Whole { interval, standing, quiet: Spans::new(), due });
    }
    // Where one source has answered and it is only quiet, another's silence says nothing more.
    let quiet = all(&|sight| Cow::Borrowed(&sight.quiet));
    let expected = spans::union(&difference(&wanted, &quiet), &intersection(&wanted, &held));
    let quiet = difference(&difference(&quiet, &expected), &held);
    // A person who accepts the absence of a golden bar accepts it at each of its sources; one source's excuse excuses no other.
    let still = all(&|sight| Cow::Owned(difference(&difference(&sight.standing.expected, &sight.standing.held), &sight.standing.excused)));
    let excused = difference(&difference(&expected, &held), &still);
    let standing = Standing { expected, held, excused };
    Some(Whole { interval, standing, quiet, due })
}

/// What is known of one source, whose prices are brought back alone: where it is not clear what was paid, its bar is missing.
pub(crate) fn alone((row, sight): Sighted<'_>, unclear: &Unclear) -> Whole {
    let standing = &sight.standing;
    let held = unclear.of(row.id).map_or(standing.held.clone(), |unclear| difference(&standing.held, unclear));
    let standing = Standing { expected: standing.expected.clone(), held, excused: standing.excused.clone() };
    let due = sight.evidence.reach.as_ref().map_or(Slot(i64::MAX), |reach| reach.end);
    Whole { interval: row.key.interval, standing, quiet: sight.quiet.clone(), due }
}

impl Whole {
    /// Figures over the slots in `span` that some source should have by now.
    pub fn completeness(&self, span: &Span) -> Completeness {
        Completeness::over(self.interval, &self.standing, &self.quiet, span.start..self.due.min(span.end).max(span.start))
    }

    /// The stretches that no source has, closed hours between them left aside, each with how many slots it is missing.
    pub fn gaps(&self) -> Vec<(Span, u64)> {
        let due = Standing { expected: within(&self.standing.expected, &(Slot(i64::MIN)..self.due)), ..self.standing.clone() };
        gap::gaps(self.interval, &due, &Evidence::default()).into_iter().map(|g| (g.span, g.slots)).collect()
    }
}
