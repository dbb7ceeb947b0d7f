//! Knowledge time: the stamps of commits, in commit order.
//!
//! A transaction is stamped when it begins, by the one task that writes, so
//! stamps grow in the order in which commits become visible. A reader that
//! pins an instant therefore sees the same for ever: all that is stamped up to
//! it is committed, and nothing stamped later shows.

use mizuno_core::Timestamp;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use tokio::sync::Notify;

/// Where the present instant comes from.
pub type Now = Arc<dyn Fn() -> Timestamp + Send + Sync>;

/// A clock further behind the newest stamp than this, in microseconds, has been set back.
const SET_BACK: i64 = 1_000_000;

#[derive(Clone)]
pub(crate) struct Knowledge {
    now: Now,
    state: Arc<Mutex<State>>,
    settled: Arc<Notify>,
}

struct State {
    /// No later transaction is stamped at or before this.
    floor: Timestamp,
    /// The newest commit.
    committed: Timestamp,
    /// The stamp of the transaction under way.
    under_way: Option<Timestamp>,
    /// The earliest instant the clock has shown since it was found behind the newest stamp.
    behind_since: Option<Timestamp>,
}

impl Knowledge {
    pub(crate) fn new(now: Now, committed: Timestamp) -> Knowledge {
        let state = State { floor: committed, committed, under_way: None, behind_since: None };
        let knowledge = Knowledge { now, state: Arc::new(Mutex::new(state)), settled: Arc::default() };
        knowledge.look_at_the_clock(&mut knowledge.lock());
        knowledge
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn look_at_the_clock(&self, state: &mut State) -> Timestamp {
        let now = (self.now)();
        if now.plus(SET_BACK) < state.committed {
            state.behind_since = Some(state.behind_since.map_or(now, |since| since.min(now)));
        } else if now >= state.committed {
            state.behind_since = None;
        }
        now
    }

    /// The stamp of a transaction that begins: the clock's, or just after the last one where the clock stands still or was set back.
    pub(crate) fn begin(&self) -> Timestamp {
        let mut state = self.lock();
        let stamp = self.look_at_the_clock(&mut state).max(Timestamp(state.floor.0.saturating_add(1)));
        (state.floor, state.under_way) = (stamp, Some(stamp));
        stamp
    }

    /// The transaction under way has ended.
    pub(crate) fn end(&self, stamp: Timestamp, committed: bool) {
        let mut state = self.lock();
        state.under_way = None;
        if committed {
            state.committed = stamp;
        }
        drop(state);
        self.settled.notify_waiters();
    }

    /// The newest commit.
    pub(crate) fn committed(&self) -> Timestamp {
        self.lock().committed
    }

    /// The instant an answer stands for that is asked as of `wanted`, once everything stamped up to it is committed;
    /// without one, the newest commit. `None` for an instant that is still to come.
    pub(crate) async fn pin(&self, wanted: Option<Timestamp>) -> Option<Timestamp> {
        loop {
            let settled = self.settled.notified();
            tokio::pin!(settled);
            settled.as_mut().enable();
            {
                let mut state = self.lock();
                let Some(wanted) = wanted else { return Some(state.committed) };
                let now = self.look_at_the_clock(&mut state);
                if wanted > now.max(state.committed) {
                    return None;
                }
                // The clock shows these instants for the second time: by now everything up to the newest commit is known.
                if state.behind_since.is_some_and(|since| since <= wanted && wanted <= now) {
                    return Some(state.committed);
                }
                if wanted <= state.committed {
                    return Some(wanted);
                }
                state.floor = state.floor.max(wanted);
                if state.under_way.is_none_or(|stamp| stamp > wanted) {
                    return Some(wanted);
                }
            }
            settled.await;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicI64, Ordering};

    fn knowledge(at: i64) -> (Knowledge, Arc<AtomicI64>) {
        let clock = Arc::new(AtomicI64::new(at));
        let hand = clock.clone();
        (Knowledge::new(Arc::new(move || Timestamp(hand.load(Ordering::SeqCst))), Timestamp(100)), clock)
    }

    #[tokio::test]
    async fn stamps_follow_the_order_of_commits_whatever_the_clock_does() {
        let (knowledge, clock) = knowledge(1_000);
        let first = knowledge.begin();
        knowledge.end(first, true);
        clock.store(500, Ordering::SeqCst);
        let second = knowledge.begin();
        assert!(first < second && first == Timestamp(1_000));
        knowledge.end(second, false);
        assert_eq!(knowledge.committed(), first, "what was undone is known to nobody");
    }

    #[tokio::test]
    async fn an_answer_waits_for_the_commit_it_must_know_of_and_later_ones_stay_out() {
        let (knowledge, clock) = knowledge(1_000);
        let under_way = knowledge.begin();
        clock.store(2_000, Ordering::SeqCst);
        let asked = knowledge.clone();
        let answer = tokio::spawn(async move { asked.pin(Some(Timestamp(1_500))).await });
        tokio::task::yield_now().await;
        assert!(!answer.is_finished(), "the transaction stamped 1000 is still under way");
        knowledge.end(under_way, true);
        assert_eq!(answer.await.unwrap(), Some(Timestamp(1_500)));
        clock.store(1_200, Ordering::SeqCst);
        assert!(knowledge.begin() > Timestamp(1_500), "nothing later is stamped into what was answered");
        assert_eq!(knowledge.pin(Some(Timestamp(9_000))).await, None);
        assert_eq!(knowledge.pin(None).await, Some(under_way));
    }

    #[tokio::test]
    async fn what_is_held_does_not_disappear_when_the_clock_comes_back() {
        let (knowledge, clock) = knowledge(10_000_000);
        let ahead = knowledge.begin();
        knowledge.end(ahead, true);
        clock.store(2_000_000, Ordering::SeqCst);
        assert_eq!(knowledge.pin(Some(Timestamp(2_000_000))).await, Some(ahead), "the clock shows this instant a second time");
        assert_eq!(knowledge.pin(Some(Timestamp(1_000_000))).await, Some(Timestamp(1_000_000)), "the past is as it was");
        assert_eq!(knowledge.pin(Some(ahead)).await, Some(ahead));
        clock.store(20_000_000, Ordering::SeqCst);
        assert_eq!(knowledge.pin(Some(Timestamp(15_000_000))).await, Some(Timestamp(15_000_000)));
    }
}
