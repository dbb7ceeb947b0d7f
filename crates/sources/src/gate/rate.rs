//! Calls a minute.
//!
//! A source that allows `calls_per_minute` is never asked more often in any
//! sixty seconds, wherever they begin. With a burst of `b` calls at once, the
//! rest are spread at `calls_per_minute − b + 1` a minute: 600 a minute with a
//! burst of 10 means ten at once, then one every 101.7 ms: a five-hundredth of
//! the allowance is left over, since requests do not all travel equally fast.
//!
//! A source that says `429` though its declared limit is kept means another limit. The pace then goes down
//! by a quarter at a time, and up again by a tenth for each minute without such an answer.

use crate::Clock;
use governor::{
    Quota, RateLimiter,
    clock::{Clock as GovernorClock, Reference},
    middleware::NoOpMiddleware,
    nanos::Nanos,
    state::{InMemoryState, NotKeyed},
};
use mizuno_core::time::MINUTE;
use std::{
    collections::VecDeque,
    num::NonZeroU32,
    sync::{Mutex, PoisonError},
    time::Duration,
};

/// The calls a minute of one source, kept in service time.
pub(super) struct Rate {
    limiter: RateLimiter<NotKeyed, InMemoryState, ServiceTime, NoOpMiddleware<Moment>>,
    sent: Mutex<VecDeque<i64>>,
    pace: Mutex<Pace>,
    declared: u32,
    clock: Clock,
}

/// How much of the declared limit is used, since the source says that it means less.
#[derive(Clone, Copy, Debug)]
struct Pace {
    share: f64,
    /// Calls in the minute before it last said so, and when.
    told: Option<(u32, i64)>,
    last_call: i64,
}

/// The least share of the declared limit.
const SLOWEST: f64 = 0.02;
/// Answers that were under way together say the same thing once, in microseconds.
const TOGETHER: i64 = 5_000_000;

impl Rate {
    pub(super) fn new(limits: &mizuno_config::profile::Limits, clock: Clock) -> Rate {
        let burst = NonZeroU32::new(limits.burst).unwrap_or(NonZeroU32::MIN);
        let spread = (limits.calls_per_minute + 1).saturating_sub(limits.burst).max(1);
        let period = Duration::from_micros(MINUTE as u64 * 501 / 500 / u64::from(spread) + 1);
        let quota = Quota::with_period(period).unwrap_or(Quota::per_minute(NonZeroU32::MIN)).allow_burst(burst);
        let limiter = RateLimiter::direct_with_clock(quota, ServiceTime(clock.clone()));
        let pace = Mutex::new(Pace { share: 1.0, told: None, last_call: i64::MIN / 2 });
        Rate { limiter, sent: Mutex::default(), pace, declared: limits.calls_per_minute, clock }
    }

    /// Waits until a request may be sent, and counts it.
    pub(super) async fn wait(&self) {
        while let Err(not_yet) = self.limiter.check() {
            let wait = not_yet.wait_time_from(ServiceTime(self.clock.clone()).now());
            self.clock.sleep(i64::try_from(wait.as_micros()).unwrap_or(MINUTE) + 1).await;
        }
        loop {
            let wait = self.until_paced();
            if wait <= 0 {
                break;
            }
            self.clock.sleep(wait).await;
        }
        while let Err(wait) = self.count() {
            self.clock.sleep(wait).await;
        }
    }

    /// Counts a call that is sent now; or how long to wait for room, in microseconds. Only calls of a limiter before this one can take it up.
    fn count(&self) -> Result<(), i64> {
        let mut sent = self.sent.lock().unwrap_or_else(PoisonError::into_inner);
        let now = self.clock.now().0;
        drop_old(&mut sent, now);
        if let Some(first) = sent.front().filter(|_| sent.len() >= self.declared as usize) {
            return Err(first + MINUTE - now);
        }
        self.lock_pace().last_call = now;
        sent.push_back(now);
        Ok(())
    }

    /// Counts the calls that another has sent within the last minute.
    pub(super) fn go_on_from(&self, before: &Rate) {
        let counted = before.sent.lock().unwrap_or_else(PoisonError::into_inner).clone();
        *self.sent.lock().unwrap_or_else(PoisonError::into_inner) = counted;
    }

    fn lock_pace(&self) -> std::sync::MutexGuard<'_, Pace> {
        self.pace.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// How long the pace makes the next call wait, in microseconds.
    fn until_paced(&self) -> i64 {
        let pace = *self.lock_pace();
        if pace.share >= 1.0 {
            return 0;
        }
        let apart = (MINUTE as f64 / (f64::from(self.declared) * pace.share)) as i64;
        pace.last_call + apart - self.clock.now().0
    }

    /// The source says that there are too many calls.
    pub(super) fn slow_down(&self) {
        let (used, now) = (self.used(), self.clock.now().0);
        let mut pace = self.lock_pace();
        if pace.told.is_none_or(|(_, at)| now - at > TOGETHER) {
            pace.share = (pace.share.min(f64::from(used.max(1)) / f64::from(self.declared.max(1))) * 0.75).max(SLOWEST);
            pace.told = Some((used, now));
        }
    }

    /// A call was answered: after each minute without such an answer, a little faster.
    pub(super) fn speed_up(&self) {
        let now = self.clock.now().0;
        let mut pace = self.lock_pace();
        if let Some((used, at)) = pace.told.filter(|(_, at)| now - at > MINUTE) {
            pace.share *= 1.1;
            pace.told = if pace.share >= 1.0 { None } else { Some((used, at + MINUTE)) };
            pace.share = pace.share.min(1.0);
        }
    }

    /// At how many calls a minute the source said that there are too many, while the pace is below its declared limit.
    pub(super) fn slowed_at(&self) -> Option<u32> {
        self.lock_pace().told.map(|(used, _)| used)
    }

    /// Requests sent in the last sixty seconds.
    pub(super) fn used(&self) -> u32 {
        let mut sent = self.sent.lock().unwrap_or_else(PoisonError::into_inner);
        drop_old(&mut sent, self.clock.now().0);
        sent.len() as u32
    }
}

fn drop_old(sent: &mut VecDeque<i64>, now: i64) {
    while sent.front().is_some_and(|at| at + MINUTE <= now) {
        sent.pop_front();
    }
}

/// Service time, in the form the rate limiter reads.
#[derive(Clone)]
struct ServiceTime(Clock);

/// Microseconds of service time since the epoch.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Moment(i64);

impl GovernorClock for ServiceTime {
    type Instant = Moment;

    fn now(&self) -> Moment {
        Moment(self.0.now().0)
    }
}

impl Reference for Moment {
    fn duration_since(&self, earlier: Moment) -> Nanos {
        Nanos::from(Duration::from_micros((self.0 - earlier.0).max(0) as u64))
    }

    fn saturating_sub(&self, duration: Nanos) -> Moment {
        let micros = Duration::from(duration).as_micros();
        Moment(self.0.saturating_sub(i64::try_from(micros).unwrap_or(i64::MAX)))
    }
}

impl std::ops::Add<Nanos> for Moment {
    type Output = Moment;

    fn add(self, duration: Nanos) -> Moment {
        let micros = Duration::from(duration).as_micros();
        Moment(self.0.saturating_add(i64::try_from(micros).unwrap_or(i64::MAX)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use mizuno_core::clock::ClockFace;

    /// A source's own count: the most calls in any sixty seconds.
    fn busiest_minute(calls: &[i64]) -> usize {
        (0..calls.len()).map(|i| calls[i..].iter().take_while(|c| **c < calls[i] + MINUTE).count()).max().unwrap_or(0)
    }

    #[tokio::test]
    async fn a_source_that_means_a_lower_limit_is_asked_more_slowly_and_then_faster_again() {
        let face = ClockFace { start: mizuno_core::Timestamp(0), wall: crate::clock::wall(), speed: 600.0 };
        let rate = Rate::new(&toml::from_str("calls_per_minute = 600\nburst = 10\nat_once = 4").unwrap(), Clock::new(face));
        for _ in 0..100 {
            rate.wait().await;
        }
        let used = rate.used();
        rate.slow_down();
        rate.slow_down();
        assert_eq!(rate.slowed_at(), Some(used), "said twice at once, it is heard once");
        let (from, mut calls) = (rate.clock.now().0, 0);
        while rate.clock.now().0 < from + 2 * MINUTE {
            rate.wait().await;
            calls += 1;
        }
        assert!(calls as f64 <= 2.0 * 0.75 * f64::from(used) + 3.0, "{calls} in two minutes after {used} in one were too many");
        while rate.slowed_at().is_some() {
            rate.clock.sleep(MINUTE / 2).await;
            rate.speed_up();
        }
        assert_eq!(rate.until_paced(), 0);
    }

    #[tokio::test]
    async fn no_minute_sees_more_calls_than_allowed() {
        // Three minutes of service time in under two seconds on the wall.
        let face = ClockFace { start: mizuno_core::Timestamp(0), wall: crate::clock::wall(), speed: 120.0 };
        let toml = "calls_per_minute = 60\nburst = 20\nat_once = 4";
        let limits = Rate::new(&toml::from_str(toml).unwrap(), Clock::new(face));
        let mut calls = vec![];
        while calls.len() < 140 {
            limits.wait().await;
            calls.push(limits.clock.now().0);
        }
        let busiest = busiest_minute(&calls);
        assert!(busiest <= 60, "{busiest} calls in one minute");
        assert!(busiest >= 50, "the allowance is used: {busiest}");
        assert!(calls[19] - calls[0] < MINUTE / 4, "the burst goes out at once");
        assert!(limits.used() <= 60);
    }
}
