//! From bytes to bars, as a profile says.

mod delimited;

use crate::{Failure, failure::Class};
use mizuno_config::profile::{Answer, Offer};
use mizuno_core::{Bars, Venue};

/// What an answer says.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Decoded {
    /// Rows in it, readable or not.
    pub rows: u64,
    /// The bars read, in the order of the answer.
    pub bars: Bars,
    /// The line of each bar, from 1.
    pub lines: Vec<u64>,
    /// Rows that could not be read.
    pub refused: Vec<Refused>,
}

/// A row that could not be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refused {
    /// Its line, from 1.
    pub line: u64,
    /// What is wrong with it, naming the text.
    pub reason: String,
}

/// Understands an answer.
///
/// # Errors
/// When the whole of it is not what the profile describes; single bad rows are in [`Decoded::refused`].
pub fn decode(offer: &Offer, venue: &Venue, body: &[u8], media_type: Option<&str>) -> Result<Decoded, Failure> {
    match &offer.answer {
        Answer::Delimited(form) => delimited::decode(form, offer, venue, body, media_type),
    }
}

/// A failure to understand a whole answer.
fn unreadable(message: String) -> Failure {
    Failure::new(Class::Unreadable, message)
}

/// The text of a line of a payload, from 1; for messages and for quarantine.
#[must_use]
pub fn line_of(body: &[u8], line: u64) -> String {
    let text = body.split(|b| *b == b'\n').nth(line.saturating_sub(1) as usize).unwrap_or_default();
    String::from_utf8_lossy(text).trim_end().chars().take(400).collect()
}
