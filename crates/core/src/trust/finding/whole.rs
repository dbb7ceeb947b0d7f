//! Daily bars against what their own minutes make.

use super::{Check, Finding, Rule, Subject, days};
use crate::{Aligned, AlignedBar, Interval, Slot, agreement::Step};

/// Share of the days looked at beyond which it is not the days that are wrong but the two kinds of bars that differ.
const ALL_ALONG: f64 = 0.5;

/// Days whose bar differs from what its minutes make by more than `limit` ticks in a price.
///
/// Only sessions with every minute count. Volumes are not held against each
/// other: where a venue has auctions, the minutes need not have their volume.
pub(super) fn against_minutes(subject: &Subject<'_>, rule: Rule) -> Vec<Finding> {
    let (Some(minutes), Interval::Daily) = (subject.minutes, subject.interval) else { return vec![] };
    let price = subject.bars.price_scale.max(minutes.price_scale);
    let at = |bars: &Aligned| bars.rescaled(price, bars.volume_scale);
    let (Some(daily), Some(fine)) = (at(subject.bars), at(minutes)) else { return vec![] };
    let tick = subject.tick.and_then(|t| t.at_scale(price)).map_or(1, |t| t.mantissa);
    let apart = (rule.limit * tick as f64) as i64;
    let mut looked_at = 0;
    let mut found: Vec<(usize, String)> = vec![];
    let of_minutes = Subject { interval: Interval::MINUTE, bars: &fine, ..*subject };
    for day in days(&of_minutes) {
        let whole = Interval::MINUTE.count(day.session.slots(Interval::MINUTE)) == day.rows.len() as u64;
        let Ok(at) = daily.rows.binary_search_by_key(&day.session.date, |b| b.slot.date()) else { continue };
        if !whole {
            continue;
        }
        looked_at += 1;
        if let Some(detail) = contradiction(&daily, &daily.rows[at], &fine.rows[day.rows], apart) {
            found.push((at, detail));
        }
    }
    if found.len() > 3 && found.len() as f64 > ALL_ALONG * f64::from(looked_at) {
        let (first, last) = (found[0].0, found[found.len() - 1].0);
        let detail = format!("{} of {looked_at} daily bars are not what their minutes make: {}", found.len(), found[0].1);
        return vec![Finding { bars: found.len() as u64, ..subject.finding(Check::DailyAgainstMinutes, first..last + 1, detail) }];
    }
    found.into_iter().map(|(at, detail)| subject.finding(Check::DailyAgainstMinutes, at..at + 1, detail)).collect()
}

fn contradiction(digits: &Aligned, day: &AlignedBar, minutes: &[AlignedBar], apart: i64) -> Option<String> {
    let (first, last) = (minutes.first()?, minutes.last()?);
    let made = [
        ("open", day.open, first.open),
        ("high", day.high, minutes.iter().map(|m| m.high).max()?),
        ("low", day.low, minutes.iter().map(|m| m.low).min()?),
        ("close", day.close, last.close),
    ];
    let print = |p: i64| digits.price(p).to_string();
    let wrong = made.into_iter().find(|(_, day, minutes)| (day - minutes).abs() > apart);
    wrong.map(|(name, day, minutes)| format!("its {name} is {}, that of its minutes {}", print(day), print(minutes)))
}

/// Steps of adjusted prices beyond what the actions account for.
pub(super) fn unexplained(subject: &Subject<'_>, rule: Rule) -> Vec<Finding> {
    let beyond = subject.steps.iter().filter(|(step, _)| (step.theirs / step.ours - 1.0).abs() > rule.limit);
    let found = |(step, says): &(Step, String)| Finding {
        check: Check::UnexplainedStep,
        span: Slot::on(step.on)..Slot::on(step.on.plus(1)),
        bars: 1,
        detail: says.clone(),
    };
    beyond.map(found).collect()
}
