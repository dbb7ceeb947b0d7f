//! Our corporate actions held against a source that publishes adjusted prices.
//!
//! What a source tells of a date, over what was paid then, is the product of the factors of the actions after it that the source knew when it
//! was asked. Divided by ours, it should be one. Where it steps from one session to the next, an action is missing on one side, or differs: the
//! step is their factor over ours. A step counts when what follows it stays: a misprinted close makes none. One that is undone within two
//! sessions counts where an action of ours would do just that, if it counted on another of these: its date is wrong on one side.

use crate::{decimal::Decimal, time::TradeDate};

/// A close as a source tells it, adjusted.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct ToldClose {
    /// Its trade date.
    pub date: TradeDate,
    /// The day on which the source told it so: it is adjusted for what was known then.
    pub learned: TradeDate,
    /// The close.
    pub close: Decimal,
}

/// An action of ours: the session at which it counts, and what prices before it are multiplied by.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Ours {
    /// The session.
    pub counts_on: TradeDate,
    /// The factor.
    pub factor: f64,
}

/// A step that our actions do not account for.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Step {
    /// The last session before it.
    pub before: TradeDate,
    /// The first session after it.
    pub on: TradeDate,
    /// The close before it, as traded.
    pub close: Decimal,
    /// What the source multiplies prices before it by.
    pub theirs: f64,
    /// What we do, by all actions between the two sessions.
    pub ours: f64,
    /// The session from which on both do the same again, where it is an action that they let count on different dates.
    pub until: Option<TradeDate>,
}

/// How a source's adjusted closes agree with ours.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Agreement {
    /// Sessions that both have.
    pub sessions: u64,
    /// Steps that are not accounted for, in order.
    pub steps: Vec<Step>,
}

/// Sessions on each side of a step that must agree with each other.
const STAYS: usize = 3;

/// Holds adjusted closes against those that were traded; both in order of their dates, `ours` too.
///
/// ```
/// use mizuno_core::{Decimal, TradeDate, agreement::{Ours, ToldClose, agreement}};
/// let close = |text: &str| text.parse::<Decimal>().unwrap();
/// let date = |n: i32| TradeDate(20_180 + n);
/// let traded: Vec<_> = (0..8).map(|n| (date(n), close(if n < 4 { "2.00" } else { "1.90" }))).collect();
/// // The source takes out a dividend of 0.10 with the ex-date of the fifth session; we know of none.
/// let told: Vec<_> = (0..8).map(|n| ToldClose { date: date(n), learned: date(9), close: close("1.90") }).collect();
/// let found = agreement(&traded, &told, &[]);
/// assert_eq!((found.sessions, found.steps.len(), found.steps[0].on), (8, 1, date(4)));
/// assert!((found.steps[0].theirs - 0.95).abs() < 1e-9);
/// let known = [Ours { counts_on: date(4), factor: 0.95 }];
/// assert!(agreement(&traded, &told, &known).steps.is_empty());
/// ```
#[must_use]
pub fn agreement(traded: &[(TradeDate, Decimal)], told: &[ToldClose], ours: &[Ours]) -> Agreement {
    let taken_out = |date: TradeDate, learned: TradeDate| -> f64 {
        ours.iter().filter(|o| date < o.counts_on && o.counts_on <= learned).map(|o| o.factor).product()
    };
    let mut both: Vec<Point> = vec![];
    for told in told {
        let Ok(at) = traded.binary_search_by_key(&told.date, |(date, _)| *date) else { continue };
        let (was, is) = (traded[at].1.to_f64(), told.close.to_f64());
        if was <= 0.0 || is <= 0.0 {
            continue;
        }
        // The source rounds to its last digit.
        let unit = 10f64.powi(-i32::from(told.close.scale));
        let shift = (is / was / taken_out(told.date, told.learned)).ln();
        both.push(Point { date: told.date, close: traded[at].1, shift, room: unit / is * 0.5 + 1e-9 });
    }
    let mut steps = vec![];
    for at in 1..both.len() {
        let (before, after) = (&both[at.saturating_sub(STAYS)..at], &both[at..(at + STAYS).min(both.len())]);
        let (last, first) = (&before[before.len() - 1], &after[0]);
        let apart = before.iter().all(|b| after.iter().all(|a| !b.is_as(a)));
        let together = |points: &[Point]| points.iter().all(|p| p.is_as(&points[0]));
        if !apart || !together(before) || !together(after) {
            continue;
        }
        // Between several closes on each side less is lost to rounding than between two.
        let mean = |points: &[Point]| points.iter().map(|p| p.shift).sum::<f64>() / points.len() as f64;
        let own: f64 = ours.iter().filter(|o| last.date < o.counts_on && o.counts_on <= first.date).map(|o| o.factor).product();
        let theirs = (mean(before) - mean(after)).exp() * own;
        steps.push(Step { before: last.date, on: first.date, close: last.close, theirs, ours: own, until: None });
    }
    steps.extend(ours.iter().filter_map(|action| moved(&both, action)));
    steps.sort_by_key(|step| step.on);
    Agreement { sessions: both.len() as u64, steps }
}

/// An action that the source lets count a session or two sooner or later than we do.
fn moved(both: &[Point], action: &Ours) -> Option<Step> {
    let (at, factor) = (both.partition_point(|p| p.date < action.counts_on), action.factor.ln());
    // Whether the sessions of a run are apart by so much, and those on both sides of it are as one.
    let is_run = |from: usize, to: usize, by: f64| {
        let (before, after) = (&both[from.saturating_sub(STAYS)..from], &both[to..(to + STAYS).min(both.len())]);
        let Some(base) = after.first().filter(|_| !before.is_empty()) else { return false };
        let is_apart = |p: &Point| !p.is_as(base) && Point { shift: p.shift - by, ..*p }.is_as(base);
        before.iter().chain(after).all(|p| p.is_as(base)) && both[from..to].iter().all(is_apart)
    };
    let step = |on: usize, theirs: f64, ours: f64, until: TradeDate| {
        let before = &both[on - 1];
        Step { before: before.date, on: both[on].date, close: before.close, theirs, ours, until: Some(until) }
    };
    (1..STAYS).find_map(|count| match () {
        () if at > count && is_run(at - count, at, -factor) => Some(step(at - count, action.factor, 1.0, action.counts_on)),
        () if at > 0 && at + count < both.len() && is_run(at, at + count, factor) => {
            Some(step(at, 1.0, action.factor, both[at + count].date))
        }
        () => None,
    })
}

/// A session that both have.
#[derive(Clone, Copy)]
struct Point {
    date: TradeDate,
    close: Decimal,
    /// The logarithm of what the source multiplies by, over what we do.
    shift: f64,
    /// How far rounding may have moved it.
    room: f64,
}

impl Point {
    fn is_as(&self, other: &Point) -> bool {
        (self.shift - other.shift).abs() <= self.room + other.room
    }
}

impl Step {
    /// The dividend for each share that would have such a factor, to three significant digits; `None` where it would be none.
    #[must_use]
    pub fn as_dividend(&self) -> Option<f64> {
        let amount = self.close.to_f64() * (1.0 - self.theirs);
        (amount > 0.0 && self.theirs > 0.0).then(|| {
            let places = 10f64.powi(2 - amount.log10().floor() as i32);
            (amount * places).round() / places
        })
    }

    /// New shares for old ones that would have such a factor, of small numbers only; `None` where none do.
    #[must_use]
    pub fn as_split(&self) -> Option<(u32, u32)> {
        let near = |new: u32, old: u32| (self.theirs * f64::from(new) / f64::from(old) - 1.0).abs() < 2e-3;
        let pairs = (1..=20).flat_map(|new| (1..=20).map(move |old| (new, old)));
        pairs.filter(|(new, old)| new != old && (*new <= 3 || *old <= 3)).find(|(new, old)| near(*new, *old))
    }
}

impl Step {
    /// The number of shares for which one more is handed out that would have such a factor, up to 20; `None` where there is none.
    #[must_use]
    pub fn as_bonus(&self) -> Option<u32> {
        (2..=20).find(|held| (self.theirs * f64::from(held + 1) / f64::from(*held) - 1.0).abs() < 3e-4)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn date(n: usize) -> TradeDate {
        TradeDate(20_000 + n as i32)
    }

    /// Closes as traded, in cents, and as a source tells them that knows `theirs` and was asked on the last day; to four decimals.
    fn world(closes: &[i64], theirs: &[Ours]) -> (Vec<(TradeDate, Decimal)>, Vec<ToldClose>) {
        let traded: Vec<_> = closes.iter().enumerate().map(|(n, c)| (date(n), Decimal { mantissa: *c, scale: 2 })).collect();
        let told = |(on, close): &(TradeDate, Decimal)| {
            let factor: f64 = theirs.iter().filter(|o| *on < o.counts_on).map(|o| o.factor).product();
            let mantissa = (close.to_f64() * factor * 1e4).round() as i64;
            ToldClose { date: *on, learned: date(closes.len()), close: Decimal { mantissa, scale: 4 } }
        };
        (traded.clone(), traded.iter().map(told).collect())
    }

    fn walk() -> impl Strategy<Value = Vec<i64>> {
        (500i64..5_000, prop::collection::vec(-20i64..20, 40)).prop_map(|(start, moves)| {
            let step = |at: &mut i64, by: i64| {
                *at = (*at + by).max(300);
                Some(*at)
            };
            moves.into_iter().scan(start, step).collect()
        })
    }

    proptest! {
        #[test]
        fn who_knows_the_same_agrees(closes in walk(), on in 5usize..35, factor in 0.2f64..0.98) {
            let known = [Ours { counts_on: date(on), factor }];
            let (traded, told) = world(&closes, &known);
            prop_assert_eq!(agreement(&traded, &told, &known).steps, vec![]);
        }

        #[test]
        fn what_one_side_lacks_is_found_with_its_day_and_factor(closes in walk(), on in 5usize..35, factor in 0.2f64..0.97, we in any::<bool>()) {
            let one = [Ours { counts_on: date(on), factor }];
            let (theirs, ours): (&[Ours], &[Ours]) = if we { (&[], &one) } else { (&one, &[]) };
            let (traded, told) = world(&closes, theirs);
            let steps = agreement(&traded, &told, ours).steps;
            prop_assert_eq!(steps.len(), 1);
            prop_assert_eq!((steps[0].before, steps[0].on), (date(on - 1), date(on)));
            let (wanted_theirs, wanted_ours) = if we { (1.0, factor) } else { (factor, 1.0) };
            prop_assert!((steps[0].theirs / wanted_theirs - 1.0).abs() < 1e-3 && (steps[0].ours - wanted_ours).abs() < 1e-12);
        }

        #[test]
        fn an_action_that_counts_on_another_session_is_found_and_what_is_older_agrees(
            closes in walk(),
            on in 8usize..32,
            by in 1usize..5,
            sooner in any::<bool>(),
            factor in 0.2f64..0.97,
        ) {
            let one = |counts_on: usize| Ours { counts_on: date(counts_on), factor };
            let (theirs, ours) = if sooner { (on, on + by) } else { (on + by, on) };
            let (traded, told) = world(&closes, &[one(theirs)]);
            let steps = agreement(&traded, &told, &[one(ours)]).steps;
            let found: Vec<_> = steps.iter().map(|s| (s.on, s.until)).collect();
            // What lasts three sessions is a step that stays, and another one back.
            let wanted = if by < STAYS { vec![(date(on), Some(date(on + by)))] } else { vec![(date(on), None), (date(on + by), None)] };
            prop_assert_eq!(found, wanted);
            let (here, there) = if sooner { (factor, 1.0) } else { (1.0, factor) };
            prop_assert!((steps[0].theirs / here - 1.0).abs() < 1e-3 && (steps[0].ours - there).abs() < 1e-12);
        }

        #[test]
        fn a_misprinted_close_is_no_step(closes in walk(), at in 5usize..35) {
            let (traded, mut told) = world(&closes, &[]);
            told[at].close.mantissa *= 10;
            prop_assert_eq!(agreement(&traded, &told, &[]).steps, vec![]);
        }
    }

    #[test]
    fn a_step_says_what_would_explain_it() {
        let step =
            |theirs: f64| Step { before: date(0), on: date(1), close: Decimal { mantissa: 208, scale: 2 }, theirs, ours: 1.0, until: None };
        assert_eq!((step(0.25).as_split(), step(1.0 / 1.5).as_split(), step(0.942_307_7).as_split()), (Some((4, 1)), Some((3, 2)), None));
        assert_eq!((step(0.942_307_7).as_dividend(), step(1.1).as_dividend()), (Some(0.12), None));
        assert_eq!(step(10.0).as_split(), Some((1, 10)));
        assert_eq!((step(0.908_99).as_bonus(), step(0.942_307_7).as_bonus()), (Some(10), None));
    }

    #[test]
    fn what_was_told_before_an_action_is_not_adjusted_for_it() {
        let known = [Ours { counts_on: date(20), factor: 0.5 }];
        let (traded, mut told) = world(&(0..40).map(|n| 2_000 + n).collect::<Vec<_>>(), &known);
        // The first ten were told before the action, as traded.
        for told in &mut told[..10] {
            told.learned = date(12);
            told.close = Decimal { mantissa: told.close.mantissa * 2, scale: 4 };
        }
        assert_eq!(agreement(&traded, &told, &known).steps, []);
    }
}
