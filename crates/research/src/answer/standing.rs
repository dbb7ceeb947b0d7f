//! How a series stands as a whole: what any source of a golden one is expected to have and has, and of a chain each contract in its slots.

use super::rows::Measured;
use crate::{
    reading::Subject,
    unclear::Unclear,
    universes::Sights,
    whole::{alone, union},
};
use mizuno_config::GOLDEN;
use mizuno_core::{
    Overlap, Span, Spans,
    spans::{self, hull},
};
use mizuno_desk::Setup;

/// What a series is expected to have, and has.
pub(super) struct Stands {
    /// From the first bar of any source to the last.
    pub(super) extent: Option<Span>,
    pub(super) held: Spans,
    pub(super) missing: Spans,
    pub(super) measured: Measured,
}

/// How a series stands: what any source of a golden one has, and of a chain each contract in its slots; `None` where nobody keeps it.
pub(super) fn stands(setup: &Setup, subject: &Subject, (sights, unclear): (&Sights, &Unclear)) -> Option<Stands> {
    match subject {
        Subject::One(row) => {
            let sight = sights.get(&row.id)?;
            let (held, missing) = (sight.standing.held.clone(), sight.standing.missing());
            Some(Stands { extent: hull(&held), held, missing, measured: Measured::One(sight.clone()) })
        }
        Subject::Golden(lineup) => {
            let mut kept = lineup.parts.iter().filter_map(|part| Some((&part.row, sights.get(&part.row.id)?.as_ref())));
            let extent = kept.clone().filter_map(|(_, sight)| hull(&sight.standing.held)).reduce(|a, b| a.hull(&b));
            let whole = if lineup.key.source == GOLDEN { union(setup, kept, unclear)? } else { alone(kept.next()?, unclear) };
            let (held, missing) = (whole.standing.held.clone(), whole.standing.missing());
            Some(Stands { extent, held, missing, measured: Measured::Golden(whole) })
        }
        Subject::Chain(legs) => {
            let (mut held, mut missing, mut measured) = (Spans::new(), Spans::new(), vec![]);
            for leg in legs {
                let Some(own) = stands(setup, &leg.subject, (sights, unclear)) else { continue };
                held = spans::union(&held, &own.held.within(&leg.span).collect());
                missing = spans::union(&missing, &own.missing.within(&leg.span).collect());
                measured.push((leg.span.clone(), own.measured));
            }
            (!measured.is_empty()).then_some(Stands { extent: hull(&held), held, missing, measured: Measured::Legs(measured) })
        }
        Subject::Delisting(_) => None,
    }
}
