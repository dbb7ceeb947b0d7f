//! Who is served next: today's increment before backfill, collectors by turns.

use std::collections::{HashMap, VecDeque};
use tokio::sync::oneshot;

/// Who waits, and for what.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Ticket {
    /// The collector, or whoever asks.
    pub who: String,
    /// Whether it is for the newest session, which goes before what is older.
    pub newest: bool,
}

struct Waiting<T> {
    ticket: Ticket,
    give: oneshot::Sender<T>,
}

/// Those who wait, in the order they came.
pub(super) struct Queue<T> {
    waiting: VecDeque<Waiting<T>>,
    /// When each was served last, counted in turns.
    served: HashMap<String, u64>,
    turns: u64,
}

impl<T> Default for Queue<T> {
    fn default() -> Self {
        Queue { waiting: VecDeque::new(), served: HashMap::new(), turns: 0 }
    }
}

impl<T> Queue<T> {
    pub(super) fn join(&mut self, ticket: Ticket, give: oneshot::Sender<T>) {
        self.waiting.push_back(Waiting { ticket, give });
    }

    pub(super) fn is_empty(&self) -> bool {
        self.waiting.is_empty()
    }

    /// The next to be served: of those for the newest session, or else of all, whoever was served longest ago.
    pub(super) fn next(&mut self) -> Option<oneshot::Sender<T>> {
        self.waiting.retain(|w| !w.give.is_closed());
        let rank = |w: &Waiting<T>| (!w.ticket.newest, self.served.get(&w.ticket.who).copied().unwrap_or(0));
        let best = (0..self.waiting.len()).min_by_key(|at| rank(&self.waiting[*at]))?;
        let next = self.waiting.remove(best)?;
        self.turns += 1;
        self.served.insert(next.ticket.who, self.turns);
        Some(next.give)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_newest_goes_first_and_collectors_take_turns() {
        let mut queue = Queue::default();
        let mut ends = vec![];
        for (n, (who, newest)) in
            [("deep", false), ("deep", false), ("wide", false), ("today", true), ("wide", false)].into_iter().enumerate()
        {
            let (give, given) = oneshot::channel();
            queue.join(Ticket { who: who.to_owned(), newest }, give);
            ends.push((n, given));
        }
        for expected in [3, 0, 2, 1] {
            queue.next().unwrap().send(()).unwrap();
            let served = ends.iter_mut().position(|(_, end)| end.try_recv().is_ok()).unwrap();
            assert_eq!(ends.remove(served).0, expected, "the order is today, deep, wide, deep");
        }
        drop(ends);
        assert!(queue.next().is_none(), "who gave up is not served");
    }
}
