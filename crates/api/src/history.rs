//! What changed when in the configuration.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A configuration that the service accepted.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AcceptedConfiguration {
    /// Its number.
    pub number: i64,
    /// When it was accepted. It counts from then on; the first also for all time before.
    pub accepted_at: String,
    /// How many files it has.
    pub files: u64,
    /// The files that differ from the configuration before; all of them in the first.
    pub changes: Vec<FileChange>,
}

/// How a file differs from the configuration before.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FileChange {
    /// Its path within the configuration.
    pub path: String,
    /// `new`, `changed` or `gone`.
    pub change: String,
    /// Lines that it has and had not.
    pub added: u64,
    /// Lines that it had and has not.
    pub removed: u64,
    /// The difference in the unified format; only where one configuration is asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub difference: Option<String>,
}

/// The configuration that an answer is made with.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ConfigurationTold {
    /// Its number.
    pub number: i64,
    /// When it was accepted.
    pub accepted_at: String,
    /// Whether the answer is of an instant before that: no older configuration is kept.
    pub stands_for_earlier: bool,
}
