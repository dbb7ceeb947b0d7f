//! Why the answer to one question differs between two instants.

use crate::{bar::Bar, basis::TakenOut, completeness::Completeness};
use num_rational::BigRational;

/// What brought a change about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ChangedBy {
    /// A bar that was learned, or restated.
    Bar,
    /// Another order of the sources, or another choice of them.
    Ranking,
    /// A check that found or no longer finds something, or a person who accepted it.
    Finding,
    /// A corporate action that was learned: prices are brought back otherwise.
    Action,
    /// The range, whose relative words mean other dates, or a slot that has become due.
    Range,
    /// The instruments that the question finds, the days on which they were members of its universe, or the contracts of a
    /// continuous series.
    Membership,
    /// Anything else in the configuration: a tick, a calendar, a zone.
    Configuration,
}

impl ChangedBy {
    /// All of them.
    pub const ALL: [ChangedBy; 7] = [
        ChangedBy::Bar,
        ChangedBy::Ranking,
        ChangedBy::Finding,
        ChangedBy::Action,
        ChangedBy::Range,
        ChangedBy::Membership,
        ChangedBy::Configuration,
    ];

    /// Its word in a file.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            ChangedBy::Bar => "bar",
            ChangedBy::Ranking => "ranking",
            ChangedBy::Finding => "finding",
            ChangedBy::Action => "action",
            ChangedBy::Range => "range",
            ChangedBy::Membership => "membership",
            ChangedBy::Configuration => "configuration",
        }
    }
}

/// What an answer had in one slot of one instrument, and what that followed from.
#[derive(Clone, Debug, Default)]
pub struct Standpoint<'a> {
    /// Whether the slot was asked for at all, and due.
    pub in_range: bool,
    /// Whether it lies in the range and outside the days on which the instrument was a member of the universe that was asked for.
    pub left_out: bool,
    /// Of a continuous series, its contract and what prices are joined by.
    pub leg: Option<String>,
    /// Whether the bar is the price of a delisting.
    pub is_delisting: bool,
    /// The bar that was served, and its source.
    pub bar: Option<(&'a Bar, &'a str)>,
    /// The sources that took part in that slot, best first.
    pub order: Vec<&'a str>,
    /// Those of them whose bar there was doubted.
    pub doubted: Vec<&'a str>,
    /// What the served source takes out of its prices, by which they were brought back.
    pub taken_out: &'a [TakenOut],
    /// What its prices and volumes were multiplied by.
    pub adjusted: Option<(&'a BigRational, &'a BigRational)>,
    /// Whether the bar was made of finer ones, adjusted before.
    pub made: bool,
    /// Where numbers are worked out of it and of bars before it: by what all bars of the series were multiplied.
    pub worked: Option<&'a str>,
    /// The text of the actions of that day, by its place.
    pub action: Option<u32>,
    /// Where the answer tells how complete a trade date is, its figures, and how many slots its calendar has, due or not.
    pub complete: Option<(u64, Completeness)>,
}

impl Standpoint<'_> {
    fn is_doubted(&self, source: &str) -> bool {
        self.doubted.contains(&source)
    }

    /// Whether `a` goes before `b`; `None` where one of them takes no part.
    fn before(&self, a: &str, b: &str) -> Option<bool> {
        let place = |name: &str| self.order.iter().position(|s| *s == name);
        Some(place(a)? < place(b)?)
    }
}

/// Why a slot that differs between two answers does so. Where several things changed, the one without which the old bar would stand.
///
/// ```
/// use mizuno_core::{Bar, Decimal, Slot, change::{ChangedBy, Standpoint, changed_by}};
/// let bar = |close: &str| Bar::new(Slot(20_188), [close; 4].map(|p| p.parse::<Decimal>().unwrap()), None);
/// let (worse, better) = (bar("7.50"), bar("7.55"));
/// let order = vec!["harbour", "lodestar"];
/// let then = Standpoint { in_range: true, bar: Some((&worse, "lodestar")), order: order.clone(), ..Standpoint::default() };
/// let now = Standpoint { in_range: true, bar: Some((&better, "harbour")), order, ..Standpoint::default() };
/// assert_eq!(changed_by(&then, &now), ChangedBy::Bar); // the better source has brought its bar
/// ```
#[must_use]
pub fn changed_by(then: &Standpoint<'_>, now: &Standpoint<'_>) -> ChangedBy {
    if then.in_range != now.in_range {
        return ChangedBy::Range;
    }
    if then.is_delisting || now.is_delisting {
        return ChangedBy::Action;
    }
    if then.left_out != now.left_out || then.leg != now.leg {
        return ChangedBy::Membership;
    }
    match (then.bar, now.bar) {
        (Some((was, from)), Some((is, to))) if from == to => match () {
            () if !was.is_printed_as(is) && then.taken_out != now.taken_out => ChangedBy::Action,
            () if now.made && then.adjusted != now.adjusted => ChangedBy::Action,
            () if !was.is_printed_as(is) => ChangedBy::Bar,
            () if then.adjusted != now.adjusted || then.action != now.action => ChangedBy::Action,
            () if then.taken_out != now.taken_out => ChangedBy::Action,
            () if then.is_doubted(to) != now.is_doubted(to) => ChangedBy::Finding,
            // What stands as it stood was worked out of bars before it that were adjusted otherwise, or of another bar.
            () if now.worked.is_some() && then.worked != now.worked => ChangedBy::Action,
            () if now.worked.is_some() => ChangedBy::Bar,
            () => beside_the_bar(then, now),
        },
        (Some((_, from)), Some((_, to))) => match (then.before(to, from), now.before(to, from)) {
            (Some(a), Some(b)) if a == b => {
                let other = |source: &str| then.is_doubted(source) != now.is_doubted(source);
                if other(from) || other(to) { ChangedBy::Finding } else { ChangedBy::Bar }
            }
            _ => ChangedBy::Ranking,
        },
        (None, Some((_, to))) if !then.order.contains(&to) => ChangedBy::Ranking,
        (Some((_, from)), None) if !now.order.contains(&from) => ChangedBy::Ranking,
        (None, None) => beside_the_bar(then, now),
        _ => ChangedBy::Bar,
    }
}

/// Why a row differs whose bar does not: other bars of its trade date have come, a person has accepted that they are absent, or more
/// of them are due.
fn beside_the_bar(then: &Standpoint<'_>, now: &Standpoint<'_>) -> ChangedBy {
    let Some(((slots_then, was), (slots_now, is))) = then.complete.zip(now.complete) else { return ChangedBy::Configuration };
    match () {
        () if slots_then != slots_now => ChangedBy::Configuration,
        () if (was.held, was.quiet) != (is.held, is.quiet) => ChangedBy::Bar,
        () if was.excused != is.excused => ChangedBy::Finding,
        () if was.expected != is.expected => ChangedBy::Range,
        () => ChangedBy::Configuration,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Slot, basis::TakenOut};

    fn bar(close: &str) -> Bar {
        Bar::new(Slot(1), [close; 4].map(|p| p.parse().unwrap()), None)
    }

    fn at<'a>(bar: &'a Bar, source: &'a str, order: &[&'a str], doubted: &[&'a str]) -> Standpoint<'a> {
        Standpoint { in_range: true, bar: Some((bar, source)), order: order.to_vec(), doubted: doubted.to_vec(), ..Standpoint::default() }
    }

    #[test]
    fn each_change_has_the_reason_without_which_the_old_bar_would_stand() {
        let (a, b, a_again) = (bar("7.50"), bar("7.60"), bar("7.5"));
        let both = ["p", "q"];
        let nothing = |order: &[&'static str], in_range| Standpoint { in_range, order: order.to_vec(), ..Standpoint::default() };
        let counted = |slots, [expected, held, excused, quiet]: [u64; 4]| {
            let figures = Completeness { expected, held, excused, missing: expected - held - excused, quiet };
            Standpoint { complete: Some((slots, figures)), ..at(&a, "p", &both, &[]) }
        };
        let half = BigRational::new(1.into(), 2.into());
        let taken_out = [TakenOut { ex_date: crate::TradeDate(2), prices: half.clone(), volumes: half.recip() }];
        for (then, now, wanted) in [
            (at(&a, "p", &both, &[]), at(&b, "p", &both, &[]), ChangedBy::Bar),
            (at(&a, "p", &both, &[]), at(&a_again, "p", &both, &[]), ChangedBy::Bar),
            (at(&a, "p", &both, &[]), Standpoint { taken_out: &taken_out, ..at(&b, "p", &both, &[]) }, ChangedBy::Action),
            (at(&a, "p", &both, &[]), Standpoint { adjusted: Some((&half, &half)), ..at(&a, "p", &both, &[]) }, ChangedBy::Action),
            (at(&a, "p", &both, &[]), Standpoint { action: Some(0), ..at(&a, "p", &both, &[]) }, ChangedBy::Action),
            (at(&a, "p", &both, &[]), Standpoint { adjusted: Some((&half, &half)), ..at(&b, "p", &both, &[]) }, ChangedBy::Bar),
            (
                at(&a, "p", &both, &[]),
                Standpoint { adjusted: Some((&half, &half)), made: true, ..at(&b, "p", &both, &[]) },
                ChangedBy::Action,
            ),
            (at(&a, "p", &both, &[]), at(&a, "p", &both, &["p"]), ChangedBy::Finding),
            (
                Standpoint { worked: Some("1"), ..at(&a, "p", &both, &[]) },
                Standpoint { worked: Some("1/2"), ..at(&a, "p", &both, &[]) },
                ChangedBy::Action,
            ),
            (
                Standpoint { worked: Some("1"), ..at(&a, "p", &both, &[]) },
                Standpoint { worked: Some("1"), ..at(&a, "p", &both, &[]) },
                ChangedBy::Bar,
            ),
            (at(&a, "p", &both, &[]), at(&a, "p", &both, &[]), ChangedBy::Configuration),
            // The better one comes, or is doubted, or is believed again.
            (at(&a, "q", &both, &[]), at(&b, "p", &both, &[]), ChangedBy::Bar),
            (at(&a, "p", &both, &[]), at(&b, "q", &both, &["p"]), ChangedBy::Finding),
            (at(&a, "q", &both, &["p"]), at(&b, "p", &both, &[]), ChangedBy::Finding),
            // The order is another, or a source takes part no longer.
            (at(&a, "p", &both, &[]), at(&b, "q", &["q", "p"], &[]), ChangedBy::Ranking),
            (at(&a, "p", &both, &[]), at(&b, "q", &["q"], &[]), ChangedBy::Ranking),
            (at(&a, "p", &["p"], &[]), at(&b, "q", &both, &["p"]), ChangedBy::Ranking),
            // There was nothing, or is nothing.
            (nothing(&both, true), at(&a, "p", &both, &[]), ChangedBy::Bar),
            (nothing(&["q"], true), at(&a, "p", &both, &[]), ChangedBy::Ranking),
            (at(&a, "p", &["p"], &[]), nothing(&["q"], true), ChangedBy::Ranking),
            (nothing(&both, false), at(&a, "p", &both, &[]), ChangedBy::Range),
            (at(&a, "p", &both, &[]), nothing(&both, false), ChangedBy::Range),
            (nothing(&both, true), nothing(&both, true), ChangedBy::Configuration),
            // Only how complete the day is differs.
            (counted(4, [3, 2, 0, 0]), counted(4, [4, 3, 0, 0]), ChangedBy::Bar),
            (counted(4, [4, 3, 0, 0]), counted(4, [3, 3, 0, 1]), ChangedBy::Bar),
            (counted(4, [4, 3, 0, 0]), counted(4, [4, 3, 1, 0]), ChangedBy::Finding),
            (counted(4, [3, 3, 0, 0]), counted(4, [4, 3, 0, 0]), ChangedBy::Range),
            (counted(4, [4, 3, 0, 0]), counted(3, [3, 3, 0, 0]), ChangedBy::Configuration),
            (Standpoint { bar: None, ..counted(4, [4, 0, 0, 0]) }, Standpoint { bar: None, ..counted(4, [4, 1, 0, 0]) }, ChangedBy::Bar),
        ] {
            assert_eq!(changed_by(&then, &now), wanted, "{then:?} {now:?}");
        }
    }
}
