//! The ways in which asking a source fails.

use std::fmt;

/// The class of a failure; each has one word for ledgers and one meaning.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Class {
    /// The address could not be made from the profile.
    BadRequest,
    /// The host's name could not be resolved.
    NameNotResolved,
    /// No connection, or one that broke.
    Unreachable,
    /// No whole answer in time, or 408: the source says that it waited for us.
    TimedOut,
    /// The secure connection could not be trusted.
    Tls,
    /// 401 or 403.
    Denied,
    /// 404 or 410.
    NotFound,
    /// 429.
    TooMany,
    /// Another 4xx.
    Refused,
    /// 5xx.
    ServerError,
    /// Sent elsewhere, as to a login page.
    Redirected,
    /// Of another media type, or plainly not data.
    WrongContent,
    /// The answer ends before its end.
    CutShort,
    /// More bytes than the profile takes.
    TooLarge,
    /// Not of the form the profile describes.
    Unreadable,
    /// Not one byte.
    Empty,
    /// It unpacks to more bytes than the profile takes.
    UnpacksTooLarge,
    /// Only bars from before what was asked for, as when yesterday's answer comes again.
    Stale,
    /// Not on the page or in the directory that lists what there is.
    NotListed,
    /// A key that the profile needs is not in the environment.
    NoKey,
    /// The source's own list does not have the instrument.
    NotOnList,
    /// Most of its rows lie outside what was asked for.
    NotAskedFor,
}

impl Class {
    /// The word used in ledgers, on the command line and over HTTP.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Class::BadRequest => "bad-request",
            Class::NameNotResolved => "name-not-resolved",
            Class::Unreachable => "unreachable",
            Class::TimedOut => "timed-out",
            Class::Tls => "tls",
            Class::Denied => "denied",
            Class::NotFound => "not-found",
            Class::TooMany => "too-many-calls",
            Class::Refused => "refused",
            Class::ServerError => "server-error",
            Class::Redirected => "redirected",
            Class::WrongContent => "wrong-content",
            Class::CutShort => "cut-short",
            Class::TooLarge => "too-large",
            Class::Unreadable => "unreadable",
            Class::Empty => "empty-answer",
            Class::UnpacksTooLarge => "unpacks-too-large",
            Class::Stale => "stale",
            Class::NotListed => "not-listed",
            Class::NoKey => "no-key",
            Class::NotOnList => "not-on-list",
            Class::NotAskedFor => "not-asked-for",
        }
    }

    /// The class with this word.
    #[must_use]
    pub fn of_word(word: &str) -> Option<Class> {
        use Class::*;
        let all = [
            BadRequest,
            NameNotResolved,
            Unreachable,
            TimedOut,
            Tls,
            Denied,
            NotFound,
            TooMany,
            Refused,
            ServerError,
            Redirected,
            WrongContent,
            CutShort,
            TooLarge,
            Unreadable,
            Empty,
            UnpacksTooLarge,
            Stale,
            NotListed,
            NoKey,
            NotOnList,
            NotAskedFor,
        ];
        all.into_iter().find(|class| class.word() == word)
    }

    /// Whether the same request may succeed a little later. A redirect may lead to a page that asks to log in or to wait.
    #[must_use]
    pub fn may_pass(self) -> bool {
        use Class::*;
        matches!(
            self,
            NameNotResolved
                | Unreachable
                | TimedOut
                | TooMany
                | ServerError
                | Redirected
                | WrongContent
                | CutShort
                | Unreadable
                | Empty
                | Stale
        )
    }

    /// Whether it says that the source itself is in trouble, whatever was asked for.
    #[must_use]
    pub fn is_of_the_source(self) -> bool {
        use Class::*;
        matches!(self, NameNotResolved | Unreachable | TimedOut | Tls | TooMany | ServerError)
    }
}

/// Why a window was not answered.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{}: {message}", class.word())]
pub struct Failure {
    /// What kind of failure.
    pub class: Class,
    /// What a person reads: what happened, with an excerpt where that helps.
    pub message: String,
}

impl Failure {
    /// A failure of `class`.
    pub fn new(class: Class, message: impl fmt::Display) -> Failure {
        Failure { class, message: message.to_string() }
    }
}

/// The beginning of an answer as a person reads it; of one that is no text, what it is.
#[must_use]
pub fn beginning(body: &[u8]) -> String {
    let first = &body[..body.len().min(16 * 1024)];
    if !first.contains(&0) {
        return String::from_utf8_lossy(first).into_owned();
    }
    let what = match first {
        [b'P', b'A', b'R', b'1', ..] => "a Parquet file",
        [b'P', b'K', ..] => "a zip archive",
        [0x1f, 0x8b, ..] => "a gzip stream",
        _ => "something that is no text,",
    };
    format!("{what} of {} bytes", body.len())
}

/// The first characters of an answer on one line, for messages; control characters are replaced.
#[must_use]
pub fn excerpt(body: &[u8]) -> String {
    let text = String::from_utf8_lossy(&body[..body.len().min(400)]);
    let line: Vec<&str> = text.split_whitespace().collect();
    let line = line.join(" ");
    let short: String = line.chars().take(100).map(|c| if c.is_control() { '\u{fffd}' } else { c }).collect();
    if line.chars().count() > 100 { format!("`{short}…`") } else { format!("`{short}`") }
}

#[cfg(test)]
mod tests {
    use super::beginning;

    #[test]
    fn an_answer_that_is_no_text_is_told_and_not_printed() {
        assert_eq!(beginning(b"date,close\n2025-04-09,1.88\n"), "date,close\n2025-04-09,1.88\n");
        assert_eq!(beginning(b"PAR1\x15\0\x15"), "a Parquet file of 7 bytes");
        assert_eq!(beginning(b"\x1f\x8b\x08\0"), "a gzip stream of 4 bytes");
    }
}
