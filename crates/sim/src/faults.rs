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
    /// Until some moment, the volume of a daily bar lacks a tenth of what was traded.
    EarlyVolume {
        /// Whose.
        symbol: &'static str,
        /// Which day.
        date: TradeDate,
        /// Until when.
        until: Timestamp,
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
    /// So many answers of a source are this trouble instead.
    Trouble {
        /// Which source.
        source: &'static str,
        /// In whose answers; in everybody's when empty.
        symbol: &'static str,
        /// How many answers; `None`: all.
        times: Option<u32>,
        /// What comes instead.
        what: Trouble,
    },
    /// The newest bars that are not finished stand in answers as if they were.
    Unfinished {
        /// Which source.
        source: &'static str,
    },
    /// Daily bars have a volume that is a tenth too small until two sessions later.
    Restates {
        /// Which source.
        source: &'static str,
    },
    /// A minute's high is half as high again as anybody paid.
    BadPrint {
        /// Which source.
        source: &'static str,
        /// Whose.
        symbol: &'static str,
        /// When the bar opens.
        at: Timestamp,
    },
    /// The file of a session comes up at another hour, or never.
    File {
        /// Which session.
        date: TradeDate,
        /// So many hours late; `None`: it never comes.
        late: Option<i64>,
    },
    /// Every answer takes this long on the wall.
    Slow {
        /// Milliseconds.
        millis: u64,
    },
}

/// What may come instead of an answer, from any source.
#[derive(Clone, Debug)]
pub enum Trouble {
    /// This status with this text.
    Status(u16, &'static str),
    /// Status 429 with a Retry-After of so many seconds, or of the date so many seconds on.
    TooMany {
        /// Seconds to wait.
        seconds: i64,
        /// Written as a date (RFC 9110, section 5.6.7).
        as_date: bool,
    },
    /// A redirect to this address.
    Redirect(&'static str),
    /// A web page with status 200.
    WebPage,
    /// Another media type with the right bytes.
    WrongType(&'static str),
    /// No bytes at all.
    Nothing,
    /// The connection breaks in the middle of the body.
    Reset,
    /// The body ends in the middle, in good order.
    Truncated,
    /// Nothing comes for so many milliseconds of wall time.
    Slow(u64),
    /// Bytes without end, so many MiB.
    Flood(usize),
    /// A byte in the middle that does not belong there.
    Garbled,
    /// The answer the same symbol got the time before.
    Stale,
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
            Fault::EarlyVolume { symbol: "PLV", date: day("2025-04-09"), until: "2025-04-10T04:00:00Z".parse().unwrap_or(Timestamp(0)) },
            Fault::Unfinished { source: "lodestar" },
            Fault::Restates { source: "lodestar" },
            Fault::BadPrint { source: "lodestar", symbol: "WIG", at: "2025-04-08T00:15:00Z".parse().unwrap_or(Timestamp(0)) },
            Fault::Trouble { source: "packhorse", symbol: "BLY-2025-05", times: Some(2), what: Trouble::Status(503, "resting the horses") },
            Fault::Trouble { source: "packhorse", symbol: "TDP-2025-05", times: Some(1), what: Trouble::Reset },
            Fault::Trouble { source: "packhorse", symbol: "TRC-CAD", times: Some(1), what: Trouble::Truncated },
            Fault::File { date: day("2025-04-03"), late: None },
            Fault::File { date: day("2025-04-09"), late: Some(10) },
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
