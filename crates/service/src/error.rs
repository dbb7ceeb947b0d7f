//! Why the service cannot do something, in words a person can act on.

use std::net::SocketAddr;

/// A failure of the service.
#[derive(Debug, thiserror::Error)]
pub enum ServiceError {
    /// The address to listen on is open to others.
    #[error("cannot listen on {0}: only loopback addresses are served, since there are no tokens yet; use 127.0.0.1 and a tunnel")]
    NotLoopback(SocketAddr),
    /// The address cannot be listened on.
    #[error("cannot listen on {listen}: {source}; is another mizuno running? choose another address with --listen")]
    Listen {
        /// The address.
        listen: SocketAddr,
        /// What the system said.
        source: std::io::Error,
    },
    /// The store refused.
    #[error(transparent)]
    Store(#[from] mizuno_store::StoreError),
    /// A source cannot be set up.
    #[error("source {name}: {failure}")]
    Source {
        /// Its name.
        name: String,
        /// Why.
        failure: mizuno_sources::Failure,
    },
    /// Something asked for does not exist.
    #[error("there is no {kind} `{id}`; {hint}")]
    Unknown {
        /// What kind of thing.
        kind: &'static str,
        /// What was asked for.
        id: String,
        /// Where to look.
        hint: String,
    },
    /// Something asked for cannot be.
    #[error("{0}")]
    Invalid(String),
    /// It is being done already.
    #[error("{what} is already at work as run {run}; watch it, wait for it, or cancel it with: mizuno cancel {run}")]
    Busy {
        /// The collector, or its repair.
        what: String,
        /// The run.
        run: i64,
    },
    /// The service is shutting down.
    #[error("the service is shutting down; ask again when it is back")]
    Stopping,
}

impl ServiceError {
    /// An unknown thing, with a hint at the nearest known names.
    pub(crate) fn unknown<'a>(kind: &'static str, id: &str, known: impl Iterator<Item = &'a str>) -> ServiceError {
        let mut close: Vec<&str> = known.collect();
        let lower = id.to_lowercase();
        close.sort_by_key(|name| {
            let name = name.to_lowercase();
            let shared = name.chars().zip(lower.chars()).take_while(|(a, b)| a == b).count();
            (std::cmp::Reverse(shared), name.len().abs_diff(lower.len()))
        });
        close.truncate(4);
        let hint = if close.is_empty() { "none is known yet".to_owned() } else { format!("did you mean {}?", close.join(", ")) };
        ServiceError::Unknown { kind, id: id.to_owned(), hint }
    }
}
