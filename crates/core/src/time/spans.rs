//! Sets of slots as disjoint half-open spans: the algebra of the one equation.

use crate::slot::{Slot, Span};
use std::{
    hash::{Hash, Hasher},
    sync::Arc,
};

/// A set of slots, as disjoint spans in order with space between any two.
///
/// One array: a scan over the gaps of thousands of series goes through
/// millions of spans, and goes through them in order. Adding a span behind
/// all others costs nothing to speak of, anywhere else it moves those behind it.
/// A clone shares the array until one of the two is changed, since thousands of
/// series expect the same and most hold what they expect.
/// An empty span adds nothing and takes nothing away.
#[derive(Clone, Default)]
pub struct Spans(Option<Arc<Vec<Span>>>);

impl Spans {
    /// The empty set.
    #[must_use]
    pub const fn new() -> Spans {
        Spans(None)
    }

    /// Spans in order with space between any two.
    fn of(all: Vec<Span>) -> Spans {
        Spans((!all.is_empty()).then(|| Arc::new(all)))
    }

    fn all(&self) -> &[Span] {
        self.0.as_ref().map_or(&[], |all| all)
    }

    /// The spans, of nobody else.
    fn own(&mut self) -> &mut Vec<Span> {
        Arc::make_mut(self.0.get_or_insert_default())
    }

    /// The spans in order.
    pub fn iter(&self) -> std::slice::Iter<'_, Span> {
        self.all().iter()
    }

    /// How many spans it takes to write the set down.
    #[must_use]
    pub fn len(&self) -> usize {
        self.all().len()
    }

    /// Whether no slot is in the set.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.all().is_empty()
    }

    /// The first span.
    #[must_use]
    pub fn first(&self) -> Option<&Span> {
        self.all().first()
    }

    /// The last span.
    #[must_use]
    pub fn last(&self) -> Option<&Span> {
        self.all().last()
    }

    /// Whether a slot is in the set.
    #[must_use]
    pub fn contains(&self, slot: &Slot) -> bool {
        self.all().get(self.ended_by(*slot)).is_some_and(|s| s.start <= *slot)
    }

    /// Whether a slot of `span` is in the set.
    #[must_use]
    pub fn overlaps(&self, span: &Span) -> bool {
        span.start < span.end && self.all().get(self.ended_by(span.start)).is_some_and(|s| s.start < span.end)
    }

    /// The parts of the set that lie in `span`.
    pub fn within(&self, span: &Span) -> impl Iterator<Item = Span> + use<'_> {
        let (start, end) = (span.start, span.end);
        let touching = self.all()[self.ended_by(start)..].iter().take_while(move |s| s.start < end);
        touching.map(move |s| s.start.max(start)..s.end.min(end)).filter(|s| s.start < s.end)
    }

    /// The parts of `span` that are not in the set.
    pub fn gaps(&self, span: &Span) -> impl Iterator<Item = Span> + use<'_> {
        only(std::iter::once(span.clone()).filter(|s| s.start < s.end), self.within(span))
    }

    /// Adds the slots of `span`.
    pub fn insert(&mut self, span: Span) {
        if span.start < span.end {
            add(self.own(), span);
        }
    }

    /// Takes away the slots of `span`.
    pub fn remove(&mut self, span: Span) {
        if !self.overlaps(&span) {
            return;
        }
        let (from, to) = (self.ended_by(span.start), self.all().partition_point(|s| s.start < span.end));
        let all = self.own();
        let (before, after) = (all[from].start..span.start, span.end..all[to - 1].end);
        all.splice(from..to, [before, after].into_iter().filter(|s| s.start < s.end));
    }

    /// How many spans end at or before a slot: the next one is the first that may contain it.
    fn ended_by(&self, slot: Slot) -> usize {
        self.all().partition_point(|s| s.end <= slot)
    }
}

/// Adds a span, which is not empty, to some in order.
fn add(all: &mut Vec<Span>, span: Span) {
    match all.last_mut() {
        Some(last) if span.start < last.start => {}
        Some(last) if span.start <= last.end => return last.end = last.end.max(span.end),
        _ => return all.push(span),
    }
    // What it touches becomes one with it.
    let from = all.partition_point(|s| s.end < span.start);
    let to = all.partition_point(|s| s.start <= span.end);
    let touched = &all[from..to];
    let start = touched.first().map_or(span.start, |s| s.start.min(span.start));
    let end = touched.last().map_or(span.end, |s| s.end.max(span.end));
    all.splice(from..to, [start..end]);
}

/// The slots in both of two sets, each given as disjoint spans in order.
pub fn both(a: impl Iterator<Item = Span>, b: impl Iterator<Item = Span>) -> impl Iterator<Item = Span> {
    let (mut a, mut b) = (a.peekable(), b.peekable());
    std::iter::from_fn(move || {
        loop {
            let (x, y) = (a.peek()?, b.peek()?);
            let common = x.start.max(y.start)..x.end.min(y.end);
            if x.end <= y.end {
                a.next()
            } else {
                b.next()
            };
            if common.start < common.end {
                return Some(common);
            }
        }
    })
}

/// The slots of the first set that are not in the second, each given as disjoint spans in order.
pub fn only(from: impl Iterator<Item = Span>, without: impl Iterator<Item = Span>) -> impl Iterator<Item = Span> {
    let (mut from, mut without) = (from, without.peekable());
    let mut rest: Option<Span> = None;
    std::iter::from_fn(move || {
        loop {
            let span = rest.take().or_else(|| from.next())?;
            while without.next_if(|w| w.end <= span.start).is_some() {}
            match without.peek() {
                Some(w) if w.start <= span.start => rest = Some(w.end..span.end).filter(|r| r.start < r.end),
                Some(w) if w.start < span.end => {
                    rest = Some(w.start..span.end);
                    return Some(span.start..w.start);
                }
                _ => return Some(span),
            }
        }
    })
}

/// The slots of `from` that are not in `without`.
///
/// ```
/// use mizuno_core::{Slot, Spans, spans::difference};
/// let spans = |all: &[(i64, i64)]| all.iter().map(|(a, b)| Slot(*a)..Slot(*b)).collect::<Spans>();
/// assert_eq!(difference(&spans(&[(0, 10)]), &spans(&[(3, 4), (8, 12)])), spans(&[(0, 3), (4, 8)]));
/// ```
#[must_use]
pub fn difference(from: &Spans, without: &Spans) -> Spans {
    // Two spans of the result have a part of `without` or space between them, so they never touch.
    match from == without {
        true => Spans::new(),
        false if without.is_empty() => from.clone(),
        false => Spans::of(only(from.iter().cloned(), without.iter().cloned()).collect()),
    }
}

/// The slots in both sets.
///
/// ```
/// use mizuno_core::{Slot, Spans, spans::intersection};
/// let spans = |all: &[(i64, i64)]| all.iter().map(|(a, b)| Slot(*a)..Slot(*b)).collect::<Spans>();
/// assert_eq!(intersection(&spans(&[(0, 5), (7, 9)]), &spans(&[(4, 8)])), spans(&[(4, 5), (7, 8)]));
/// ```
#[must_use]
pub fn intersection(a: &Spans, b: &Spans) -> Spans {
    match a == b {
        true => a.clone(),
        false => Spans::of(both(a.iter().cloned(), b.iter().cloned()).collect()),
    }
}

/// The slots in either set.
///
/// ```
/// use mizuno_core::{Slot, Spans, spans::union};
/// let spans = |all: &[(i64, i64)]| all.iter().map(|(a, b)| Slot(*a)..Slot(*b)).collect::<Spans>();
/// // Neighbours become one.
/// assert_eq!(union(&spans(&[(0, 5)]), &spans(&[(5, 7), (9, 10)])), spans(&[(0, 7), (9, 10)]));
/// ```
#[must_use]
pub fn union(a: &Spans, b: &Spans) -> Spans {
    if a == b || b.is_empty() {
        return a.clone();
    }
    let (mut rest, mut other) = (a.iter().peekable(), b.iter().peekable());
    let mut out = Vec::with_capacity(a.len().max(b.len()));
    while let Some(span) = match (rest.peek(), other.peek()) {
        (Some(x), Some(y)) if y.start < x.start => other.next(),
        (Some(_), _) => rest.next(),
        (None, _) => other.next(),
    } {
        add(&mut out, span.clone());
    }
    Spans::of(out)
}

/// The slots of `set` that lie in `span`.
#[must_use]
pub fn within(set: &Spans, span: &Span) -> Spans {
    Spans::of(set.within(span).collect())
}

/// The smallest span that contains the whole set; `None` for the empty set.
///
/// ```
/// use mizuno_core::{Slot, Spans, spans::hull};
/// let spans: Spans = [Slot(3)..Slot(4), Slot(8)..Slot(9)].into_iter().collect();
/// assert_eq!(hull(&spans), Some(Slot(3)..Slot(9)));
/// ```
#[must_use]
pub fn hull(set: &Spans) -> Option<Span> {
    Some(set.first()?.start..set.last()?.end)
}

/// The same array, or the same spans. Series grow at their ends, so that most that differ do so there.
impl PartialEq for Spans {
    fn eq(&self, other: &Spans) -> bool {
        let same = self.0.as_ref().zip(other.0.as_ref()).is_some_and(|(a, b)| Arc::ptr_eq(a, b));
        same || (self.last() == other.last() && self.all() == other.all())
    }
}

impl Eq for Spans {}

impl Hash for Spans {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.all().hash(state);
    }
}

impl std::fmt::Debug for Spans {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_list().entries(self.all()).finish()
    }
}

impl FromIterator<Span> for Spans {
    fn from_iter<I: IntoIterator<Item = Span>>(spans: I) -> Spans {
        let mut all: Vec<Span> = spans.into_iter().filter(|s| s.start < s.end).collect();
        if !all.is_sorted_by_key(|s| s.start) {
            all.sort_by_key(|s| s.start);
        }
        all.dedup_by(|next, last| {
            let touches = next.start <= last.end;
            if touches {
                last.end = last.end.max(next.end);
            }
            touches
        });
        // A slot at a time may have become a few spans, which are kept for long.
        all.shrink_to_fit();
        Spans::of(all)
    }
}

impl<const N: usize> From<[Span; N]> for Spans {
    fn from(spans: [Span; N]) -> Spans {
        spans.into_iter().collect()
    }
}

impl Extend<Span> for Spans {
    fn extend<I: IntoIterator<Item = Span>>(&mut self, spans: I) {
        let spans = spans.into_iter();
        let all = self.own();
        all.reserve(spans.size_hint().0);
        spans.filter(|s| s.start < s.end).for_each(|s| add(all, s));
    }
}

impl IntoIterator for Spans {
    type Item = Span;
    type IntoIter = std::vec::IntoIter<Span>;

    fn into_iter(self) -> Self::IntoIter {
        self.0.map(Arc::unwrap_or_clone).unwrap_or_default().into_iter()
    }
}

impl<'a> IntoIterator for &'a Spans {
    type Item = &'a Span;
    type IntoIter = std::slice::Iter<'a, Span>;

    fn into_iter(self) -> Self::IntoIter {
        self.iter()
    }
}

#[cfg(test)]
#[path = "spans_test.rs"]
mod tests;
