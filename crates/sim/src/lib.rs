//! The simulated outside world: a market made up from a seed, and the sources
//! that sell its prices, faults and all.
//!
//! Nothing here is part of the product. It stands in for other people's
//! servers in the demo and in the tests, and listens on loopback only.
//!
//! * [`market`]: the true prices.
//! * [`faults`]: what goes wrong, each on a switch.
//! * [`bases`]: made-up answers with and without a changed basis;
//! * [`bucket`]: a storage of objects, to which editions are published.
//! * [`specimen`]: made-up series with known faults, to measure the checks on.
//! * [`street`]: the sources at their doors; the dialect of each stands in a file of its name.

pub mod actions;
mod almanack;
pub mod bases;
pub mod bucket;
mod cellar;
pub mod faults;
mod harbour;
mod lodestar;
pub mod market;
mod packhorse;
pub mod specimen;
pub mod street;
mod talk;

use faults::Faults;
use market::Market;
use mizuno_core::{Timestamp, clock::ClockFace};
use std::{
    collections::HashMap,
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    time::{SystemTime, UNIX_EPOCH},
};

/// Thursday 10 April 2025, 14:30 at Aldermere: when the demo begins.
pub const DEMO_START: &str = "2025-04-10T02:30:00Z";

/// The seed of the demo.
pub const DEMO_SEED: u64 = 20_250_410;

/// The key that *lodestar* knows.
pub const LODESTAR_KEY: &str = "polaris-over-the-tarn";

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
    /// Which source was called.
    pub source: &'static str,
    /// Its path and query.
    pub target: String,
    /// The status answered.
    pub status: u16,
}

/// Everything the simulated sources share.
pub struct World {
    /// The true prices of shares and funds.
    pub market: Market,
    /// The true prices of contracts.
    pub corran: Market,
    /// The true prices of currencies.
    pub meridian: Market,
    /// What goes wrong.
    pub faults: Faults,
    clock: ClockFace,
    calls: Mutex<Vec<Call>>,
    /// The last answer each source gave of each symbol.
    last: Mutex<HashMap<(&'static str, String), Vec<u8>>>,
    /// Whether sources answer however often they are asked.
    patient: AtomicBool,
}

impl World {
    /// A world on this clock.
    #[must_use]
    pub fn new(seed: u64, clock: ClockFace, faults: Faults) -> Arc<World> {
        let (market, corran, meridian) = (Market::aldermere(seed), Market::corran(seed), Market::meridian(seed));
        Arc::new(World {
            market,
            corran,
            meridian,
            faults,
            clock,
            calls: Mutex::default(),
            last: Mutex::default(),
            patient: AtomicBool::default(),
        })
    }

    /// Lets sources answer however often they are asked.
    pub fn be_patient(&self) {
        self.patient.store(true, Ordering::Relaxed);
    }

    /// Whether a source has answered as many calls in the sixty seconds before `now` as it allows.
    pub(crate) fn is_asked_too_much(&self, source: &str, now: Timestamp, allowed: usize) -> bool {
        !self.patient.load(Ordering::Relaxed) && self.calls_in_minute_before(source, now) >= allowed
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

    /// Calls a source answered, other than with 429, in the sixty seconds before `now`.
    fn calls_in_minute_before(&self, source: &str, now: Timestamp) -> usize {
        let calls = self.calls.lock().unwrap_or_else(PoisonError::into_inner);
        let recent = calls.iter().rev().take_while(|c| c.at.plus(60_000_000) > now);
        recent.filter(|c| c.source == source && c.status != 429).count()
    }

    /// Keeps an answer and returns the one before.
    pub(crate) fn remember(&self, source: &'static str, said: &talk::Said) -> Option<Vec<u8>> {
        let mut last = self.last.lock().unwrap_or_else(PoisonError::into_inner);
        last.insert((source, said.symbol.clone()), said.body.clone())
    }

    /// The market an instrument trades on.
    #[must_use]
    pub fn market_of(&self, symbol: &str) -> Option<&Market> {
        [&self.market, &self.corran, &self.meridian].into_iter().find(|m| m.instrument(symbol).is_some())
    }

    pub(crate) fn note(&self, call: Call) {
        self.calls.lock().unwrap_or_else(PoisonError::into_inner).push(call);
    }
}
