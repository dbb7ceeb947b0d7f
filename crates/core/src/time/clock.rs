//! The face of a clock: how service time follows the clock on the wall.
//!
//! Nothing here reads the time. The demo and the tests run days in seconds by
//! giving the service and the simulated world the same face, so that both read
//! the same scenario time off the same wall.

use crate::time::Timestamp;
use std::{fmt, str::FromStr, time::Duration};

/// A linear map from wall time to service time: at wall instant `wall` the
/// service's time was `start`, and `speed` service seconds pass per wall second.
///
/// Written `START@WALL x SPEED`, as in `2025-04-10T02:30:00Z@2026-01-05T09:00:00Zx60`.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct ClockFace {
    /// Service time at `wall`.
    pub start: Timestamp,
    /// The wall instant at which service time was `start`.
    pub wall: Timestamp,
    /// Service seconds per wall second; above zero.
    pub speed: f64,
}

impl ClockFace {
    /// The face that shows wall time itself.
    pub const REAL: ClockFace = ClockFace { start: Timestamp(0), wall: Timestamp(0), speed: 1.0 };

    /// Service time when the wall shows `wall`.
    ///
    /// ```
    /// use mizuno_core::{Timestamp, clock::ClockFace};
    /// // A minute a second, beginning when the wall showed 0.
    /// let face = ClockFace { start: "2025-04-10T02:30:00Z".parse()?, wall: Timestamp(0), speed: 60.0 };
    /// assert_eq!(face.at(Timestamp(2_000_000)), "2025-04-10T02:32:00Z".parse()?);
    /// # Ok::<(), mizuno_core::time::TimeError>(())
    /// ```
    #[must_use]
    pub fn at(&self, wall: Timestamp) -> Timestamp {
        if *self == Self::REAL {
            return wall;
        }
        self.start.plus(((wall.0 - self.wall.0) as f64 * self.speed) as i64)
    }

    /// How long to wait on the wall for `micros` of service time to pass; nothing for negative time.
    #[must_use]
    pub fn wall_time(&self, micros: i64) -> Duration {
        Duration::from_secs_f64((micros.max(0) as f64 / 1e6 / self.speed).min(1e9))
    }
}

impl fmt::Display for ClockFace {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}@{}x{}", self.start, self.wall, self.speed)
    }
}

/// Text that describes no clock.
#[derive(Debug, thiserror::Error)]
#[error("`{0}` is not a clock; write START@WALLxSPEED, as in 2025-04-10T02:30:00Z@2026-01-05T09:00:00Zx60")]
pub struct NotAClock(String);

impl FromStr for ClockFace {
    type Err = NotAClock;

    fn from_str(text: &str) -> Result<Self, NotAClock> {
        let parse = || {
            let (start, rest) = text.split_once('@')?;
            let (wall, speed) = rest.rsplit_once('x')?;
            let speed: f64 = speed.parse().ok().filter(|s: &f64| s.is_finite() && *s > 0.0)?;
            Some(ClockFace { start: start.parse().ok()?, wall: wall.parse().ok()?, speed })
        };
        parse().ok_or_else(|| NotAClock(text.to_owned()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_second_on_the_wall_is_a_minute_in_the_demo() {
        let face: ClockFace = "2025-04-10T02:30:00Z@2026-01-05T09:00:00Zx60".parse().unwrap();
        let wall: Timestamp = "2026-01-05T09:00:10Z".parse().unwrap();
        assert_eq!(face.at(wall).to_string(), "2025-04-10T02:40:00Z");
        assert_eq!(face.wall_time(600 * 1_000_000), Duration::from_secs(10));
        assert_eq!(face.to_string().parse::<ClockFace>().unwrap(), face);
        assert!("now".parse::<ClockFace>().is_err());
        assert!("2025-04-10T02:30:00Z@2026-01-05T09:00:00Zx0".parse::<ClockFace>().is_err());
    }
}
