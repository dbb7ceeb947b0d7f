use super::*;
use crate::{calendar::tests::aldermere, spans::difference};
use proptest::prelude::*;

const MINUTE: Interval = Interval::MINUTE;

/// What is held when only the slots go on for which `keep` says so: by session, and minute of it.
fn held(calendar: &Calendar, keep: impl Fn(usize, usize) -> bool) -> Standing {
    let (mut expected, mut held) = (Spans::new(), Spans::new());
    for (s, session) in calendar.sessions().iter().enumerate() {
        let slots: Vec<i64> = session.slots(MINUTE).iter().flat_map(|r| (r.start.0..r.end.0).step_by(60_000_000)).collect();
        for (k, slot) in slots.into_iter().enumerate() {
            let span = MINUTE.span_of(crate::Slot(slot));
            expected.insert(span.clone());
            if keep(s, k) {
                held.insert(span);
            }
        }
    }
    Standing { expected, held, excused: Spans::new() }
}

/// A die without a state: the mixing of SplitMix64.
fn roll(s: usize, k: usize) -> u64 {
    let x = (s as u64 * 1_000 + k as u64 + 1).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    let x = (x ^ (x >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    let x = (x ^ (x >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    x ^ (x >> 31)
}

#[test]
fn a_few_trades_a_day_are_all_that_is_expected() {
    let calendar = aldermere("2025-03-03", "2025-04-04");
    let standing = held(&calendar, |s, k| roll(s, k).is_multiple_of(50));
    let found = quiet(&calendar, MINUTE, &standing, &standing.expected, &Spans::new());
    assert_eq!(found, standing.missing(), "every minute without a trade is quiet");
    assert!(quiet(&calendar, MINUTE, &standing, &Spans::new(), &Spans::new()).is_empty(), "nobody has asked yet");
}

#[test]
fn half_an_hour_without_a_trade_is_missing_where_every_other_minute_has_one() {
    let calendar = aldermere("2025-03-03", "2025-04-04");
    let standing = held(&calendar, |s, k| roll(s + 40, k) % 2 == 1 && (s != 12 || !(200..230).contains(&k)));
    let found = quiet(&calendar, MINUTE, &standing, &standing.expected, &Spans::new());
    let still = difference(&standing.missing(), &found);
    let session = &calendar.sessions()[12];
    let hole = Spans::from([session.stretches[1].start.into_slot(50)..session.stretches[1].start.into_slot(80)]);
    assert_eq!(
        MINUTE.count(&still),
        MINUTE.count(crate::spans::intersection(&still, &widened(&hole))),
        "only the hole is missing: {still:?}"
    );
    assert!(hole.iter().all(|h| still.overlaps(h)) && MINUTE.count(&still) >= 30);
}

#[test]
fn a_lively_series_has_no_quiet_slots_and_two_silent_days_are_not_usual() {
    let calendar = aldermere("2025-03-03", "2025-04-04");
    let lively = held(&calendar, |_, k| k != 77);
    assert!(quiet(&calendar, MINUTE, &lively, &lively.expected, &Spans::new()).is_empty());
    let rare = held(&calendar, |s, k| roll(s, k).is_multiple_of(60) && !(s == 8 || s == 9));
    let still = difference(&rare.missing(), &quiet(&calendar, MINUTE, &rare, &rare.expected, &Spans::new()));
    assert_eq!(MINUTE.count(&still), 690, "both of the silent sessions, and nothing else");
}

#[test]
fn the_same_hour_left_out_of_every_session_is_missing_and_not_quiet() {
    let calendar = aldermere("2025-03-03", "2025-04-04");
    // Shares that trade every minute, every other, one in five: the source leaves out minutes 200 to 259 of each session.
    for one_in in [1, 2, 5] {
        let standing = held(&calendar, |s, k| roll(s, k).is_multiple_of(one_in) && !(200..260).contains(&k));
        let found = quiet(&calendar, MINUTE, &standing, &standing.expected, &Spans::new());
        for session in calendar.sessions() {
            let hour = session.stretches[1].start.into_slot(50)..session.stretches[1].start.into_slot(110);
            let missing = MINUTE.count(difference(&standing.missing(), &found).within(&hour));
            assert!(missing >= 55, "one in {one_in}, {}: {missing} of 60 are missing", session.date);
        }
    }
    // What trades six times a day may well not trade in that hour.
    let rare = held(&calendar, |s, k| roll(s, k).is_multiple_of(60) && !(200..260).contains(&k));
    assert!(
        quiet(&calendar, MINUTE, &rare, &rare.expected, &Spans::new())
            .overlaps(&(calendar.sessions()[3].stretches[1].start.into_slot(50)..calendar.sessions()[3].stretches[1].start.into_slot(110)))
    );
}

#[test]
fn nothing_is_quiet_where_rows_stand_in_quarantine_or_another_source_has_a_bar() {
    let calendar = aldermere("2025-03-03", "2025-04-04");
    let rare = held(&calendar, |s, k| roll(s, k).is_multiple_of(50));
    let refused: Spans = calendar.sessions()[4].slots(MINUTE);
    let found = quiet(&calendar, MINUTE, &rare, &rare.expected, &refused);
    assert!(calendar.sessions()[4].slots(MINUTE).iter().all(|s| !found.overlaps(s)), "that session is missing, not quiet");
    assert!(calendar.sessions()[5].slots(MINUTE).iter().any(|s| found.overlaps(s)));
}

impl crate::Timestamp {
    fn into_slot(self, minutes: i64) -> crate::Slot {
        crate::Slot(self.0 + minutes * 60_000_000)
    }
}

/// A minute or two without a trade beside a hole belong to it.
fn widened(set: &Spans) -> Spans {
    set.iter().map(|s| crate::Slot(s.start.0 - 600_000_000)..crate::Slot(s.end.0 + 600_000_000)).collect()
}

proptest! {
    /// Quiet slots are expected, answered for and without a bar; what is left partitions as before.
    #[test]
    fn quiet_slots_are_among_the_missing(seed in any::<u32>(), one_in in 1u64..40, answered_days in 0usize..25) {
        let calendar = aldermere("2025-03-03", "2025-03-28");
        let standing = held(&calendar, |s, k| roll(s + seed as usize % 10_000, k).is_multiple_of(one_in));
        let answered: Spans = calendar.sessions().iter().take(answered_days).flat_map(|s| s.slots(MINUTE)).collect();
        let found = quiet(&calendar, MINUTE, &standing, &answered, &Spans::new());
        prop_assert_eq!(crate::spans::intersection(&found, &standing.held), Spans::new());
        prop_assert_eq!(difference(&found, &crate::spans::intersection(&standing.expected, &answered)), Spans::new());
        let rest = Standing { expected: difference(&standing.expected, &found), ..standing.clone() };
        prop_assert_eq!(MINUTE.count(rest.missing()) + MINUTE.count(&found), MINUTE.count(standing.missing()));
    }
}
