//! How many questions are answered at once, and who is next. Who comes when all seats are taken is told when to come again.
//!
//! Clients are told apart by their `User-Agent`: whoever runs fifty threads waits behind their own questions, and not before
//! somebody's only one.

use super::problem::Refusal;
use actix_web::http::{StatusCode, header::RETRY_AFTER};
use std::{
    collections::{HashMap, VecDeque},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::Duration,
};
use tokio::sync::oneshot;

/// Answers under way at once, those of slow readers included: each holds up to a megabyte.
const ALL: usize = 400;
/// Wide answers among these: each holds up to thirty-two megabytes.
const WIDE: usize = 4;
/// A wide question waits for a seat so long.
const WAIT: Duration = Duration::from_secs(20);

/// Long answers that are being worked out at the same moment: one a core, since each takes what a core has, and a look at the status
/// must not stand behind a dozen of them; and one more, since now and then each waits for the database. One that waits for its reader is
/// not among them.
fn at_work() -> usize {
    std::thread::available_parallelism().map_or(2, usize::from) + 1
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// The seats there are.
pub(super) struct Seats {
    work: Arc<Places>,
    wide: Arc<Places>,
    taken: Arc<Mutex<HashMap<String, usize>>>,
    all: usize,
    wait: Duration,
}

/// A seat that is taken; free again when dropped.
pub(super) struct Seat {
    client: String,
    taken: Arc<Mutex<HashMap<String, usize>>>,
    wide: Option<Place>,
    work: Arc<Places>,
}

impl Seat {
    /// A turn to work. A wide answer needs none: its seat is one of few.
    pub(super) async fn turn(&self) -> Option<Place> {
        match self.wide {
            Some(_) => None,
            None => self.work.take(&self.client, false).await,
        }
    }

    /// The same for an answer that has begun and waited for its reader: it goes before those that have not, and so few are under way.
    pub(super) async fn turn_again(&self) -> Option<Place> {
        match self.wide {
            Some(_) => None,
            None => self.work.take(&self.client, true).await,
        }
    }
}

impl Drop for Seat {
    fn drop(&mut self) {
        let mut taken = lock(&self.taken);
        if let Some(mine) = taken.get_mut(&self.client) {
            *mine -= 1;
            if *mine == 0 {
                taken.remove(&self.client);
            }
        }
    }
}

impl Default for Seats {
    fn default() -> Seats {
        Seats::of(ALL, WIDE, WAIT)
    }
}

impl Seats {
    fn of(all: usize, wide: usize, wait: Duration) -> Seats {
        Seats { work: Places::of(at_work()), wide: Places::of(wide), taken: Arc::default(), all, wait }
    }

    /// Takes a seat. A client has no more of them than it leaves free for the others.
    pub(super) async fn take(&self, client: &str, wide: bool) -> Result<Seat, Refusal> {
        {
            let mut taken = lock(&self.taken);
            let free = self.all.saturating_sub(taken.values().sum());
            let mine = taken.get(client).copied().unwrap_or(0);
            if free == 0 || mine >= free {
                return Err(full(if mine > 0 { "questions of one client" } else { "questions" }, 2));
            }
            taken.insert(client.to_owned(), mine + 1);
        }
        let mut seat = Seat { client: client.to_owned(), taken: self.taken.clone(), wide: None, work: self.work.clone() };
        if wide {
            match tokio::time::timeout(self.wait, self.wide.take(client, false)).await {
                Ok(Some(place)) => seat.wide = Some(place),
                _ => return Err(full("wide questions", 10)),
            }
        }
        Ok(seat)
    }
}

fn full(what: &str, seconds: u32) -> Refusal {
    let detail = format!("as many {what} are being answered as can be at once; ask again in {seconds} seconds");
    Refusal::new(StatusCode::SERVICE_UNAVAILABLE, "busy", "Too many questions at once", detail)
        .with_header(RETRY_AFTER, seconds.to_string())
}

/// A few places that clients take in turn: within a client in the order in which they came, between clients one each.
struct Places(Mutex<Waiting>);

struct Waiting {
    free: usize,
    /// What has begun already.
    begun: VecDeque<oneshot::Sender<Place>>,
    /// Clients that wait, the next first, each with those of its questions that wait.
    clients: VecDeque<(String, VecDeque<oneshot::Sender<Place>>)>,
}

/// A place that is taken; whoever is next has it when it is dropped.
pub(super) struct Place(Option<Arc<Places>>);

impl Places {
    fn of(free: usize) -> Arc<Places> {
        Arc::new(Places(Mutex::new(Waiting { free, begun: VecDeque::new(), clients: VecDeque::new() })))
    }

    /// Waits for a place; `None` only when nobody hands any out any more.
    async fn take(self: &Arc<Self>, client: &str, begun: bool) -> Option<Place> {
        let waits = {
            let mut waiting = lock(&self.0);
            if waiting.free > 0 {
                waiting.free -= 1;
                return Some(Place(Some(self.clone())));
            }
            let (hand, waits) = oneshot::channel();
            match waiting.clients.iter_mut().find(|(name, _)| name == client) {
                _ if begun => waiting.begun.push_back(hand),
                Some((_, mine)) => mine.push_back(hand),
                None => waiting.clients.push_back((client.to_owned(), VecDeque::from([hand]))),
            }
            waits
        };
        waits.await.ok()
    }

    /// Hands a place on to whoever is next and still waits.
    fn hand_on(self: Arc<Self>) {
        loop {
            let next = {
                let mut waiting = lock(&self.0);
                match waiting.next() {
                    Some(next) => next,
                    None => return waiting.free += 1,
                }
            };
            match next.send(Place(Some(self.clone()))) {
                Ok(()) => return,
                // Who gave up waiting leaves the place to the next.
                Err(mut place) => place.0 = None,
            }
        }
    }
}

impl Waiting {
    fn next(&mut self) -> Option<oneshot::Sender<Place>> {
        if let Some(begun) = self.begun.pop_front() {
            return Some(begun);
        }
        let (client, mut mine) = self.clients.pop_front()?;
        let next = mine.pop_front();
        if !mine.is_empty() {
            self.clients.push_back((client, mine));
        }
        next
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        if let Some(places) = self.0.take() {
            places.hand_on();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[actix_web::test]
    async fn who_comes_when_all_seats_are_taken_is_told_when_to_come_again() {
        let seats = Seats::of(4, 1, Duration::from_millis(20));
        let wide = seats.take("notebook", true).await.ok();
        assert!(wide.is_some());
        let refused = seats.take("notebook", true).await.err().map(|r| r.to_string());
        assert!(refused.is_some_and(|told| told.contains("wide questions") && told.contains("in 10 seconds")));
        // A long one has its own seat, as long as there is any.
        let long = [seats.take("notebook", false).await.ok(), seats.take("desk", false).await.ok(), seats.take("sheet", false).await.ok()];
        assert!(long.iter().all(Option::is_some) && seats.take("late", false).await.is_err());
        drop((wide, long));
        assert!(seats.take("late", true).await.is_ok(), "a seat that is left is free");
    }

    #[actix_web::test]
    async fn a_client_leaves_as_many_seats_as_it_takes() {
        let seats = Seats::of(10, 1, Duration::ZERO);
        let mut greedy = vec![];
        while let Ok(seat) = seats.take("greedy", false).await {
            greedy.push(seat);
        }
        assert_eq!(greedy.len(), 5);
        let others = [seats.take("one", false).await, seats.take("two", false).await];
        assert!(others.iter().all(Result::is_ok));
        greedy.pop();
        assert!(seats.take("greedy", false).await.is_err(), "five of ten, less those of others");
        drop(others);
        assert!(seats.take("greedy", false).await.is_ok());
    }

    #[actix_web::test]
    async fn places_go_round_between_clients() {
        let places = Places::of(1);
        let first = places.take("greedy", false).await;
        let served = Arc::new(Mutex::new(vec![]));
        let mut waiting = vec![];
        for (client, number) in [("greedy", 1), ("greedy", 2), ("greedy", 3), ("modest", 4), ("gone", 5), ("modest", 6), ("begun", 7)] {
            let (places, served) = (places.clone(), served.clone());
            let task = actix_web::rt::spawn(async move {
                let place = places.take(client, client == "begun").await;
                lock(&served).push(number);
                drop(place);
            });
            tokio::task::yield_now().await;
            waiting.push(task);
        }
        waiting.remove(4).abort();
        tokio::task::yield_now().await;
        drop(first);
        for task in waiting {
            task.await.unwrap();
        }
        assert_eq!(*lock(&served), [7, 1, 4, 2, 6, 3]);
        assert_eq!(lock(&places.0).free, 1, "every place came back");
    }
}
