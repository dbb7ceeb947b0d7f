//! How complete a series is over a span, in figures.

use crate::{
    interval::Interval,
    slot::Span,
    spans::{Spans, both, only},
    standing::Standing,
};
use std::iter::Sum;

/// Slots of a span, by what is known of them: `expected = held + excused + missing`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Completeness {
    /// Slots that should have a bar by now.
    pub expected: u64,
    /// Of these, with a bar.
    pub held: u64,
    /// Of these, without a bar and accepted as absent by a person.
    pub excused: u64,
    /// Of these, neither.
    pub missing: u64,
    /// Slots beside these that the source answered without a bar, as is usual for an instrument that is traded now and then.
    pub quiet: u64,
}

impl Completeness {
    /// The figures over `span`.
    ///
    /// ```
    /// use mizuno_core::{Completeness, Interval, Slot, Spans, standing::Standing};
    ///
    /// let spans = |s: std::ops::Range<i64>| Spans::from_iter([Slot(s.start)..Slot(s.end)]);
    /// let standing = Standing { expected: spans(0..10), held: spans(0..7), excused: spans(7..8) };
    /// let c = Completeness::over(Interval::Daily, &standing, &Spans::new(), Slot(0)..Slot(9));
    /// assert_eq!((c.expected, c.held, c.excused, c.missing), (9, 7, 1, 1));
    /// ```
    #[must_use]
    pub fn over(interval: Interval, standing: &Standing, quiet: &Spans, span: Span) -> Completeness {
        let (due, held) = (|| standing.expected.within(&span), || standing.held.within(&span));
        let excused = only(both(due(), standing.excused.within(&span)), held());
        let (expected, excused) = (interval.count(due()), interval.count(excused));
        // Most series have all that they should, and share the array.
        let held = if standing.held == standing.expected { expected } else { interval.count(both(due(), held())) };
        Completeness { expected, held, excused, missing: expected - held - excused, quiet: interval.count(quiet.within(&span)) }
    }
}

impl Sum for Completeness {
    fn sum<I: Iterator<Item = Completeness>>(all: I) -> Completeness {
        all.fold(Completeness::default(), |a, b| Completeness {
            expected: a.expected + b.expected,
            held: a.held + b.held,
            excused: a.excused + b.excused,
            missing: a.missing + b.missing,
            quiet: a.quiet + b.quiet,
        })
    }
}
