//! What goes wrong in the simulated world, each fault on a switch.
//!
//! The demo's faults and what Mizuno must say of each stand in demo/ANSWERS.md.

use mizuno_core::{Timestamp, TradeDate};
use std::sync::{Mutex, PoisonError};

/// One thing that goes wrong at a source.
#[derive(Clone, Debug)]
pub enum Fault {
    /// The minutes from noon on are missing from a symbol's session, until it has been asked for this often.
    LostAfternoon {
        /// Whose.
        symbol: &'static str,
        /// Which session.
        date: TradeDate,
        /// After so many askings the bars are there; `None`: never.
        heals_after: Option<u32>,
    },
    /// A web page that says sorry, with status 200, for every request of a symbol's daily bars until some moment.
    ErrorPage {
        /// Whose.
        symbol: &'static str,
        /// Until when.
        until: Timestamp,
    },
    /// The first so many answers for a symbol end in the middle of a line.
    CutFile {
        /// Whose.
        symbol: &'static str,
        /// How many answers.
        times: u32,
    },
    /// Every fifth row of a symbol's daily bars stands there twice.
    RepeatedRows {
        /// Whose.
        symbol: &'static str,
    },
    /// A daily bar with its high and low the wrong way round.
    HighBelowLow {
        /// Whose.
        symbol: &'static str,
        /// Which day.
        date: TradeDate,
    },
    /// The first so many answers for a symbol are this instead.
    Instead {
        /// Whose; every symbol's when empty.
        symbol: &'static str,
        /// How many answers.
        times: u32,
        /// The status.
        status: u16,
        /// The body, as plain text.
        body: String,
    },
    /// The rows of a symbol's answers come in no order.
    Shuffled {
        /// Whose.
        symbol: &'static str,
    },
    /// Every answer takes this long on the wall.
    Slow {
        /// Milliseconds.
        millis: u64,
    },
}

/// The faults that are switched on, and how often each has struck.
#[derive(Debug, Default)]
pub struct Faults(Vec<(Fault, Mutex<u32>)>);

impl Faults {
    /// These faults, and no others.
    #[must_use]
    pub fn only(faults: Vec<Fault>) -> Faults {
        Faults(faults.into_iter().map(|f| (f, Mutex::new(0))).collect())
    }

    /// The demo's.
    #[must_use]
    pub fn of_the_demo() -> Faults {
        let day = |text: &str| text.parse().unwrap_or(TradeDate(0));
        Faults::only(vec![
            Fault::LostAfternoon { symbol: "QHC", date: day("2025-04-02"), heals_after: Some(1) },
            Fault::LostAfternoon { symbol: "OXB", date: day("2025-04-04"), heals_after: None },
            Fault::ErrorPage { symbol: "GRB", until: "2025-04-10T03:30:00Z".parse().unwrap_or(Timestamp(0)) },
            Fault::CutFile { symbol: "OSP", times: 1 },
            Fault::RepeatedRows { symbol: "TEA" },
            Fault::HighBelowLow { symbol: "CRK", date: day("2025-04-03") },
        ])
    }

    /// The faults, each with a counter of its own strikes.
    pub(crate) fn iter(&self) -> impl Iterator<Item = (&Fault, Strikes<'_>)> {
        self.0.iter().map(|(fault, count)| (fault, Strikes(count)))
    }
}

/// Counts how often a fault has struck.
pub(crate) struct Strikes<'f>(&'f Mutex<u32>);

impl Strikes<'_> {
    /// Counts one more strike, if there have been fewer than `most`; says whether it does strike.
    pub(crate) fn strike(&self, most: u32) -> bool {
        let mut count = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let strikes = *count < most;
        *count += u32::from(strikes);
        strikes
    }
}
