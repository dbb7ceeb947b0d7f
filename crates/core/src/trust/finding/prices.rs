//! Checks on prices: spikes, jumps like a split, bars that stand still, prices off the grid.

use super::{
    Check, Day, Finding, Rule, Split, Subject,
    robust::{around, usual},
};
use crate::{AlignedBar, TradeDate};
use std::ops::Range;

/// Bars over which the usual range of a bar is taken.
const AROUND: usize = 40;
/// Bars on each side that a spike is held against.
const NEIGHBOURS: usize = 3;
/// Bars on each side that tell how wild the market is.
const NEAR: usize = 10;
/// Sessions on each side whose level must bear a jump out.
const LEVEL: usize = 5;
/// New shares for old ones, as splits usually are.
const USUAL_SPLITS: [(i64, i64); 11] = [(3, 2), (2, 1), (3, 1), (4, 1), (5, 1), (6, 1), (8, 1), (10, 1), (20, 1), (50, 1), (100, 1)];
/// The logarithm of the least of them, 3 for 2, rounded down.
const LEAST_SPLIT: f64 = 0.405;

/// Prices above (or below) the middles of both neighbourhoods by more than the
/// usual true range and `limit` deviations of it, and by three times as much as
/// the widest bars near it, but for one, reach: a market that grows wild is no
/// bad print. The last bar waits for its neighbours.
pub(super) fn spikes(subject: &Subject<'_>, rule: Rule) -> Vec<Finding> {
    let rows = &subject.bars.rows;
    if rows.len() < 2 * NEIGHBOURS {
        return vec![];
    }
    let ranges = true_ranges(rows);
    let usual = around(&ranges, AROUND);
    let tick = subject.tick.and_then(|t| t.at_scale(subject.bars.price_scale)).map_or(1, |t| t.mantissa) as f64;
    let mut marked = vec![];
    for i in 1..rows.len() - 1 {
        let (left, right) = (&rows[i.saturating_sub(NEIGHBOURS)..i], &rows[i + 1..(i + 1 + NEIGHBOURS).min(rows.len())]);
        let top = middle(left, |b| b.high).max(middle(right, |b| b.high));
        let bottom = middle(left, |b| b.low).min(middle(right, |b| b.low));
        if bottom <= 0 {
            continue;
        }
        let (above, below) = ((rows[i].high - top) as f64 / top as f64, (bottom - rows[i].low) as f64 / bottom as f64);
        let here = usual[i / AROUND];
        // Prices on a grid deviate by a tick at least.
        let deviation = here.deviation.max(tick / bottom as f64).max(here.middle / 4.0);
        let away = above.max(below);
        if away > here.middle + rule.limit * deviation && away > 3.0 * second_widest(&ranges, i) {
            marked.push(i);
        }
    }
    subject.stretches(Check::Spike, &marked, |at| {
        let (high, low) = (rows[at.clone()].iter().map(|b| b.high).max(), rows[at.clone()].iter().map(|b| b.low).min());
        let around = [rows[at.start - 1].close, rows[at.end.min(rows.len() - 1)].open].map(|p| subject.print(p));
        format!(
            "prices from {} to {} between {} before and {} after",
            low.map(|p| subject.print(p)).unwrap_or_default(),
            high.map(|p| subject.print(p)).unwrap_or_default(),
            around[0],
            around[1]
        )
    })
}

/// The widest range but one of the bars near the `i`-th; its own and its successor's, which knows its close, do not count.
fn second_widest(ranges: &[f64], i: usize) -> f64 {
    let near = (i.saturating_sub(NEAR)..(i + NEAR + 1).min(ranges.len())).filter(|n| *n != i && *n != i + 1);
    let (mut first, mut second) = (0.0, 0.0);
    for range in near.map(|n| ranges[n]) {
        (first, second) = if range > first { (range, first) } else { (first, f64::max(second, range)) };
    }
    second
}

/// How far each bar reaches, its predecessor's close included, in parts of its price.
fn true_ranges(rows: &[AlignedBar]) -> Vec<f64> {
    let range = |i: usize| {
        let before = rows[usize::saturating_sub(i, 1)].close;
        (rows[i].high.max(before) - rows[i].low.min(before)) as f64 / (rows[i].close.max(1)) as f64
    };
    (0..rows.len()).map(range).collect()
}

/// The middle of up to three prices; of two, the one nearer to the bar asked about does not matter.
fn middle(rows: &[AlignedBar], of: fn(&AlignedBar) -> i64) -> i64 {
    match rows {
        [a] => of(a),
        [a, b] => of(a).midpoint(of(b)),
        [a, b, c] => {
            let (a, b, c) = (of(a), of(b), of(c));
            a.max(b).min(a.min(b).max(c))
        }
        _ => 0,
    }
}

/// A split that is known may have a wrong date: one of the same ratio within so many days of a jump is likely to be this.
const NEAR_DAYS: i32 = 10;

/// Jumps between sessions near the ratio of a split where none is known, and known splits that do not show.
pub(super) fn jumps(subject: &Subject<'_>, days: &[Day<'_>], rule: Rule) -> Vec<Finding> {
    let rows = &subject.bars.rows;
    if !subject.splits_known || days.len() < 3 || rows.iter().any(|b| b.low <= 0) {
        return vec![];
    }
    let log = |p: i64| (p as f64).ln();
    let jump = |w: &[Day<'_>]| log(rows[w[1].rows.start].open) - log(rows[w[0].rows.end - 1].close);
    let jumps: Vec<f64> = days.windows(2).map(jump).collect();
    let usual = usual(&mut jumps.clone()).unwrap_or_default();
    let deviation = usual.deviation.max(0.001);
    let mut out = vec![];
    for (i, found) in jumps.iter().enumerate() {
        let (before, after) = (days[i].session.date, days[i + 1].session.date);
        let known: f64 = subject.splits.iter().filter(|s| before < s.ex_date && s.ex_date <= after).map(ratio).sum();
        // A split that is known must account for the jump, and must be one.
        let left = found - known;
        // No split is nearer to none, and few jumps are as large: the rest need not be looked at.
        let within = (4.0 * deviation).max(0.03);
        if known == 0.0 && left.abs() + within < LEAST_SPLIT {
            continue;
        }
        let level = level_after(rows, days, i) - known;
        let first = days[i + 1].rows.start..days[i + 1].rows.start + 1;
        if known != 0.0 && found.abs() < known.abs() / 2.0 && level.abs() > known.abs() / 2.0 {
            let detail = format!("a split is known for {after}, and prices go on from {} as {}", before, both_sides(subject, days, i));
            out.push(subject.finding(Check::SplitLikeJump, first, detail));
            continue;
        }
        let Some((new, old)) = nearest_split(left, within) else { continue };
        let lasting = (level - ratio(&Split { ex_date: TradeDate(0), new, old })).abs() < (8.0 * deviation).max(0.12);
        if known == 0.0 && left.abs() > rule.limit * deviation && lasting {
            let near = |s: &&Split| s.new * old == s.old * new && (s.ex_date.0 - after.0).abs() <= NEAR_DAYS;
            let known = match subject.splits.iter().find(near) {
                Some(split) => format!("the one that is known counts from {} on", split.ex_date),
                None => "none is known".to_owned(),
            };
            let detail = format!("prices jump from {} as after a split of {new} for {old}, and {known}", both_sides(subject, days, i));
            out.push(subject.finding(Check::SplitLikeJump, first, detail));
        }
    }
    out
}

fn both_sides(subject: &Subject<'_>, days: &[Day<'_>], i: usize) -> String {
    let rows = &subject.bars.rows;
    format!("{} to {}", subject.print(rows[days[i].rows.end - 1].close), subject.print(rows[days[i + 1].rows.start].open))
}

/// The logarithm a split adds to prices.
fn ratio(split: &Split) -> f64 {
    (split.old as f64 / split.new as f64).ln()
}

/// The usual split, of shares apart or together, whose ratio a jump has.
fn nearest_split(jump: f64, within: f64) -> Option<(i64, i64)> {
    let all = USUAL_SPLITS.into_iter().flat_map(|(new, old)| [(new, old), (old, new)]);
    let away = |(new, old): (i64, i64)| (jump - (old as f64 / new as f64).ln()).abs();
    all.filter(|s| away(*s) < within).min_by(|a, b| away(*a).total_cmp(&away(*b)))
}

/// How the level of the sessions after the `i`-th differs from that of those up to it, in logarithms.
fn level_after(rows: &[AlignedBar], days: &[Day<'_>], i: usize) -> f64 {
    let level = |days: &[Day<'_>]| {
        let mut closes: Vec<f64> = days.iter().map(|d| (rows[d.rows.end - 1].close as f64).ln()).collect();
        super::robust::median(&mut closes).unwrap_or_default()
    };
    level(&days[i + 1..(i + 1 + LEVEL).min(days.len())]) - level(&days[(i + 1).saturating_sub(LEVEL)..=i])
}

/// Stretches in which bars do not move, longer than `limit` and than chance would have it in this series.
pub(super) fn flats(subject: &Subject<'_>, rule: Rule) -> Vec<Finding> {
    let rows = &subject.bars.rows;
    let still = |i: usize| {
        let (a, b) = (&rows[i - 1], &rows[i]);
        (b.high == b.low && b.close == a.close) || (a.open, a.high, a.low, a.close) == (b.open, b.high, b.low, b.close)
    };
    let marked: Vec<usize> = (1..rows.len()).filter(|i| still(*i)).collect();
    let runs: Vec<&[usize]> = marked.chunk_by(|a, b| a + 1 == *b).collect();
    let Some(longest) = runs.iter().map(|r| r.len()).max() else { return vec![] };
    // How often bars stand still when nothing is wrong, and how often they go on doing so: in all stretches but the longest.
    let others = (marked.len() - longest) as f64;
    let begins = (runs.len() as f64 - 1.0).max(1.0);
    let goes_on = (others - begins).max(1.0) / others.max(rows.len() as f64 / 50.0);
    // Where one bar in a hundred stands still anyhow, as at a low price, it takes twice as long to be surprised.
    let least = rule.limit * (1.0 + 100.0 * others / rows.len() as f64);
    let surprising = |run: &[usize]| run.len() as f64 >= least && begins * goes_on.powi(run.len() as i32 - 1) < 1e-3;
    let found = runs.into_iter().filter(|r| surprising(r)).map(|run| {
        let at = run[0]..run[run.len() - 1] + 1;
        let detail = format!("{} bars in a row stand at {}", run.len(), subject.print(rows[run[0]].close));
        subject.finding(Check::Flat, at, detail)
    });
    found.collect()
}

/// Bars with a price that is no whole number of ticks.
pub(super) fn off_tick(subject: &Subject<'_>, rule: Rule) -> Vec<Finding> {
    let (Some(tick), rows) = (subject.tick, &subject.bars.rows) else { return vec![] };
    let scale = subject.bars.price_scale;
    let Some(step) = tick.at_scale(scale).map(|t| t.mantissa).filter(|t| *t > 1) else {
        // Prices have no digit that a tick does not have, or the tick is finer than they are.
        return vec![];
    };
    let off = |b: &AlignedBar| [b.open, b.high, b.low, b.close].into_iter().find(|p| p % step != 0);
    let marked: Vec<usize> = (0..rows.len()).filter(|i| off(&rows[*i]).is_some()).collect();
    if (marked.len() as f64) < rule.limit {
        return vec![];
    }
    let tell = |at: Range<usize>| {
        let price = rows[at].iter().find_map(off).map(|p| subject.print(p)).unwrap_or_default();
        format!("{price} is no whole number of ticks of {tick}")
    };
    if marked.len() * 2 > rows.len() {
        // Not these bars are wrong but the tick, or what we take the prices for.
        return vec![Finding { bars: marked.len() as u64, ..subject.finding(Check::OffTick, 0..rows.len(), tell(0..rows.len())) }];
    }
    subject.stretches(Check::OffTick, &marked, tell)
}
