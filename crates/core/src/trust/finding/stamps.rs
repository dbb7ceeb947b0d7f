//! Checks on stamps: sessions moved in time, bars in closed hours, edges that are never there.

use super::{Check, Day, Finding, Rule, Subject};
use crate::{
    Interval, Session, Slot, Spans,
    time::{DAY, SECOND},
};

const HOUR: i64 = 3600 * SECOND;

/// Sessions of which at least `limit` percent of all stamps, those in closed hours included, fit once moved.
pub(super) fn shifted(check: Check, subject: &Subject<'_>, days: &[Day<'_>], rule: Rule) -> Vec<Finding> {
    if !subject.interval.is_intraday() {
        return vec![];
    }
    let by = if check == Check::ShiftedHour { HOUR } else { subject.interval.step() };
    if check == Check::ShiftedBar && by == HOUR {
        return vec![];
    }
    let mut out: Vec<Finding> = vec![];
    for day in days {
        let Some(by) = [by, -by].into_iter().find(|by| fits_moved(subject, day, *by, rule.limit / 100.0)) else { continue };
        let refused = refused_near(subject, day.session, by.abs());
        let detail = format!(
            "{} stamps of {} lie in closed hours, and fit when moved {} minutes {}",
            refused.len(),
            day.session.date,
            by.abs() / (60 * SECOND),
            if by > 0 { "earlier" } else { "later" }
        );
        out.push(subject.finding(check, day.rows.clone(), detail));
    }
    out
}

/// Whether a session's stamps fit its hours when moved `by` earlier, and do not as they are.
fn fits_moved(subject: &Subject<'_>, day: &Day<'_>, by: i64, share: f64) -> bool {
    let slots = day.session.slots(subject.interval);
    let refused = refused_near(subject, day.session, by.abs());
    // What must fall outside under such a move, and what it must leave empty.
    let moved: Spans = slots.iter().map(|s| Slot(s.start.0 + by)..Slot(s.end.0 + by)).collect();
    let outside: Spans = moved.iter().flat_map(|s| slots.gaps(s)).collect();
    let left_empty: Spans = slots.iter().flat_map(|s| moved.gaps(s)).collect();
    let held = &subject.bars.rows[day.rows.clone()];
    let many = |set: &Spans| subject.interval.count(set) as f64;
    let out_there = refused.iter().filter(|s| outside.contains(s)).count() as f64;
    let in_there = held.iter().filter(|b| left_empty.contains(&b.slot)).count() as f64;
    let all = (held.len() + refused.len()) as f64;
    let fit = held.iter().map(|b| b.slot).chain(refused.iter().copied()).filter(|s| slots.contains(&Slot(s.0 - by))).count() as f64;
    out_there >= 0.8 * many(&outside).max(1.0) && in_there <= 0.2 * many(&left_empty) && fit >= share * all
}

/// Refused stamps of a session: those within `reach` of its hours, breaks included.
fn refused_near<'a>(subject: &Subject<'a>, session: &Session, reach: i64) -> &'a [Slot] {
    let all = subject.refused;
    let from = all.partition_point(|s| s.0 < session.open().0 - reach);
    let to = all.partition_point(|s| s.0 < session.close().0 + reach);
    &all[from..to.max(from)]
}

/// Days with `limit` stamps and more in closed hours that no shift explains.
pub(super) fn in_closed_hours(subject: &Subject<'_>, days: &[Day<'_>], rule: Rule) -> Vec<Finding> {
    let explained = |slot: &Slot| {
        let near = |d: &&Day<'_>| d.session.open().0 - HOUR <= slot.0 && slot.0 < d.session.close().0 + HOUR;
        let shift = |d: &Day<'_>, by| fits_moved(subject, d, by, 0.9);
        let step = subject.interval.step();
        days.iter().filter(near).any(|d| [HOUR, -HOUR, step, -step].into_iter().any(|by| shift(d, by)))
    };
    let day_of = |slot: &Slot| if subject.interval.is_intraday() { slot.0.div_euclid(DAY) } else { slot.0 };
    let mut out = vec![];
    // Neighbours by the day of UTC: a night that trading should not be in may be cut in two, and is told of twice.
    for group in subject.refused.chunk_by(|a, b| day_of(a) == day_of(b)) {
        let enough = if subject.interval == Interval::Daily { 1.0 } else { rule.limit };
        if group.len() as f64 >= enough && !(subject.interval.is_intraday() && explained(&group[0])) {
            let span = group[0]..subject.interval.span_of(group[group.len() - 1]).end;
            let detail = format!("{} bars while the calendar has the venue closed", group.len());
            out.push(Finding { check: Check::ClosedMarket, span, bars: group.len() as u64, detail });
        }
    }
    out
}

/// Edges of sessions, first or last, that are missing `limit` times in a row and more than chance would have it.
pub(super) fn edges(subject: &Subject<'_>, days: &[Day<'_>], rule: Rule) -> Vec<Finding> {
    if !subject.interval.is_intraday() {
        return vec![];
    }
    let rows = &subject.bars.rows;
    let step = subject.interval.step();
    let expected: u64 = days.iter().map(|d| subject.interval.count(d.session.slots(subject.interval))).sum();
    // How often any bar is missing.
    let chance = (1.0 - rows.len() as f64 / expected.max(1) as f64).clamp(0.01, 1.0);
    let has = |d: &Day<'_>, slot: Slot| rows[d.rows.clone()].binary_search_by_key(&slot, |b| b.slot).is_ok();
    let mut out = vec![];
    for last in [false, true] {
        let edge = |d: &Day<'_>| {
            let slots = d.session.slots(subject.interval);
            let slot = if last { slots.last().map(|s| Slot(s.end.0 - step)) } else { slots.first().map(|s| s.start) };
            slot.unwrap_or(Slot(0))
        };
        // A session with its other half missing says nothing about its edge.
        let neighbour = |d: &Day<'_>| Slot(edge(d).0 + if last { -step } else { step });
        // The session that is still under way has no last bar yet.
        let days = if last { &days[..days.len().saturating_sub(1)] } else { days };
        let missing: Vec<usize> =
            (0..days.len()).filter(|i| !has(&days[*i], edge(&days[*i])) && has(&days[*i], neighbour(&days[*i]))).collect();
        for run in missing.chunk_by(|a, b| a + 1 == *b) {
            if (run.len() as f64) < rule.limit || days.len() as f64 * chance.powi(run.len() as i32) > 1e-3 {
                continue;
            }
            let (first, end) = (edge(&days[run[0]]), edge(&days[run[run.len() - 1]]));
            let which = if last { "last" } else { "first" };
            let detail = format!("the {which} bar of the session is missing {} sessions in a row", run.len());
            let span = first..subject.interval.span_of(end).end;
            out.push(Finding { check: Check::SessionEdge, span, bars: run.len() as u64, detail });
        }
    }
    out
}
