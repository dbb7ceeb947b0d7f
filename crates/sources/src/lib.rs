//! Asking sources, and understanding what they answer.
//!
//! A [`Source`] is a profile at work. Around one HTTP request stand layers of
//! one concern each: [`limit`] waits for its turn, [`attempt`] sends it and
//! reads the body within bounds, [`decode`] understands the bytes, and
//! [`Source::ask`] tries again as long as that can help.
//!
//! Nothing here knows any particular source; that is all in profiles.

pub mod attempt;
pub mod clock;
pub mod decode;
pub mod failure;
pub mod limit;
pub mod request;
mod stamp;

pub use clock::Clock;
pub use decode::Decoded;
pub use failure::{Class, Failure};

use attempt::Attempt;
use mizuno_config::{Profile, profile::Offer};
use mizuno_core::{Span, Timestamp, Venue};
use rand::Rng;
use std::sync::Arc;

/// A profile at work, with its limits. Clones share the limits.
#[derive(Clone)]
pub struct Source {
    /// How to ask it and how to understand it.
    pub profile: Arc<Profile>,
    http: reqwest::Client,
    limits: Arc<limit::Limits>,
    clock: Clock,
}

/// How asking for one window ended, after as many attempts as it took.
#[derive(Debug)]
pub struct Asked {
    /// Method and address, without secrets.
    pub request: String,
    /// How often it was tried.
    pub attempts: u32,
    /// When the last attempt was sent.
    pub asked_at: Timestamp,
    /// When its answer, or failure, was complete.
    pub answered_at: Timestamp,
    /// HTTP status of the last answer, if one came.
    pub status: Option<u16>,
    /// The bytes of the last answer, if one came.
    pub body: Option<Vec<u8>>,
    /// What the answer says, or why there is none to use.
    pub outcome: Result<Decoded, Failure>,
}

impl Source {
    /// Puts a profile to work.
    ///
    /// # Errors
    /// When the system's trusted certificates cannot be loaded.
    pub fn new(profile: Arc<Profile>, clock: Clock) -> Result<Source, Failure> {
        let http = attempt::client(&profile)?;
        let limits = Arc::new(limit::Limits::new(&profile.limits, clock.clone()));
        Ok(Source { profile, http, limits, clock })
    }

    /// Asks for one window of one instrument, and again while that can help.
    pub async fn ask(&self, offer: &Offer, venue: &Venue, symbol: &str, window: &Span) -> Asked {
        let url = match request::url(&self.profile, offer, venue, symbol, window) {
            Ok(url) => url,
            Err(failure) => return self.never_sent(failure),
        };
        let limits = &self.profile.limits;
        let mut pause = limits.first_pause;
        let mut attempts = 0;
        loop {
            attempts += 1;
            let turn = self.limits.turn().await;
            let asked_at = self.clock.now();
            let Attempt { status, body, retry_after, result } = attempt::send(&self.http, limits, &url, asked_at).await;
            drop(turn);
            let answered_at = self.clock.now();
            let outcome =
                result.and_then(|media_type| decode::decode(offer, venue, body.as_deref().unwrap_or_default(), media_type.as_deref()));
            match &outcome {
                Err(failure) if failure.class.may_pass() && attempts < limits.attempts => {
                    let wait = retry_after.unwrap_or_else(|| rand::rng().random_range(pause / 2..=pause));
                    tracing::debug!(source = self.profile.name, %failure, attempts, "asking again after a pause");
                    self.clock.sleep(wait).await;
                    pause = (pause.saturating_mul(2)).min(limits.longest_pause);
                }
                _ => return Asked { request: format!("GET {url}"), attempts, asked_at, answered_at, status, body, outcome },
            }
        }
    }

    fn never_sent(&self, failure: Failure) -> Asked {
        let now = self.clock.now();
        Asked {
            request: "not sent".to_owned(),
            attempts: 0,
            asked_at: now,
            answered_at: now,
            status: None,
            body: None,
            outcome: Err(failure),
        }
    }

    /// Calls sent in the last minute, and how many the profile allows.
    #[must_use]
    pub fn calls_in_last_minute(&self) -> (u32, u32) {
        (self.limits.used(), self.profile.limits.calls_per_minute)
    }
}
