//! What two series differ by, all along: a shift in time, a factor in price or volume, an adjustment.
//!
//! Returns (differences of logarithms from bar to bar) do not change under a
//! factor, so the shift is found first, from returns alone; then the ratios of
//! aligned bars show factors and the dates where they step. Medians decide, so
//! single bad prints do not.

use crate::{aligned::Aligned, calendar::Calendar, interval::Interval, slot::Slot, time::SECOND};

/// One systematic difference of a second series from a first.
#[derive(Clone, Debug, PartialEq)]
pub enum Systematic {
    /// Its stamps are later by so many slots of time (microseconds, or days for daily bars); negative is earlier.
    Shift(i64),
    /// Its stamps are later by the first up to the slot, and by the second from there on.
    ShiftChanges(i64, i64, Slot),
    /// Its prices are so many times the first's.
    Factor(f64),
    /// The ratio of its prices to the first's steps at these slots, each time by this factor (before to after).
    Steps(Vec<(Slot, f64)>),
    /// One unit of its volume is so many of the first's.
    VolumeUnit(f64),
    /// Its volumes are the first's, rounded to whole multiples of so many.
    VolumeRounded(i64),
    /// It keeps fewer digits after the point: so many.
    Rounded(u8),
}

/// A stretch compared for its own shift, in bars at least.
const STRETCH: usize = 120;
/// Beyond this share of agreeing returns, a shift is believed.
const BELIEVED: f64 = 0.6;

/// The systematic differences of `there` from `here`, both in slot order and of one interval; none when they have too little in common.
#[must_use]
pub fn diagnose(interval: Interval, calendar: &Calendar, here: &Aligned, there: &Aligned) -> Vec<Systematic> {
    let mut out = vec![];
    let Some(shifts) = shifts(interval, here, there) else { return out };
    match shifts[..] {
        [(_, 0)] | [] => {}
        [(_, by)] => out.push(Systematic::Shift(by)),
        [(_, before), .., (at, after)] => out.push(Systematic::ShiftChanges(before, after, at)),
    }
    let pairs = aligned(here, there, &shifts);
    let (factor, steps) = levels(interval, calendar, &pairs, here, there);
    if (factor - 1.0).abs() > 1e-3 {
        out.push(Systematic::Factor(tidy(factor)));
    }
    if !steps.is_empty() {
        out.push(Systematic::Steps(steps.into_iter().map(|(at, by)| (at, tidy(by))).collect()));
    }
    out.extend(volume_unit(&pairs, here, there).or_else(|| volume_rounded(&pairs, here, there)));
    // Digits can be compared only on one basis.
    if !out.iter().any(|s| matches!(s, Systematic::Factor(_) | Systematic::Steps(_))) {
        out.extend(rounded(&pairs, here, there));
    }
    out
}

impl Systematic {
    /// What it is and what to change in the profile of the second series' source, in a sentence or two.
    #[must_use]
    pub fn advice(&self, interval: Interval, from: &str) -> String {
        let length = |by: i64| match interval {
            Interval::Daily => format!("{by} days"),
            Interval::Intraday { .. } => format!("{} minutes", by as f64 / (60 * SECOND) as f64),
        };
        match self {
            Systematic::Shift(by) if *by == interval.step() => {
                format!("{from} stamps bars one interval later, as at their close: set stamped_at = \"close\" in its profile")
            }
            Systematic::Shift(by) => {
                format!("{from} stamps bars {} later: look at `zone` in its profile, or at whether its stamps are UTC", length(*by))
            }
            Systematic::ShiftChanges(before, after, _) => format!(
                "{from} stamps bars {} later at first and {} later in the end, as when a clock follows another daylight saving: set `zone` in its profile to the zone its stamps are in",
                length(*before),
                length(*after)
            ),
            Systematic::Factor(by) => format!(
                "prices of {from} are {by} times as high throughout: another unit of the currency, or a basis adjusted for a split that lies outside this range; look at `adjusted` in its profile"
            ),
            Systematic::Steps(steps) => {
                let moment = |at: &Slot| if interval.is_intraday() { at.instant().to_string() } else { at.date().to_string() };
                let each: Vec<String> = steps.iter().map(|(at, by)| format!("by {by} on {}", moment(at))).collect();
                format!(
                    "the ratio of prices steps {}: one of the two is adjusted for what happened then and the other is not; `adjusted` in the profile of the one that rewrites its past must say so",
                    each.join(", ")
                )
            }
            Systematic::VolumeUnit(unit) => format!("one unit of volume of {from} is {unit}: set volume_unit = {unit} in its profile"),
            Systematic::VolumeRounded(lot) => {
                format!("{from} counts volume in lots of {lot}: volumes agree as far as that lets them, and nothing needs to change")
            }
            Systematic::Rounded(digits) => format!("{from} rounds prices to {digits} digits after the point: compare with a tolerance"),
        }
    }
}

fn log(bars: &Aligned, at: usize) -> f64 {
    (bars.rows[at].close.max(1) as f64).ln()
}

/// The shift of each stretch of time, neighbours with the same shift together; `None` when nothing fits.
fn shifts(interval: Interval, here: &Aligned, there: &Aligned) -> Option<Vec<(Slot, i64)>> {
    let step = interval.step();
    let mut candidates = vec![0, step, -step];
    match interval {
        Interval::Daily => candidates.extend([2, -2, 3, -3]),
        Interval::Intraday { .. } => {
            let quarter = 900 * SECOND;
            candidates.extend((1..=56).flat_map(|n| [n * quarter, -n * quarter]).filter(|by| by % step == 0 && by.abs() != step));
        }
    }
    let (grain_here, grain_there) = (grain(here), grain(there));
    let agreement = |range: std::ops::Range<usize>, by: i64| agreement((here, grain_here), (there, grain_there), range, by);
    let best = |range: std::ops::Range<usize>| {
        // No shift, unless another fits clearly better.
        let none = agreement(range.clone(), 0) + 0.05;
        let scored = candidates.iter().map(|by| (if *by == 0 { none } else { agreement(range.clone(), *by) }, *by));
        scored.max_by(|a, b| a.0.total_cmp(&b.0).then(b.1.abs().cmp(&a.1.abs())))
    };
    let count = here.rows.len();
    let (whole, by) = best(0..count)?;
    if count < 2 * STRETCH || whole > 0.9 {
        return (whole > BELIEVED).then(|| vec![(here.rows[0].slot, by)]);
    }
    // Perhaps the shift changes on the way: each stretch on its own.
    let stretch = (count / 12).max(STRETCH);
    let mut out: Vec<(Slot, i64)> = vec![];
    for from in (0..count).step_by(stretch) {
        let range = from..(from + stretch).min(count);
        let Some((share, by)) = best(range).filter(|(share, _)| *share > BELIEVED) else { continue };
        let _ = share;
        if out.last().is_none_or(|(_, last)| *last != by) {
            out.push((here.rows[from].slot, by));
        }
    }
    (!out.is_empty()).then_some(out)
}

/// The step of a series' prices: the largest power of ten that divides every close.
fn grain(bars: &Aligned) -> i64 {
    let divides = |by: i64| bars.rows.iter().all(|b| b.close % by == 0);
    (1..=6).map(|n| 10i64.pow(n)).take_while(|by| divides(*by)).last().unwrap_or(1)
}

/// The share of returns of `here` in a range that `there` has too, so much later. Each series comes with its grain.
fn agreement((here, coarse): (&Aligned, i64), (there, coarser): (&Aligned, i64), range: std::ops::Range<usize>, by: i64) -> f64 {
    let (mut agree, mut seen, mut at) = (0u32, 0u32, 0usize);
    // A sample is enough to tell a shift.
    let every = (range.len() / 1500).max(1);
    let mut last: Option<(usize, usize)> = None;
    for i in range {
        let wanted = Slot(here.rows[i].slot.0 + by);
        at += there.rows[at..].partition_point(|b| b.slot < wanted);
        let found = there.rows.get(at).is_some_and(|b| b.slot == wanted);
        if found
            && let Some((pi, pj)) = last
            && pi + 1 == i
            && i % every == 0
        {
            let (a, b) = (log(here, i) - log(here, pi), log(there, at) - log(there, pj));
            // Two numbers of so many units each are right to half a unit.
            let unit = 1.2 * coarse as f64 / here.rows[i].close.max(1) as f64 + 1.2 * coarser as f64 / there.rows[at].close.max(1) as f64;
            // A standstill agrees with every standstill; only what moves tells.
            if a.abs() > unit / 4.0 || b.abs() > unit / 4.0 {
                seen += 1;
                agree += u32::from((a - b).abs() <= unit);
            }
        } else if !found && i % every == 0 {
            seen += 1;
        }
        last = found.then_some((i, at));
    }
    if seen < 8 { 0.0 } else { f64::from(agree) / f64::from(seen) }
}

/// Places of bars that stand for the same time, once shifted.
fn aligned(here: &Aligned, there: &Aligned, shifts: &[(Slot, i64)]) -> Vec<(usize, usize)> {
    let mut out = vec![];
    let mut at = 0;
    for (i, bar) in here.rows.iter().enumerate() {
        let by = shifts.iter().rev().find(|(from, _)| *from <= bar.slot).or(shifts.first()).map_or(0, |(_, by)| *by);
        let wanted = Slot(bar.slot.0 + by);
        // A shift that changes may step back.
        at = match there.rows.get(at) {
            Some(b) if b.slot <= wanted => at + there.rows[at..].partition_point(|b| b.slot < wanted),
            _ => there.rows.partition_point(|b| b.slot < wanted),
        };
        if there.rows.get(at).is_some_and(|b| b.slot == wanted) {
            out.push((i, at));
        }
    }
    out
}

/// The ratio of prices at the end, and where it steps before that: from session to session, by medians.
fn levels(interval: Interval, calendar: &Calendar, pairs: &[(usize, usize)], here: &Aligned, there: &Aligned) -> (f64, Vec<(Slot, f64)>) {
    let scale = 10f64.powi(i32::from(here.price_scale) - i32::from(there.price_scale));
    let ratio = |(i, j): &(usize, usize)| there.rows[*j].close as f64 / here.rows[*i].close.max(1) as f64 * scale;
    // One level a session; a session of one bar leans on its neighbours below.
    let mut levels: Vec<(Slot, f64, f64)> = vec![];
    let day = |i: usize| match interval {
        Interval::Daily => here.rows[i].slot.0,
        Interval::Intraday { .. } => calendar.at_or_after(here.rows[i].slot.instant()).map_or(here.rows[i].slot.0, |s| i64::from(s.date.0)),
    };
    for session in pairs.chunk_by(|a, b| day(a.0) == day(b.0)) {
        let mut all: Vec<f64> = session.iter().map(ratio).collect();
        let (i, j) = session[0];
        let unit = 1.1 / here.rows[i].close.max(1) as f64 + 1.1 / there.rows[j].close.max(1) as f64;
        levels.push((here.rows[i].slot, median(&mut all), unit.max(2e-4)));
    }
    let Some(last) = levels.last().map(|l| l.1) else { return (1.0, vec![]) };
    let mut steps = vec![];
    // Walk back in time; a step is where two neighbours on each side stand on different levels.
    let mut at = 1;
    while at < levels.len() {
        let (before, after) = (levels[at - 1], levels[at]);
        let apart = (after.1 / before.1).ln();
        let unit = before.2 + after.2;
        let stays = |x: f64, other: Option<&(Slot, f64, f64)>| other.is_none_or(|o| (o.1 / x).ln().abs() <= unit * 2.0);
        if apart.abs() > unit * 2.0 && stays(after.1, levels.get(at + 1)) && (at < 2 || stays(before.1, levels.get(at - 2))) {
            steps.push((after.0, after.1 / before.1));
        }
        at += 1;
    }
    if steps.is_empty() {
        let mut all: Vec<f64> = levels.iter().map(|l| l.1).collect();
        return (median(&mut all), steps);
    }
    (last, steps)
}

/// How many of the first's one unit of the second's volume is, where that is clear.
fn volume_unit(pairs: &[(usize, usize)], here: &Aligned, there: &Aligned) -> Option<Systematic> {
    let scale = 10f64.powi(i32::from(there.volume_scale) - i32::from(here.volume_scale));
    let ratio = |(i, j): &(usize, usize)| {
        let (a, b) = (here.rows[*i].volume?, there.rows[*j].volume?);
        // Small counts of lots are too rough to tell a unit from.
        (a > 0 && b >= 5).then(|| a as f64 / b as f64 * scale)
    };
    let mut ratios: Vec<f64> = pairs.iter().filter_map(ratio).collect();
    if ratios.len() < 8 {
        return None;
    }
    let unit = median(&mut ratios);
    let round = [0.001, 0.01, 0.1, 10.0, 100.0, 1000.0, 10_000.0].into_iter().find(|r| (unit / r - 1.0).abs() < 0.08)?;
    let near = ratios.iter().filter(|r| (*r / round - 1.0).abs() < 0.25).count();
    (near * 10 >= ratios.len() * 7).then_some(Systematic::VolumeUnit(round))
}

/// The lot that the second counts volumes in, when they are the first's but for rounding to it.
fn volume_rounded(pairs: &[(usize, usize)], here: &Aligned, there: &Aligned) -> Option<Systematic> {
    let both = |(i, j): &(usize, usize)| Some((here.rows[*i].volume?, there.rows[*j].volume?));
    let volumes: Vec<(i64, i64)> = pairs.iter().filter_map(both).collect();
    if volumes.len() < 8 || here.volume_scale != there.volume_scale || volumes.iter().all(|(a, b)| a == b) {
        return None;
    }
    let lot = [1_000, 100, 10].into_iter().find(|lot| volumes.iter().all(|(_, b)| b % lot == 0))?;
    let near = volumes.iter().filter(|(a, b)| (a - b).abs() <= lot).count();
    (near * 20 >= volumes.len() * 19).then_some(Systematic::VolumeRounded(lot))
}

/// Digits the second keeps, when they are fewer than the first's and the rest agrees.
fn rounded(pairs: &[(usize, usize)], here: &Aligned, there: &Aligned) -> Option<Systematic> {
    let used = |bars: &Aligned, at: &dyn Fn(&(usize, usize)) -> usize| {
        let by = |n: u8| 10i64.checked_pow(u32::from(n)).unwrap_or(i64::MAX);
        let fits = |n: u8| pairs.iter().all(|p| bars.rows[at(p)].close % by(bars.price_scale - n) == 0);
        (0..=bars.price_scale).find(|n| fits(*n)).unwrap_or(bars.price_scale)
    };
    let (a, b) = (used(here, &|p| p.0), used(there, &|p| p.1));
    let differ = pairs.iter().filter(|(i, j)| here.price(here.rows[*i].close) != there.price(there.rows[*j].close)).count();
    (pairs.len() >= 20 && b < a && differ * 4 > pairs.len()).then_some(Systematic::Rounded(b))
}

fn median(all: &mut [f64]) -> f64 {
    if all.is_empty() {
        return f64::NAN;
    }
    let mid = all.len() / 2;
    *all.select_nth_unstable_by(mid, f64::total_cmp).1
}

/// A ratio as the small fraction it is close to, or rounded to four digits.
fn tidy(ratio: f64) -> f64 {
    for below in 1..=10u32 {
        let above = (ratio * f64::from(below)).round();
        if above >= 1.0 && (above / f64::from(below) / ratio - 1.0).abs() < 3e-3 {
            return above / f64::from(below);
        }
    }
    let digits = 10f64.powi(4 - ratio.abs().log10().ceil() as i32);
    (ratio * digits).round() / digits
}

#[cfg(test)]
#[path = "diagnose_test.rs"]
mod tests;
