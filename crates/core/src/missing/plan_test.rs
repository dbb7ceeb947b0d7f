use super::*;
use crate::calendar::tests::{at, date, venue};
use proptest::prelude::*;

const DATES: std::ops::Range<TradeDate> = TradeDate(20_170)..TradeDate(20_200); // 23 March to 22 April 2025

fn spans(slots: &[(i64, i64)], expected: &Spans, step: i64) -> Spans {
    let first = expected.first().unwrap().start.0;
    slots.iter().map(|&(from, len)| Slot(first + from * step)..Slot(first + (from + len) * step)).collect()
}

#[test]
fn a_first_load_asks_for_everything_in_reach_and_a_second_load_for_nothing_new() {
    let calendar = Calendar::new(&venue("Pacific/Auckland", &["10:00-12:30", "13:30-16:45"]), DATES);
    let expected = calendar.expected(Interval::MINUTE, DATES);
    let standing = Standing { expected: expected.clone(), ..Standing::default() };
    let first = plan(&standing, &Spans::new(), &expected);
    assert_eq!(first, expected);
    let windows = windows(&calendar, Interval::MINUTE, &expected, &first, MaxSpan::Days(5));
    assert_eq!(windows.len(), 5, "a working week each");
    assert_eq!(windows[0].start, Slot::at(at("2025-03-23T21:00:00Z")));
    let done = Standing { held: expected.clone(), ..standing };
    assert!(plan(&done, &Spans::new(), &expected).is_empty());
    let again = calendar.expected(Interval::MINUTE, date("2025-04-10")..date("2025-04-11"));
    assert_eq!(plan(&done, &again, &expected), again, "the second look asks for what is held");
}

#[test]
fn what_is_excused_is_never_asked_for() {
    let calendar = Calendar::new(&venue("UTC", &["10:00-12:00"]), DATES);
    let expected = calendar.expected(Interval::Daily, DATES);
    let excused = Spans::from([Slot(20_180)..Slot(20_185)]);
    let standing = Standing { expected: expected.clone(), held: Spans::new(), excused: excused.clone() };
    let plan = plan(&standing, &expected, &expected);
    assert!(intersection(&plan, &excused).is_empty());
    assert_eq!(plan, difference(&expected, &excused));
}

#[test]
fn reach_ends_at_the_depth_and_at_the_delay() {
    let venue = venue("Pacific/Auckland", &["10:00-12:30", "13:30-16:45"]);
    let calendar = Calendar::new(&venue, DATES);
    let reach = Reach { depth_days: Some(7), delay: 0 };
    let span = reach.span(&calendar, &venue.zone, Interval::MINUTE, at("2025-04-10T02:30:00Z"));
    assert_eq!(span, Slot::at(at("2025-04-02T11:00:00Z"))..Slot::at(at("2025-04-10T02:30:00Z")));
    let days = reach.span(&calendar, &venue.zone, Interval::Daily, at("2025-04-10T02:30:00Z"));
    assert_eq!(days, Slot::on(date("2025-04-03"))..Slot::on(date("2025-04-10")));
}

#[test]
fn a_second_look_is_taken_once_after_each_close() {
    let calendar = Calendar::new(&venue("Pacific/Auckland", &["10:00-12:30", "13:30-16:45"]), DATES);
    let now = at("2025-04-10T02:30:00Z");
    let look = |asked: &[Asked]| second_look(&calendar, Interval::Daily, 2, asked, now, 1_200_000_000);
    let both = Spans::from([Slot::on(date("2025-04-08"))..Slot::on(date("2025-04-10"))]);
    assert_eq!(look(&[]), both, "the session in progress is not for a second look");
    let window = Slot::on(date("2025-04-09"))..Slot::on(date("2025-04-10"));
    let ask = |at: &str, outcome| Asked { fetch: 1, window: window.clone(), sent: at.parse().unwrap(), at: at.parse().unwrap(), outcome };
    assert_eq!(look(&[ask("2025-04-09T05:00:00Z", Outcome::Bars)]), both, "before the newest close was published, at 05:05");
    assert_eq!(look(&[ask("2025-04-10T02:00:00Z", Outcome::Failed)]), both, "without an answer");
    let first = Spans::from([Slot::on(date("2025-04-08"))..Slot::on(date("2025-04-09"))]);
    assert_eq!(look(&[ask("2025-04-10T02:00:00Z", Outcome::Bars)]), first);
}

proptest! {
    /// The windows hold exactly the plan, in order, without overlap, none longer than the source accepts.
    #[test]
    fn windows_cover_exactly_the_plan(
        held in prop::collection::vec((0i64..30_000, 1i64..2_000), 0..12),
        excused in prop::collection::vec((0i64..30_000, 1i64..200), 0..4),
        look in prop::collection::vec((0i64..30_000, 1i64..900), 0..3),
        evening in any::<bool>(),
        interval in prop::sample::select(vec!["1m", "5m", "1h", "1d"]),
        max in prop_oneof![(1u32..40).prop_map(MaxSpan::Days), (1u32..2_000).prop_map(MaxSpan::Slots)],
    ) {
        let interval: Interval = interval.parse().unwrap();
        let stretches: &[&str] = if evening { &["18:00-17:00"] } else { &["10:00-12:30", "13:30-16:45"] };
        let zone = if evening { "America/Halifax" } else { "Pacific/Auckland" };
        let calendar = Calendar::new(&venue(zone, stretches), DATES);
        let expected = calendar.expected(interval, DATES);
        let step = interval.step();
        let standing = Standing {
            expected: expected.clone(),
            held: spans(&held, &expected, step),
            excused: spans(&excused, &expected, step),
        };
        let plan = plan(&standing, &spans(&look, &expected, step), &expected);
        let windows = windows(&calendar, interval, &expected, &plan, max);
        let covered: Spans = windows.iter().cloned().collect();
        prop_assert_eq!(intersection(&covered, &expected), plan);
        for pair in windows.windows(2) {
            prop_assert!(pair[0].end <= pair[1].start);
        }
        for window in &windows {
            match max {
                MaxSpan::Slots(n) => prop_assert!(window.end.0 - window.start.0 <= i64::from(n) * step),
                MaxSpan::Days(n) => {
                    // What is held here may begin and end between two slots, so the session is the last that had opened.
                    let opened = |slot: Slot| calendar.sessions().partition_point(|s| s.open() <= slot.instant());
                    let on = |slot: Slot| match interval {
                        Interval::Daily => slot.date(),
                        _ => calendar.sessions()[opened(slot) - 1].date,
                    };
                    let days = on(Slot(window.end.0 - 1)).0 - on(window.start).0 + 1;
                    prop_assert!(days <= n as i32, "{} days asked for of {}", days, n);
                }
            }
        }
    }
}
