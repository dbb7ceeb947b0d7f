use super::*;
use crate::Decimal;
use crate::calendar::tests::{at, date, venue};
use proptest::prelude::*;
use std::collections::BTreeSet;

fn cents(mantissa: i64) -> Decimal {
    Decimal { mantissa, scale: 2 }
}

fn bar(slot: Slot, ohlc: [i64; 4]) -> Bar {
    Bar::new(slot, ohlc.map(cents), Some(Decimal { mantissa: 5, scale: 0 }))
}

fn minute(text: &str) -> Slot {
    Slot::at(at(text))
}

fn sort_at(interval: Interval, now: &str, rows: Vec<Bar>) -> Sorted {
    let venue = venue("Pacific/Auckland", &["10:00-12:30", "13:30-16:45"]);
    let calendar = Calendar::new(&venue, date("2025-04-01")..date("2025-04-20"));
    let standards = Standards { calendar: &calendar, interval, asked_at: at(now), answered_at: at(now).plus(60_000_000), any_price: false };
    sort(&Bars { rows }, &standards)
}

#[test]
fn bars_that_cannot_be_true_are_told_apart() {
    let good = [10, 12, 9, 11];
    let rows = vec![
        bar(minute("2025-04-09T22:00:00Z"), [10, 9, 12, 11]),
        bar(minute("2025-04-09T22:01:00Z"), [10, 12, 9, 13]),
        bar(minute("2025-04-09T22:02:00Z"), [0, 12, 0, 11]),
        Bar::new(minute("2025-04-09T22:03:00Z"), good.map(cents), Some(Decimal { mantissa: -1, scale: 0 })),
        bar(minute("2025-04-09T22:04:30Z"), good),
        bar(minute("2025-04-10T00:45:00Z"), good),
        bar(minute("2025-04-10T03:00:00Z"), good),
        bar(minute("2025-04-09T22:05:00Z"), good),
        bar(minute("2025-04-09T22:05:00Z"), [10, 12, 9, 10]),
        bar(minute("2025-04-09T22:06:00Z"), good),
    ];
    let sorted = sort_at(Interval::MINUTE, "2025-04-10T02:30:00Z", rows);
    let mut flaws = sorted.flawed.clone();
    flaws.sort();
    use Flaw::*;
    assert_eq!(
        flaws,
        [
            (0, HighBelowLow),
            (1, OutsideRange),
            (2, PriceNotPositive),
            (3, NegativeVolume),
            (4, OffGrid),
            (5, ClosedMarket),
            (6, FromTheFuture),
            (7, Contradicted),
            (8, Contradicted)
        ]
    );
    assert_eq!(sorted.sound.rows, [bar(minute("2025-04-09T22:06:00Z"), good)]);
}

#[test]
fn rows_in_any_order_and_repeated_rows_are_no_trouble() {
    let good = [10, 12, 9, 11];
    let (a, b) = (minute("2025-04-09T22:00:00Z"), minute("2025-04-09T22:01:00Z"));
    let sorted = sort_at(Interval::MINUTE, "2025-04-10T02:30:00Z", vec![bar(b, good), bar(a, good), bar(b, good)]);
    assert_eq!(sorted.sound.rows, [bar(a, good), bar(b, good)]);
    assert_eq!((sorted.repeated, sorted.flawed.len()), (1, 0));
}

#[test]
fn a_bar_still_open_is_dropped_and_not_a_flaw() {
    let good = [10, 12, 9, 11];
    let last = minute("2025-04-10T02:30:00Z");
    let sorted = sort_at(Interval::MINUTE, "2025-04-10T02:30:59Z", vec![bar(last, good)]);
    assert_eq!((sorted.unfinished, sorted.sound.rows.len(), sorted.flawed.len()), (1, 0, 0));
    let next = minute("2025-04-10T02:31:00Z");
    let on_its_way = sort_at(Interval::MINUTE, "2025-04-10T02:30:59Z", vec![bar(next, good)]);
    assert_eq!((on_its_way.unfinished, on_its_way.flawed.len()), (1, 0), "it opened while the answer was on its way");
    let today = Slot::on(date("2025-04-10"));
    assert_eq!(sort_at(Interval::Daily, "2025-04-10T04:44:59Z", vec![bar(today, good)]).unfinished, 1);
    assert_eq!(sort_at(Interval::Daily, "2025-04-10T04:45:00Z", vec![bar(today, good)]).sound.rows.len(), 1);
}

proptest! {
    /// Each row of an answer is kept, refused, dropped or a repeat; what is kept could be true and stands once, in order.
    #[test]
    fn each_row_is_sorted_once(
        rows in prop::collection::vec((-20i64..380, 0i64..2, prop::array::uniform4(0i64..4), -1i64..3), 0..80),
        minutes_past in 0i64..450,
    ) {
        let open = minute("2025-04-09T22:00:00Z").0;
        let row = |&(n, half, ohlc, volume): &(i64, i64, [i64; 4], i64)| {
            Bar::new(Slot(open + n * 60_000_000 + half * 30_000_000), ohlc.map(cents), Some(Decimal { mantissa: volume, scale: 0 }))
        };
        let rows: Vec<Bar> = rows.iter().map(row).collect();
        let now = Slot(open + minutes_past * 60_000_000).instant();
        let sorted = sort_at(Interval::MINUTE, &now.to_string(), rows.clone());
        let refused: BTreeSet<usize> = sorted.flawed.iter().map(|(i, _)| *i).collect();
        prop_assert_eq!(refused.len(), sorted.flawed.len(), "no row is refused twice");
        let sound = &sorted.sound.rows;
        prop_assert_eq!(sound.len() + refused.len() + (sorted.unfinished + sorted.repeated) as usize, rows.len());
        prop_assert!(sound.windows(2).all(|w| w[0].slot < w[1].slot));
        for b in sound {
            prop_assert!(rows.contains(b), "nothing is made up");
            let [open_at, high, low, close] = b.prices();
            prop_assert!(low.mantissa > 0 && low <= open_at.min(close) && open_at.max(close) <= high && b.volume().unwrap().mantissa >= 0);
            prop_assert!(b.slot.0 + 60_000_000 <= now.0 && (b.slot.0 - open) % 60_000_000 == 0, "finished and on the grid");
            let others = rows.iter().filter(|r| r.slot == b.slot);
            prop_assert!(others.clone().all(|r| r == b), "nobody contradicts it");
        }
    }
}
