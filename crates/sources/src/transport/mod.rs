//! One request, one answer, within bounds, over whatever the source speaks.

pub(crate) mod folder;
mod ftp;
mod http;

pub(crate) use http::client;

use crate::{Failure, failure::Class};
use std::path::PathBuf;

/// One request, ready to be sent.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Call {
    /// The whole address, secrets included.
    pub url: String,
    /// JSON to be posted; a GET without.
    pub body: Option<String>,
    /// A header that carries the key.
    pub header: Option<(String, String)>,
    /// A name and a password, for Basic and for FTP.
    pub login: Option<(String, String)>,
}

/// What one request came to.
#[derive(Clone, Debug)]
pub(crate) struct Attempt {
    pub status: Option<u16>,
    pub media_type: Option<String>,
    pub body: Option<Vec<u8>>,
    /// Where the next page is, as the Link header says (RFC 8288).
    pub next: Option<String>,
    /// How long the source asks us to wait, in microseconds.
    pub retry_after: Option<i64>,
    /// Why it cannot be used, if it cannot.
    pub failure: Option<Failure>,
}

impl Attempt {
    fn failed(class: Class, message: impl std::fmt::Display) -> Attempt {
        Attempt { failure: Some(Failure::new(class, message)), ..Attempt::answered(None) }
    }

    fn answered(body: Option<Vec<u8>>) -> Attempt {
        Attempt { status: None, media_type: None, body, next: None, retry_after: None, failure: None }
    }

    fn bounded(body: Vec<u8>, most: usize) -> Attempt {
        if body.len() > most {
            let message = format!("the answer is larger than {} MiB, the profile's largest_answer_mib", most / 1024 / 1024);
            return Attempt::failed(Class::TooLarge, message);
        }
        if body.is_empty() {
            return Attempt { failure: Some(Failure::new(Class::Empty, "the file has no bytes at all")), ..Attempt::answered(Some(body)) };
        }
        Attempt::answered(Some(body))
    }
}

/// How a source is reached.
#[derive(Clone)]
pub(crate) enum Transport {
    /// HTTP and HTTPS.
    Http(reqwest::Client),
    /// A directory of files at an FTP server.
    Ftp,
    /// A folder on this machine.
    Folder(PathBuf),
}

impl Transport {
    /// Sends one request and reads its answer.
    pub(crate) async fn send(&self, limits: &mizuno_config::profile::Limits, call: &Call, now: mizuno_core::Timestamp) -> Attempt {
        match self {
            Transport::Http(client) => http::send(client, limits, call, now).await,
            Transport::Ftp => ftp::read(limits, call).await,
            Transport::Folder(root) => folder::read(root, limits, call).await,
        }
    }

    /// The names of what is listed at an address: the links of a page, or the files of a directory.
    pub(crate) async fn names(
        &self,
        limits: &mizuno_config::profile::Limits,
        call: &Call,
        now: mizuno_core::Timestamp,
    ) -> (Attempt, Vec<String>) {
        match self {
            Transport::Http(client) => {
                let attempt = http::send(client, limits, call, now).await;
                let links = attempt.body.as_deref().map(crate::decode::links).unwrap_or_default();
                (attempt, links)
            }
            Transport::Ftp => ftp::names(limits, call).await,
            Transport::Folder(root) => folder::names(root, call).await,
        }
    }
}
