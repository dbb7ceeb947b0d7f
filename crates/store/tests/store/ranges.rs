//! Which blocks may have a bar that somebody looks for: none that has one is ever passed over.

use crate::common::{WHOLE, cents, ones, opened};
use mizuno_core::{
    Bar, Bars, Decimal, Interval, Slot, Timestamp,
    time::{DAY, MINUTE},
};
use mizuno_store::{Store, answers::Understood, ranges::Sieve, series::SeriesRow};
use proptest::prelude::*;

/// Two hundred minutes in each of some months, whose prices and volumes lie in a band of the month's own.
async fn filled(store: &Store, row: &SeriesRow, bands: &[(i64, Option<i64>)]) {
    for (month, (price, volume)) in bands.iter().enumerate() {
        let start = (20_000 + month as i64 * 31) * DAY;
        let bar = |at: i64| {
            let close = price + at % 7;
            let volume = volume.map(|v| ones(v + at % 5));
            Bar::new(Slot(start + at * MINUTE), [close, close + 2, close - 2, close].map(cents), volume)
        };
        let bars: Bars = (0..200).map(bar).collect();
        let understood = Understood { rows: 200, bars, ..Understood::default() };
        store.keep_bars(0, row.id, Interval::MINUTE, understood).await.unwrap();
    }
}

fn passes(sieve: &Sieve, bar: &Bar) -> bool {
    let above = |n: Option<Decimal>, from: Option<Decimal>| from.is_none_or(|from| n.is_none_or(|n| n >= from));
    let below = |n: Option<Decimal>, to: Option<Decimal>| to.is_none_or(|to| n.is_none_or(|n| n <= to));
    let (close, volume) = (Some(bar.close()), bar.volume());
    above(close, sieve.price_from) && below(close, sieve.price_to) && above(volume, sieve.volume_from) && below(volume, sieve.volume_to)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn no_bar_that_passes_is_passed_over(
        bands in prop::collection::vec((100i64..2_000, prop::option::of(0i64..5_000)), 1..8),
        (price, volume) in (100i64..2_000, 0i64..5_000),
        which in 0usize..4,
        sealed in any::<bool>(),
    ) {
        let runtime = tokio::runtime::Runtime::new().unwrap();
        let (all, kept, spans, sieve) = runtime.block_on(async {
            let (_dir, store, row, _) = opened(Interval::MINUTE).await;
            filled(&store, &row, &bands).await;
            if sealed {
                store.seal_all().await.unwrap();
            }
            let (price, volume) = (Some(cents(price)), Some(ones(volume)));
            let sieve = match which {
                0 => Sieve { price_from: price, ..Sieve::default() },
                1 => Sieve { price_to: price, volume_from: volume, ..Sieve::default() },
                2 => Sieve { volume_to: volume, ..Sieve::default() },
                _ => Sieve { price_from: price, price_to: price, ..Sieve::default() },
            };
            let spans = store.may_pass(&row, &WHOLE, &sieve).await.unwrap();
            let all = store.bars(&row, WHOLE, Timestamp::MAX).await.unwrap();
            let kept: Vec<Bar> = all.rows.iter().filter(|b| spans.contains(&b.slot)).copied().collect();
            (all, kept, spans, sieve)
        });
        let wanted: Vec<&Bar> = all.rows.iter().filter(|b| passes(&sieve, b)).collect();
        prop_assert!(wanted.iter().all(|b| spans.contains(&b.slot)));
        prop_assert!(kept.len() >= wanted.len());
    }
}

#[tokio::test]
async fn a_block_without_such_a_bar_is_passed_over_until_it_gets_one() {
    let (_dir, store, row, _) = opened(Interval::MINUTE).await;
    filled(&store, &row, &[(500, Some(10)), (900, Some(10)), (500, None)]).await;
    store.seal_all().await.unwrap();
    let months = async |sieve: Sieve| {
        let spans = store.may_pass(&row, &WHOLE, &sieve).await.unwrap();
        (0..3i64).filter(|month| spans.contains(&Slot((20_000 + month * 31) * DAY))).collect::<Vec<_>>()
    };
    assert_eq!(months(Sieve { price_from: Some(cents(800)), ..Sieve::default() }).await, [1]);
    assert_eq!(months(Sieve { price_to: Some(cents(800)), ..Sieve::default() }).await, [0, 2]);
    // Of volumes that are not told, nothing is known.
    assert_eq!(months(Sieve { volume_from: Some(cents(100_000)), ..Sieve::default() }).await, [2]);
    // A bar that comes later stands in no block, and then in one whose numbers are told anew.
    let late = Slot((20_000 * DAY) + 5 * MINUTE);
    let bars: Bars = [Bar::new(late, [cents(950); 4], Some(ones(10)))].into_iter().collect();
    store.keep_bars(0, row.id, Interval::MINUTE, Understood { rows: 1, bars, ..Understood::default() }).await.unwrap();
    let high = Sieve { price_from: Some(cents(940)), ..Sieve::default() };
    assert_eq!(months(high).await, [0]);
    store.seal_all().await.unwrap();
    assert_eq!(months(high).await, [0]);
}
