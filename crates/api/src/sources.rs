//! Sources tried, the lists they keep, and a configuration taken up again.

use crate::FetchPage;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What to try: one request for one instrument, of which nothing is kept.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Try {
    /// Name of a source at work; or give `profile`.
    #[serde(default)]
    pub source: Option<String>,
    /// The text of a profile that need not be at work.
    #[serde(default)]
    pub profile: Option<String>,
    /// Symbol of the instrument.
    pub instrument: String,
    /// Interval; the profile's first when left out.
    #[serde(default)]
    pub interval: Option<String>,
    /// Side; the profile's first of that interval when left out.
    #[serde(default)]
    pub side: Option<String>,
    /// First trade date or instant; the last few sessions when left out.
    #[serde(default)]
    pub from: Option<String>,
    /// Last trade date, included, or an instant, not included.
    #[serde(default)]
    pub to: Option<String>,
}

/// What came of a try.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Tried {
    /// The series it would be.
    pub series: String,
    /// First moment asked for.
    pub from: String,
    /// End of the window.
    pub to: String,
    /// How the key is carried, without the key; absent for sources without keys.
    pub key: Option<String>,
    /// The pages that came.
    pub pages: Vec<FetchPage>,
    /// The first lines of the first page.
    pub first_lines: Vec<String>,
    /// Why there is no answer to use.
    pub failure: Option<String>,
    /// What went wrong, in words.
    pub message: Option<String>,
    /// Rows in the answer.
    pub rows: u64,
    /// Sound bars in it.
    pub sound: u64,
    /// Bars that were not finished.
    pub unfinished: u64,
    /// The zone stamps are shown in below: the venue's.
    pub zone: String,
    /// The first bars as understood.
    pub bars: Vec<TriedBar>,
    /// The first rows that would be refused.
    pub refused: Vec<TriedRow>,
    /// How many would be refused.
    pub refused_count: u64,
    /// What may be wrong with the profile.
    pub hints: Vec<String>,
}

/// A bar as a try understood it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TriedBar {
    /// The stamp's text is read as this moment on the venue's clock.
    pub time: String,
    /// First price.
    pub open: String,
    /// Highest price.
    pub high: String,
    /// Lowest price.
    pub low: String,
    /// Last price.
    pub close: String,
    /// Quantity traded.
    pub volume: Option<String>,
    /// Contracts open at its end.
    pub open_interest: Option<String>,
}

/// A row that a try would refuse.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TriedRow {
    /// Its line or element.
    pub line: u64,
    /// Why.
    pub because: String,
    /// The row itself.
    pub text: String,
}

/// A list that a source keeps.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ListStatus {
    /// The source.
    pub source: String,
    /// The list.
    pub list: String,
    /// What its rows are: `instruments`, `splits`, `dividends`, `members` or `holidays`.
    pub of: String,
    /// The venue it is about.
    pub venue: String,
    /// When it is collected next.
    pub next: String,
    /// When it was collected last.
    pub last: Option<String>,
    /// Method and address, without secrets.
    pub request: Option<String>,
    /// Rows in the newest answer.
    pub rows: u64,
    /// Rows of it that could not be read.
    pub refused: u64,
    /// Why the newest collection failed, if it did.
    pub failure: Option<String>,
    /// The same in words.
    pub message: Option<String>,
    /// Rows under a key that stood before in the same answer; the last one counts.
    #[serde(default)]
    pub repeated: u64,
    /// While it is held back for a person, since it is so much shorter than before: how many rows it would end.
    #[serde(default)]
    pub would_end: Option<u64>,
    /// The first of these, at most twenty, by their keys.
    #[serde(default)]
    pub ending: Vec<String>,
}

/// Something a list said that it had not said before.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ListChange {
    /// The source.
    pub source: String,
    /// The list.
    pub list: String,
    /// When it was learned.
    pub at: String,
    /// `new`, `changed`, `renamed` or `gone`.
    pub change: String,
    /// The row's key, such as a symbol.
    pub key: String,
    /// The key before, of something renamed.
    pub was_key: Option<String>,
    /// The row before, as JSON.
    pub was: Option<String>,
    /// The row now, as JSON.
    pub is: Option<String>,
}

/// What a reload changed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Reloaded {
    /// In sentences; empty when nothing changed.
    pub changes: Vec<String>,
}
