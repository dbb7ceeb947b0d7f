//! Bars made so coarse that a series has no more rows than are asked for, as for the width of a picture.

use super::{Question, resolve::Wanted};
use crate::Research;
use mizuno_config::GOLDEN;
use mizuno_core::{Interval, Overlap, Span, Timestamp, resample::Length, spans::hull};
use mizuno_desk::{DeskError, Setup};

/// What bars are made coarser to, step by step.
const STEPS: [Length; 9] = [
    Length::Interval(Interval::Intraday { seconds: 300 }),
    Length::Interval(Interval::Intraday { seconds: 900 }),
    Length::Interval(Interval::Intraday { seconds: 1_800 }),
    Length::Interval(Interval::Intraday { seconds: 3_600 }),
    Length::Interval(Interval::Daily),
    Length::Week,
    Length::Month,
    Length::Quarter,
    Length::Year,
];

/// How many rows so many slots in so many sessions make, about.
fn rows(slots: u64, sessions: u64, finer: Interval, length: Length) -> u64 {
    match (length, finer) {
        (Length::Interval(Interval::Intraday { seconds }), Interval::Intraday { seconds: finer }) => {
            slots * u64::from(finer) / u64::from(seconds)
        }
        (Length::Interval(_), _) => sessions,
        (Length::Week, _) => sessions / 5,
        (Length::Month, _) => sessions / 21,
        (Length::Quarter, _) => sessions / 63,
        (Length::Year, _) => sessions / 250,
    }
}

impl Research {
    /// The question with an interval at which no series has more than `most` rows, or the coarsest there is.
    pub(super) async fn fitted(
        &self,
        setup: &Setup,
        question: Question,
        most: u32,
        series: &[Wanted],
        instant: Timestamp,
    ) -> Result<Question, DeskError> {
        let mut counted = vec![];
        for wanted in series {
            let (key, calendar) = (&wanted.key, setup.calendar_of(&wanted.instrument)?);
            let own = |s: &mizuno_store::series::SeriesRow| {
                s.key.interval == key.interval && s.key.side == key.side && (key.source == GOLDEN || s.key.source == key.source)
            };
            let mut rows = self.desk.store.series_of(&setup.instrument(&key.symbol)?.symbol).await?;
            rows.retain(own);
            let held = self.desk.store.held(&rows, instant).await?;
            let Some(extent) = held.values().filter_map(hull).reduce(|a: Span, b| a.hull(&b)) else { continue };
            let span = extent.clip(&wanted.span);
            let is_in = |s: &&mizuno_core::Session| calendar.span_of_dates(key.interval, s.date..s.date.plus(1)).overlaps(&span);
            let sessions = calendar.sessions().iter().filter(is_in);
            let (count, slots) = sessions.fold((0, 0), |(count, slots), session| {
                let own = session.slots(key.interval);
                (count + 1, slots + key.interval.count(own.within(&span)))
            });
            counted.push((key.interval, slots, count));
        }
        let fits = |length: Length| {
            let made = |(finer, slots, sessions): &(Interval, u64, u64)| match length == Length::Interval(*finer) {
                true => Some(*slots),
                false => length.divides_into(*finer).then(|| rows(*slots, *sessions, *finer, length)),
            };
            counted.iter().all(|one| made(one).is_some_and(|rows| rows <= u64::from(most)))
        };
        let coarser = STEPS.into_iter().filter(|step| step.divides_into(question.interval) && question.longer.is_none());
        let all: Vec<Length> = [question.length()].into_iter().chain(coarser).collect();
        let chosen = all.iter().copied().find(|length| fits(*length)).or(all.last().copied()).unwrap_or(question.length());
        Ok(match chosen {
            Length::Interval(interval) => Question { interval, ..question },
            longer => Question { interval: Interval::Daily, longer: Some(longer), ..question },
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_become_fewer_with_each_step() {
        let minutes = Interval::MINUTE;
        let counts: Vec<u64> = STEPS.iter().map(|step| rows(100_000, 260, minutes, *step)).collect();
        assert!(counts.windows(2).all(|w| w[0] > w[1]), "{counts:?}");
        assert_eq!(counts[..2], [20_000, 6_666]);
        assert_eq!(counts[4..], [260, 52, 12, 4, 1]);
    }
}
