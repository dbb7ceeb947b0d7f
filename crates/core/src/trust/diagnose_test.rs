use super::*;
use crate::{aligned::AlignedBar, calendar::tests::aldermere};
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg64Mcg;

/// Minutes of a random walk over some sessions, in hundredths.
fn walk(calendar: &Calendar, dice: &mut Pcg64Mcg) -> Aligned {
    let mut price: i64 = dice.random_range(800..9_000);
    let mut rows = vec![];
    for session in calendar.sessions() {
        for span in session.slots(Interval::MINUTE).iter() {
            for slot in (span.start.0..span.end.0).step_by(60_000_000) {
                let open = price;
                price = (price + dice.random_range(-7..=7)).max(200);
                let (high, low) = (open.max(price) + 1, open.min(price) - 1);
                let volume = dice.random_range(1_000..90_000);
                let [open, high, low, close] = [open, high, low, price];
                rows.push(AlignedBar { slot: Slot(slot), open, high, low, close, volume: Some(volume) });
            }
        }
    }
    Aligned { price_scale: 2, volume_scale: 0, rows }
}

struct Twist {
    factor: f64,
    shift: i64,
    lots: i64,
    splits: Vec<(Slot, i64)>,
}

/// The same market as a source with these habits tells it.
fn twisted(bars: &Aligned, twist: &Twist) -> Aligned {
    let mut out = bars.clone();
    out.price_scale = 4;
    for bar in &mut out.rows {
        let by: i64 = twist.splits.iter().filter(|(at, _)| bar.slot < *at).map(|(_, n)| n).product();
        let told = |p: i64| (p as f64 * 100.0 * twist.factor / by as f64).round() as i64;
        *bar = AlignedBar {
            slot: Slot(bar.slot.0 + twist.shift),
            open: told(bar.open),
            high: told(bar.high),
            low: told(bar.low),
            close: told(bar.close),
            volume: bar.volume.map(|v| (v + twist.lots / 2) / twist.lots),
        };
    }
    out
}

#[test]
fn ninety_five_of_a_hundred_random_combinations_are_named_rightly() {
    let calendar = aldermere("2025-02-10", "2025-03-14");
    let mut dice = Pcg64Mcg::seed_from_u64(4);
    let mut wrong = vec![];
    for n in 0..100 {
        let here = walk(&calendar, &mut dice);
        let sessions = calendar.sessions();
        let mut splits = vec![];
        for _ in 0..[0, 0, 1, 2][dice.random_range(0..4)] {
            let at = Slot::at(sessions[dice.random_range(4..sessions.len() - 4)].open());
            if splits.iter().all(|(other, _): &(Slot, i64)| (other.0 - at.0).abs() > 5 * crate::time::DAY) {
                splits.push((at, [2, 3, 4, 5][dice.random_range(0..4)]));
            }
        }
        splits.sort();
        let twist = Twist {
            factor: [1.0, 1.0, 100.0, 0.01, 0.5, 4.0][dice.random_range(0..6)],
            shift: [0, 0, 60, -60, 3600, -3600, 12 * 3600, 900][dice.random_range(0..8)] * SECOND,
            lots: [1, 1, 10, 100, 1000][dice.random_range(0..5)],
            splits,
        };
        let found = diagnose(Interval::MINUTE, &calendar, &here, &twisted(&here, &twist));
        let mut expected = vec![];
        if twist.shift != 0 {
            expected.push(Systematic::Shift(twist.shift));
        }
        if twist.factor != 1.0 {
            expected.push(Systematic::Factor(twist.factor));
        }
        if !twist.splits.is_empty() {
            expected.push(Systematic::Steps(twist.splits.iter().map(|(at, n)| (*at, *n as f64)).collect()));
        }
        if twist.lots != 1 {
            expected.push(Systematic::VolumeUnit(twist.lots as f64));
        }
        if found != expected {
            wrong.push((n, expected, found));
        }
    }
    assert!(wrong.len() <= 5, "{} of 100 are wrong: {:#?}", wrong.len(), &wrong[..3]);
}

#[test]
fn the_same_series_has_nothing_to_be_said_of_and_strangers_have_nothing_in_common() {
    let calendar = aldermere("2025-03-03", "2025-03-14");
    let mut dice = Pcg64Mcg::seed_from_u64(9);
    let (a, b) = (walk(&calendar, &mut dice), walk(&calendar, &mut dice));
    assert_eq!(diagnose(Interval::MINUTE, &calendar, &a, &a), []);
    assert_eq!(diagnose(Interval::MINUTE, &calendar, &a, &b), [], "nothing fits, so nothing is said");
    assert_eq!(diagnose(Interval::MINUTE, &calendar, &a, &Aligned::default()), []);
}

#[test]
fn a_clock_that_follows_another_daylight_saving_is_found_and_a_rounding_source_too() {
    // Daylight saving ends at Aldermere on 6 April; elsewhere it did on 30 March.
    let calendar = aldermere("2025-03-10", "2025-04-18");
    let here = walk(&calendar, &mut Pcg64Mcg::seed_from_u64(3));
    let moved: Slot = Slot::at("2025-04-06T00:00:00Z".parse().unwrap());
    let mut there = here.clone();
    there.rows.iter_mut().filter(|b| b.slot >= moved).for_each(|b| b.slot.0 += 3600 * SECOND);
    let found = diagnose(Interval::MINUTE, &calendar, &here, &there);
    assert!(
        matches!(found[..], [Systematic::ShiftChanges(0, by, at)] if by == 3600 * SECOND && (at.0 - moved.0).abs() < 5 * crate::time::DAY),
        "{found:?}"
    );
    assert!(found[0].advice(Interval::MINUTE, "s").contains("set `zone`"));

    let mut coarse = here.clone();
    for bar in &mut coarse.rows {
        for price in [&mut bar.open, &mut bar.high, &mut bar.low, &mut bar.close] {
            *price = (*price + 5) / 10 * 10;
        }
    }
    assert!(diagnose(Interval::MINUTE, &calendar, &here, &coarse).contains(&Systematic::Rounded(1)));
    let steps = Systematic::Steps(vec![(Slot::on("2025-03-17".parse().unwrap()), 4.0)]);
    assert!(steps.advice(Interval::Daily, "s").starts_with("the ratio of prices steps by 4 on 2025-03-17: "), "with its date");
    assert!(Systematic::Shift(60 * SECOND).advice(Interval::MINUTE, "s").contains("stamped_at = \"close\""));
}

#[test]
fn volumes_rounded_to_lots_are_told_as_such() {
    let calendar = aldermere("2025-03-03", "2025-03-14");
    let here = walk(&calendar, &mut Pcg64Mcg::seed_from_u64(3));
    let mut there = here.clone();
    there.rows.iter_mut().for_each(|b| b.volume = b.volume.map(|v| (v + 50) / 100 * 100));
    let found = diagnose(Interval::MINUTE, &calendar, &here, &there);
    assert_eq!(found, [Systematic::VolumeRounded(100)]);
    assert!(found[0].advice(Interval::MINUTE, "lodestar").contains("in lots of 100"));
    assert_eq!(diagnose(Interval::MINUTE, &calendar, &here, &here), []);
}
