//! Why something cannot be done, in words a person can act on.

use std::path::{Path, PathBuf};

/// Why something is not done.
#[derive(Debug, thiserror::Error)]
pub enum DeskError {
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
    /// A configuration is not sound.
    #[error("{what}:\n{source}")]
    Configuration {
        /// Which one.
        what: String,
        /// Everything that is wrong with it.
        source: mizuno_config::Problems,
    },
    /// A file of ours cannot be read or written.
    #[error("{}: {}", path.display(), on_disk(source))]
    File {
        /// Which one.
        path: PathBuf,
        /// Why not.
        source: std::io::Error,
    },
    /// What was said cannot be read.
    #[error("{source}")]
    Unreadable {
        /// Why not.
        source: Box<dyn std::error::Error + Send + Sync>,
    },
    /// We made a mistake.
    #[error("{what} met a fault in mizuno itself: {source}; please report it, with the log")]
    Fault {
        /// What was being done.
        what: &'static str,
        /// What went wrong.
        source: Box<dyn std::error::Error + Send + Sync>,
    },
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

/// What went wrong with a file, in words a person can act on.
fn on_disk(error: &std::io::Error) -> String {
    match error.kind() {
        std::io::ErrorKind::StorageFull => "the disk is full; make room, and try again".to_owned(),
        _ => error.to_string(),
    }
}

impl DeskError {
    /// A file of ours cannot be read or written, and why.
    pub fn file(path: &Path, source: std::io::Error) -> DeskError {
        DeskError::File { path: path.to_owned(), source }
    }

    /// What was said cannot be read, and why.
    pub fn unreadable(source: impl std::error::Error + Send + Sync + 'static) -> DeskError {
        DeskError::Unreadable { source: Box::new(source) }
    }

    /// A mistake of ours in what was being done.
    pub fn fault(what: &'static str, source: impl std::error::Error + Send + Sync + 'static) -> DeskError {
        DeskError::Fault { what, source: Box::new(source) }
    }

    /// An unknown thing, with a hint at the nearest known names.
    pub fn unknown<'a>(kind: &'static str, id: &str, known: impl Iterator<Item = &'a str>) -> DeskError {
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
            "universe" => "universe",
            "edition" => "editions",
            "chain" => "chain",
            "source" | "collector" => "status",
            "list" => "lists",
            "saved question" => "questions",
            "configuration" | "file" => "history",
            _ => "instruments",
        };
        DeskError::Unknown { kind, id: id.to_owned(), hint, see }
    }
}
