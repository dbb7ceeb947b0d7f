//! What is asked of a source, and what it says.

use mizuno_core::Timestamp;
use std::collections::HashMap;

/// What a source says: a status, a media type and a body.
pub(crate) struct Said {
    pub status: u16,
    pub media_type: &'static str,
    pub body: Vec<u8>,
    /// Whose answer it is, for troubles; empty for a list.
    pub symbol: String,
}

impl Said {
    pub(crate) fn ok(media_type: &'static str, body: impl Into<Vec<u8>>, symbol: &str) -> Said {
        Said { status: 200, media_type, body: body.into(), symbol: symbol.to_owned() }
    }

    pub(crate) fn no(status: u16, media_type: &'static str, body: impl Into<Vec<u8>>) -> Said {
        Said { status, media_type, body: body.into(), symbol: String::new() }
    }
}

/// One request, as the sources read it.
pub(crate) struct Heard<'r> {
    pub path: &'r str,
    pub query: HashMap<String, String>,
    pub key: Option<&'r str>,
    pub now: Timestamp,
}

impl Heard<'_> {
    pub(crate) fn get(&self, name: &str) -> &str {
        self.query.get(name).map_or("", String::as_str)
    }
}
