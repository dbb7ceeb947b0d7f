use super::*;
use crate::Decimal;
use proptest::prelude::*;

fn bars(scale: u8, rows: &[(i64, i64)]) -> Bars {
    let number = |mantissa| Decimal { mantissa, scale };
    let bar = |&(slot, p): &(i64, i64)| {
        let volume = (p % 3 != 0).then_some(Decimal { mantissa: p * 10, scale: 0 });
        Bar::new(Slot(slot), [p, p + 2, p - 2, p + 1].map(number), volume)
    };
    rows.iter().map(bar).collect()
}

impl Versions {
    fn learn(&mut self, bars: &Bars, at: Timestamp, fetch: i64) -> Learned {
        let (news, learned) = self.news(bars, at, fetch);
        self.absorb(news);
        learned
    }
}

#[test]
fn a_restatement_is_a_second_version_and_a_repeat_is_nothing() {
    let mut versions = Versions::default();
    let first = versions.learn(&bars(2, &[(1, 100), (2, 200)]), Timestamp(10), 1);
    assert_eq!(first, Learned { new: 2, same: 0, restated: 0 });
    let again = versions.learn(&bars(2, &[(1, 100), (2, 201), (3, 300)]), Timestamp(20), 2);
    assert_eq!(again, Learned { new: 1, same: 1, restated: 1 });
    assert_eq!(versions.rows.len(), 4);
    assert_eq!(versions.as_of(Timestamp(19)), bars(2, &[(1, 100), (2, 200)]));
    assert_eq!(versions.as_of(Timestamp(20)), bars(2, &[(1, 100), (2, 201), (3, 300)]));
}

#[test]
fn the_same_price_with_more_digits_is_not_a_restatement() {
    let mut versions = Versions::default();
    versions.learn(&bars(0, &[(1, 102)]), Timestamp(10), 1);
    let wide = |m: i64| Decimal { mantissa: m * 1000, scale: 3 };
    let wider: Bars = [Bar::new(Slot(1), [102, 104, 100, 103].map(wide), None)].into_iter().collect();
    assert_eq!(versions.learn(&wider, Timestamp(20), 2).same, 1);
    assert_eq!(versions.rows[0].bar.open().to_string(), "102", "what was printed first stands");
}

#[test]
fn a_withdrawn_bar_is_not_held_and_not_served_but_its_past_is() {
    let mut versions = Versions::default();
    versions.learn(&bars(2, &[(1, 100), (2, 200)]), Timestamp(10), 1);
    let gone = Version { recorded_at: Timestamp(20), withdrawn: true, ..versions.rows[0] };
    versions.rows.insert(1, gone);
    assert_eq!(versions.as_of(Timestamp(15)).rows.len(), 2);
    assert_eq!(versions.as_of(Timestamp(25)).rows.len(), 1);
    assert_eq!(versions.held(Interval::Daily, Timestamp(25)), Spans::from([Slot(2)..Slot(3)]));
    assert_eq!(versions.held(Interval::Daily, Timestamp(15)), Spans::from([Slot(1)..Slot(3)]));
}

#[test]
fn what_is_there_already_is_not_taken_twice() {
    let mut versions = Versions::default();
    versions.learn(&bars(2, &[(1, 100), (2, 200), (3, 300)]), Timestamp(10), 1);
    let tail = Versions { rows: versions.rows[1..2].to_vec() };
    let before = versions.clone();
    versions.absorb(tail);
    assert_eq!(versions, before);
}

proptest! {
    /// Whatever was learned later never shows in an earlier reading.
    #[test]
    fn reading_as_of_never_shows_what_was_learned_later(
        batches in prop::collection::vec(prop::collection::btree_map(0i64..40, 1i64..5, 0..20), 1..8),
    ) {
        let mut versions = Versions::default();
        let mut truth: Vec<std::collections::BTreeMap<i64, i64>> = vec![];
        for (i, batch) in batches.iter().enumerate() {
            let rows: Vec<_> = batch.iter().map(|(&s, &p)| (s, p)).collect();
            versions.learn(&bars(1, &rows), Timestamp(i as i64), i as i64);
            let mut now = truth.last().cloned().unwrap_or_default();
            now.extend(batch);
            truth.push(now);
        }
        for (i, known) in truth.iter().enumerate() {
            let rows: Vec<_> = known.iter().map(|(&s, &p)| (s, p)).collect();
            prop_assert_eq!(versions.as_of(Timestamp(i as i64)), bars(1, &rows));
        }
        prop_assert!(versions.as_of(Timestamp(-1)).rows.is_empty());
    }
}
