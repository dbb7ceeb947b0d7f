//! What a thinly traded instrument can be expected to have: slots in which nobody traded are quiet, not missing.
//!
//! How often an instrument trades at a time of day is learned from its own
//! history. A stretch without bars is quiet when such stretches are usual for
//! it; half an hour without a bar of something that trades every other minute
//! is not, and stays missing.

use crate::{
    calendar::{Calendar, Session},
    interval::Interval,
    plan::Standing,
    spans::{Spans, both, hull, intersection},
    time::SECOND,
};

/// Times of day are told apart by half hours from the open.
const BUCKET: i64 = 1800 * SECOND;
/// From this share of slots with a bar on, a series is not thin and every slot is expected.
const THIN: f64 = 0.9;
/// Sessions learned from, at least.
const HISTORY: usize = 3;
/// Stretches told as missing though only quiet: so many in twenty sessions.
const FALSE_ALARMS: f64 = 0.1;

/// The slots of `standing` without a bar that are only quiet. `answered` are the slots that the source has been
/// asked for and has answered; elsewhere nothing is known, and nothing is quiet.
#[must_use]
pub fn quiet(calendar: &Calendar, interval: Interval, standing: &Standing, answered: &Spans) -> Spans {
    if !interval.is_intraday() {
        return Spans::new();
    }
    let all = interval.count(both(standing.expected.iter().cloned(), answered.iter().cloned()));
    if interval.count(&standing.held) as f64 >= THIN * all as f64 {
        return Spans::new();
    }
    let answered = intersection(&standing.expected, answered);
    let Some(span) = hull(&answered) else { return Spans::new() };
    let sessions = calendar.sessions();
    let from = sessions.partition_point(|s| s.close() <= span.start.instant());
    let to = sessions.partition_point(|s| s.open() < span.end.instant());
    let days: Vec<Day<'_>> = sessions[from..to].iter().map(|s| Day::new(s, interval, &answered, &standing.held)).collect();
    let Some(habit) = Habit::learn(&days, interval) else { return Spans::new() };
    // The more stretches there are, the more improbable one must be before it is no chance any more.
    let stretches: usize = days.iter().map(|d| d.missing().len()).sum();
    let improbable = (FALSE_ALARMS / (20.0 * stretches as f64 / days.len().max(1) as f64)).min(1e-3);
    let mut out = Spans::new();
    // Sessions without any bar are judged together: one may be usual where two in a row are not.
    for group in days.chunk_by(|a, b| a.held.is_empty() && b.held.is_empty()) {
        let empty = group[0].held.is_empty();
        let whole: f64 = group.iter().flat_map(|d| d.missing().into_iter().map(|s| habit.chance_of_none(d, &s, interval))).product();
        for day in group {
            for stretch in day.missing() {
                let chance = if empty { whole } else { habit.chance_of_none(day, &stretch, interval) };
                if chance >= improbable {
                    out.insert(stretch);
                }
            }
        }
    }
    out
}

/// One session: which of its slots were answered for, and which have a bar.
struct Day<'c> {
    session: &'c Session,
    answered: Spans,
    held: Spans,
}

impl<'c> Day<'c> {
    fn new(session: &'c Session, interval: Interval, answered: &Spans, held: &Spans) -> Day<'c> {
        let slots = session.slots(interval);
        let of = |set: &Spans| slots.iter().flat_map(|s| set.within(s)).collect();
        Day { session, answered: of(answered), held: of(held) }
    }

    fn missing(&self) -> Vec<crate::Span> {
        self.answered.iter().flat_map(|s| self.held.gaps(s)).collect()
    }
}

/// How often a slot has a bar, by the time since the open.
struct Habit {
    rates: Vec<f64>,
}

impl Habit {
    /// Learns from the sessions in which there was any trading; `None` from too few.
    fn learn(days: &[Day<'_>], interval: Interval) -> Option<Habit> {
        let mut counts: Vec<(u64, u64)> = vec![];
        let traded: Vec<&Day<'_>> = days.iter().filter(|d| !d.held.is_empty()).collect();
        if traded.len() < HISTORY {
            return None;
        }
        for day in traded {
            for (set, held) in [(&day.answered, false), (&day.held, true)] {
                for slot in set.iter().flat_map(|s| (s.start.0..s.end.0).step_by(interval.step() as usize)) {
                    let bucket = bucket(day.session, slot);
                    if counts.len() <= bucket {
                        counts.resize(bucket + 1, (0, 0));
                    }
                    if held { counts[bucket].1 += 1 } else { counts[bucket].0 += 1 }
                }
            }
        }
        Some(Habit { rates: counts.into_iter().map(|(all, held)| held as f64 / all.max(1) as f64).collect() })
    }

    /// How probable it is that a stretch of one session has no bar.
    fn chance_of_none(&self, day: &Day<'_>, stretch: &crate::Span, interval: Interval) -> f64 {
        let rate = |slot: i64| self.rates.get(bucket(day.session, slot)).copied().unwrap_or(1.0);
        let none = |slot: i64| if rate(slot) >= THIN { 0.0 } else { 1.0 - rate(slot) };
        (stretch.start.0..stretch.end.0).step_by(interval.step() as usize).map(none).product()
    }
}

fn bucket(session: &Session, slot: i64) -> usize {
    ((slot - session.open().0).max(0) / BUCKET) as usize
}

#[cfg(test)]
#[path = "quiet_test.rs"]
mod tests;
