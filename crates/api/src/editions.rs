//! Editions: immutable sets of files made from saved questions.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// A standing order for files, with its newest edition.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EditionSpec {
    /// Its name: the first part of the names of its editions.
    pub name: String,
    /// What people call it.
    pub title: String,
    /// When it is made, in words.
    pub when: String,
    /// When it is due next; absent where it is made only when somebody asks.
    pub next: Option<String>,
    /// What holds it up, where it is due and not made.
    pub held_up: Option<HeldUp>,
    /// How many are kept; all when absent.
    pub keep: Option<u32>,
    /// Where each is published besides, as `s3://BUCKET/PREFIX`.
    pub publish: Option<String>,
    /// Why the object storage does not have them as it should, where it does not; it is tried again by itself.
    pub storage_behind: Option<String>,
    /// The name of its table of bars for SQL engines, where it has one.
    pub table: Option<String>,
    /// The names of its files, with what they are cut by in braces.
    pub files: Vec<String>,
    /// How many of its editions can be read.
    pub editions: u64,
    /// The newest that can be read.
    pub latest: Option<Edition>,
    /// The one that is being made.
    pub making: Option<Edition>,
}

/// An edition that is due and not made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HeldUp {
    /// When it was due.
    pub due: String,
    /// What does not hold.
    pub why: Vec<String>,
    /// When it is made all the same, and marked; absent where it is not.
    pub until: Option<String>,
}

/// An edition.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Edition {
    /// The name of its spec.
    pub spec: String,
    /// Its number among those of its spec.
    pub number: i64,
    /// What people call it: the month, week or date of the newest session that had closed.
    pub label: String,
    /// The instant it stands for.
    pub as_of: String,
    /// `making`, `made`, `cancelled`, `failed`, `expired`; or `withdrawn`.
    pub state: String,
    /// The moment for which it was due.
    pub due: Option<String>,
    /// Who asked for it.
    pub asked_by: Option<String>,
    /// When it was begun.
    pub begun_at: String,
    /// When it was there, or given up.
    pub ended_at: Option<String>,
    /// The version of the program that made it.
    pub program: String,
    /// What did not hold when it was made, or why it could not be.
    pub remark: Option<String>,
    /// The SHA-256 of its file SHA256SUMS, which has those of all others.
    pub sums: Option<String>,
    /// Who keeps it from expiring, and why.
    pub pinned: Option<ByWhom>,
    /// Who withdrew it, why and when.
    pub withdrawn: Option<ByWhom>,
    /// Where it was published, and when.
    pub published: Option<Published>,
    /// How far it is, while it is being made.
    pub progress: Option<EditionProgress>,
}

/// Where an edition was published.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Published {
    /// The place, as `s3://BUCKET/PREFIX/NUMBER`.
    pub to: String,
    /// Since when all of it is there.
    pub at: String,
}

/// Who did something, and why.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ByWhom {
    /// Who.
    pub by: String,
    /// Why.
    pub why: String,
    /// When, where that is known.
    pub at: Option<String>,
}

/// How far an edition is.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EditionProgress {
    /// Files there will be; nought until that is known.
    pub files: u64,
    /// Files that are there.
    pub done: u64,
    /// Of these, taken from the edition before.
    pub linked: u64,
    /// Rows written.
    pub rows: u64,
    /// Bytes written.
    pub bytes: u64,
}

/// An edition with its files.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EditionTold {
    /// It in short.
    #[serde(flatten)]
    pub edition: Edition,
    /// The number of the one before, to which its changes refer.
    pub before: Option<i64>,
    /// Bytes of all files.
    pub bytes: i64,
    /// Of these, in files that are those of the edition before.
    pub linked_bytes: i64,
    /// Its files, by their paths.
    pub content: Vec<EditionFile>,
}

/// A file of an edition.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EditionFile {
    /// Its path in the edition.
    pub path: String,
    /// Its SHA-256, in hexadecimal.
    pub sha256: String,
    /// Its size.
    pub bytes: i64,
    /// Its rows; nought where it is no table.
    pub rows: i64,
    /// Whether it is that of the edition before.
    pub linked: bool,
}

/// Asks for an edition to be made now.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MakeEdition {
    /// Who asks.
    pub by: String,
}

/// What is to become of an edition.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DecideEdition {
    /// `cancel` (while it is being made), `pin`, `unpin`, or `withdraw`.
    pub to: String,
    /// Who says so.
    pub by: String,
    /// Why; for `pin` and `withdraw`.
    #[serde(default)]
    pub why: String,
}

/// Asks for an edition to be verified.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct VerifyEdition {
    /// Whether it is also made again from its record, and held against that.
    #[serde(default)]
    pub again: bool,
}

/// What was found of an edition.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EditionVerdict {
    /// Whether all is as it was made. Where another version of the program made it, other bytes with the same contents are sound.
    pub sound: bool,
    /// Files that were looked at.
    pub files: u64,
    /// Files that are not as they were made, each with what is wrong.
    pub damaged: BTreeMap<String, String>,
    /// Whether it was made again.
    pub again: bool,
    /// Files that came out with other bytes.
    pub differ: Vec<String>,
    /// Those of them that say the same: of a Parquet file, the same columns and rows. Of an edition whose files are gone, none can be compared.
    pub same_contents: Vec<String>,
    /// The version of the program that made it, where that is another one.
    pub other_program: Option<String>,
}

/// What differs between two editions.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EditionDifference {
    /// The older one.
    pub from: Edition,
    /// The newer one.
    pub to: Edition,
    /// Files that only the newer has.
    pub new: Vec<EditionFile>,
    /// Files that only the older has.
    pub gone: Vec<EditionFile>,
    /// Files of both with other bytes.
    pub changed: Vec<EditionFile>,
    /// How many files are the same.
    pub same: u64,
    /// Questions that are asked otherwise.
    pub asked_otherwise: Vec<String>,
    /// Rows of each question that are new, changed or gone, by cause.
    pub rows: Vec<EditionChange>,
    /// The command that gives each of these rows, by question.
    pub commands: BTreeMap<String, String>,
}

/// Rows of a question that changed in one way for one cause.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EditionChange {
    /// The question.
    pub question: String,
    /// `new`, `changed` or `gone`.
    pub change: String,
    /// Why.
    pub cause: String,
    /// How many rows.
    pub rows: u64,
    /// In how many of them each column is another.
    pub columns: BTreeMap<String, u64>,
}
