//! A fetch: its row in the ledger, the pages of its answer, and why it brought nothing.

use crate::StoreError;
use mizuno_core::{Span, Timestamp, versions::Learned};

/// One page of an answer.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AnsweredPage {
    /// Which part it brings, where an answer has several.
    pub part: Option<String>,
    /// Method and address, without secrets.
    pub request: String,
    /// HTTP status.
    pub status: Option<u16>,
    /// Media type.
    pub media_type: Option<String>,
    /// Its bytes.
    pub body: Option<Vec<u8>>,
}

/// One page in the ledger.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PageRow {
    /// Which part it brings.
    pub part: Option<String>,
    /// Method and address, without secrets.
    pub request: String,
    /// HTTP status.
    pub status: Option<i64>,
    /// Media type.
    pub media_type: Option<String>,
    /// Digest of the kept bytes.
    pub payload: Option<String>,
    /// Bytes of it.
    pub size: i64,
}

/// A fetch in the ledger.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FetchRow {
    /// Its number.
    pub id: i64,
    /// The run it belongs to.
    pub run: i64,
    /// The series asked for.
    pub series: i64,
    /// The window asked for.
    pub window: Span,
    /// `answered`, `stored` or `failed`.
    pub state: String,
    /// When the last attempt was sent.
    pub asked_at: Timestamp,
    /// When its answer, or failure, was complete.
    pub answered_at: Timestamp,
    /// How often it was tried.
    pub attempts: i64,
    /// Method and address, without secrets.
    pub request: String,
    /// Which part the first page brings.
    pub part: Option<String>,
    /// HTTP status of the first page.
    pub status: Option<i64>,
    /// Media type of the first page.
    pub media_type: Option<String>,
    /// Digest of the first page's bytes.
    pub payload: Option<String>,
    /// Bytes of all pages.
    pub payload_size: i64,
    /// Rows in it.
    pub rows: i64,
    /// How its bars compared with what was known.
    pub learned: Learned,
    /// Rows put in quarantine.
    pub refused: i64,
    /// Bars dropped because they were not finished.
    pub unfinished: i64,
    /// Sound bars that were not asked for and not held either.
    pub outside: i64,
    /// Why it failed.
    pub failure: Option<Failed>,
    /// Whether it brought nothing new and was folded: its request and its bytes are not kept any more.
    pub folded: bool,
}

/// Why a fetch brought nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Failed {
    /// The class of failure, one word.
    pub class: String,
    /// What a person reads.
    pub message: String,
}

impl Failed {
    /// Of an answer whose bars its series cannot take.
    #[must_use]
    pub fn not_stored(error: &StoreError) -> Failed {
        Failed { class: "not-stored".to_owned(), message: format!("the answer is kept, and its bars are not stored: {error}") }
    }
}
