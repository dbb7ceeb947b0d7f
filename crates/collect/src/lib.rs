//! Collectors at work: what is asked of sources, when, and what becomes of the answers.
//!
//! * `schedule`: one loop for each collector and list; [`run`]: plan, ask, understand, keep, tell.
//! * [`lists`]: the lists that sources keep; `following`: whom a rule has found; [`trying`]: a source tried once, of which nothing is kept.
//! * `recovery`: what a killed process left undone; `folding`: old polls that brought nothing new.
//! * `basis`: a source that says something else than before; `lateness`: a source that publishes late.
//! * `reload`: a changed configuration taken up without a restart; [`repair`]: gaps asked for again.
//!
//! What happens is told as domain events ([`mizuno_desk::events`]). It knows nothing of HTTP or of the types that go over
//! the wire, and answers no researcher.

pub mod basis;
pub mod concerns;
mod folding;
mod following;
mod lateness;
mod listing;
pub mod lists;
pub mod punctuality;
mod recovery;
mod reload;
pub mod repair;
pub mod run;
mod schedule;
pub mod trying;

pub use punctuality::Punctuality;
pub use run::Order;
pub use trying::{Trial, Tried, try_profile};

use mizuno_desk::{Desk, DeskError};
use run::LiveRuns;
use std::sync::Arc;

/// The room that collects.
pub struct Collect {
    /// The setup at work, the store, and what is known of every series.
    pub desk: Arc<Desk>,
    /// The runs under way.
    pub live: LiveRuns,
    /// Whose lists are being collected; runs that need them wait.
    listing: listing::Listing,
    /// Whether a profile that is sent to be tried may use the environment, files and any address.
    pasted_profiles: bool,
}

impl Collect {
    /// A room in which nothing is at work yet.
    #[must_use]
    pub fn new(desk: Arc<Desk>, pasted_profiles: bool) -> Arc<Collect> {
        Arc::new(Collect { desk, live: LiveRuns::default(), listing: listing::Listing::default(), pasted_profiles })
    }

    /// Finishes what a killed process left, and then keeps every collector and list to its schedule.
    ///
    /// # Errors
    /// When the store cannot be read or written.
    pub async fn begin(self: &Arc<Collect>) -> Result<(), DeskError> {
        recovery::recover(self).await?;
        schedule::keep_all(self);
        folding::keep_folding(&self.desk);
        Ok(())
    }

    /// Stops every run in good order; they are taken up again at the next start.
    pub async fn stop(&self) {
        self.live.stop().await;
    }
}
