//! What happens, told to whoever listens.

use mizuno_core::SeriesKey;
use mizuno_store::{
    fetch::FetchRow,
    runs::{Figures, RunRow},
};
use tokio::sync::broadcast;

/// Something that happened.
#[derive(Clone, Debug)]
pub enum Event {
    /// A run began, moved on or ended.
    Run(Box<RunNow>),
    /// A fetch of a series ended.
    Fetch(Box<FetchRow>, SeriesKey),
    /// Something was excused, or an excuse was taken back.
    Excuses,
    /// A list was collected.
    Lists,
    /// An edition was begun, ended, withdrawn or taken away.
    Editions,
}

/// A run as it stands now.
#[derive(Clone, Debug)]
pub struct RunNow {
    /// Its row of the ledger.
    pub row: RunRow,
    /// Why it was started, in a word: `schedule`, `request`, `repair`, `recovery`, `audit` or `new-basis`.
    pub why: &'static str,
    /// What its fetches came to so far.
    pub figures: Figures,
    /// How fast it goes, while it runs.
    pub pace: Pace,
    /// What it waits for before it can plan its windows, while it does.
    pub waits_for: Option<String>,
}

/// How fast a run goes; all absent once it has ended.
#[derive(Clone, Copy, Debug, Default)]
pub struct Pace {
    /// Calls that its source was sent in the last sixty seconds, and how many it allows.
    pub calls_a_minute: Option<(u32, u32)>,
    /// Windows a second.
    pub rate: Option<f64>,
    /// Seconds left at that rate.
    pub seconds_left: Option<f64>,
}

/// Hands events on to every listener; a listener that is too slow misses the oldest.
#[derive(Clone)]
pub struct Events(broadcast::Sender<Event>);

impl Default for Events {
    fn default() -> Events {
        Events(broadcast::channel(1024).0)
    }
}

impl Events {
    /// Tells something to whoever listens; nobody listening is no failure.
    pub fn tell(&self, event: Event) {
        let _ = self.0.send(event);
    }

    /// What is told from now on.
    #[must_use]
    pub fn listen(&self) -> broadcast::Receiver<Event> {
        self.0.subscribe()
    }
}
