//! Several series read in one step: each gives what was kept of it, whatever the others are.

use crate::common::{cents, instrument, key, ones, open};
use mizuno_core::{
    Bar, Bars, Interval, Slot, Timestamp,
    time::{DAY, MINUTE},
};
use mizuno_store::{answers::Understood, blocks::Needed};
use proptest::prelude::*;
use tempfile::TempDir;

/// Bars of a series, in two answers: what the second says of a slot that the first had stands.
#[derive(Clone, Debug)]
struct Kept {
    interval: Interval,
    first: Vec<i64>,
    later: Vec<i64>,
    sealed: bool,
}

fn some_kept() -> impl Strategy<Value = Kept> {
    // Days, and minutes in two months.
    let slots = || prop::collection::btree_set(0i64..60, 0..12).prop_map(|all| all.into_iter().collect::<Vec<_>>());
    (any::<bool>(), slots(), slots(), any::<bool>()).prop_map(|(daily, first, later, sealed)| Kept {
        interval: if daily { Interval::Daily } else { Interval::MINUTE },
        first,
        later,
        sealed,
    })
}

fn slot(interval: Interval, at: i64) -> Slot {
    match interval {
        Interval::Daily => Slot(20_000 + at),
        // The second half lies in the month behind.
        _ => Slot((20_000 + at / 30 * 31) * DAY + at % 30 * MINUTE),
    }
}

fn bars(interval: Interval, slots: &[i64], volume: i64) -> Bars {
    slots.iter().map(|at| Bar::new(slot(interval, *at), [cents(700 + at); 4], Some(ones(volume)))).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn each_of_several_series_gives_what_was_kept_of_it(
        all in prop::collection::vec(some_kept(), 1..6),
        (from, to) in (0i64..60, 0i64..61),
    ) {
        let runtime = tokio::runtime::Runtime::new().unwrap();
        runtime.block_on(async {
            let dir = TempDir::new().unwrap();
            let store = open(dir.path()).await;
            let names: Vec<String> = (0..all.len()).map(|at| format!("K{at}F")).collect();
            store.put_instruments(names.iter().map(|name| instrument(name)).collect(), None).await.unwrap();
            let mut rows = vec![];
            for sealed in [true, false] {
                for (name, kept) in names.iter().zip(&all).filter(|(_, kept)| kept.sealed == sealed) {
                    let row = store.ensure_series(vec![key(name, kept.interval)]).await.unwrap().remove(0);
                    for (slots, volume) in [(&kept.first, 1), (&kept.later, 2)] {
                        let bars = bars(kept.interval, slots, volume);
                        let understood = Understood { rows: bars.rows.len() as u64, bars, ..Understood::default() };
                        store.keep_bars(0, row.id, kept.interval, understood).await.unwrap();
                    }
                    rows.push((row, kept));
                }
                // What comes behind stays in the tail.
                if sealed {
                    store.seal_all().await.unwrap();
                }
            }
            let span = |kept: &Kept| slot(kept.interval, from)..slot(kept.interval, to.max(from));
            let wanted = rows.iter().map(|(row, kept)| (row, span(kept))).collect();
            let readings = store.read_each(wanted, Timestamp::MAX, Needed::ALL).await.unwrap();
            prop_assert_eq!(readings.len(), rows.len());
            for (reading, (_, kept)) in readings.into_iter().zip(&rows) {
                let mut wanted = bars(kept.interval, &kept.later, 2).rows;
                let mut first = bars(kept.interval, &kept.first, 1).rows;
                first.retain(|bar| !wanted.iter().any(|later| later.slot == bar.slot));
                wanted.extend(first);
                wanted.retain(|bar| span(kept).contains(&bar.slot));
                wanted.sort_by_key(|bar| bar.slot);
                prop_assert_eq!(reading.all().await.unwrap().rows, wanted);
            }
            Ok(())
        })?;
    }
}
