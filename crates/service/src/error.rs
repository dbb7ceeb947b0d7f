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
        /// What it may be instead.
        hint: String,
        /// Which listing has those that there are, as `gaps` or `series`; empty where none has.
        see: &'static str,
    },
    /// What was to be ended, decided or taken back is so already.
    #[error("{0}")]
    Over(String),
    /// What the service was not started to do for others.
    #[error("{0}")]
    NotAllowed(String),
    /// Something asked for cannot be.
    #[error("{0}")]
    Invalid(String),
    /// It is being done already.
    #[error("{what} is already at work as run {run}; watch it, wait for it, or cancel it")]
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
        let lower = id.to_lowercase();
        let shared = |name: &str| name.to_lowercase().chars().zip(lower.chars()).take_while(|(a, b)| a == b).count();
        let mut close: Vec<(usize, &str)> = known.map(|name| (shared(name), name)).collect();
        let (any, example) = (!close.is_empty(), close.first().map(|(_, name)| *name));
        close.retain(|(shared, _)| *shared > 0);
        close.sort_by_key(|&(shared, name)| (std::cmp::Reverse(shared), name.len().abs_diff(lower.len())));
        let close: Vec<&str> = close.into_iter().take(4).map(|(_, name)| name).collect();
        let hint = match (any, &close[..]) {
            (false, _) => "none is known yet".to_owned(),
            (true, []) => format!("nothing known is called so; there is for example {}", example.unwrap_or("none")),
            (true, close) => format!("did you mean {}?", close.join(", ")),
        };
        let see = match kind {
            "series" => "series",
            "source" | "collector" => "status",
            "list" => "lists",
            _ => "instruments",
        };
        ServiceError::Unknown { kind, id: id.to_owned(), hint, see }
    }
}
