use super::*;
use proptest::prelude::*;
use rangemap::RangeSet;
use std::collections::BTreeSet;

/// Spans given in any order, overlapping, touching and empty ones among them.
fn some_spans() -> impl Strategy<Value = Vec<Span>> {
    prop::collection::vec((-40i64..40, -1i64..12).prop_map(|(at, n)| Slot(at)..Slot(at + n)), 0..14)
}

fn set(spans: &[Span]) -> Spans {
    spans.iter().cloned().collect()
}

/// The same set, a slot at a time.
fn slots(spans: impl IntoIterator<Item = Span>) -> BTreeSet<i64> {
    spans.into_iter().flat_map(|s| s.start.0..s.end.0).collect()
}

fn in_order(spans: &Spans) -> bool {
    spans.iter().all(|s| s.start < s.end) && spans.iter().zip(spans.iter().skip(1)).all(|(a, b)| a.end < b.start)
}

#[test]
fn spans_that_touch_are_one() {
    let set = Spans::from([Slot(5)..Slot(7), Slot(1)..Slot(3), Slot(3)..Slot(5)]);
    assert_eq!(set.iter().cloned().collect::<Vec<_>>(), [Slot(1)..Slot(7)]);
    assert_eq!(hull(&set), Some(Slot(1)..Slot(7)));
    assert_eq!(hull(&Spans::new()), None);
}

#[test]
fn the_ends_of_time_can_be_asked_about() {
    let all = Slot(i64::MIN)..Slot(i64::MAX);
    let one = Spans::from([Slot(4)..Slot(9)]);
    assert_eq!(within(&one, &all), one);
    assert_eq!(one.gaps(&all).collect::<Vec<_>>(), [Slot(i64::MIN)..Slot(4), Slot(9)..Slot(i64::MAX)]);
    assert_eq!(difference(&one, &Spans::from([all.clone()])), Spans::new());
    let backwards = Slot(9)..Slot(4);
    assert!(!one.overlaps(&backwards) && one.within(&backwards).count() == 0 && one.gaps(&backwards).count() == 0);
}

proptest! {
    /// What is done to a clone is not done to the set it was taken of, nor the other way round.
    #[test]
    fn a_clone_goes_its_own_way(spans in some_spans(), at in -40i64..40, n in 1i64..12) {
        let (span, before) = (Slot(at)..Slot(at + n), set(&spans));
        let (mut more, mut less) = (before.clone(), before.clone());
        more.insert(span.clone());
        less.remove(span.clone());
        prop_assert_eq!(&before, &set(&spans));
        prop_assert_eq!(difference(&more, &less), Spans::from([span]));
        prop_assert_eq!(less == more, false);
        // Whatever they share, sets are the same if their slots are.
        more.extend(before.clone());
        prop_assert_eq!(union(&less, &more), more);
    }

    /// Whatever is added and taken away in whatever order, the set has the slots it should, written down in one way only.
    #[test]
    fn adding_and_taking_away_is_that_of_slots(steps in prop::collection::vec((any::<bool>(), -40i64..40, -1i64..12), 0..30)) {
        let (mut spans, mut truth) = (Spans::new(), BTreeSet::new());
        for (add, at, n) in steps {
            let span = Slot(at)..Slot(at + n);
            if add {
                spans.insert(span.clone());
                truth.extend(at..at + n);
            } else {
                spans.remove(span.clone());
                truth.retain(|s| !span.contains(&Slot(*s)));
            }
            prop_assert!(in_order(&spans), "{:?}", spans);
            prop_assert_eq!(&slots(spans.clone()), &truth);
        }
        for slot in -60..60 {
            prop_assert_eq!(spans.contains(&Slot(slot)), truth.contains(&slot));
        }
    }

    /// The algebra is that of the slots, and what comes out is in order.
    #[test]
    fn the_algebra_is_that_of_slots(a in some_spans(), b in some_spans(), at in -45i64..45, n in -2i64..30) {
        let (a, b, span) = (set(&a), set(&b), Slot(at)..Slot(at + n));
        let (x, y) = (slots(a.clone()), slots(b.clone()));
        let part: BTreeSet<i64> = (at..at + n).collect();
        for (found, truth) in [
            (union(&a, &b), &x | &y),
            (intersection(&a, &b), &x & &y),
            (difference(&a, &b), &x - &y),
            (within(&a, &span), &x & &part),
            (a.gaps(&span).collect(), &part - &x),
        ] {
            prop_assert!(in_order(&found), "{:?}", found);
            prop_assert_eq!(slots(found), truth);
        }
        prop_assert_eq!(a.overlaps(&span), !x.is_disjoint(&part));
        prop_assert_eq!(union(&difference(&a, &b), &intersection(&a, &b)), a, "parted and joined again");
    }

    /// A well-known set of ranges says the same.
    #[test]
    fn another_set_of_ranges_agrees(a in some_spans(), b in some_spans()) {
        let theirs = |spans: &[Span]| spans.iter().filter(|s| s.start < s.end).cloned().collect::<RangeSet<Slot>>();
        let listed = |spans: Spans| spans.into_iter().collect::<Vec<_>>();
        prop_assert_eq!(listed(set(&a)), theirs(&a).into_iter().collect::<Vec<_>>());
        prop_assert_eq!(listed(intersection(&set(&a), &set(&b))), theirs(&a).intersection(&theirs(&b)).collect::<Vec<_>>());
        let without = theirs(&b);
        let left: RangeSet<Slot> = theirs(&a).iter().flat_map(|s| without.gaps(s).collect::<Vec<_>>()).collect();
        prop_assert_eq!(listed(difference(&set(&a), &set(&b))), left.into_iter().collect::<Vec<_>>());
    }
}
