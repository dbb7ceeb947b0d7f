//! How many questions are answered at once. Who comes when all seats are taken is told when to come again.

use super::problem::Refusal;
use actix_web::http::{StatusCode, header::RETRY_AFTER};
use std::{sync::Arc, time::Duration};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

/// Answers under way at once, those of slow readers included: each holds up to a megabyte.
const ALL: usize = 400;
/// Wide answers among these: each holds up to thirty-two megabytes.
const WIDE: usize = 4;
/// A wide question waits for a seat so long, in the order in which they came.
const WAIT: Duration = Duration::from_secs(20);

/// Long answers that are being worked out at the same moment: one a core, since each takes what a core has, and a look at the status
/// must not stand behind a dozen of them. One that waits for its reader is not among them.
fn at_work() -> usize {
    std::thread::available_parallelism().map_or(2, usize::from)
}

/// The seats there are.
pub(super) struct Seats {
    work: Arc<Semaphore>,
    all: Arc<Semaphore>,
    wide: Arc<Semaphore>,
    wait: Duration,
}

/// A seat that is taken; free again when dropped.
pub(super) struct Seat {
    _one: OwnedSemaphorePermit,
    wide: Option<OwnedSemaphorePermit>,
    work: Arc<Semaphore>,
}

impl Seat {
    /// A turn to work, in the order in which they were asked for. A wide answer needs none: its seat is one of few.
    pub(super) async fn turn(&self) -> Option<OwnedSemaphorePermit> {
        match self.wide {
            Some(_) => None,
            None => self.work.clone().acquire_owned().await.ok(),
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
        Seats { work: Arc::new(Semaphore::new(at_work())), all: Arc::new(Semaphore::new(all)), wide: Arc::new(Semaphore::new(wide)), wait }
    }

    /// Takes a seat.
    pub(super) async fn take(&self, wide: bool) -> Result<Seat, Refusal> {
        let Ok(one) = self.all.clone().try_acquire_owned() else { return Err(full("questions", 2)) };
        let work = self.work.clone();
        if !wide {
            return Ok(Seat { _one: one, wide: None, work });
        }
        match tokio::time::timeout(self.wait, self.wide.clone().acquire_owned()).await {
            Ok(Ok(permit)) => Ok(Seat { _one: one, wide: Some(permit), work }),
            _ => Err(full("wide questions", 10)),
        }
    }
}

fn full(what: &str, seconds: u32) -> Refusal {
    let detail = format!("as many {what} are being answered as can be at once; ask again in {seconds} seconds");
    Refusal::new(StatusCode::SERVICE_UNAVAILABLE, "busy", "Too many questions at once", detail)
        .with_header(RETRY_AFTER, seconds.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[actix_web::test]
    async fn who_comes_when_all_seats_are_taken_is_told_when_to_come_again() {
        let seats = Seats::of(3, 1, Duration::from_millis(20));
        let wide = seats.take(true).await.ok();
        assert!(wide.is_some());
        let refused = seats.take(true).await.err().map(|r| r.to_string());
        assert!(refused.is_some_and(|told| told.contains("wide questions") && told.contains("in 10 seconds")));
        // A long one has its own seat, as long as there is any.
        let long = [seats.take(false).await.ok(), seats.take(false).await.ok()];
        assert!(long.iter().all(Option::is_some) && seats.take(false).await.is_err());
        drop((wide, long));
        assert!(seats.take(true).await.is_ok(), "a seat that is left is free");
    }
}
