//! Who belonged when: stays in a universe, half-open by trade date.

use crate::{
    slot::{Slot, Span},
    spans::Spans,
    time::TradeDate,
};
use std::ops::Range;

/// Before every trade date there is: since when nobody knows.
pub const ALWAYS: TradeDate = TradeDate(i32::MIN);
/// After every trade date there is: until nobody has said otherwise.
pub const STILL: TradeDate = TradeDate(i32::MAX);

/// A stretch of trade dates on which an instrument belonged to a universe.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Stay {
    /// From its first day as a member to the first day on which it is none.
    pub days: Range<TradeDate>,
    /// Where that follows from collections of a list: the trade date of the last one without it. It may have joined on any day since.
    pub joined_after: Option<TradeDate>,
    /// The same of its end: the trade date of the last collection with it.
    pub left_after: Option<TradeDate>,
}

impl Stay {
    /// A stay whose days are known.
    #[must_use]
    pub fn of(days: Range<TradeDate>) -> Stay {
        Stay { days, joined_after: None, left_after: None }
    }

    /// A stay as a list tells it that shows the members of the day: from the trade date of the first collection that shows the member to that
    /// of the first one that lacks it. `collections` are the trade dates of those that succeeded, in order.
    ///
    /// ```
    /// use mizuno_core::{TradeDate, membership::Stay};
    /// let dates = ["2025-04-07", "2025-04-08", "2025-04-11", "2025-04-14"].map(|d| d.parse::<TradeDate>().unwrap());
    /// let stay = Stay::seen(&dates, dates[2], Some(dates[3]));
    /// assert_eq!((stay.days, stay.joined_after), (dates[2]..dates[3], Some(dates[1])));
    /// // Whoever was on the first one may have joined at any time before.
    /// assert_eq!(Stay::seen(&dates, dates[0], None).joined_after, None);
    /// ```
    #[must_use]
    pub fn seen(collections: &[TradeDate], from: TradeDate, until: Option<TradeDate>) -> Stay {
        let before = |date: TradeDate| collections[..collections.partition_point(|c| *c < date)].last().copied();
        Stay { days: from..until.unwrap_or(STILL), joined_after: before(from), left_after: until.and_then(before) }
    }

    /// Its days as slots of a daily series.
    #[must_use]
    pub fn slots(&self) -> Span {
        Slot::on(self.days.start)..Slot::on(self.days.end.max(self.days.start))
    }
}

/// The days of several stays together.
///
/// ```
/// use mizuno_core::{Slot, TradeDate, membership::{Stay, days}};
/// let date = |text: &str| text.parse::<TradeDate>().unwrap();
/// let left_and_came_back = [Stay::of(date("2016-01-04")..date("2019-06-24")), Stay::of(date("2021-06-21")..date("2025-03-17"))];
/// let days = days(&left_and_came_back);
/// assert_eq!(days.len(), 2);
/// assert!(days.contains(&Slot::on(date("2025-03-16"))) && !days.contains(&Slot::on(date("2020-01-06"))));
/// ```
#[must_use]
pub fn days<'s>(stays: impl IntoIterator<Item = &'s Stay>) -> Spans {
    stays.into_iter().map(Stay::slots).collect()
}

/// A line of a log of changes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Move {
    /// The member left; on a day with both, the leaving comes first.
    Out,
    /// The member joined.
    In,
}

/// The stays that a log of one member's changes tells, and what in it cannot be, in sentences. Whoever leaves without having joined
/// was a member always, as far as the log knows.
///
/// ```
/// use mizuno_core::{TradeDate, membership::{ALWAYS, Move, Stay, STILL, logged}};
/// let date = |text: &str| text.parse::<TradeDate>().unwrap();
/// let (stays, wrong) = logged(vec![(date("2025-03-17"), Move::Out), (date("2025-06-23"), Move::In)]);
/// assert_eq!(stays, [Stay::of(ALWAYS..date("2025-03-17")), Stay::of(date("2025-06-23")..STILL)]);
/// assert!(wrong.is_empty());
/// let (_, wrong) = logged(vec![(date("2025-03-17"), Move::In), (date("2025-03-18"), Move::In)]);
/// assert_eq!(wrong, ["joined on 2025-03-18, and was a member since 2025-03-17; the first counts"]);
/// ```
#[must_use]
pub fn logged(mut moves: Vec<(TradeDate, Move)>) -> (Vec<Stay>, Vec<String>) {
    moves.sort_unstable();
    moves.dedup();
    let (mut stays, mut wrong) = (vec![], vec![]);
    let mut since: Option<TradeDate> = None;
    let mut left: Option<TradeDate> = None;
    for (date, what) in moves {
        match (what, since) {
            (Move::In, Some(first)) => wrong.push(format!("joined on {date}, and was a member since {first}; the first counts")),
            (Move::In, None) => since = Some(date),
            (Move::Out, Some(first)) => {
                stays.push(Stay::of(first..date));
                (since, left) = (None, Some(date));
            }
            (Move::Out, None) => match left {
                None => {
                    stays.push(Stay::of(ALWAYS..date));
                    left = Some(date);
                }
                Some(before) => wrong.push(format!("left on {date}, and had left on {before}; the first counts")),
            },
        }
    }
    stays.extend(since.map(|first| Stay::of(first..STILL)));
    (stays, wrong)
}

/// A name in lower case, without what people write otherwise: `Kelp & Barley Foods` and `Kelp and Barley Foods, ` are one.
///
/// ```
/// use mizuno_core::membership::plain;
/// assert_eq!(plain("Kelp & Barley Foods"), plain(" KELP and Barley-Foods."));
/// assert_ne!(plain("Oxbow Rail"), plain("Oxbow Railway"));
/// ```
#[must_use]
pub fn plain(name: &str) -> String {
    let spaced: String = name.replace('&', " and ").chars().map(|c| if c.is_alphanumeric() { c } else { ' ' }).collect();
    spaced.to_lowercase().split_whitespace().collect::<Vec<_>>().join(" ")
}
