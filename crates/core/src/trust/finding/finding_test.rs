use super::*;
use crate::{
    AlignedBar,
    calendar::tests::{aldermere, at, date},
};
use proptest::prelude::*;

/// Daily bars that go up and down a little, one for each session.
fn daily(calendar: &Calendar) -> Aligned {
    let bar = |(i, s): (usize, &Session)| {
        let close = 1000 + [0, 7, -4, 11, 3, -9, 5][i % 7];
        let [open, high, low, close] = [close - 3, close + 6, close - 8, close];
        AlignedBar { slot: Slot::on(s.date), open, high, low, close, volume: Some(5_000 + (i as i64 * 37) % 400) }
    };
    Aligned { price_scale: 2, volume_scale: 0, rows: calendar.sessions().iter().enumerate().map(bar).collect() }
}

/// A bar for every minute.
fn minutes(calendar: &Calendar) -> Aligned {
    let slots = calendar.sessions().iter().flat_map(|s| s.slots(Interval::MINUTE).iter().cloned().collect::<Vec<_>>());
    let all = slots.flat_map(|s| (s.start.0..s.end.0).step_by(60_000_000));
    let bar = |(i, slot): (usize, i64)| {
        let close = 1000 + [0, 2, -1, 3, 1, -2][i % 6];
        let [open, high, low, close] = [close - 1, close + 2, close - 2, close];
        AlignedBar { slot: Slot(slot), open, high, low, close, volume: Some(100 + (i as i64 * 13) % 50) }
    };
    Aligned { price_scale: 2, volume_scale: 0, rows: all.enumerate().map(bar).collect() }
}

fn subject<'a>(calendar: &'a Calendar, interval: Interval, bars: &'a Aligned) -> Subject<'a> {
    let tick = Some(Decimal { mantissa: 1, scale: 2 });
    Subject { interval, calendar, bars, tick, lot: 1, splits: &[], splits_known: true, refused: &[], minutes: None, steps: &[] }
}

fn told(found: &[Finding]) -> Vec<(Check, u64)> {
    found.iter().map(|f| (f.check, f.bars)).collect()
}

#[test]
fn sound_bars_have_no_findings() {
    let calendar = aldermere("2025-01-06", "2025-04-16");
    let (days, fine) = (daily(&calendar), minutes(&calendar));
    assert_eq!(find(&subject(&calendar, Interval::Daily, &days), &Rules::default()), []);
    assert_eq!(find(&subject(&calendar, Interval::MINUTE, &fine), &Rules::default()), []);
    assert_eq!(find(&subject(&calendar, Interval::Daily, &Aligned::default()), &Rules::default()), []);
}

#[test]
fn a_bad_print_is_told_with_its_figures_and_doubted() {
    let calendar = aldermere("2025-01-06", "2025-04-16");
    let mut bars = minutes(&calendar);
    bars.rows[700].high = 1510;
    let found = find(&subject(&calendar, Interval::MINUTE, &bars), &Rules::default());
    assert_eq!(told(&found), [(Check::Spike, 1)]);
    assert!(found[0].detail.contains("15.10"), "{}", found[0].detail);
    assert_eq!(doubted(&found), Spans::from([Interval::MINUTE.span_of(bars.rows[700].slot)]));
}

#[test]
fn a_lasting_jump_is_a_split_or_needs_one() {
    let calendar = aldermere("2025-01-06", "2025-04-16");
    let mut bars = daily(&calendar);
    let ex_date = bars.rows[30].slot.date();
    for bar in &mut bars.rows[..30] {
        for price in [&mut bar.open, &mut bar.high, &mut bar.low, &mut bar.close] {
            *price *= 4;
        }
    }
    let plain = subject(&calendar, Interval::Daily, &bars);
    let unknown = find(&plain, &Rules::default());
    assert_eq!(told(&unknown), [(Check::SplitLikeJump, 1)]);
    assert!(unknown[0].detail.contains("4 for 1"), "{}", unknown[0].detail);
    assert!(doubted(&unknown).is_empty(), "the bars after a split are not wrong");
    let split = [Split { ex_date, new: 4, old: 1 }];
    assert_eq!(find(&Subject { splits: &split, ..plain }, &Rules::default()), [], "the split that is known shows");
    assert_eq!(find(&Subject { splits_known: false, ..plain }, &Rules::default()), [], "nobody said whether there are splits");
    // One that is known for another day of that week is likely to be this.
    let late = [Split { ex_date: ex_date.plus(1), new: 8, old: 2 }, Split { ex_date: ex_date.plus(40), new: 4, old: 1 }];
    let found = find(&Subject { splits: &late[..1], ..subject(&calendar, Interval::Daily, &bars) }, &Rules::default());
    assert!(found[0].detail.ends_with(&format!("and the one that is known counts from {} on", ex_date.plus(1))), "{found:?}");
    let found = find(&Subject { splits: &late[1..], ..subject(&calendar, Interval::Daily, &bars) }, &Rules::default());
    assert!(found[0].detail.ends_with("and none is known"), "{found:?}");
    let flat = daily(&calendar);
    let absent = find(&Subject { splits: &split, ..subject(&calendar, Interval::Daily, &flat) }, &Rules::default());
    assert_eq!(told(&absent), [(Check::SplitLikeJump, 1)]);
    assert!(absent[0].detail.contains("go on"), "{}", absent[0].detail);
}

#[test]
fn bars_that_stand_still_or_off_the_grid_or_move_silently_are_told_in_stretches() {
    let calendar = aldermere("2025-01-06", "2025-04-16");
    let mut bars = minutes(&calendar);
    bars = bars.rescaled(3, 0).unwrap();
    for bar in &mut bars.rows[100..112] {
        *bar = AlignedBar { open: 10_000, high: 10_000, low: 10_000, close: 10_000, ..*bar };
    }
    bars.rows[99].close = 10_000;
    for bar in &mut bars.rows[500..503] {
        bar.close += 5;
    }
    bars.rows[900].volume = Some(0);
    let whole = subject(&calendar, Interval::MINUTE, &bars);
    assert_eq!(told(&find(&whole, &Rules::default())), [(Check::Flat, 12), (Check::OffTick, 3), (Check::SilentMove, 1)]);
    let in_lots = find(&Subject { lot: 100, tick: None, ..whole }, &Rules::default());
    assert_eq!(told(&in_lots), [(Check::Flat, 12)], "in lots, nothing may be a little; without a tick, there is no grid");
    for bar in &mut bars.rows {
        bar.high += 7;
    }
    let all = find(&subject(&calendar, Interval::MINUTE, &bars), &Rules::default());
    let off = all.iter().filter(|f| f.check == Check::OffTick).collect::<Vec<_>>();
    assert_eq!((off.len(), off[0].span.start), (1, bars.rows[0].slot), "a wrong tick is one finding");
}

#[test]
fn volumes_in_lots_for_two_sessions_are_told() {
    let calendar = aldermere("2025-01-06", "2025-04-16");
    let mut bars = minutes(&calendar);
    for bar in &mut bars.rows[345 * 20..345 * 22] {
        bar.volume = bar.volume.map(|v| v / 100);
    }
    let found = find(&subject(&calendar, Interval::MINUTE, &bars), &Rules::default());
    assert_eq!(told(&found), [(Check::VolumeFactor, 690)]);
    assert!(found[0].detail.contains("100 times smaller"), "{}", found[0].detail);
}

#[test]
fn a_session_an_hour_late_fits_its_hours_once_moved() {
    let calendar = aldermere("2025-03-03", "2025-03-14");
    let mut bars = minutes(&calendar);
    let session = calendar.session(date("2025-03-06")).unwrap();
    let slots = session.slots(Interval::MINUTE);
    for (by, check) in [(3_600_000_000, Check::ShiftedHour), (60_000_000, Check::ShiftedBar), (-60_000_000, Check::ShiftedBar)] {
        let mut moved = bars.clone();
        let mine = |b: &AlignedBar| session.open().0 <= b.slot.0 && b.slot.0 < session.close().0;
        let there: Vec<AlignedBar> =
            moved.rows.iter().filter(|b| mine(b)).map(|b| AlignedBar { slot: Slot(b.slot.0 + by), ..*b }).collect();
        moved.rows.retain(|b| !mine(b));
        let refused: Vec<Slot> = there.iter().map(|b| b.slot).filter(|s| !slots.contains(s)).collect();
        moved.rows.extend(there.iter().filter(|b| slots.contains(&b.slot)));
        moved.rows.sort_by_key(|b| b.slot);
        let found = find(&Subject { refused: &refused, ..subject(&calendar, Interval::MINUTE, &moved) }, &Rules::default());
        assert_eq!(found.iter().map(|f| f.check).collect::<Vec<_>>(), [check], "{by} {found:?}");
        assert!(found[0].detail.contains(if by > 0 { "earlier" } else { "later" }));
    }
    // Bars on a Saturday are no shift.
    let saturday = at("2025-03-07T22:00:00Z");
    let refused: Vec<Slot> = (0..20).map(|n| Slot(saturday.0 + n * 60_000_000)).collect();
    let found = find(&Subject { refused: &refused, ..subject(&calendar, Interval::MINUTE, &bars) }, &Rules::default());
    assert_eq!(told(&found), [(Check::ClosedMarket, 20)]);
    // The first bar is never there.
    let opens: Vec<i64> = calendar.sessions().iter().map(|s| s.open().0).collect();
    bars.rows.retain(|b| !opens.contains(&b.slot.0));
    let found = find(&subject(&calendar, Interval::MINUTE, &bars), &Rules::default());
    assert_eq!(told(&found), [(Check::SessionEdge, 10)]);
}

#[test]
fn a_daily_bar_is_held_against_its_minutes() {
    let calendar = aldermere("2025-03-03", "2025-03-14");
    let fine = minutes(&calendar);
    let of = |s: &Session| {
        let all: Vec<AlignedBar> = fine.rows.iter().filter(|b| s.open().0 <= b.slot.0 && b.slot.0 < s.close().0).copied().collect();
        let (high, low) = (all.iter().map(|b| b.high).max().unwrap(), all.iter().map(|b| b.low).min().unwrap());
        AlignedBar { slot: Slot::on(s.date), open: all[0].open, high, low, close: all[all.len() - 1].close, volume: None }
    };
    let mut days = Aligned { price_scale: 2, volume_scale: 0, rows: calendar.sessions().iter().map(of).collect() };
    days.rows[4].high += 1;
    let whole = Subject { minutes: Some(&fine), ..subject(&calendar, Interval::Daily, &days) };
    let found = find(&whole, &Rules::default());
    assert_eq!(told(&found), [(Check::DailyAgainstMinutes, 1)]);
    assert_eq!(found[0].detail, "its high is 10.06, that of its minutes 10.05");
    let mut rules = Rules::default();
    rules.set(Check::DailyAgainstMinutes, Rule { on: true, limit: 1.0 });
    assert_eq!(find(&whole, &rules), [], "a tick is allowed");
    let mut partial = fine.clone();
    partial.rows.remove(345 * 4 + 10);
    assert_eq!(find(&Subject { minutes: Some(&partial), ..whole }, &Rules::default()), [], "minutes with a hole say nothing");
    days.rows.iter_mut().for_each(|b| b.close += 1);
    days.rows.iter_mut().for_each(|b| b.high = b.high.max(b.close));
    let all = find(&Subject { minutes: Some(&fine), ..subject(&calendar, Interval::Daily, &days) }, &Rules::default());
    assert_eq!(told(&all), [(Check::DailyAgainstMinutes, 10)], "what differs every day is told once");
}

proptest! {
    /// Whatever the bars, the checks end without a panic, and what they tell lies among the bars or the refused stamps.
    #[test]
    fn findings_are_about_bars_there_are(
        rows in prop::collection::btree_map(0usize..1500, (1i64..2000, 0i64..50, 0i64..50, prop::option::of(0i64..10_000)), 0..300),
        refused in prop::collection::btree_set(0i64..20_000, 0..40),
        daily in any::<bool>(),
    ) {
        let calendar = aldermere("2024-01-08", if daily { "2029-12-31" } else { "2024-01-15" });
        let interval = if daily { Interval::Daily } else { Interval::MINUTE };
        let slots: Vec<i64> = calendar.sessions().iter().flat_map(|s| s.slots(interval).iter().cloned().collect::<Vec<_>>())
            .flat_map(|s| (s.start.0..s.end.0).step_by(interval.step() as usize)).collect();
        let bar = |(at, (low, up, more, volume)): (&usize, &(i64, i64, i64, Option<i64>))| Some(AlignedBar {
            slot: Slot(*slots.get(*at)?), open: (low + up), high: (low + up + more), low: (*low), close: (low + more.min(up)), volume: *volume,
        });
        let bars = Aligned { price_scale: 3, volume_scale: 0, rows: rows.iter().filter_map(bar).collect() };
        let first = calendar.sessions()[0].open().0;
        let refused: Vec<Slot> = refused.iter().map(|n| if daily { Slot(*n) } else { Slot(first + n * 60_000_000) }).collect();
        let found = find(&Subject { refused: &refused, ..subject(&calendar, interval, &bars) }, &Rules::default());
        for f in found {
            prop_assert!(f.span.start < f.span.end && f.bars > 0 && !f.detail.is_empty());
            let touches = |slot: Slot| f.span.contains(&slot);
            prop_assert!(bars.rows.iter().any(|b| touches(b.slot)) || refused.iter().any(|s| touches(*s)) || f.check == Check::SessionEdge);
        }
    }

    /// What is wrong with a series does not depend on the unit of its prices; and a check that is off takes away its own
    /// findings, and no other's.
    #[test]
    fn findings_do_not_depend_on_the_unit(
        wild in prop::collection::btree_map(0usize..1200, (-400i64..400, 0i64..4), 0..6),
        flat in 0usize..1100,
    ) {
        let calendar = aldermere("2025-03-31", "2025-04-04");
        let mut bars = minutes(&calendar);
        for (at, (by, column)) in &wild {
            let bar = &mut bars.rows[*at];
            let price = [&mut bar.open, &mut bar.high, &mut bar.low, &mut bar.close].into_iter().nth(*column as usize).unwrap();
            *price += by;
            let (top, bottom) = (bar.open.max(bar.close).max(bar.high), bar.open.min(bar.close).min(bar.low));
            (bar.high, bar.low) = (top, bottom);
        }
        let still = bars.rows[flat].close;
        for bar in &mut bars.rows[flat + 1..flat + 40] {
            *bar = AlignedBar { open: still, high: still, low: still, close: still, ..*bar };
        }
        let found = find(&subject(&calendar, Interval::MINUTE, &bars), &Rules::default());
        let mut eighths = bars.clone();
        for bar in &mut eighths.rows {
            for price in [&mut bar.open, &mut bar.high, &mut bar.low, &mut bar.close] {
                *price *= 8;
            }
        }
        let coarse = Subject { tick: Some(Decimal { mantissa: 8, scale: 2 }), ..subject(&calendar, Interval::MINUTE, &eighths) };
        let where_and_what = |found: &[Finding]| found.iter().map(|f| (f.check, f.span.clone(), f.bars)).collect::<Vec<_>>();
        prop_assert_eq!(where_and_what(&find(&coarse, &Rules::default())), where_and_what(&found));
        prop_assert!(found.iter().any(|f| f.check == Check::Flat), "the flat stretch is found among all that: {:?}", told(&found));
        let only = Rules::default();
        for check in Check::ALL {
            let mut rules = only.clone();
            rules.set(check, Rule { on: false, limit: only.of(check).map_or(1.0, |r| r.limit) });
            let without = find(&subject(&calendar, Interval::MINUTE, &bars), &rules);
            let expected: Vec<Finding> = found.iter().filter(|f| f.check != check).cloned().collect();
            prop_assert_eq!(without, expected, "a check that is off takes its own findings with it and no other's");
        }
    }
}
