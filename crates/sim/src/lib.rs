//! The simulated outside world: a market made up from a seed, and the sources
//! that sell its prices, faults and all.
//!
//! Nothing here is part of the product. It stands in for other people's
//! servers in the demo and in the tests, and listens on loopback only.
//!
//! * [`market`]: the true prices.
//! * [`faults`]: what goes wrong, each on a switch.
//! * [`harbour`]: the source of that name, in its own dialect.

pub mod faults;
pub mod harbour;
pub mod market;

use faults::Faults;
use market::Market;
use mizuno_core::{Timestamp, clock::ClockFace};
use std::{
    sync::{Arc, Mutex, PoisonError},
    time::{SystemTime, UNIX_EPOCH},
};

/// Thursday 10 April 2025, 14:30 at Aldermere: when the demo begins.
pub const DEMO_START: &str = "2025-04-10T02:30:00Z";

/// The seed of the demo.
pub const DEMO_SEED: u64 = 20_250_410;

/// The time on the wall.
#[must_use]
pub fn wall() -> Timestamp {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    Timestamp(i64::try_from(since.as_micros()).unwrap_or(i64::MAX))
}

/// One request that came in.
#[derive(Clone, Debug)]
pub struct Call {
    /// When, in scenario time.
    pub at: Timestamp,
    /// Its path and query.
    pub target: String,
    /// The status answered.
    pub status: u16,
}

/// Everything the simulated sources share.
pub struct World {
    /// The true prices.
    pub market: Market,
    /// What goes wrong.
    pub faults: Faults,
    clock: ClockFace,
    calls: Mutex<Vec<Call>>,
}

impl World {
    /// A world on this clock.
    #[must_use]
    pub fn new(seed: u64, clock: ClockFace, faults: Faults) -> Arc<World> {
        Arc::new(World { market: Market::aldermere(seed), faults, clock, calls: Mutex::default() })
    }

    /// Scenario time now.
    #[must_use]
    pub fn now(&self) -> Timestamp {
        self.clock.at(wall())
    }

    /// Every call answered so far, in order.
    #[must_use]
    pub fn calls(&self) -> Vec<Call> {
        self.calls.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Calls answered, other than with 429, in the sixty seconds before `now`.
    pub(crate) fn calls_in_minute_before(&self, now: Timestamp) -> usize {
        let calls = self.calls.lock().unwrap_or_else(PoisonError::into_inner);
        let recent = calls.iter().rev().take_while(|c| c.at.plus(60_000_000) > now);
        recent.filter(|c| c.status != 429).count()
    }

    pub(crate) fn note(&self, call: Call) {
        self.calls.lock().unwrap_or_else(PoisonError::into_inner).push(call);
    }
}
