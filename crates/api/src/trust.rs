//! Series compared, bars traced to where they came from, and what was restated.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// Two series compared.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Compared {
    /// The first series.
    pub here: String,
    /// The second.
    pub there: String,
    /// Slots in which both have a bar.
    pub matched: u64,
    /// Of these, with the same bar.
    pub equal: u64,
    /// How many differ, by column.
    pub differing: BTreeMap<String, u64>,
    /// Slots that only the first has.
    pub only_here: u64,
    /// Slots that only the second has.
    pub only_there: u64,
    /// Where, the first fifty stretches.
    pub only_here_at: Vec<Stretch>,
    /// Where, the first fifty stretches.
    pub only_there_at: Vec<Stretch>,
    /// The first differences in time.
    pub differences: Vec<ComparedBar>,
    /// What differs all along, and what to change in a profile, in sentences.
    pub diagnosis: Vec<String>,
}

/// A stretch of slots.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Stretch {
    /// First slot.
    pub from: String,
    /// End of the last slot.
    pub to: String,
    /// Slots in it.
    pub slots: u64,
}

/// A bar that two series tell differently. Values are open, high, low, close, volume and open interest.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ComparedBar {
    /// The bar's moment.
    pub at: String,
    /// Which columns differ.
    pub columns: Vec<String>,
    /// The first series' values.
    pub here: Vec<Option<String>>,
    /// The second's.
    pub there: Vec<Option<String>>,
}

/// One version of a bar, with where it came from. Values are open, high, low, close, volume and open interest.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BarVersion {
    /// The series it is in: of a golden bar, that which the bar is taken from.
    pub series: String,
    /// When it was learned.
    pub recorded_at: String,
    /// Its values.
    pub values: Vec<Option<String>>,
    /// Whether the source took the bar back.
    pub withdrawn: bool,
    /// The fetch that brought it.
    pub fetch: i64,
    /// The run of that fetch.
    pub run: i64,
    /// Method and address, without secrets.
    pub request: String,
    /// SHA-256 of the kept bytes.
    pub payload: Option<String>,
    /// The page it stands on, from 1.
    pub page: Option<u32>,
    /// Its line or element there, from 1.
    pub line: Option<u64>,
    /// The line or element itself.
    pub text: Option<String>,
}

/// A bar that a source has changed. Values are open, high, low, close, volume and open interest.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Restatement {
    /// The series.
    pub series: String,
    /// The bar's moment.
    pub at: String,
    /// When the change was learned.
    pub learned_at: String,
    /// By which fetch.
    pub fetch: i64,
    /// The values before.
    pub was: Vec<Option<String>>,
    /// The values since.
    pub is: Vec<Option<String>>,
}
