use super::*;
use crate::calendar::tests::aldermere;
use proptest::prelude::*;

fn day(text: &str) -> TradeDate {
    text.parse().unwrap()
}

fn calendar() -> Calendar {
    aldermere("2024-12-01", "2025-06-01")
}

const fn minutes(n: u32) -> Interval {
    Interval::Intraday { seconds: n * 60 }
}

fn grid(calendar: &Calendar, finer: Interval, length: Length) -> Grid<'_> {
    Grid { calendar, finer, length, align: Align::Session, by_last: false }
}

/// Opens of the pieces of a session on the wall at Aldermere.
fn opens(pieces: &[Piece]) -> Vec<String> {
    let zone = TimeZone::get("Pacific/Auckland").unwrap();
    pieces.iter().map(|p| zone.to_datetime(p.label.instant().to_jiff()).strftime("%H:%M").to_string()).collect()
}

#[test]
fn pieces_begin_at_the_open_and_anew_after_the_break() {
    let calendar = calendar();
    let span = calendar.span_of_dates(Interval::MINUTE, day("2025-04-09")..day("2025-04-10"));
    let hours = grid(&calendar, Interval::MINUTE, Length::Interval(minutes(60)));
    assert_eq!(opens(&hours.pieces(&span)), ["10:00", "11:00", "12:00", "13:30", "14:30", "15:30", "16:30"]);
    let of_clock = Grid { align: Align::Clock(TimeZone::get("Pacific/Auckland").unwrap()), ..hours.clone() };
    assert_eq!(opens(&of_clock.pieces(&span)), ["10:00", "11:00", "12:00", "13:30", "14:00", "15:00", "16:00"]);
    // Two hours of the clock that the break lies in are one piece.
    let wide = Grid { length: Length::Interval(minutes(120)), ..of_clock };
    let pieces = wide.pieces(&span);
    assert_eq!(opens(&pieces), ["10:00", "12:00", "14:00", "16:00"]);
    assert_eq!((pieces[1].span.end.0 - pieces[1].span.start.0) / minutes(1).step(), 120);
    // A piece that the span only touches is there as a whole.
    let part = Slot(span.start.0 + minutes(10).step())..Slot(span.start.0 + minutes(20).step());
    assert_eq!(hours.pieces(&part), hours.pieces(&span)[..1]);
}

#[test]
fn long_pieces_follow_trade_dates() {
    let calendar = calendar();
    let span = |from: &str, to: &str| Slot::on(day(from))..Slot::on(day(to));
    let labels = |length, by_last, span: &Span| {
        let grid = Grid { by_last, ..grid(&calendar, Interval::Daily, length) };
        grid.pieces(span).iter().map(|p| p.label.date().to_string()).collect::<Vec<_>>()
    };
    // The week of 3 April begins on Monday 31 March and ends on Friday 4 April.
    assert_eq!(labels(Length::Week, false, &span("2025-04-03", "2025-04-04")), ["2025-03-31"]);
    assert_eq!(labels(Length::Week, true, &span("2025-04-03", "2025-04-08")), ["2025-04-04", "2025-04-11"]);
    assert_eq!(labels(Length::Month, false, &span("2025-02-14", "2025-04-01")), ["2025-02-03", "2025-03-03"]);
    assert_eq!(labels(Length::Quarter, true, &span("2025-01-14", "2025-01-15")).len(), 1);
    assert_eq!(labels(Length::Year, false, &span("2024-12-30", "2025-01-20")).len(), 2);
    // Of minutes they are the same.
    let minute_span = calendar.span_of_dates(Interval::MINUTE, day("2025-04-03")..day("2025-04-04"));
    let of_minutes = grid(&calendar, Interval::MINUTE, Length::Week).pieces(&minute_span);
    assert_eq!(of_minutes[0].label, Slot::on(day("2025-03-31")));
    assert_eq!(of_minutes[0].span, calendar.span_of_dates(Interval::MINUTE, day("2025-03-31")..day("2025-04-05")));
}

fn bar(slot: i64, prices: [i64; 4], volume: Option<i64>) -> Bar {
    Bar::new(Slot(slot), prices.map(|mantissa| Decimal { mantissa, scale: 2 }), volume.map(|mantissa| Decimal { mantissa, scale: 0 }))
}

#[test]
fn bars_become_one() {
    let bars = [bar(1, [750, 760, 740, 755], Some(100)), bar(2, [755, 790, 750, 780], Some(300)), bar(3, [780, 785, 735, 745], Some(50))];
    let one = combine(Slot(1), &bars, None).unwrap();
    assert!(one.is_printed_as(&bar(1, [750, 790, 735, 745], Some(450))), "{one:?}");
    assert!(combine(Slot(1), &[], None).is_none());
    let unknown = [bars[0], bar(2, [755, 790, 750, 780], None)];
    assert_eq!(combine(Slot(1), &unknown, None).unwrap().volume(), None, "a sum with something absent is no sum");
    // ((7.60 + 7.40 + 7.55) × 100 + (7.90 + 7.50 + 7.80) × 300 + (7.85 + 7.35 + 7.45) × 50) / (3 × 450)
    assert_eq!(average_price(&bars, 6).unwrap().to_string(), "7.664815");
    assert_eq!(average_price(&unknown, 6), None);
}

/// Minutes of some sessions, with holes.
fn minutes_of(calendar: &Calendar, dice: &[u16]) -> Vec<Bar> {
    let slots = calendar.expected(Interval::MINUTE, day("2025-03-24")..day("2025-04-12"));
    let step = minutes(1).step();
    let all = slots.iter().flat_map(|s| (s.start.0..s.end.0).step_by(step as usize));
    let one = |(at, slot): (usize, i64)| {
        let die = dice[at % dice.len()];
        let [a, b, c, d] = [1, 7, 13, 29].map(|by| i64::from(die).wrapping_mul(by) % 500 + 500);
        (!die.is_multiple_of(5)).then(|| bar(slot, [a, a.max(b).max(c).max(d), a.min(b).min(c).min(d), d], Some(i64::from(die))))
    };
    all.enumerate().filter_map(one).collect()
}

fn resampled(grid: &Grid<'_>, bars: &[Bar]) -> Vec<Bar> {
    let (Some(first), Some(last)) = (bars.first(), bars.last()) else { return vec![] };
    let pieces = grid.pieces(&(first.slot..Slot(last.slot.0 + 1)));
    let within = |p: &Piece| {
        let from = bars.partition_point(|b| b.slot < p.span.start);
        &bars[from..bars.partition_point(|b| b.slot < p.span.end)]
    };
    pieces.iter().filter_map(|p| combine(p.label, within(p), None)).collect()
}

proptest! {
    /// Two steps are one where each coarse edge is a fine edge; nothing is lost or counted twice.
    #[test]
    fn two_steps_are_one(dice in prop::collection::vec(any::<u16>(), 50..400)) {
        let calendar = calendar();
        let bars = minutes_of(&calendar, &dice);
        let fives = resampled(&grid(&calendar, minutes(1), Length::Interval(minutes(5))), &bars);
        for length in [Length::Interval(minutes(15)), Length::Interval(minutes(60)), Length::Interval(Interval::Daily), Length::Week] {
            let at_once = resampled(&grid(&calendar, minutes(1), length), &bars);
            let in_two = resampled(&grid(&calendar, minutes(5), length), &fives);
            prop_assert_eq!(format!("{at_once:?}"), format!("{in_two:?}"));
            let sum = |bars: &[Bar]| bars.iter().map(|b| b.volume().unwrap().mantissa).sum::<i64>();
            prop_assert_eq!(sum(&at_once), sum(&bars));
        }
        let days = resampled(&grid(&calendar, minutes(1), Length::Interval(Interval::Daily)), &bars);
        let (week, weeks) = (grid(&calendar, Interval::Daily, Length::Week), resampled(&grid(&calendar, minutes(1), Length::Week), &bars));
        prop_assert_eq!(format!("{:?}", resampled(&week, &days)), format!("{weeks:?}"));
    }
}
