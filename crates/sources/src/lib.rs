//! Asking sources, and understanding what they answer.
//!
//! A [`Source`] is a profile at work. Around one request stand layers of one
//! concern each: [`gate`] waits for its turn, [`credentials`] put the key in,
//! [`transport`] sends it and reads the answer within bounds, [`decode`]
//! understands the bytes, and [`errand`] goes through pages and tries again as
//! long as that can help.
//!
//! Nothing here knows any particular source; that is all in profiles.

pub mod clock;
mod credentials;
pub mod decode;
mod errand;
pub mod failure;
pub mod gate;
pub mod hints;
pub mod request;
pub mod secret;
mod shared;
mod stamp;
mod transport;

pub use clock::Clock;
pub use decode::{Decoded, Page, Place};
pub use errand::{Answered, Asked, Listed, Stop};
pub use failure::{Class, Failure};
pub use gate::{DayBook, NoDayBook, Standing, Ticket};
pub use request::Wanted;
pub use secret::{Covered, Secrets};

use mizuno_config::Profile;
use std::{
    path::{Path, PathBuf},
    sync::Arc,
};
use transport::Transport;

/// A profile at work, with its limits. Clones share the limits.
#[derive(Clone)]
pub struct Source {
    /// How to ask it and how to understand it.
    pub profile: Arc<Profile>,
    transport: Transport,
    gate: Arc<gate::Gate>,
    credentials: Arc<credentials::Credentials>,
    shared: Arc<shared::Shared>,
    clock: Clock,
}

impl Source {
    /// Puts a profile to work. `folder` is where a `folder:` that is no absolute path begins.
    ///
    /// # Errors
    /// When the system's trusted certificates cannot be loaded.
    pub fn new(profile: Arc<Profile>, clock: Clock, secrets: &Secrets, book: Arc<dyn DayBook>, folder: &Path) -> Result<Source, Failure> {
        let transport = match profile.folder() {
            Some(path) => Transport::Folder(folder.join(path)),
            None if profile.base.starts_with("ftp://") => Transport::Ftp,
            None => Transport::Http(transport::client(&profile)?),
        };
        let credentials = credentials::Credentials::new(&profile, secrets);
        let counted_as = profile.limits.group.as_ref().unwrap_or(&profile.name);
        let gate = gate::Gate::new(counted_as, &profile.limits, credentials.present(), book, clock.clone());
        Ok(Source { profile, transport, gate, credentials, shared: Arc::default(), clock })
    }

    /// The limits at work.
    #[must_use]
    pub fn gate(&self) -> &gate::Gate {
        &self.gate
    }

    /// The same source under the limits that another keeps.
    #[must_use]
    pub fn through_the_gate_of(self, other: &Source) -> Source {
        Source { gate: other.gate.clone(), ..self }
    }

    /// Whether it has the key that its profile names.
    #[must_use]
    pub fn has_key(&self) -> bool {
        self.credentials.present()
    }

    /// Whether its key is still the one that these variables hold.
    #[must_use]
    pub fn has_key_of(&self, secrets: &Secrets) -> bool {
        self.credentials.are_those_of(secrets)
    }

    /// What must not be seen of it.
    #[must_use]
    pub fn covered(&self) -> Covered {
        self.credentials.covered()
    }

    /// The folder people drop files into, for a source that is one.
    #[must_use]
    pub fn folder(&self) -> Option<&PathBuf> {
        if let Transport::Folder(path) = &self.transport { Some(path) } else { None }
    }

    /// For a folder, whether the file of a window is there; other sources have to be asked.
    #[must_use]
    pub fn may_have(&self, offer: &mizuno_config::profile::Offer, venue: &mizuno_core::Venue, wanted: &Wanted<'_>) -> bool {
        let Transport::Folder(root) = &self.transport else { return true };
        let path = request::url(&self.profile, offer, venue, wanted).ok();
        let path = path.as_deref().and_then(|p| p.strip_prefix(self.profile.base.as_str()));
        path.and_then(|p| transport::folder::file(root, p)).is_some_and(|file| file.is_file())
    }
}
