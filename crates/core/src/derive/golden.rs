//! The golden series: for each slot the bar of the best-ranked source that has a sound one, with that source named.
//!
//! Only series on one basis go into it: raw prices and adjusted ones are never mixed.

use crate::{bar::Bars, slot::Slot, spans::Spans};

/// One source's bars, as far as they may be used.
#[derive(Clone, Debug, Default)]
pub struct Candidate {
    /// Its bars, in slot order.
    pub bars: Bars,
    /// Slots in which its bars are doubted, so that the next source goes before it.
    pub doubted: Spans,
}

/// The best of several series.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Golden {
    /// One bar a slot, in slot order.
    pub bars: Bars,
    /// The place of each bar's source among the candidates.
    pub from: Vec<u16>,
    /// Slots in which every bar there is is doubted; the best-ranked one stands there all the same.
    pub contested: Vec<Slot>,
}

/// Makes the golden series of candidates in the order of their rank, best first.
///
/// ```
/// use mizuno_core::{Bar, Bars, Decimal, Slot, golden::{Candidate, golden}};
/// let bar = |slot: i64, close: &str| Bar::new(Slot(slot), [close; 4].map(|p| p.parse::<Decimal>().unwrap()), None);
/// let best = Candidate { bars: Bars { rows: vec![bar(1, "7.50"), bar(2, "75.0")] }, doubted: [Slot(2)..Slot(3)].into_iter().collect() };
/// let next = Candidate { bars: Bars { rows: vec![bar(2, "7.51"), bar(3, "7.52")] }, ..Candidate::default() };
/// let made = golden(vec![best, next]);
/// assert_eq!(made.bars.rows, [bar(1, "7.50"), bar(2, "7.51"), bar(3, "7.52")]);
/// assert_eq!(made.from, [0, 1, 1]);
/// ```
#[must_use]
pub fn golden(mut candidates: Vec<Candidate>) -> Golden {
    if let [one] = &mut candidates[..] {
        let bars = std::mem::take(&mut one.bars);
        let contested = bars.rows.iter().map(|b| b.slot).filter(|slot| one.doubted.contains(slot)).collect();
        return Golden { from: vec![0; bars.rows.len()], bars, contested };
    }
    let mut out = Golden::default();
    let mut at = vec![0usize; candidates.len()];
    let next = |at: &[usize]| candidates.iter().zip(at).filter_map(|(c, i)| c.bars.rows.get(*i)).map(|b| b.slot).min();
    while let Some(slot) = next(&at) {
        let (mut sound, mut doubted) = (None, None);
        for (place, candidate) in candidates.iter().enumerate() {
            let Some(bar) = candidate.bars.rows.get(at[place]).filter(|b| b.slot == slot) else { continue };
            at[place] += 1;
            let choice = if candidate.doubted.contains(&slot) { &mut doubted } else { &mut sound };
            choice.get_or_insert((place, *bar));
        }
        if sound.is_none() {
            out.contested.push(slot);
        }
        if let Some((place, bar)) = sound.or(doubted) {
            out.bars.rows.push(bar);
            out.from.push(place as u16);
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Bar, Decimal};
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    fn bars(slots: &BTreeSet<i64>, price: i64) -> Bars {
        let bar = |slot: &i64| Bar::new(Slot(*slot), [Decimal { mantissa: price, scale: 0 }; 4], None);
        slots.iter().map(bar).collect()
    }

    proptest! {
        /// Every slot that a source holds has one bar, from a source that held it, the best-ranked one that is not doubted.
        #[test]
        fn golden_bars_come_from_sources_that_held_them(
            slots in prop::collection::vec(prop::collection::btree_set(0i64..60, 0..40), 1..4),
            doubts in prop::collection::vec(prop::collection::btree_set(0i64..60, 0..20), 4),
        ) {
            let doubted = |n: usize| -> Spans { doubts[n].iter().map(|s| Slot(*s)..Slot(s + 1)).collect() };
            let candidates = slots.iter().enumerate().map(|(n, s)| Candidate { bars: bars(s, n as i64 + 1), doubted: doubted(n) });
            let golden = golden(candidates.collect());
            let all: BTreeSet<i64> = slots.iter().flatten().copied().collect();
            prop_assert_eq!(golden.bars.rows.iter().map(|b| b.slot.0).collect::<BTreeSet<_>>(), all);
            for (bar, from) in golden.bars.rows.iter().zip(&golden.from) {
                let from = usize::from(*from);
                prop_assert!(slots[from].contains(&bar.slot.0) && bar.close().mantissa == from as i64 + 1);
                let holders: Vec<usize> = (0..slots.len()).filter(|n| slots[*n].contains(&bar.slot.0)).collect();
                let sound = holders.iter().copied().find(|n| !doubts[*n].contains(&bar.slot.0));
                prop_assert_eq!(from, sound.unwrap_or(holders[0]));
                prop_assert_eq!(golden.contested.contains(&bar.slot), sound.is_none());
            }
        }
    }
}
