//! Members by a rule: what an instrument has to be at each review, by what was dated up to its close.

use crate::{
    calendar::Session,
    decimal::Decimal,
    membership::{STILL, Stay},
    time::TradeDate,
};

/// How often members are reviewed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Every {
    /// At each close.
    Day,
    /// At the last close of each ISO week.
    Week,
    /// At the last close of each month.
    Month,
}

/// The number of the day, ISO week or month of a date, counted from any beginning.
#[must_use]
pub fn period(every: Every, date: TradeDate) -> i64 {
    match every {
        Every::Day => i64::from(date.0),
        // The epoch was a Thursday: a Monday begins the ISO week.
        Every::Week => (i64::from(date.0) + 3).div_euclid(7),
        Every::Month => {
            let civil = date.to_civil();
            i64::from(civil.year()) * 12 + i64::from(civil.month())
        }
    }
}

/// A review: after the close of one session, for the sessions from the next one on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Review {
    /// The session at whose close it is, among those of the calendar.
    pub at: usize,
    /// The first trade date that it counts for.
    pub from: TradeDate,
}

/// The reviews from `since` on among the sessions that have closed, the first so many of `sessions`. Whoever is a member on the first day was
/// found to be one at the close before it.
///
/// ```
/// use mizuno_core::{Calendar, TradeDate, Venue, review::{Every, reviews}, venue::Week};
/// let from: TradeDate = "2025-01-01".parse()?;
/// let week = Week { from, days: [true, true, true, true, true, false, false], stretches: vec!["10:00-16:45".parse()?] };
/// let zone = jiff::tz::TimeZone::get("Pacific/Auckland")?;
/// let venue = Venue { code: "ALDX".into(), name: "Aldermere".into(), zone, weeks: vec![week], special: Default::default() };
/// let calendar = Calendar::new(&venue, from.."2025-06-01".parse()?);
/// let reviews = reviews(calendar.sessions(), "2025-02-17".parse()?, Every::Month, calendar.sessions().len());
/// let dates: Vec<(String, String)> = reviews.iter().map(|r| (calendar.sessions()[r.at].date.to_string(), r.from.to_string())).collect();
/// assert_eq!(dates[0], ("2025-02-14".to_owned(), "2025-02-17".to_owned()));
/// assert_eq!(dates[1], ("2025-02-28".to_owned(), "2025-03-03".to_owned()));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[must_use]
pub fn reviews(sessions: &[Session], since: TradeDate, every: Every, closed: usize) -> Vec<Review> {
    let period = |date| period(every, date);
    let first = sessions.partition_point(|s| s.date < since);
    let mut out = vec![];
    for at in first.saturating_sub(1)..closed.min(sessions.len().saturating_sub(1)) {
        let (this, next) = (sessions[at].date, sessions[at + 1].date);
        if at + 1 == first || (next > since && period(this) != period(next)) {
            out.push(Review { at, from: next });
        }
    }
    out
}

/// What is asked at each review.
#[derive(Clone, Debug, PartialEq)]
pub struct Bounds {
    /// The close, at least.
    pub price: Option<Decimal>,
    /// The mean turnover of the sessions, at least.
    pub turnover: Option<Decimal>,
    /// So many sessions, up to the review.
    pub sessions: usize,
    /// Sessions since the listing, at least.
    pub listed: usize,
}

/// A daily bar as a review sees it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Daily {
    /// Its trade date.
    pub date: TradeDate,
    /// The close, as traded.
    pub close: Decimal,
    /// Typical price times volume, as traded; nought without a volume.
    pub turnover: f64,
}

/// Whether an instrument is to be a member after a review, and why, or why not. `bars` are its daily ones in order, from before the
/// review's sessions on; what comes after the review is not looked at.
///
/// # Errors
/// Why not, in a few words.
pub fn judge(bounds: &Bounds, review: Review, sessions: &[Session], listed: Option<TradeDate>, bars: &[Daily]) -> Result<String, String> {
    let date = sessions[review.at].date;
    if let Some(listed) = listed {
        let since = sessions[..=review.at].len() - sessions[..=review.at].partition_point(|s| s.date < listed);
        if since < bounds.listed.max(1) {
            return Err(format!("{since} sessions since its listing on {listed}, and {} are wanted", bounds.listed.max(1)));
        }
    }
    let window = &sessions[(review.at + 1).saturating_sub(bounds.sessions.max(1))..=review.at];
    let known = &bars[..bars.partition_point(|b| b.date <= date)];
    let lately = &known[known.partition_point(|b| b.date < window[0].date)..];
    let mut why = vec![];
    if bounds.price.is_some() || bounds.turnover.is_some() {
        let Some(last) = lately.last() else { return Err(format!("no bar in the {} sessions up to the review", window.len())) };
        why.push(format!("close {}", last.close));
        if let Some(least) = bounds.price.filter(|least| last.close < *least) {
            return Err(format!("close {} is below {least}", last.close));
        }
    }
    if let Some(least) = bounds.turnover {
        let mean = lately.iter().map(|b| b.turnover).sum::<f64>() / window.len() as f64;
        if mean < least.to_f64() {
            return Err(format!("mean turnover {mean:.0} is below {least}"));
        }
        why.push(format!("mean turnover {mean:.0}"));
    }
    Ok(if why.is_empty() { "it fits".to_owned() } else { why.join(", ") })
}

/// Why a stay began, and why it ended where it did.
pub type Reasons = (String, Option<String>);

/// The stays that follow from the verdicts of reviews, each with the reasons for its two ends; `before` are those that follow from the
/// reviews before, of which the last may still go on.
#[must_use]
pub fn stays(
    before: Vec<(Stay, Reasons)>,
    sessions: &[Session],
    verdicts: impl IntoIterator<Item = (Review, Result<String, String>)>,
) -> Vec<(Stay, Reasons)> {
    let mut open = before.last().is_some_and(|(stay, _)| stay.days.end == STILL);
    let mut out = before;
    for (review, verdict) in verdicts {
        let on = sessions[review.at].date;
        match (verdict, open) {
            (Ok(why), false) => {
                out.push((Stay::of(review.from..STILL), (format!("reviewed on {on}: {why}"), None)));
                open = true;
            }
            (Err(why), true) => {
                if let Some((stay, (_, left))) = out.last_mut() {
                    stay.days.end = review.from;
                    *left = Some(format!("reviewed on {on}: {why}"));
                }
                open = false;
            }
            _ => {}
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::tests::{aldermere, date};
    use proptest::prelude::*;

    proptest! {
        /// Whoever goes on from what came of the first reviews finds what all of them give, and each stay is where reviews let it in.
        #[test]
        fn stays_may_be_gone_on_with(fits in prop::collection::vec(any::<bool>(), 60), first in 0usize..61) {
            let calendar = aldermere("2025-01-06", "2025-04-16");
            let sessions = calendar.sessions();
            let all = reviews(sessions, date("2025-01-08"), Every::Day, sessions.len());
            let verdict = |(n, review): (usize, &Review)| (*review, if fits[n] { Ok(n.to_string()) } else { Err(n.to_string()) });
            let verdicts: Vec<_> = all.iter().take(fits.len()).enumerate().map(verdict).collect();
            let whole = stays(vec![], sessions, verdicts.clone());
            let (before, after) = verdicts.split_at(first.min(verdicts.len()));
            prop_assert_eq!(&stays(stays(vec![], sessions, before.to_vec()), sessions, after.to_vec()), &whole);
            for (review, verdict) in &verdicts {
                let belongs = whole.iter().any(|(stay, _)| stay.days.contains(&review.from));
                prop_assert_eq!(belongs, verdict.is_ok(), "{}", review.from);
            }
        }
    }
}
