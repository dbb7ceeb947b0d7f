//! Runs under way, and what is told of them while they run.

use mizuno_desk::events::RunNow;
use mizuno_store::fetch::FetchRow;
use std::{
    collections::{HashMap, hash_map::Entry},
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::sync::watch;

/// The runs under way. A collector has at most one, and one repair beside it.
#[derive(Default)]
pub struct LiveRuns {
    runs: Mutex<HashMap<String, Arc<Live>>>,
    stopping: AtomicBool,
}

/// A run under way.
pub(super) struct Live {
    pub id: i64,
    /// Whether nobody asked for it: repairs then keep to the collector's budget.
    pub by_itself: bool,
    began: Instant,
    pub cancel: watch::Sender<Halt>,
    /// Tells those who wait for a turn at the source.
    pub stop: watch::Sender<bool>,
    pub ended: watch::Sender<bool>,
    shown: Mutex<Shown>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Halt {
    No,
    Cancelled,
    /// Its source has another profile now; it is taken up again with that.
    Replaced,
    Stopping,
}

/// What is told of a run while it runs.
pub(super) struct Shown {
    pub run: RunNow,
    told: Instant,
}

impl LiveRuns {
    fn lock(&self) -> std::sync::MutexGuard<'_, HashMap<String, Arc<Live>>> {
        self.runs.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether none may start any more.
    pub(super) fn are_stopping(&self) -> bool {
        self.stopping.load(Ordering::SeqCst)
    }

    /// Gives a place free.
    pub(super) fn leave(&self, place: &str) {
        self.lock().remove(place);
    }

    /// The run that has a place now.
    pub(super) fn at(&self, place: &str) -> Option<i64> {
        self.lock().get(place).map(|live| live.id)
    }

    /// Takes a place for a run; the run that has it already, when one has.
    pub(super) fn take_place(&self, place: &str, live: &Arc<Live>) -> Result<(), i64> {
        match self.lock().entry(place.to_owned()) {
            Entry::Occupied(taken) => Err(taken.get().id),
            Entry::Vacant(free) => {
                free.insert(live.clone());
                Ok(())
            }
        }
    }

    pub(super) fn find(&self, id: i64) -> Option<Arc<Live>> {
        self.lock().values().find(|l| l.id == id).cloned()
    }

    /// The figures of a run under way, fresher than the ledger's.
    pub fn figures(&self, id: i64) -> Option<RunNow> {
        self.find(id).map(|live| live.lock().run.clone())
    }

    /// The ids of the runs under way, each with its collector.
    pub(crate) fn under_way(&self) -> Vec<(i64, String)> {
        self.lock().values().map(|live| (live.id, live.lock().run.row.collector.clone())).collect()
    }

    /// Whether the collector has a run under way that is no repair.
    pub fn is_running(&self, collector: &str) -> bool {
        self.lock().contains_key(collector)
    }

    /// Waits until the collector's run, if it has one under way, has ended.
    pub async fn ended(&self, collector: &str) {
        let live = self.lock().get(collector).cloned();
        if let Some(live) = live {
            let _ = live.ended.subscribe().wait_for(|ended| *ended).await;
        }
    }

    /// Stops every run and waits until they have ended; none starts after this.
    pub async fn stop(&self) {
        self.stopping.store(true, Ordering::SeqCst);
        let all: Vec<Arc<Live>> = self.lock().values().cloned().collect();
        for live in all {
            live.halt(Halt::Stopping);
            let _ = live.ended.subscribe().wait_for(|ended| *ended).await;
        }
    }
}

impl Live {
    pub fn new(run: RunNow, by_itself: bool) -> Live {
        let now = Instant::now();
        Live {
            id: run.row.id,
            by_itself,
            began: now,
            cancel: watch::channel(Halt::No).0,
            stop: watch::channel(false).0,
            ended: watch::channel(false).0,
            shown: Mutex::new(Shown { run, told: now }),
        }
    }

    pub fn lock(&self) -> std::sync::MutexGuard<'_, Shown> {
        self.shown.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub fn halt(&self, halt: Halt) {
        self.cancel.send_replace(halt);
        self.stop.send_replace(true);
    }

    pub fn halted(&self) -> bool {
        *self.cancel.borrow() != Halt::No
    }

    /// Takes windows that are asked for again out of those that failed.
    pub fn put_back(&self, classes: &[&str]) {
        let figures = &mut self.lock().run.figures;
        for class in classes {
            figures.failed = (figures.failed - 1).max(0);
            if let Some(n) = figures.failures.get_mut(*class) {
                *n = n.saturating_sub(1);
            }
        }
        figures.failures.retain(|_, n| *n > 0);
    }

    /// Adds a fetch to the figures; says whether they should be told again.
    pub fn count(&self, fetch: &FetchRow) -> bool {
        let mut shown = self.lock();
        let figures = &mut shown.run.figures;
        match &fetch.failure {
            Some(failure) => {
                figures.failed += 1;
                *figures.failures.entry(failure.class.clone()).or_default() += 1;
            }
            None => figures.done += 1,
        }
        figures.bars_new += fetch.learned.new as i64;
        figures.bars_same += fetch.learned.same as i64;
        figures.restated += fetch.learned.restated as i64;
        figures.refused += fetch.refused;
        figures.bytes += fetch.payload_size;
        figures.calls += fetch.attempts;
        let (finished, planned) = (figures.done + figures.failed, shown.run.row.windows);
        (shown.run.pace.rate, shown.run.pace.seconds_left) = rate(self.began, finished, planned);
        let due = shown.told.elapsed() > Duration::from_millis(200);
        if due {
            shown.told = Instant::now();
        }
        due
    }
}

/// Windows a second and seconds left, on the wall, once there is something to tell them from.
fn rate(began: Instant, finished: i64, planned: i64) -> (Option<f64>, Option<f64>) {
    let elapsed = began.elapsed();
    if finished == 0 || elapsed < Duration::from_millis(50) {
        return (None, None);
    }
    let rate = finished as f64 / elapsed.as_secs_f64();
    (Some(rate), Some((planned - finished).max(0) as f64 / rate))
}
