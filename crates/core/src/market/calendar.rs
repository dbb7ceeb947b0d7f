//! Which slots a venue's calendar expects bars in.

use crate::{
    interval::Interval,
    slot::{Slot, Span},
    spans::Spans,
    time::{DAY, Timestamp, TradeDate},
    venue::Venue,
};
use jiff::civil::Time;
use std::{ops::Range, sync::Arc};

/// The trading of one trade date, in UTC.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Session {
    /// The date its bars carry.
    pub date: TradeDate,
    /// Its stretches of trading, in order, half-open.
    pub stretches: Vec<Range<Timestamp>>,
}

impl Session {
    /// The first instant of trading.
    #[must_use]
    pub fn open(&self) -> Timestamp {
        self.stretches.first().map_or(Timestamp::MAX, |s| s.start)
    }

    /// The instant trading has ended.
    #[must_use]
    pub fn close(&self) -> Timestamp {
        self.stretches.last().map_or(Timestamp::MIN, |s| s.end)
    }

    /// The slots of this session at `interval`; a last bar cut short by a break still has its slot.
    #[must_use]
    pub fn slots(&self, interval: Interval) -> Spans {
        match interval {
            Interval::Daily => Spans::from([interval.span_of(Slot::on(self.date))]),
            Interval::Intraday { .. } => {
                let step = interval.step();
                let whole = |s: &Range<Timestamp>| {
                    let slots = (s.end.0 - s.start.0 + step - 1) / step;
                    Slot(s.start.0)..Slot(s.start.0 + slots * step)
                };
                self.stretches.iter().map(whole).collect()
            }
        }
    }

    /// The instant the bar at `slot` is finished: the end of its time, or of its stretch if that is sooner.
    #[must_use]
    pub fn finish(&self, interval: Interval, slot: Slot) -> Timestamp {
        match interval {
            Interval::Daily => self.close(),
            Interval::Intraday { .. } => {
                let end = slot.instant().plus(interval.step());
                let stretch = self.stretches.iter().find(|s| s.contains(&slot.instant()));
                stretch.map_or(end, |s| end.min(s.end))
            }
        }
    }
}

/// The sessions of one venue between two dates, worked out once.
#[derive(Clone, Debug)]
pub struct Calendar {
    sessions: Arc<[Session]>,
}

/// The instant of a time on the wall of `zone`. A time that daylight saving
/// skips or repeats is taken as the offset before the move says.
#[must_use]
pub fn on_the_wall(zone: &jiff::tz::TimeZone, date: TradeDate, time: Time) -> Timestamp {
    zone.to_ambiguous_timestamp(date.to_civil().to_datetime(time)).compatible().map_or(Timestamp::MAX, Into::into)
}

impl Calendar {
    /// Works out the sessions of trade dates in `dates` (half-open).
    ///
    /// ```
    /// use mizuno_core::{Calendar, TradeDate, Venue, venue::Week};
    /// let from: TradeDate = "2016-01-01".parse()?;
    /// let week = Week { from, days: [true, true, true, true, true, false, false], stretches: vec!["10:00-12:30".parse()?, "13:30-16:45".parse()?] };
    /// let zone = jiff::tz::TimeZone::get("Pacific/Auckland")?;
    /// let venue = Venue { code: "ALDX".into(), name: "Aldermere".into(), zone, weeks: vec![week], special: Default::default() };
    /// let calendar = Calendar::new(&venue, "2025-04-07".parse()?.."2025-04-14".parse()?);
    /// assert_eq!(calendar.sessions().len(), 5);
    /// assert_eq!(calendar.sessions()[3].open().to_string(), "2025-04-09T22:00:00Z");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    #[must_use]
    pub fn new(venue: &Venue, dates: Range<TradeDate>) -> Calendar {
        let sessions = (dates.start.0..dates.end.0)
            .map(TradeDate)
            .filter_map(|date| {
                let stretches: Vec<_> = venue
                    .stretches(date)
                    .iter()
                    .map(|s| {
                        let first = if s.begins_the_evening_before() { date.plus(-1) } else { date };
                        on_the_wall(&venue.zone, first, s.open)..on_the_wall(&venue.zone, date, s.close)
                    })
                    .collect();
                (!stretches.is_empty()).then_some(Session { date, stretches })
            })
            .collect();
        Calendar { sessions }
    }

    /// All its sessions, in order.
    #[must_use]
    pub fn sessions(&self) -> &[Session] {
        &self.sessions
    }

    /// The session of a trade date.
    #[must_use]
    pub fn session(&self, date: TradeDate) -> Option<&Session> {
        self.sessions.binary_search_by_key(&date, |s| s.date).ok().map(|i| &self.sessions[i])
    }

    /// The trade date of the first session on a date or after it; the date itself behind the last session.
    #[must_use]
    pub fn session_from(&self, date: TradeDate) -> TradeDate {
        self.sessions.get(self.sessions.partition_point(|s| s.date < date)).map_or(date, |s| s.date)
    }

    /// The session in progress at `at`, breaks included, or the next to open.
    ///
    /// ```
    /// use mizuno_core::{Calendar, TradeDate, Venue};
    /// # use mizuno_core::venue::Week;
    /// # let from: TradeDate = "2016-01-01".parse()?;
    /// # let week = Week { from, days: [true, true, true, true, true, false, false], stretches: vec!["10:00-12:30".parse()?, "13:30-16:45".parse()?] };
    /// # let zone = jiff::tz::TimeZone::get("Pacific/Auckland")?;
    /// # let venue = Venue { code: "ALDX".into(), name: "Aldermere".into(), zone, weeks: vec![week], special: Default::default() };
    /// # let calendar = Calendar::new(&venue, "2025-04-01".parse()?.."2025-05-01".parse()?);
    /// // In the midday break it is still the session of that day; on a Saturday it is Monday's.
    /// assert_eq!(calendar.at_or_after("2025-04-10T01:00:00Z".parse()?).unwrap().date, "2025-04-10".parse()?);
    /// assert_eq!(calendar.at_or_after("2025-04-12T01:00:00Z".parse()?).unwrap().date, "2025-04-14".parse()?);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    #[must_use]
    pub fn at_or_after(&self, at: Timestamp) -> Option<&Session> {
        self.sessions.get(self.closed_by(at))
    }

    /// The last session whose close is at or before `at`.
    ///
    /// ```
    /// use mizuno_core::{Calendar, TradeDate, Venue};
    /// # use mizuno_core::venue::Week;
    /// # let from: TradeDate = "2016-01-01".parse()?;
    /// # let week = Week { from, days: [true, true, true, true, true, false, false], stretches: vec!["10:00-12:30".parse()?, "13:30-16:45".parse()?] };
    /// # let zone = jiff::tz::TimeZone::get("Pacific/Auckland")?;
    /// # let venue = Venue { code: "ALDX".into(), name: "Aldermere".into(), zone, weeks: vec![week], special: Default::default() };
    /// # let calendar = Calendar::new(&venue, "2025-04-01".parse()?.."2025-05-01".parse()?);
    /// assert_eq!(calendar.last_closed("2025-04-10T01:00:00Z".parse()?).unwrap().date, "2025-04-09".parse()?);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    #[must_use]
    pub fn last_closed(&self, at: Timestamp) -> Option<&Session> {
        self.sessions[..self.closed_by(at)].last()
    }

    /// How many sessions have closed by an instant: the first so many.
    #[must_use]
    pub fn closed_by(&self, at: Timestamp) -> usize {
        self.sessions.partition_point(|s| s.close() <= at)
    }

    /// How many have begun by then.
    #[must_use]
    pub fn begun_by(&self, at: Timestamp) -> usize {
        self.sessions.partition_point(|s| s.open() <= at)
    }

    /// The session that the bar at `slot` belongs to; `None` when the venue is closed then.
    #[must_use]
    pub fn session_of(&self, interval: Interval, slot: Slot) -> Option<&Session> {
        match interval {
            Interval::Daily => self.session(slot.date()),
            Interval::Intraday { .. } => {
                self.at_or_after(slot.instant()).filter(|s| s.stretches.iter().any(|stretch| stretch.contains(&slot.instant())))
            }
        }
    }

    /// The trade date that the bar at `slot` belongs to; of one outside every session, the date in UTC.
    #[must_use]
    pub fn date_of(&self, interval: Interval, slot: Slot) -> TradeDate {
        match interval {
            Interval::Daily => slot.date(),
            Interval::Intraday { .. } => {
                self.session_of(interval, slot).map_or_else(|| slot.instant().date_in(&jiff::tz::TimeZone::UTC), |s| s.date)
            }
        }
    }

    /// Every slot in the given trade dates (half-open).
    ///
    /// ```
    /// use mizuno_core::{Calendar, Interval, TradeDate, Venue};
    /// # use mizuno_core::venue::Week;
    /// # let from: TradeDate = "2016-01-01".parse()?;
    /// # let week = Week { from, days: [true, true, true, true, true, false, false], stretches: vec!["10:00-12:30".parse()?, "13:30-16:45".parse()?] };
    /// # let zone = jiff::tz::TimeZone::get("Pacific/Auckland")?;
    /// # let venue = Venue { code: "ALDX".into(), name: "Aldermere".into(), zone, weeks: vec![week], special: Default::default() };
    /// # let calendar = Calendar::new(&venue, "2025-04-01".parse()?.."2025-05-01".parse()?);
    /// let day = "2025-04-10".parse()?.."2025-04-11".parse()?;
    /// assert_eq!(Interval::MINUTE.count(&calendar.expected(Interval::MINUTE, day.clone())), 345);
    /// assert_eq!(Interval::Daily.count(&calendar.expected(Interval::Daily, day)), 1);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    #[must_use]
    pub fn expected(&self, interval: Interval, dates: Range<TradeDate>) -> Spans {
        self.between(dates).iter().flat_map(|s| s.slots(interval)).collect()
    }

    /// The sessions with a trade date in `dates` (half-open).
    #[must_use]
    pub fn between(&self, dates: Range<TradeDate>) -> &[Session] {
        let from = self.sessions.partition_point(|s| s.date < dates.start);
        let to = self.sessions.partition_point(|s| s.date < dates.end);
        &self.sessions[from..to.max(from)]
    }

    /// The span of slots that the trade dates `dates` (half-open) take up.
    #[must_use]
    pub fn span_of_dates(&self, interval: Interval, dates: Range<TradeDate>) -> Span {
        match (interval, self.between(dates.clone())) {
            (Interval::Daily, _) => Slot::on(dates.start)..Slot::on(dates.end.max(dates.start)),
            (_, [first, .., last]) => Slot::at(first.open())..Slot::at(last.close()),
            (_, [only]) => Slot::at(only.open())..Slot::at(only.close()),
            (_, []) => Slot(0)..Slot(0),
        }
    }

    /// The slots whose bars should be had at `now`: finished at least `delay` microseconds ago.
    /// Returned as the end of the span; a slot at or after it is not due yet.
    ///
    /// ```
    /// use mizuno_core::{Calendar, Interval, Slot, Timestamp, TradeDate, Venue};
    /// # use mizuno_core::venue::Week;
    /// # let from: TradeDate = "2016-01-01".parse()?;
    /// # let week = Week { from, days: [true, true, true, true, true, false, false], stretches: vec!["10:00-12:30".parse()?, "13:30-16:45".parse()?] };
    /// # let zone = jiff::tz::TimeZone::get("Pacific/Auckland")?;
    /// # let venue = Venue { code: "ALDX".into(), name: "Aldermere".into(), zone, weeks: vec![week], special: Default::default() };
    /// # let calendar = Calendar::new(&venue, "2025-04-01".parse()?.."2025-05-01".parse()?);
    /// // A minute after it ended, at a source that publishes after two, the bar of 10:04 is not due; that of 10:03 is.
    /// let now: Timestamp = "2025-04-09T22:06:00Z".parse()?;
    /// assert_eq!(calendar.due_until(Interval::MINUTE, now, 120_000_000), Slot::at("2025-04-09T22:04:00Z".parse()?));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    #[must_use]
    pub fn due_until(&self, interval: Interval, now: Timestamp, delay: i64) -> Slot {
        let settled = now.plus(-delay);
        match interval {
            Interval::Daily => self.last_closed(settled).map_or(Slot(i64::MIN), |s| Slot::on(s.date.plus(1))),
            Interval::Intraday { .. } => {
                // While a venue is open it moves from slot to slot; while it is closed it stands where the last one ended.
                let session = self.at_or_after(settled).filter(|s| s.open() <= settled).or(self.last_closed(settled));
                let Some(running) = session.and_then(|s| s.stretches.iter().rev().find(|r| r.start <= settled)) else {
                    return Slot::at(settled);
                };
                let (step, length) = (interval.step(), settled.0.min(running.end.0) - running.start.0);
                // The last slot may be shorter than the others; it ends with the trading.
                let slots = if settled < running.end { length / step } else { (length + step - 1) / step };
                Slot::at(running.start.plus(slots * step))
            }
        }
    }
}

/// The dates a calendar is worked out for when nobody says otherwise: a
/// century back is never asked for, and a year ahead is enough for schedules.
#[must_use]
pub fn usual_dates(now: Timestamp) -> Range<TradeDate> {
    let today = TradeDate(now.0.div_euclid(DAY) as i32);
    TradeDate(3_652)..today.plus(400)
}

#[cfg(test)]
#[path = "calendar_test.rs"]
pub(crate) mod tests;
