use super::*;
use proptest::prelude::*;

fn bars(scale: u8, rows: &[(i64, i64)]) -> Bars {
    let rows = rows
        .iter()
        .map(|&(slot, p)| Bar {
            slot: Slot(slot),
            open: Price(p),
            high: Price(p + 2),
            low: Price(p - 2),
            close: Price(p + 1),
            volume: (p % 3 != 0).then_some(Volume(p * 10)),
        })
        .collect();
    Bars { price_scale: scale, volume_scale: 0, rows }
}

impl Versions {
    fn learn(&mut self, bars: &Bars, at: Timestamp, fetch: i64) -> Result<Learned, DoesNotFit> {
        let (news, learned) = self.news(bars, at, fetch)?;
        self.absorb(news)?;
        Ok(learned)
    }
}

#[test]
fn a_restatement_is_a_second_version_and_a_repeat_is_nothing() {
    let mut versions = Versions::default();
    let first = versions.learn(&bars(2, &[(1, 100), (2, 200)]), Timestamp(10), 1).unwrap();
    assert_eq!(first, Learned { new: 2, same: 0, restated: 0 });
    let again = versions.learn(&bars(2, &[(1, 100), (2, 201), (3, 300)]), Timestamp(20), 2).unwrap();
    assert_eq!(again, Learned { new: 1, same: 1, restated: 1 });
    assert_eq!(versions.rows.len(), 4);
    assert_eq!(versions.as_of(Timestamp(19)), bars(2, &[(1, 100), (2, 200)]));
    assert_eq!(versions.as_of(Timestamp(20)), bars(2, &[(1, 100), (2, 201), (3, 300)]));
}

#[test]
fn the_same_price_with_more_digits_is_not_a_restatement() {
    let mut versions = Versions::default();
    versions.learn(&bars(0, &[(1, 100)]), Timestamp(10), 1).unwrap();
    let mut wider = bars(0, &[(1, 100)]);
    wider.rescale(3, 1).unwrap();
    assert_eq!(versions.learn(&wider, Timestamp(20), 2).unwrap().same, 1);
    assert_eq!(versions.price_scale, 3);
}

#[test]
fn a_withdrawn_bar_is_not_held_and_not_served_but_its_past_is() {
    let mut versions = Versions::default();
    versions.learn(&bars(2, &[(1, 100), (2, 200)]), Timestamp(10), 1).unwrap();
    let gone = Version { recorded_at: Timestamp(20), withdrawn: true, ..versions.rows[0] };
    versions.rows.insert(1, gone);
    assert_eq!(versions.as_of(Timestamp(15)).rows.len(), 2);
    assert_eq!(versions.as_of(Timestamp(25)).rows.len(), 1);
    assert_eq!(versions.held(Interval::Daily), Spans::from([Slot(2)..Slot(3)]));
}

#[test]
fn a_price_that_does_not_fit_is_refused_and_nothing_changes() {
    let mut batch = Bars::default();
    let d = |text: &str| text.parse::<Decimal>().unwrap();
    batch.push(Slot(1), [d("999999999999999999"); 4], None).unwrap();
    let before = batch.clone();
    assert!(batch.push(Slot(2), [d("0.01"); 4], None).is_err());
    assert_eq!(batch, before);
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
            versions.learn(&bars(1, &rows), Timestamp(i as i64), i as i64).unwrap();
            let mut now = truth.last().cloned().unwrap_or_default();
            now.extend(batch);
            truth.push(now);
        }
        for (i, known) in truth.iter().enumerate() {
            let rows: Vec<_> = known.iter().map(|(&s, &p)| (s, p)).collect();
            prop_assert_eq!(versions.as_of(Timestamp(i as i64)), bars(1, &rows).tap_scale(versions.price_scale));
        }
        prop_assert!(versions.as_of(Timestamp(-1)).rows.is_empty());
    }
}

impl Bars {
    fn tap_scale(mut self, scale: u8) -> Bars {
        self.price_scale = scale;
        self
    }
}
