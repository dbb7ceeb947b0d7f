//! Calls a day, counted in the source's zone and remembered across restarts.
//!
//! Calls are reserved a handful at a time in a book that outlives the process,
//! before any of them is sent. After a kill the rest of a handful counts as
//! used: rather a few calls too few than one too many.

use futures_util::future::BoxFuture;
use mizuno_config::profile::DayLimit;
use mizuno_core::{Timestamp, TradeDate, calendar::on_the_wall};
use std::sync::Arc;
use tokio::sync::Mutex;

/// Where reserved calls are written down.
pub trait DayBook: Send + Sync {
    /// Calls of a source reserved on a day so far.
    fn reserved<'a>(&'a self, source: &'a str, day: TradeDate) -> BoxFuture<'a, Result<u32, String>>;

    /// Writes down that so many calls are reserved.
    fn reserve<'a>(&'a self, source: &'a str, day: TradeDate, calls: u32) -> BoxFuture<'a, Result<(), String>>;
}

/// A book that forgets; for tests.
pub struct NoDayBook;

impl DayBook for NoDayBook {
    fn reserved<'a>(&'a self, _: &'a str, _: TradeDate) -> BoxFuture<'a, Result<u32, String>> {
        Box::pin(async { Ok(0) })
    }

    fn reserve<'a>(&'a self, _: &'a str, _: TradeDate, _: u32) -> BoxFuture<'a, Result<(), String>> {
        Box::pin(async { Ok(()) })
    }
}

/// One day's count.
#[derive(Clone, Copy, Debug)]
struct Count {
    day: TradeDate,
    used: u32,
    reserved: u32,
}

/// The calls of the present day.
pub(super) struct Day {
    source: String,
    limit: DayLimit,
    most: u32,
    book: Arc<dyn DayBook>,
    count: Mutex<Option<Count>>,
}

impl Day {
    pub(super) fn new(source: &str, limit: DayLimit, with_key: bool, book: Arc<dyn DayBook>) -> Day {
        Day { source: source.to_owned(), most: limit.calls(with_key), limit, book, count: Mutex::new(None) }
    }

    /// The source's day that `now` belongs to.
    fn day(&self, now: Timestamp) -> TradeDate {
        let wall = self.limit.zone.to_datetime(now.to_jiff());
        let date = TradeDate::from_civil(wall.date());
        if wall.time() < self.limit.turns_at { date.plus(-1) } else { date }
    }

    fn turn_of(&self, day: TradeDate) -> Timestamp {
        on_the_wall(&self.limit.zone, day.plus(1), self.limit.turns_at)
    }

    /// Takes one call; the moment the day turns when there is none left.
    pub(super) async fn take(&self, now: Timestamp) -> Result<(), Timestamp> {
        let day = self.day(now);
        let mut count = self.count.lock().await;
        let mut today = match *count {
            Some(today) if today.day >= day => today,
            _ => match self.book.reserved(&self.source, day).await {
                Ok(reserved) => Count { day, used: reserved, reserved },
                Err(error) => return Err(self.unwritten(now, &error)),
            },
        };
        if today.used >= self.most {
            *count = Some(today);
            return Err(self.turn_of(today.day));
        }
        if today.used >= today.reserved {
            let handful = (self.most / 50).clamp(1, 50);
            let reserved = (today.reserved + handful).min(self.most);
            if let Err(error) = self.book.reserve(&self.source, today.day, reserved).await {
                return Err(self.unwritten(now, &error));
            }
            today.reserved = reserved;
        }
        today.used += 1;
        *count = Some(today);
        Ok(())
    }

    /// What cannot be written down cannot be promised: wait a little and try again.
    fn unwritten(&self, now: Timestamp, error: &str) -> Timestamp {
        tracing::error!(source = self.source, error, "calls of the day cannot be counted; asking nothing until they can");
        now.plus(10_000_000)
    }

    /// Calls used today, and how many there are.
    pub(super) fn used(&self, now: Timestamp) -> (u32, u32) {
        let day = self.day(now);
        let used = self.count.try_lock().ok().and_then(|c| *c).filter(|c| c.day == day).map_or(0, |c| c.used);
        (used, self.most)
    }

    /// When the day turns, if its calls are used up.
    pub(super) fn used_up_until(&self, now: Timestamp) -> Option<Timestamp> {
        let (used, most) = self.used(now);
        (used >= most).then(|| self.turn_of(self.day(now)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::{collections::HashMap, sync::Mutex as Plain};

    #[derive(Default)]
    struct Book(Plain<HashMap<i32, u32>>);

    impl DayBook for Book {
        fn reserved<'a>(&'a self, _: &'a str, day: TradeDate) -> BoxFuture<'a, Result<u32, String>> {
            let known = self.0.lock().unwrap().get(&day.0).copied().unwrap_or(0);
            Box::pin(async move { Ok(known) })
        }

        fn reserve<'a>(&'a self, _: &'a str, day: TradeDate, calls: u32) -> BoxFuture<'a, Result<(), String>> {
            self.0.lock().unwrap().insert(day.0, calls);
            Box::pin(async { Ok(()) })
        }
    }

    #[tokio::test]
    async fn calls_of_a_day_end_and_start_afresh_when_it_turns_even_after_a_restart() {
        let limit =
            || toml::from_str::<DayLimit>("calls = 500\nwithout_key = 3\nturns_at = \"17:00\"\nzone = \"America/New_York\"").unwrap();
        let book = Arc::new(Book::default());
        let now: Timestamp = "2025-04-10T20:30:00Z".parse().unwrap(); // 16:30 in New York
        let turn: Timestamp = "2025-04-10T21:00:00Z".parse().unwrap();
        let day = Day::new("s", limit(), false, book.clone());
        assert!(day.take(now).await.is_ok() && day.take(now).await.is_ok());
        assert_eq!(day.used(now), (2, 3));
        let again = Day::new("s", limit(), false, book.clone());
        assert!(again.take(now).await.is_ok());
        assert_eq!(again.take(now).await, Err(turn), "two before the restart, one after it");
        assert_eq!(again.used_up_until(now), Some(turn));
        assert!(again.take(turn).await.is_ok(), "the day has turned");
        let keyed = Day::new("keyed", limit(), true, Arc::new(NoDayBook));
        for _ in 0..500 {
            assert!(keyed.take(now).await.is_ok());
        }
        assert!(keyed.take(now).await.is_err(), "with a key there are more, and not without end");
    }
}
