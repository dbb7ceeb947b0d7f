use super::*;
use crate::venue::{SpecialDay, Stretch, Week};
use jiff::tz::TimeZone;
use proptest::prelude::*;

/// A venue with the given zone and stretches, Monday to Friday.
pub(crate) fn venue(zone: &str, stretches: &[&str]) -> Venue {
    let days = [true, true, true, true, true, false, false];
    let stretches = stretches.iter().map(|s| s.parse().unwrap()).collect();
    Venue {
        code: "TEST".into(),
        name: "Test venue".into(),
        zone: TimeZone::get(zone).unwrap(),
        weeks: vec![Week { from: date("2000-01-01"), days, stretches }],
        special: BTreeMap::new(),
    }
}

pub(crate) fn date(text: &str) -> TradeDate {
    text.parse().unwrap()
}

pub(crate) fn at(text: &str) -> Timestamp {
    text.parse().unwrap()
}

use std::collections::BTreeMap;

fn aldx() -> Venue {
    let mut venue = venue("Pacific/Auckland", &["10:00-12:30", "13:30-16:45"]);
    let half: Stretch = "10:00-12:30".parse().unwrap();
    venue.special.insert(date("2025-04-18"), SpecialDay { name: "Harbour Day".into(), stretches: vec![] });
    venue.special.insert(date("2025-04-17"), SpecialDay { name: "eve".into(), stretches: vec![half] });
    venue
}

/// The sessions of a venue with a break and a half day, between two dates, the last included.
pub(crate) fn aldermere(from: &str, to: &str) -> Calendar {
    Calendar::new(&aldx(), date(from)..date(to).plus(1))
}

#[test]
fn sessions_have_breaks_half_days_and_holidays() {
    let calendar = Calendar::new(&aldx(), date("2025-04-14")..date("2025-04-21"));
    let dates: Vec<_> = calendar.sessions().iter().map(|s| s.date.to_string()).collect();
    assert_eq!(dates, ["2025-04-14", "2025-04-15", "2025-04-16", "2025-04-17"]);
    let whole = calendar.session(date("2025-04-16")).unwrap();
    assert_eq!(whole.open(), at("2025-04-15T22:00:00Z"));
    assert_eq!(Interval::MINUTE.count(whole.slots(Interval::MINUTE)), 345);
    let half = calendar.session(date("2025-04-17")).unwrap();
    assert_eq!(Interval::MINUTE.count(half.slots(Interval::MINUTE)), 150);
    let hour: Interval = "1h".parse().unwrap();
    assert_eq!(hour.count(half.slots(hour)), 3, "the last hour is cut short by the close and still counts");
}

#[test]
fn the_clock_moves_and_the_session_does_not() {
    let calendar = Calendar::new(&aldx(), date("2025-04-04")..date("2025-04-08"));
    let [friday, monday] = calendar.sessions() else { panic!("two sessions round the move of 6 April") };
    assert_eq!(friday.open(), at("2025-04-03T21:00:00Z"));
    assert_eq!(monday.open(), at("2025-04-06T22:00:00Z"));
}

#[test]
fn a_session_may_begin_the_evening_before_and_span_the_move() {
    // Daylight saving began on 9 March 2025 in Halifax; the session of Monday opens on Sunday evening.
    let venue = venue("America/Halifax", &["18:00-17:00"]);
    let calendar = Calendar::new(&venue, date("2025-03-07")..date("2025-03-11"));
    let spans: Vec<_> = calendar.sessions().iter().map(|s| (s.open(), s.close())).collect();
    assert_eq!(spans[0], (at("2025-03-06T22:00:00Z"), at("2025-03-07T21:00:00Z")));
    assert_eq!(spans[1], (at("2025-03-09T21:00:00Z"), at("2025-03-10T20:00:00Z")));
}

#[test]
fn hours_change_on_a_date() {
    let mut venue = aldx();
    let week = Week { from: date("2025-04-15"), days: venue.weeks[0].days, stretches: vec!["09:00-16:45".parse().unwrap()] };
    venue.weeks.push(week);
    let calendar = Calendar::new(&venue, date("2025-04-14")..date("2025-04-16"));
    let counts: Vec<_> = calendar.sessions().iter().map(|s| Interval::MINUTE.count(s.slots(Interval::MINUTE))).collect();
    assert_eq!(counts, [345, 465]);
}

#[test]
fn a_bar_is_due_when_finished_and_published() {
    let calendar = Calendar::new(&aldx(), date("2025-04-01")..date("2025-04-20"));
    let minute = 60 * crate::time::SECOND;
    // 14:30:40 on the venue's clock, with two minutes' delay: 14:28 is the first bar not due.
    let now = at("2025-04-10T02:30:40Z");
    assert_eq!(calendar.due_until(Interval::MINUTE, now, 2 * minute), Slot::at(at("2025-04-10T02:28:00Z")));
    assert_eq!(calendar.due_until(Interval::Daily, now, minute), Slot::on(date("2025-04-10")));
    let evening = at("2025-04-10T05:00:00Z");
    assert_eq!(calendar.due_until(Interval::Daily, evening, minute), Slot::on(date("2025-04-11")));
    assert_eq!(calendar.due_until(Interval::Daily, evening, 16 * minute), Slot::on(date("2025-04-10")));
    let five: Interval = "5m".parse().unwrap();
    assert_eq!(calendar.due_until(five, now, 0), Slot::at(at("2025-04-10T02:30:00Z")));
}

#[test]
fn while_a_venue_is_closed_nothing_new_is_due_and_everything_of_the_session_is() {
    let calendar = Calendar::new(&venue("Pacific/Auckland", &["10:00-12:30", "13:30-16:45"]), date("2025-04-07")..date("2025-04-12"));
    for interval in ["1m", "5m", "1h"].map(|i| i.parse::<Interval>().unwrap()) {
        for session in calendar.sessions() {
            let slots = session.slots(interval);
            let ends: Vec<Slot> = slots.iter().map(|s| s.end).collect();
            let [noon, evening] = [0, 1].map(|n| session.stretches[n].end);
            assert_eq!([noon, noon.plus(1), noon.plus(3_000_000)].map(|t| calendar.due_until(interval, t, 0)), [ends[0]; 3], "{interval}");
            assert_eq!([evening, evening.plus(3_600_000_000)].map(|t| calendar.due_until(interval, t, 0)), [ends[1]; 2], "{interval}");
            assert_eq!(calendar.due_until(interval, session.open(), 0), Slot::at(session.open()));
        }
    }
}

proptest! {
    /// In any zone and across any daylight-saving move, a session's slots are
    /// as many as its minutes of trading, all inside it, and none is in two sessions.
    #[test]
    fn slots_are_whole_across_both_moves(
        zone in prop::sample::select(vec!["Pacific/Auckland", "America/Halifax", "America/New_York", "Europe/London", "Australia/Lord_Howe"]),
        stretches in prop::sample::select(vec![&["10:00-12:30", "13:30-16:45"][..], &["18:00-17:00"], &["17:00-17:00"], &["00:30-05:30"]]),
        start in 18_000i32..21_000,
    ) {
        let venue = venue(zone, stretches);
        let dates = TradeDate(start)..TradeDate(start + 40);
        let calendar = Calendar::new(&venue, dates.clone());
        let expected = calendar.expected(Interval::MINUTE, dates);
        let mut total = 0;
        for session in calendar.sessions() {
            for s in &session.stretches {
                total += ((s.end.0 - s.start.0) / Interval::MINUTE.step()) as u64;
                let (first, last) = (Slot::at(s.start), Slot(s.end.0 - Interval::MINUTE.step()));
                prop_assert_eq!(calendar.session_of(Interval::MINUTE, first), Some(session));
                prop_assert_eq!(calendar.session_of(Interval::MINUTE, last), Some(session));
            }
        }
        prop_assert_eq!(Interval::MINUTE.count(&expected), total);
    }
}
