//! The one equation: what to ask for, and in which windows.
//!
//! ```text
//! missing = expected − held − excused
//! plan    = (missing ∪ second look) ∩ reach, cut into the windows a source accepts
//! ```
//!
//! First load, nightly increment, backfill, repair and recovery after a crash
//! call [`plan`] and [`windows`] with other arguments; nothing else decides
//! what to fetch.

use crate::{
    calendar::{Calendar, Session},
    gap::{Asked, Outcome},
    interval::Interval,
    slot::{Slot, Span},
    spans::{Spans, difference, hull, intersection, union},
    standing::Standing,
    time::{Timestamp, TradeDate},
};

/// The slots to ask for: `(missing ∪ second look) ∩ reach`, where the second
/// look is taken only at slots that are expected.
///
/// `reach` is what the source can be asked for at this moment: not older than
/// its depth, not younger than its delay, and not what it answered without
/// only just now (see [`crate::gap::resting`]).
///
/// ```
/// use mizuno_core::{Slot, Spans, plan::plan, standing::Standing};
/// let spans = |all: &[(i64, i64)]| all.iter().map(|(a, b)| Slot(*a)..Slot(*b)).collect::<Spans>();
/// let standing = Standing { expected: spans(&[(0, 10)]), held: spans(&[(2, 10)]), excused: Spans::new() };
/// // The first two are missing; the last is looked at again; the very first is beyond reach.
/// assert_eq!(plan(&standing, &spans(&[(9, 10)]), &spans(&[(1, 10)])), spans(&[(1, 2), (9, 10)]));
/// ```
#[must_use]
pub fn plan(standing: &Standing, second_look: &Spans, reach: &Spans) -> Spans {
    let again = difference(&intersection(&standing.expected, second_look), &standing.excused);
    intersection(&union(&standing.missing(), &again), reach)
}

/// The most one request may span.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MaxSpan {
    /// This many calendar days of trade dates, first and last included; at least 1.
    Days(u32),
    /// This many slots from the first asked for to the last, both included; at least 1.
    Slots(u32),
}

/// Cuts `plan` into windows, in time order.
///
/// The windows never overlap, none spans more than `max`, and the expected
/// slots they contain are exactly those of `plan`: a window runs over closed
/// hours, never over a slot that was not to be asked for.
#[must_use]
pub fn windows(calendar: &Calendar, interval: Interval, expected: &Spans, plan: &Spans, max: MaxSpan) -> Vec<Span> {
    let Some(all) = hull(plan) else { return vec![] };
    let mut out: Vec<Window> = vec![];
    for session in sessions_over(calendar, interval, &all) {
        for piece in pieces(session, interval, plan, max) {
            match out.last_mut() {
                Some(window) if window.takes(session.date, &piece, interval, expected, max) => window.span.end = piece.end,
                _ => out.push(Window { first: session.date, span: piece }),
            }
        }
    }
    out.into_iter().map(|w| w.span).collect()
}

struct Window {
    first: TradeDate,
    span: Span,
}

impl Window {
    fn takes(&self, date: TradeDate, piece: &Span, interval: Interval, expected: &Spans, max: MaxSpan) -> bool {
        let fits = match max {
            MaxSpan::Days(days) => i64::from(date.0 - self.first.0) < i64::from(days),
            MaxSpan::Slots(slots) => slots_across(&(self.span.start..piece.end), interval) <= i64::from(slots),
        };
        let between = self.span.end..piece.start;
        fits && (between.is_empty() || !expected.overlaps(&between))
    }
}

fn slots_across(span: &Span, interval: Interval) -> i64 {
    (span.end.0 - span.start.0 + interval.step() - 1) / interval.step()
}

/// The parts of `plan` in one session, none longer than `max`.
fn pieces(session: &Session, interval: Interval, plan: &Spans, max: MaxSpan) -> Vec<Span> {
    let slots = session.slots(interval);
    let mut out = vec![];
    for span in slots.iter().flat_map(|stretch| plan.within(stretch)) {
        match max {
            MaxSpan::Days(_) => out.push(span),
            MaxSpan::Slots(most) => {
                let length = i64::from(most.max(1)) * interval.step();
                let starts = (span.start.0..span.end.0).step_by(length as usize);
                out.extend(starts.map(|s| Slot(s)..Slot((s + length).min(span.end.0))));
            }
        }
    }
    out
}

fn sessions_over<'c>(calendar: &'c Calendar, interval: Interval, span: &Span) -> &'c [Session] {
    let all = calendar.sessions();
    let (from, to) = match interval {
        Interval::Daily => (all.partition_point(|s| Slot::on(s.date) < span.start), all.partition_point(|s| Slot::on(s.date) < span.end)),
        Interval::Intraday { .. } => {
            (all.partition_point(|s| Slot::at(s.close()) <= span.start), all.partition_point(|s| Slot::at(s.open()) < span.end))
        }
    };
    &all[from..to.max(from)]
}

/// The slots that deserve a second look: those of the last `sessions` closed
/// sessions at `now`, but for what has been asked for, with an answer, since the newest of them
/// was published, `delay` microseconds after its close. So each close brings
/// one look, however often a collector runs, and a bar is looked at again
/// after each of the `sessions` closes that follow it.
#[must_use]
pub fn second_look(calendar: &Calendar, interval: Interval, sessions: u32, asked: &[Asked], now: Timestamp, delay: i64) -> Spans {
    let all = calendar.sessions();
    let published = |s: &Session| s.close().plus(delay);
    let closed = all.partition_point(|s| published(s) <= now);
    let recent = &all[closed.saturating_sub(sessions as usize)..closed];
    let Some(newest) = recent.last().map(published) else { return Spans::new() };
    let slots: Spans = recent.iter().flat_map(|s| s.slots(interval)).collect();
    let since = |a: &&Asked| a.outcome != Outcome::Failed && a.sent >= newest;
    difference(&slots, &asked.iter().filter(since).map(|a| a.window.clone()).collect())
}

/// How far a source's answers go, at one moment.
#[derive(Clone, Copy, Debug)]
pub struct Reach {
    /// Calendar days of history before today; `None` for all there is.
    pub depth_days: Option<u32>,
    /// How long after a bar is finished the source has it, in microseconds.
    pub delay: i64,
}

impl Reach {
    /// The span of slots the source can be asked for at `now`, by the date on the wall in `zone`.
    #[must_use]
    pub fn span(&self, calendar: &Calendar, zone: &jiff::tz::TimeZone, interval: Interval, now: Timestamp) -> Span {
        let end = calendar.due_until(interval, now, self.delay);
        let start = match self.depth_days {
            None => Slot(i64::MIN),
            Some(days) => {
                let first = now.date_in(zone).plus(-(days.min(1_000_000) as i32));
                match interval {
                    Interval::Daily => Slot::on(first),
                    Interval::Intraday { .. } => Slot::at(crate::calendar::on_the_wall(zone, first, jiff::civil::Time::midnight())),
                }
            }
        };
        start..end.max(start)
    }
}

#[cfg(test)]
#[path = "plan_test.rs"]
mod tests;
