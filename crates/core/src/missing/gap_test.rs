use super::*;
use crate::spans::{difference, union};
use proptest::prelude::*;

fn set(ranges: &[(i64, i64)]) -> Spans {
    ranges.iter().map(|&(a, b)| Slot(a)..Slot(b)).collect()
}

fn asked(fetch: i64, from: i64, to: i64, outcome: Outcome) -> Asked {
    Asked { fetch, window: Slot(from)..Slot(to), sent: Timestamp(fetch * 1000), at: Timestamp(fetch * 1000), outcome }
}

#[test]
fn each_gap_has_the_cause_that_explains_it() {
    let standing =
        Standing { expected: set(&[(0, 5), (7, 12), (14, 19), (21, 26)]), held: set(&[(8, 9), (16, 17)]), excused: set(&[(10, 11)]) };
    let evidence = Evidence {
        asked: vec![asked(1, 7, 10, Outcome::Bars), asked(2, 11, 15, Outcome::Failed), asked(3, 15, 20, Outcome::Nothing)],
        quarantined: set(&[(18, 19)]),
        reach: Some(Slot(3)..Slot(23)),
    };
    let found: Vec<_> = gaps(Interval::Daily, &standing, &evidence)
        .into_iter()
        .map(|g| (g.span.start.0, g.span.end.0, g.slots, g.cause, g.fetch))
        .collect();
    assert_eq!(
        found,
        [
            (0, 3, 3, Cause::BeyondReach, None),
            (3, 5, 2, Cause::NeverAsked, None),
            (7, 8, 1, Cause::LeftOut, Some(1)),
            (9, 10, 1, Cause::LeftOut, Some(1)),
            (11, 15, 2, Cause::FetchFailed, Some(2)),
            (15, 16, 1, Cause::SourceHadNothing, Some(3)),
            (17, 18, 1, Cause::SourceHadNothing, Some(3)),
            (18, 19, 1, Cause::Quarantined, Some(3)),
            (21, 23, 2, Cause::NeverAsked, None),
            (23, 26, 3, Cause::NotYetDue, None),
        ]
    );
}

#[test]
fn a_later_answer_replaces_an_earlier_failure() {
    let standing = Standing { expected: set(&[(0, 5)]), ..Standing::default() };
    let evidence = Evidence { asked: vec![asked(1, 0, 5, Outcome::Failed), asked(2, 0, 5, Outcome::Nothing)], ..Evidence::default() };
    let [gap] = &gaps(Interval::Daily, &standing, &evidence)[..] else { panic!("one gap") };
    assert_eq!((gap.cause, gap.fetch, gap.asked), (Cause::SourceHadNothing, Some(2), 2));
}

#[test]
fn slots_rest_longer_after_each_answer_without_them() {
    let missing = set(&[(2, 4)]);
    let asked = [asked(1, 0, 5, Outcome::Bars), asked(2, 0, 3, Outcome::Bars)];
    let rests = |now| resting(&missing, &asked, Timestamp(now), 500, 10_000, |_| Slot(100));
    assert_eq!(rests(1_400), missing, "first answer came at 1000");
    assert_eq!(rests(2_400), set(&[(2, 3)]), "the slot answered twice rests 1000 from 2000");
    assert!(rests(3_000).is_empty());
    let fresh = resting(&missing, &asked, Timestamp(1_400), 500, 10_000, |sent| Slot(if sent < Timestamp(2_000) { 3 } else { 5 }));
    assert_eq!(fresh, set(&[(2, 3)]), "the bar of slot 3 had hardly been published when it was asked for");
}

proptest! {
    /// Gaps, held and excused partition the expected slots.
    #[test]
    fn gaps_are_exactly_what_is_missing(
        held in prop::collection::vec((0i64..100, 1i64..20), 0..6),
        excused in prop::collection::vec((0i64..100, 1i64..20), 0..3),
        windows in prop::collection::vec((0i64..100, 1i64..30, 0u8..3), 0..6),
        from in 0i64..60, to in 40i64..110,
    ) {
        let spans = |v: &[(i64, i64)]| v.iter().map(|&(a, n)| Slot(a)..Slot(a + n)).collect::<Spans>();
        let standing = Standing { expected: set(&[(0, 20), (25, 60), (61, 100)]), held: spans(&held), excused: spans(&excused) };
        let outcome = |o| [Outcome::Bars, Outcome::Nothing, Outcome::Failed][usize::from(o)];
        let evidence = Evidence {
            asked: windows.iter().enumerate().map(|(i, &(a, n, o))| asked(i as i64, a, a + n, outcome(o))).collect(),
            quarantined: spans(&held[..held.len() / 2]),
            reach: Some(Slot(from)..Slot(to.max(from))),
        };
        let found = gaps(Interval::Daily, &standing, &evidence);
        let inside: Spans = found.iter().flat_map(|g| within(&standing.expected, &g.span)).collect();
        prop_assert_eq!(&difference(&difference(&inside, &standing.held), &standing.excused), &standing.missing());
        prop_assert_eq!(found.iter().map(|g| g.slots).sum::<u64>(), Interval::Daily.count(standing.missing()));
        let covered = union(&union(&inside, &standing.held), &standing.excused);
        prop_assert!(difference(&standing.expected, &covered).is_empty());
        for gap in &found {
            prop_assert!(gap.cause != Cause::NotYetDue || gap.span.start.0 >= to.max(from));
        }
    }
}
