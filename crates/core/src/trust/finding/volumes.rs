//! Checks on volumes: round factors, and prices that move without any.

use super::{
    Check, Day, Finding, Rule, Subject,
    robust::{Ordered, median},
};

/// Sessions on each side that a session's volume is held against.
const AROUND: usize = 20;
/// What is nearest to no factor at all and still near one: a power of ten less the furthest that counts as near.
const LEAST: f64 = std::f64::consts::LN_10 - FURTHEST;
/// How far from a power of ten still counts as near, as a logarithm.
const FURTHEST: f64 = 1.1;
/// Round factors that units are mistaken by, as powers of ten.
const POWERS: [i32; 6] = [1, 2, 3, -1, -2, -3];

/// Sessions whose usual volume lies further than `limit` deviations from that of the sessions around, near a power of ten.
pub(super) fn factors(subject: &Subject<'_>, days: &[Day<'_>], rule: Rule) -> Vec<Finding> {
    let rows = &subject.bars.rows;
    let log = |i: usize| rows[i].volume.filter(|v| *v > 0).map(|v| (v as f64).ln());
    let mut logs = vec![];
    let mut level = |d: &Day<'_>| {
        logs.clear();
        logs.extend(d.rows.clone().filter_map(log));
        median(&mut logs)
    };
    let (at_days, levels): (Vec<usize>, Vec<f64>) = days.iter().enumerate().filter_map(|(i, d)| Some((i, level(d)?))).unzip();
    if levels.len() < 5 {
        return vec![];
    }
    let mut found: Vec<(usize, i32)> = vec![];
    let mut around = Ordered::default();
    levels[..AROUND.min(levels.len())].iter().for_each(|level| around.put(*level));
    for (at, (&day, &here)) in at_days.iter().zip(&levels).enumerate() {
        levels.get(at + AROUND).into_iter().for_each(|level| around.put(*level));
        at.checked_sub(AROUND + 1).into_iter().for_each(|left| around.take(levels[left]));
        if around.middle().is_none_or(|middle| (here - middle).abs() < LEAST) {
            continue;
        }
        let Some(usual) = around.usual() else { continue };
        let (away, deviation) = (here - usual.middle, usual.deviation.max(0.15));
        let near = |p: &i32| (away - f64::from(*p) * std::f64::consts::LN_10).abs() < (3.0 * deviation).clamp(0.5, FURTHEST);
        if away.abs() > rule.limit * deviation
            && let Some(power) = POWERS.into_iter().find(near)
        {
            found.push((day, power));
        }
    }
    let tell = |group: &[(usize, i32)]| {
        let factor = if group[0].1 > 0 { "times as large" } else { "times smaller" };
        let detail = format!("volumes are about {} {factor} than around", 10i64.pow(group[0].1.unsigned_abs()));
        subject.finding(Check::VolumeFactor, days[group[0].0].rows.start..days[group[group.len() - 1].0].rows.end, detail)
    };
    found.chunk_by(|a, b| a.0 + 1 == b.0 && a.1 == b.1).map(tell).collect()
}

/// Bars whose price moves though nothing was traded. Where volumes are counted in lots, nothing may be a little.
pub(super) fn silent_moves(subject: &Subject<'_>, rule: Rule) -> Vec<Finding> {
    if subject.lot > 1 {
        return vec![];
    }
    let rows = &subject.bars.rows;
    let moves = |i: usize| rows[i].high != rows[i].low || i.checked_sub(1).is_some_and(|before| rows[before].close != rows[i].close);
    let silent = |i: &usize| rows[*i].volume.is_some_and(|v| v == 0) && moves(*i);
    let marked: Vec<usize> = (0..rows.len()).filter(silent).collect();
    let found = subject.stretches(Check::SilentMove, &marked, |at| {
        format!("from {} to {} with a volume of 0", subject.print(rows[at.start].open), subject.print(rows[at.end - 1].close))
    });
    found.into_iter().filter(|f| f.bars as f64 >= rule.limit).collect()
}
