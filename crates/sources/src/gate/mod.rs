//! Waiting for one's turn at a source.
//!
//! Every request takes a turn. Turns are given one after another, when all of
//! these allow it: the calls a minute ([`rate`]), the calls a day ([`day`]),
//! the hours in which the source is left alone, the requests under way, and
//! the source's health ([`health`]). Who waits is served in a fair order
//! ([`queue`]): today's increment before backfill, collectors by turns.

mod day;
mod health;
mod queue;
mod rate;

pub use day::{DayBook, NoDayBook};
pub use queue::Ticket;

use crate::{Clock, Failure, failure::Class};
use mizuno_config::profile::{Limits, QuietHours};
use mizuno_core::Timestamp;
use std::sync::{
    Arc, Mutex, PoisonError,
    atomic::{AtomicBool, Ordering},
};
use tokio::sync::{Notify, OwnedSemaphorePermit, Semaphore, oneshot};

/// All that stands between a request and its source.
pub struct Gate {
    source: String,
    rate: rate::Rate,
    day: Option<day::Day>,
    quiet: Option<QuietHours>,
    places: Arc<Semaphore>,
    queue: Mutex<queue::Queue<Turn>>,
    health: Mutex<health::Health>,
    came: Notify,
    /// Calls sent before this process began may still count: nothing is asked until then.
    begins: Mutex<Timestamp>,
    /// Another gate has taken its place: nobody gets a turn here any more.
    closed: AtomicBool,
    clock: Clock,
}

/// Leave to send one request; the place is free again when it is dropped.
pub struct Turn {
    gate: Arc<Gate>,
    /// It probes a source that was paused, and has not been reported on.
    probes: AtomicBool,
    _place: OwnedSemaphorePermit,
}

/// Why a source is not asked at this moment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Standing {
    /// It is asked.
    Ready,
    /// It is left alone until then: its quiet hours, or it asked us to wait.
    LeftAlone(Timestamp),
    /// Its calls of the day are used up until then.
    UsedUp(Timestamp),
    /// It kept failing; one request probes it then.
    Paused(Timestamp),
}

impl std::fmt::Display for Standing {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Standing::Ready => f.write_str("it is busy with other requests"),
            Standing::LeftAlone(until) => write!(f, "it is left alone until {until}"),
            Standing::UsedUp(until) => write!(f, "its calls of the day are used up until {until}"),
            Standing::Paused(until) => write!(f, "it kept failing, and is paused until {until}"),
        }
    }
}

impl Gate {
    pub(crate) fn new(source: &str, limits: &Limits, with_key: bool, book: Arc<dyn DayBook>, clock: Clock) -> Arc<Gate> {
        let gate = Arc::new(Gate {
            source: source.to_owned(),
            rate: rate::Rate::new(limits, clock.clone()),
            day: limits.day.as_ref().map(|day| day::Day::new(source, day.clone(), with_key, book)),
            quiet: limits.leave_alone.clone(),
            places: Arc::new(Semaphore::new(limits.at_once as usize)),
            queue: Mutex::default(),
            health: Mutex::new(health::Health::new(limits.pause_after, limits.probe_after)),
            came: Notify::new(),
            begins: Mutex::new(Timestamp::MIN),
            closed: AtomicBool::new(false),
            clock,
        });
        tokio::spawn(keep(Arc::downgrade(&gate)));
        gate
    }

    /// Waits until a request may be sent. Dropping the future gives the wait up.
    pub async fn turn(self: &Arc<Gate>, ticket: Ticket) -> Option<Turn> {
        let (give, given) = oneshot::channel();
        lock(&self.queue).join(ticket, give);
        self.came.notify_one();
        given.await.ok()
    }

    /// Asks nothing until an instant: calls of the process before this one still count.
    pub fn begin_at(&self, instant: Timestamp) {
        *lock(&self.begins) = instant;
    }

    /// Takes the place of another gate to the same source, whose calls of the last minute still count. Who waits there waits for nothing.
    pub fn succeed(&self, before: &Gate) {
        before.closed.store(true, Ordering::SeqCst);
        self.rate.go_on_from(&before.rate);
        self.begin_at(*lock(&before.begins));
    }

    /// At how many calls a minute the source said that there are too many, and how many its profile declares.
    pub fn slowed(&self) -> Option<u32> {
        self.rate.slowed_at()
    }

    /// What keeps the source from being asked at this moment.
    pub fn standing(&self) -> Standing {
        let now = self.clock.now();
        let begins = *lock(&self.begins);
        if let Some(until) = self.left_alone_until(now).max(Some(begins).filter(|b| now < *b)) {
            return Standing::LeftAlone(until);
        }
        match lock(&self.health).waits_until(now) {
            Some((until, true)) => return Standing::Paused(until),
            Some((until, false)) => return Standing::LeftAlone(until),
            None => {}
        }
        match self.day.as_ref().and_then(|day| day.used_up_until(now)) {
            Some(until) => Standing::UsedUp(until),
            None => Standing::Ready,
        }
    }

    /// Calls sent in the last minute.
    pub fn used_this_minute(&self) -> u32 {
        self.rate.used()
    }

    /// Calls counted today and how many a day allows, where there is such a limit.
    pub fn used_today(&self) -> Option<(u32, u32)> {
        self.day.as_ref().map(|day| day.used(self.clock.now()))
    }

    /// The end of the quiet hours, if this is one of them.
    fn left_alone_until(&self, now: Timestamp) -> Option<Timestamp> {
        let quiet = self.quiet.as_ref()?;
        let wall = quiet.zone.to_datetime(now.to_jiff());
        if !quiet.contain(wall.time()) {
            return None;
        }
        // The next end of a stretch that is outside all stretches, today or tomorrow.
        let mut ends: Vec<Timestamp> = vec![];
        for day in 0..2 {
            let date = mizuno_core::TradeDate::from_civil(wall.date()).plus(day);
            let close = |s: &mizuno_core::venue::Stretch| mizuno_core::calendar::on_the_wall(&quiet.zone, date, s.close);
            ends.extend(quiet.hours.iter().filter(|s| !quiet.contain(s.close)).map(close));
        }
        ends.into_iter().filter(|end| *end > now).min()
    }

    /// Waits until everything but the order of the queue allows a request, and counts it.
    async fn open(self: &Arc<Gate>) -> Option<Turn> {
        let place = self.places.clone().acquire_owned().await.ok()?;
        loop {
            let now = self.clock.now();
            let health = lock(&self.health).waits_until(now).map(|(until, _)| until);
            let begins = Some(*lock(&self.begins)).filter(|b| now < *b);
            if let Some(until) = health.max(self.left_alone_until(now)).max(begins) {
                // Health may be restored, or trouble reported, before that.
                tokio::select! {
                    () = self.clock.sleep_until(until) => {}
                    () = self.came.notified() => {}
                }
                continue;
            }
            if let Some(day) = &self.day
                && let Err(until) = day.take(now).await
            {
                self.clock.sleep_until(until.min(now.plus(60_000_000))).await;
                continue;
            }
            self.rate.wait().await;
            if self.closed.load(Ordering::SeqCst) {
                return None;
            }
            return Some(Turn { gate: self.clone(), probes: AtomicBool::new(false), _place: place });
        }
    }
}

/// Gives turns to those who wait, for as long as the source is there.
async fn keep(gate: std::sync::Weak<Gate>) {
    loop {
        let Some(here) = gate.upgrade() else { return };
        let empty = lock(&here.queue).is_empty();
        if empty {
            // Wakes up now and then to see whether the source is still there.
            tokio::select! {
                () = here.came.notified() => {}
                () = tokio::time::sleep(std::time::Duration::from_secs(5)) => {}
            }
            continue;
        }
        let Some(mut turn) = here.open().await else { return };
        // Before anybody can report on it.
        *turn.probes.get_mut() = lock(&here.health).sent(here.clock.now());
        // Who gave up waiting does not take the turn with them.
        loop {
            let next = lock(&here.queue).next();
            let Some(next) = next else { break };
            match next.send(turn) {
                Ok(()) => break,
                Err(unused) => turn = unused,
            }
        }
    }
}

impl Turn {
    /// Tells how the request went, and how long the source asked us to wait.
    pub(crate) fn report(&self, failure: Option<&Failure>, retry_after: Option<i64>) {
        self.probes.store(false, Ordering::Relaxed);
        let now = self.gate.clock.now();
        // Too many calls say something about our pace, not that the source is in trouble.
        let too_many = failure.is_some_and(|f| f.class == Class::TooMany);
        match too_many {
            true => self.gate.rate.slow_down(),
            false => self.gate.rate.speed_up(),
        }
        let trouble = !too_many && failure.is_some_and(|f| f.class.is_of_the_source());
        let told = lock(&self.gate.health).report(trouble, retry_after.filter(|_| trouble || too_many), now);
        if let Some(until) = told {
            tracing::warn!(source = self.gate.source, %until, "the source keeps failing; it is paused and probed then");
        }
        self.gate.came.notify_one();
    }
}

impl Drop for Turn {
    fn drop(&mut self) {
        // A probe that nobody sent, or whose answer nobody waited for, has found nothing out: the next request probes.
        if *self.probes.get_mut() {
            lock(&self.gate.health).gave_up();
            self.gate.came.notify_one();
        }
    }
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
