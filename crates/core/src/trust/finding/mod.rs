//! What a check notices about bars that could be true: findings.
//!
//! Findings are computed from the bars each time somebody looks, like gaps,
//! and never stored. [`Check::ALL`] lists the checks; each stands in a file
//! beside this one and looks at a [`Subject`] under a [`Rule`]. Medians and
//! median absolute deviations decide, so that what is wrong does not hide
//! itself by moving the standard it is held against.

mod prices;
pub mod robust;
mod rules;
mod stamps;
mod volumes;
mod whole;

pub use rules::{Check, Rule, Rules, Severity};

use crate::{Aligned, Calendar, Decimal, Interval, Session, Slot, Span, Spans, TradeDate, agreement::Step};
use std::ops::Range;

/// Something a check noticed about a bar or a stretch of bars.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// The check.
    pub check: Check,
    /// From the first bar it is about to the end of the last.
    pub span: Span,
    /// How many bars it is about.
    pub bars: u64,
    /// The figures that gave it away, in a sentence.
    pub detail: String,
}

/// One series, and all that the checks need to know of it.
#[derive(Clone, Copy, Debug)]
pub struct Subject<'a> {
    /// The length of its bars.
    pub interval: Interval,
    /// The sessions of its venue.
    pub calendar: &'a Calendar,
    /// Its bars, in slot order.
    pub bars: &'a Aligned,
    /// The smallest step of its prices; `None` where they need not be on a grid, as when they are adjusted.
    pub tick: Option<Decimal>,
    /// The smallest step of its volumes in shares or contracts; above 1, small volumes are rounded to nothing.
    pub lot: i64,
    /// Splits that must show in its prices; none where the source takes them out.
    pub splits: &'a [Split],
    /// Whether the splits are known at all, so that a jump without one says something.
    pub splits_known: bool,
    /// Stamps that fell into closed hours and were refused, in order.
    pub refused: &'a [Slot],
    /// The minutes of the same source, on the same basis, to hold daily bars against.
    pub minutes: Option<&'a Aligned>,
    /// Where its adjusted prices step and the corporate actions do not account for it, each with what it says in a sentence.
    pub steps: &'a [(Step, String)],
}

/// One share became several, or several one.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Split {
    /// The first trade date on the new basis.
    pub ex_date: TradeDate,
    /// So many new shares ...
    pub new: i64,
    /// ... for so many old ones.
    pub old: i64,
}

impl Split {
    /// New shares for old ones in lowest terms: 4 for 2 is 2 for 1, and 1.5 for 1 is 3 for 2.
    ///
    /// ```
    /// use mizuno_core::finding::Split;
    /// let ratio = |new: &str, old: &str| Split::ratio(new.parse().unwrap(), old.parse().unwrap());
    /// assert_eq!(ratio("4", "2"), Some((2, 1)));
    /// assert_eq!(ratio("1.5", "1"), Some((3, 2)));
    /// assert_eq!(ratio("0", "1"), None);
    /// ```
    #[must_use]
    pub fn ratio(new: Decimal, old: Decimal) -> Option<(i64, i64)> {
        let scale = new.scale.max(old.scale);
        let (mut a, mut b) = (new.units(scale), old.units(scale));
        let (new, old) = (a, b);
        while b != 0 {
            (a, b) = (b, a % b);
        }
        let in_bounds = |n: i128| i64::try_from(n / a).ok().filter(|n| (1..1_000_000).contains(n));
        if new <= 0 || old <= 0 { None } else { Some((in_bounds(new)?, in_bounds(old)?)) }
    }
}

/// Everything the checks that are switched on find, in time order.
#[must_use]
pub fn find(subject: &Subject<'_>, rules: &Rules) -> Vec<Finding> {
    let days = days(subject);
    let mut out = vec![];
    for check in Check::ALL {
        let Some(rule) = rules.of(check) else { continue };
        out.extend(match check {
            Check::Spike => prices::spikes(subject, rule),
            Check::SplitLikeJump => prices::jumps(subject, &days, rule),
            Check::Flat => prices::flats(subject, rule),
            Check::OffTick => prices::off_tick(subject, rule),
            Check::VolumeFactor => volumes::factors(subject, &days, rule),
            Check::SilentMove => volumes::silent_moves(subject, rule),
            Check::ShiftedHour | Check::ShiftedBar => stamps::shifted(check, subject, &days, rule),
            Check::ClosedMarket => stamps::in_closed_hours(subject, &days, rule),
            Check::SessionEdge => stamps::edges(subject, &days, rule),
            Check::DailyAgainstMinutes => whole::against_minutes(subject, rule),
            Check::UnexplainedStep => whole::unexplained(subject, rule),
        });
    }
    out.sort_by_key(|f| (f.span.start, f.check));
    out
}

/// The slots of bars that findings cast doubt on: another source's bar is preferred there.
#[must_use]
pub fn doubted<'f>(findings: impl IntoIterator<Item = &'f Finding>) -> Spans {
    findings.into_iter().filter(|f| f.check.severity() == Severity::Doubt).map(|f| f.span.clone()).collect()
}

/// The bars of one session, by their places.
pub(crate) struct Day<'a> {
    pub session: &'a Session,
    pub rows: Range<usize>,
}

/// The sessions that have bars, in order.
fn days<'a>(subject: &Subject<'a>) -> Vec<Day<'a>> {
    let rows = &subject.bars.rows;
    let (Some(first), sessions) = (rows.first(), subject.calendar.sessions()) else { return vec![] };
    let mut out = vec![];
    if !subject.interval.is_intraday() {
        let mut at = sessions.partition_point(|s| s.date < first.slot.date());
        for (i, bar) in rows.iter().enumerate() {
            while sessions.get(at).is_some_and(|s| s.date < bar.slot.date()) {
                at += 1;
            }
            let Some(session) = sessions.get(at) else { break };
            if session.date == bar.slot.date() {
                out.push(Day { session, rows: i..i + 1 });
            }
        }
        return out;
    }
    let mut i = 0;
    let from = sessions.partition_point(|s| s.close() <= first.slot.instant());
    for session in &sessions[from..] {
        i += rows[i..].partition_point(|b| b.slot.instant() < session.open());
        let end = i + rows[i..].partition_point(|b| b.slot.instant() < session.close());
        if i < end {
            out.push(Day { session, rows: i..end });
        }
        i = end;
        if i == rows.len() {
            break;
        }
    }
    out
}

impl Subject<'_> {
    /// One finding about the bars in `rows`, by their places.
    fn finding(&self, check: Check, rows: Range<usize>, detail: String) -> Finding {
        let all = &self.bars.rows[rows];
        let (first, last) = (all[0].slot, all[all.len() - 1].slot);
        Finding { check, span: first..self.interval.span_of(last).end, bars: all.len() as u64, detail }
    }

    /// Findings about the marked bars, neighbours together; `detail` tells of a stretch.
    fn stretches(&self, check: Check, marked: &[usize], detail: impl Fn(Range<usize>) -> String) -> Vec<Finding> {
        let stretch = |group: &[usize]| group[0]..group[group.len() - 1] + 1;
        marked.chunk_by(|a, b| a + 1 == *b).map(stretch).map(|rows| self.finding(check, rows.clone(), detail(rows))).collect()
    }

    /// A price as it is printed.
    fn print(&self, price: i64) -> String {
        self.bars.price(price).to_string()
    }
}

#[cfg(test)]
#[path = "finding_test.rs"]
mod tests;
