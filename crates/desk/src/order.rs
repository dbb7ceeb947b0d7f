//! What a run is to do.

use mizuno_store::runs::{Reason, RunRow};
use serde::{Deserialize, Serialize};

/// What a run is to do; kept in the ledger, so that a run cut short can be taken up again.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Order {
    /// Only these symbols; all of the collector's when empty.
    #[serde(default)]
    pub symbols: Vec<String>,
    /// From this trade date or instant.
    #[serde(default)]
    pub from: Option<String>,
    /// To this trade date, included, or instant, not included.
    #[serde(default)]
    pub to: Option<String>,
    /// Ask also for what is held.
    #[serde(default)]
    pub again: bool,
    /// Only these gaps.
    #[serde(default)]
    pub gaps: Vec<String>,
    /// Only the windows that failed in this run.
    #[serde(default)]
    pub failed_of: Option<i64>,
    /// Ask again for so many windows of what is held, taken at random.
    #[serde(default)]
    pub audit: Option<u32>,
    /// The past of these series is collected again, since the source changed its basis.
    #[serde(default)]
    pub rebase: bool,
}

impl Order {
    /// What a run was to do.
    pub fn of(run: &RunRow) -> Order {
        serde_json::from_str(&run.scope).unwrap_or_default()
    }

    /// Why a run of this order was started, in a word: an audit and a new basis are told of as such, whoever asked.
    pub fn why(&self, reason: Reason) -> &'static str {
        match self {
            Order { rebase: true, .. } => "new-basis",
            Order { audit: Some(_), .. } => "audit",
            _ => reason.word(),
        }
    }

    /// The place a run of this order takes: there is one of each kind for a collector.
    pub fn place(&self, collector: &str) -> String {
        match self {
            Order { rebase: true, .. } => format!("the new basis of {collector}"),
            Order { audit: Some(_), .. } => format!("the audit of {collector}"),
            Order { gaps, .. } if !gaps.is_empty() => format!("the repair of {collector}"),
            _ => collector.to_owned(),
        }
    }

    /// Whether a run of this order asks for all that its collector is for.
    #[must_use]
    pub fn is_whole(&self) -> bool {
        *self == Order { again: self.again, ..Order::default() }
    }
}
