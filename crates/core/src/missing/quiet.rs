//! What a thinly traded instrument can be expected to have: slots in which nobody traded are quiet, not missing.
//!
//! How often an instrument trades at a time of day is learned from its own
//! history. A stretch without bars is quiet when such stretches are usual for
//! it; half an hour without a bar of something that trades every other minute
//! is not, and stays missing.
//!
//! Emptiness alone is no evidence. A time of day that is always empty counts as usual only as far as the activity round
//! it lets it: what trades every minute before and after does not stop for the same hour every day, a source that leaves the hour out
//! does. Where rows stand in quarantine, where another source has a bar, and where none of the
//! lively instruments of a venue has one, nothing is quiet.

use crate::{
    calendar::{Calendar, Session},
    interval::Interval,
    spans::{Spans, both, hull, intersection, only},
    standing::Standing,
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
/// A time of day is at least this share as lively as what lies round it.
const LULL: f64 = 0.2;
/// Half hours on each side that tell how lively an instrument is round a time of day.
const ROUND: usize = 3;

/// Whether a series has a bar in nearly every slot that was answered for: nothing of it is ever quiet.
#[must_use]
pub fn is_lively(interval: Interval, standing: &Standing, answered: &Spans) -> bool {
    let all = interval.count(both(standing.expected.iter().cloned(), answered.iter().cloned()));
    interval.count(&standing.held) as f64 >= THIN * all as f64
}

/// The slots of `standing` without a bar that are only quiet. `answered` are the slots that the source has been
/// asked for and has answered; elsewhere nothing is known, and nothing is quiet. Nor is anything in `never`: slots of rows in
/// quarantine, and slots in which another source has a bar.
#[must_use]
pub fn quiet(calendar: &Calendar, interval: Interval, standing: &Standing, answered: &Spans, never: &Spans) -> Spans {
    if !interval.is_intraday() {
        return Spans::new();
    }
    if is_lively(interval, standing, answered) {
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
                if chance >= improbable && !never.overlaps(&stretch) {
                    out.extend(habit.usual(day, stretch));
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
    /// Stretches of the session, in microseconds since its open, that are always empty though there is life round them.
    always_absent: Vec<std::ops::Range<i64>>,
}

impl Habit {
    /// Learns from the sessions in which there was any trading; `None` from too few.
    fn learn(days: &[Day<'_>], interval: Interval) -> Option<Habit> {
        let mut counts: Vec<(u64, u64)> = vec![];
        // The same by slot: how many sessions were answered for, and how many have a bar.
        let mut by_slot: Vec<(u64, u64)> = vec![];
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
                    let place = ((slot - day.session.open().0) / interval.step()).max(0) as usize;
                    if by_slot.len() <= place {
                        by_slot.resize(place + 1, (0, 0));
                    }
                    for count in [&mut counts[bucket], &mut by_slot[place]] {
                        if held { count.1 += 1 } else { count.0 += 1 }
                    }
                }
            }
        }
        let own = |at: usize| counts[at].1 as f64 / counts[at].0.max(1) as f64;
        // The livelier side counts: a lull between two lively hours, and one at an edge of the session.
        let side = |range: std::ops::Range<usize>| {
            let (all, held) = counts[range].iter().fold((0, 0), |sum, c| (sum.0 + c.0, sum.1 + c.1));
            held as f64 / all.max(1) as f64
        };
        let round = |at: usize| side(at.saturating_sub(ROUND)..at).max(side(at + 1..(at + 1 + ROUND).min(counts.len())));
        let rates: Vec<f64> = (0..counts.len()).map(|at| own(at).max(LULL * round(at)).min(1.0)).collect();
        let mut always_absent = vec![];
        let mut at = 0;
        for run in by_slot.chunk_by(|a, b| (a.1 == 0) == (b.1 == 0)) {
            let (places, step) = (at..at + run.len(), interval.step());
            at = places.end;
            let asked: u64 = run.iter().map(|c| c.0).sum();
            let middle = (places.start + places.end) as i64 / 2 * step / BUCKET;
            let rate = LULL * round((middle as usize).min(counts.len().saturating_sub(1)));
            if run[0].1 == 0 && (1.0 - rate).powf(asked as f64) < 1e-4 {
                always_absent.push(places.start as i64 * step..places.end as i64 * step);
            }
        }
        Some(Habit { rates, always_absent })
    }

    /// How probable it is that a stretch of one session has no bar.
    fn chance_of_none(&self, day: &Day<'_>, stretch: &crate::Span, interval: Interval) -> f64 {
        let rate = |slot: i64| self.rates.get(bucket(day.session, slot)).copied().unwrap_or(1.0);
        let none = |slot: i64| if rate(slot) >= THIN { 0.0 } else { 1.0 - rate(slot) };
        (stretch.start.0..stretch.end.0).step_by(interval.step() as usize).map(none).product()
    }

    /// A stretch without the times of day that are always absent.
    fn usual(&self, day: &Day<'_>, stretch: crate::Span) -> Vec<crate::Span> {
        let open = day.session.open().0;
        let absent = self.always_absent.iter().map(|r| crate::Slot(open + r.start)..crate::Slot(open + r.end));
        only(std::iter::once(stretch), absent).collect()
    }
}

fn bucket(session: &Session, slot: i64) -> usize {
    ((slot - session.open().0).max(0) / BUCKET) as usize
}

#[cfg(test)]
#[path = "quiet_test.rs"]
mod tests;
