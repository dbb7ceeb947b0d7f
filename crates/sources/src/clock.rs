//! The clock of the service: the wall's, seen through a face.

use mizuno_core::{Timestamp, clock::ClockFace};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

/// Reads and waits for service time. Clones read the same time.
#[derive(Clone, Debug)]
pub struct Clock(ClockFace);

impl Clock {
    /// A clock with this face.
    #[must_use]
    pub fn new(face: ClockFace) -> Clock {
        Clock(face)
    }

    /// Service time now.
    #[must_use]
    pub fn now(&self) -> Timestamp {
        self.0.at(wall())
    }

    /// How its time follows the wall.
    #[must_use]
    pub fn face(&self) -> ClockFace {
        self.0
    }

    /// Waits until `micros` of service time have passed.
    pub async fn sleep(&self, micros: i64) {
        tokio::time::sleep(self.0.wall_time(micros)).await;
    }

    /// Waits until service time is `at`.
    pub async fn sleep_until(&self, at: Timestamp) {
        self.sleep(at.0.saturating_sub(self.now().0)).await;
    }
}

/// The time on the wall.
#[must_use]
pub fn wall() -> Timestamp {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or(Duration::ZERO);
    Timestamp(i64::try_from(since.as_micros()).unwrap_or(i64::MAX))
}
