//! Made-up series with known faults, to measure the checks on.
//!
//! A specimen is clean (its volatility comes in clusters, some days are three
//! times as wild as others, volumes are noisy, some instruments trade rarely)
//! or has one fault planted in a known place. [`measure`] runs every check over
//! many of both and counts what was found, missed and invented.

use mizuno_core::{
    Aligned, AlignedBar, Calendar, Decimal, Interval, Overlap, Session, Slot, Span,
    finding::{Check, Finding, Rules, Split, Subject, find},
};
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg64Mcg;

/// Sessions of daily bars in a specimen.
const DAYS: usize = 500;
/// Sessions of minute bars in one.
const SESSIONS: usize = 20;

/// A series, what is known of it, and where it is wrong.
#[derive(Clone, Debug)]
pub struct Specimen {
    interval: Interval,
    bars: Aligned,
    refused: Vec<Slot>,
    splits: Vec<Split>,
    minutes: Option<Aligned>,
    planted: Vec<(Check, Span)>,
}

/// How a check did.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Score {
    /// Faults planted for it.
    pub planted: u64,
    /// Of these, found.
    pub found: u64,
    /// Findings about bars that a fault was planted in.
    pub right: u64,
    /// Findings about sound bars.
    pub wrong: u64,
}

impl Score {
    /// The share of findings that are right.
    #[must_use]
    pub fn precision(&self) -> f64 {
        self.right as f64 / (self.right + self.wrong).max(1) as f64
    }

    /// The share of planted faults that are found.
    #[must_use]
    pub fn recall(&self) -> f64 {
        self.found as f64 / self.planted.max(1) as f64
    }
}

/// What a measurement gave.
#[derive(Clone, Debug)]
pub struct Measured {
    /// A score for each check.
    pub scores: Vec<(Check, Score)>,
    /// Bars in specimens without a fault.
    pub clean_bars: u64,
    /// Findings in these.
    pub false_alarms: u64,
    /// Findings about sound bars, with the check that the specimen had a fault for.
    pub invented: Vec<(Option<Check>, Finding)>,
}

/// The checks that look at a series by itself. What holds a source's adjusted prices against actions is measured by the answer key of
/// the demo.
fn planted() -> impl Iterator<Item = Check> {
    Check::ALL.into_iter().filter(|check| *check != Check::UnexplainedStep)
}

/// Runs the checks over `each` specimens with a fault for every check, and as many clean ones, all from `seed`.
#[must_use]
pub fn measure(seed: u64, each: usize, rules: &Rules) -> Measured {
    let market = crate::market::Market::aldermere(1);
    let calendar = market.calendar();
    let mut scores: Vec<(Check, Score)> = planted().map(|c| (c, Score::default())).collect();
    let (mut clean_bars, mut false_alarms, mut invented) = (0, 0, vec![]);
    for (kind, planted) in planted().map(Some).chain([None]).enumerate() {
        for n in 0..each {
            let mut dice = Pcg64Mcg::seed_from_u64(seed ^ ((kind as u64) << 32) ^ (n as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15));
            let mut specimen = Specimen::clean(&mut dice, calendar, planted);
            if let Some(check) = planted {
                specimen.spoil(&mut dice, calendar, check);
            } else {
                clean_bars += specimen.bars.rows.len() as u64;
            }
            let found = specimen.examine(calendar, rules);
            false_alarms += if planted.is_none() { found.len() as u64 } else { 0 };
            for (check, score) in &mut scores {
                specimen.count(*check, &found, score);
            }
            invented.extend(found.into_iter().filter(|f| !specimen.is_about_a_fault(f)).map(|f| (planted, f)));
        }
    }
    Measured { scores, clean_bars, false_alarms, invented }
}

impl Specimen {
    fn count(&self, check: Check, found: &[Finding], score: &mut Score) {
        let mine: Vec<&Finding> = found.iter().filter(|f| f.check == check).collect();
        for (_, span) in self.planted.iter().filter(|p| p.0 == check) {
            score.planted += 1;
            score.found += u64::from(mine.iter().any(|f| f.span.overlaps(span)));
        }
        for finding in mine {
            if self.is_about_a_fault(finding) { score.right += 1 } else { score.wrong += 1 }
        }
    }

    /// A finding of another kind about a spoiled bar is no invention.
    fn is_about_a_fault(&self, finding: &Finding) -> bool {
        self.planted.iter().any(|(_, span)| finding.span.overlaps(span))
    }

    fn examine(&self, calendar: &Calendar, rules: &Rules) -> Vec<Finding> {
        let subject = Subject {
            interval: self.interval,
            calendar,
            bars: &self.bars,
            tick: Some(Decimal { mantissa: 1, scale: 2 }),
            lot: 1,
            splits: &self.splits,
            splits_known: true,
            refused: &self.refused,
            minutes: self.minutes.as_ref(),
            steps: &[],
        };
        find(&subject, rules)
    }

    /// A sound series of a kind that `check` looks at.
    fn clean(dice: &mut Pcg64Mcg, calendar: &Calendar, check: Option<Check>) -> Specimen {
        let last = dice.random_range(2300..2700);
        let intraday = match check {
            Some(Check::ShiftedHour | Check::ShiftedBar | Check::SessionEdge) => true,
            Some(Check::DailyAgainstMinutes) => false,
            _ => dice.random_bool(0.5),
        };
        let sessions = &calendar.sessions()[last - if intraday { SESSIONS } else { DAYS }..last];
        // What falls outside a session, or is missing at its edge, shows only where most minutes have a trade.
        let liquid = check.is_some() || !intraday;
        let mut walk = Walk::new(dice, liquid);
        if check == Some(Check::Flat) {
            // Bars that stand still can be told only in a series whose price is many ticks.
            (walk.start, walk.a_day) = (dice.random_range(25.0..80.0), dice.random_range(0.015..0.028));
        }
        if intraday {
            let bars = walk.minutes(dice, sessions);
            return Specimen { interval: Interval::MINUTE, bars, refused: vec![], splits: vec![], minutes: None, planted: vec![] };
        }
        let minutes = walk.minutes(dice, &sessions[DAYS - SESSIONS..]);
        let mut bars = walk.days(dice, &sessions[..DAYS - SESSIONS], minutes.rows.first().map_or(1000, |b| b.open));
        bars.rows.extend(sessions[DAYS - SESSIONS..].iter().filter_map(|s| whole(s, &minutes)));
        let mut out =
            Specimen { interval: Interval::Daily, bars, refused: vec![], splits: vec![], minutes: Some(minutes), planted: vec![] };
        // A stretch that stands still across a split would hide it.
        if check != Some(Check::Flat) && dice.random_bool(0.3) {
            // A split that is known, and shows.
            let at = dice.random_range(20..DAYS - SESSIONS - 20);
            let new = *[2, 3, 4].get(dice.random_range(0..3)).unwrap_or(&2);
            out.splits.push(Split { ex_date: out.bars.rows[at].slot.date(), new, old: 1 });
            for bar in &mut out.bars.rows[..at] {
                scale(bar, new as f64);
                bar.volume = bar.volume.map(|v| v / new + 1);
            }
        }
        out
    }

    /// Plants one fault.
    fn spoil(&mut self, dice: &mut Pcg64Mcg, calendar: &Calendar, check: Check) {
        let count = self.bars.rows.len();
        let at = dice.random_range(8..count - 8);
        let one =
            |bars: &Aligned, interval: Interval, from: usize, to: usize| bars.rows[from].slot..interval.span_of(bars.rows[to - 1].slot).end;
        let span = match check {
            Check::Spike => {
                let bar = &mut self.bars.rows[at];
                let by = if self.interval.is_intraday() { dice.random_range(0.06..0.6) } else { dice.random_range(0.3..0.8) };
                match dice.random_range(0..3) {
                    0 => bar.high = (bar.high as f64 * (1.0 + by)) as i64 + 1,
                    1 => bar.low = (bar.low as f64 * (1.0 - by)).max(1.0) as i64,
                    _ => {
                        bar.close = (bar.close as f64 * (1.0 + by)) as i64 + 1;
                        bar.high = bar.high.max(bar.close);
                    }
                }
                one(&self.bars, self.interval, at, at + 1)
            }
            Check::SplitLikeJump => self.jump(dice, calendar),
            Check::Flat => {
                let long = dice.random_range(8..25).min(count - at - 1);
                let price = self.bars.rows[at - 1].close;
                for bar in &mut self.bars.rows[at..at + long] {
                    *bar = AlignedBar { open: price, high: price, low: price, close: price, ..*bar };
                }
                one(&self.bars, self.interval, at, at + long)
            }
            Check::OffTick => {
                let long = dice.random_range(1..5);
                if let Some(finer) = self.bars.rescaled(3, 0) {
                    self.bars = finer;
                }
                for bar in &mut self.bars.rows[at..at + long] {
                    let off = dice.random_range(1..10);
                    (bar.high, bar.close) = ((bar.high + 10), (bar.close + off));
                }
                one(&self.bars, self.interval, at, at + long)
            }
            Check::SilentMove => {
                let moving = (at..count).find(|i| self.bars.rows[*i].high > self.bars.rows[*i].low).unwrap_or(at);
                self.bars.rows[moving].volume = Some(0);
                one(&self.bars, self.interval, moving, moving + 1)
            }
            Check::VolumeFactor => {
                let sessions = self.sessions(calendar);
                let first = dice.random_range(3..sessions.len() - 6);
                let rows = sessions[first].1.start..sessions[first + dice.random_range(0..3)].1.end;
                let factor = 10i64.pow(dice.random_range(1..4));
                let mut volumes: Vec<i64> = self.bars.rows[rows.clone()].iter().filter_map(|b| b.volume).collect();
                volumes.sort_unstable();
                // Small volumes would round away.
                let more = dice.random_bool(0.5) || volumes[volumes.len() / 2] < 20 * factor;
                for bar in &mut self.bars.rows[rows.clone()] {
                    bar.volume = bar.volume.map(|v| if more { v * factor } else { (v / factor).max(1) });
                }
                one(&self.bars, self.interval, rows.start, rows.end)
            }
            Check::ShiftedHour => self.shift(dice, calendar, 3600 * mizuno_core::time::SECOND),
            Check::ShiftedBar => self.shift(dice, calendar, Interval::MINUTE.step()),
            Check::ClosedMarket => {
                let saturday = (0..7).map(|n| self.bars.rows[at].slot.0 + n * self.day()).find(|t| !self.open_on(calendar, *t));
                let first = saturday.unwrap_or(0);
                let long = if self.interval.is_intraday() { dice.random_range(10..60) } else { 1 };
                self.refused = (0..long).map(|n| Slot(first + n * self.interval.step())).collect();
                Slot(first)..Slot(first + long * self.interval.step())
            }
            Check::SessionEdge => {
                let sessions = self.sessions(calendar);
                let first = dice.random_range(1..sessions.len() - 12);
                let long = dice.random_range(6..11);
                let last = dice.random_bool(0.5);
                let edge = |s: &Session| if last { s.close().0 - Interval::MINUTE.step() } else { s.open().0 };
                let gone: Vec<i64> = sessions[first..first + long].iter().map(|(s, _)| edge(s)).collect();
                self.bars.rows.retain(|b| !gone.contains(&b.slot.0));
                Slot(gone[0])..Slot(gone[long - 1] + Interval::MINUTE.step())
            }
            Check::UnexplainedStep => return,
            Check::DailyAgainstMinutes => {
                let at = dice.random_range(count - SESSIONS..count);
                let bar = &mut self.bars.rows[at];
                let by = (bar.high / dice.random_range(30..200)).max(1);
                match dice.random_range(0..3) {
                    0 => bar.high += by,
                    1 => bar.low = (bar.low - by).max(1),
                    _ => {
                        bar.close += by;
                        bar.high = bar.high.max(bar.close);
                    }
                }
                one(&self.bars, self.interval, at, at + 1)
            }
        };
        self.planted.push((check, span));
    }

    fn day(&self) -> i64 {
        if self.interval.is_intraday() { mizuno_core::time::DAY } else { 1 }
    }

    fn open_on(&self, calendar: &Calendar, slot: i64) -> bool {
        let date = match self.interval.is_intraday() {
            true => Slot(slot).instant().date_in(&jiff::tz::TimeZone::get("Pacific/Auckland").unwrap_or(jiff::tz::TimeZone::UTC)),
            false => Slot(slot).date(),
        };
        calendar.session(date).is_some() || (self.interval.is_intraday() && calendar.session(date.plus(1)).is_some())
    }

    /// The sessions and the places of their bars.
    fn sessions<'c>(&self, calendar: &'c Calendar) -> Vec<(&'c Session, std::ops::Range<usize>)> {
        let mut out: Vec<(&Session, std::ops::Range<usize>)> = vec![];
        for (i, bar) in self.bars.rows.iter().enumerate() {
            let Some(session) = calendar.session_of(self.interval, bar.slot) else { continue };
            match out.last_mut() {
                Some((last, rows)) if last.date == session.date => rows.end = i + 1,
                _ => out.push((session, i..i + 1)),
            }
        }
        out
    }

    /// A split that nobody knows of, or one that is known and does not show.
    fn jump(&mut self, dice: &mut Pcg64Mcg, calendar: &Calendar) -> Span {
        self.minutes = None;
        let sessions = self.sessions(calendar);
        let at = dice.random_range(4..sessions.len() - 4);
        let (date, first) = (sessions[at].0.date, sessions[at].1.start);
        let (new, old) =
            *[(2, 1), (3, 1), (4, 1), (5, 1), (10, 1), (1, 5), (1, 10), (3, 2)].get(dice.random_range(0..8)).unwrap_or(&(2, 1));
        if dice.random_bool(0.3) {
            self.splits.push(Split { ex_date: date, new, old });
        } else {
            // What came before was so much dearer: there is room for digits above, not below.
            for bar in &mut self.bars.rows[..first] {
                scale(bar, new as f64 / old as f64);
            }
        }
        let slot = self.bars.rows[first].slot;
        self.interval.span_of(slot)
    }

    /// Moves a session's stamps; those that fall into closed hours are refused.
    fn shift(&mut self, dice: &mut Pcg64Mcg, calendar: &Calendar, by: i64) -> Span {
        let sessions = self.sessions(calendar);
        let (session, rows) = sessions[dice.random_range(0..sessions.len())].clone();
        let by = if dice.random_bool(0.5) { by } else { -by };
        let slots = session.slots(self.interval);
        let moved: Vec<AlignedBar> = self.bars.rows.drain(rows).map(|b| AlignedBar { slot: Slot(b.slot.0 + by), ..b }).collect();
        let (inside, outside): (Vec<AlignedBar>, Vec<AlignedBar>) = moved.into_iter().partition(|b| slots.contains(&b.slot));
        self.refused = outside.iter().map(|b| b.slot).collect();
        let span = inside[0].slot..Slot(inside[inside.len() - 1].slot.0 + self.interval.step());
        self.bars.rows.extend(inside);
        self.bars.rows.sort_by_key(|b| b.slot);
        span
    }
}

fn scale(bar: &mut AlignedBar, by: f64) {
    for price in [&mut bar.open, &mut bar.high, &mut bar.low, &mut bar.close] {
        *price = ((*price as f64 * by).round() as i64).max(1);
    }
}

/// The daily bar that a session's minutes make.
fn whole(session: &Session, minutes: &Aligned) -> Option<AlignedBar> {
    let of: Vec<&AlignedBar> =
        minutes.rows.iter().filter(|b| b.slot.instant() >= session.open() && b.slot.instant() < session.close()).collect();
    Some(AlignedBar {
        slot: Slot::on(session.date),
        open: of.first()?.open,
        high: of.iter().map(|b| b.high).max()?,
        low: of.iter().map(|b| b.low).min()?,
        close: of.last()?.close,
        volume: Some(of.iter().filter_map(|b| b.volume).sum()),
    })
}

/// How prices and volumes of one instrument move.
struct Walk {
    start: f64,
    a_day: f64,
    volume: f64,
    noise: f64,
    /// The share of minutes with a trade.
    rate: f64,
}

impl Walk {
    fn new(dice: &mut Pcg64Mcg, liquid: bool) -> Walk {
        Walk {
            start: dice.random_range(3.0..80.0),
            a_day: dice.random_range(0.008..0.028),
            volume: dice.random_range(9.0..12.5),
            noise: dice.random_range(0.1..0.25),
            rate: if liquid || dice.random_bool(0.7) { 1.0 } else { dice.random_range(0.05..0.8) },
        }
    }

    /// Daily bars that end near `close`, in hundredths.
    fn days(&self, dice: &mut Pcg64Mcg, sessions: &[Session], close: i64) -> Aligned {
        let mut log = (close as f64 / 100.0).ln();
        let (mut wild, mut busy) = (0.0f64, 0.0f64);
        let mut rows: Vec<AlignedBar> = vec![];
        // Backwards, so that the end is where the minutes begin.
        for session in sessions.iter().rev() {
            wild = 0.9 * wild + 0.25 * bell(dice);
            busy = 0.6 * busy + self.noise * 0.8 * bell(dice);
            let tail = if dice.random_bool(0.03) { 2.5 } else { 1.0 };
            let a_day = self.a_day * wild.clamp(-0.4, 0.4).exp() * tail;
            let open = log - a_day * 0.8 * bell(dice);
            let (top, bottom) = (log.max(open) + a_day * 0.5 * bell(dice).abs(), log.min(open) - a_day * 0.5 * bell(dice).abs());
            let cents = |log: f64| ((log.exp() * 100.0).round() as i64).max(1);
            let volume = (self.volume + busy + 0.2 * (tail - 1.0)).exp() as i64 + 1;
            rows.push(AlignedBar {
                slot: Slot::on(session.date),
                open: cents(open),
                high: cents(top),
                low: cents(bottom),
                close: cents(log),
                volume: Some(volume),
            });
            log = (open - a_day * 0.6 * bell(dice)).clamp(1f64.ln(), 2000f64.ln());
        }
        rows.reverse();
        Aligned { price_scale: 2, volume_scale: 0, rows }
    }

    /// Minute bars with a jump between sessions, busy at both ends.
    fn minutes(&self, dice: &mut Pcg64Mcg, sessions: &[Session]) -> Aligned {
        let mut log = self.start.ln();
        let a_minute = self.a_day / 19.0;
        let mut rows = vec![];
        for session in sessions {
            log += self.a_day * 0.6 * bell(dice);
            let (mut wild, busy) = (0.0f64, self.noise * bell(dice));
            let slots = session.slots(Interval::MINUTE);
            let all: Vec<i64> = slots.iter().flat_map(|s| (s.start.0..s.end.0).step_by(60_000_000)).collect();
            for (k, slot) in all.iter().enumerate() {
                wild = 0.95 * wild + 0.2 * bell(dice);
                let tail = if dice.random_bool(0.01) { 2.5 } else { 1.0 };
                let step = a_minute * wild.clamp(-0.4, 0.4).exp() * tail;
                let open = log;
                log = (log + step * bell(dice)).clamp(1f64.ln(), 2000f64.ln());
                let (top, bottom) = (log.max(open) + step * 0.4 * bell(dice).abs(), log.min(open) - step * 0.4 * bell(dice).abs());
                if !dice.random_bool(self.rate) {
                    continue;
                }
                let cents = |log: f64| ((log.exp() * 100.0).round() as i64).max(1);
                let edge = (k as f64 / all.len() as f64 - 0.5).abs() * 2.0;
                let volume = (self.volume - 5.5 + busy + edge * edge + 0.8 * bell(dice)).exp() as i64 + 1;
                rows.push(AlignedBar {
                    slot: Slot(*slot),
                    open: cents(open),
                    high: cents(top),
                    low: cents(bottom),
                    close: cents(log),
                    volume: Some(volume),
                });
            }
        }
        Aligned { price_scale: 2, volume_scale: 0, rows }
    }
}

/// Near enough to a normal variate.
fn bell(dice: &mut Pcg64Mcg) -> f64 {
    let sum: f64 = (0..12).map(|_| dice.random::<f64>()).sum();
    sum - 6.0
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_check_finds_what_is_planted_and_little_else() {
        let found = measure(20_250_410, 40, &Rules::default());
        for (check, score) in &found.scores {
            assert_eq!(score.planted, 40, "{check}");
            assert!(score.precision() >= 0.98 && score.recall() >= 0.95, "{check}: {score:?} {:#?}", found.invented);
        }
        assert!(found.false_alarms * 100_000 <= found.clean_bars, "{} in {} clean bars", found.false_alarms, found.clean_bars);
    }

    #[test]
    fn a_check_that_is_off_finds_nothing() {
        let mut rules = Rules::default();
        rules.set(Check::Spike, mizuno_core::finding::Rule { on: false, limit: 0.0 });
        let found = measure(7, 3, &rules);
        assert_eq!(found.scores[0], (Check::Spike, Score { planted: 3, found: 0, right: 0, wrong: 0 }));
        assert!(found.scores[2].1.found > 0);
    }
}
