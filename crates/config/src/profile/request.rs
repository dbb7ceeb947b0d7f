//! How a source is asked: addresses, bodies and pages.

use super::{
    Stamp,
    template::{self, Template},
};
use crate::text;
use serde::Deserialize;
use std::collections::BTreeMap;

/// One way of asking.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Request {
    /// Used for windows of at most this many calendar days; for all when left out.
    #[serde(default)]
    pub up_to_days: Option<u32>,
    /// The path after `base`: an RFC 6570 template over `symbol`, `id`, `from`, `to` and the names in `with`.
    #[serde(default)]
    pub get: Option<Template>,
    /// The same, asked with POST.
    #[serde(default)]
    pub post: Option<Template>,
    /// JSON sent with POST; `{symbol}`, `{from}` and the like in its strings are filled in.
    #[serde(default)]
    pub body: Option<serde_json::Value>,
    /// Constants for the template.
    #[serde(default)]
    pub with: BTreeMap<String, String>,
    /// How `from` and `to` are written.
    #[serde(default, deserialize_with = "text::parsed_if_there")]
    pub stamps: Option<Stamp>,
    /// Whether the bar at `to` is asked for too.
    #[serde(default)]
    pub to_included: bool,
    /// Which part of the answer this request brings, where a window takes several: `bid` or `ask`.
    #[serde(default)]
    pub part: Option<String>,
    /// How an answer in several pages goes on.
    #[serde(default)]
    pub pages: Option<Pages>,
    /// Path of a page, or of a directory, that lists what there is; nothing is asked for that is not listed.
    #[serde(default)]
    pub listed_at: Option<Template>,
    /// Whether one answer serves every symbol, so that it is fetched once.
    #[serde(default)]
    pub shared: bool,
}

/// How an answer in several pages goes on.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum Pages {
    /// Each page says where the next begins: a JSON Pointer to a cursor, given back in a variable of the template.
    Cursor {
        /// JSON Pointer to the cursor; absent, null or empty on the last page.
        at: String,
        /// The template's variable.
        variable: String,
    },
    /// Pages have numbers; the last is the first one that is not full.
    Number {
        /// The template's variable.
        variable: String,
        /// Number of the first page.
        first: u32,
        /// Rows on a full page.
        full: u32,
    },
    /// The answer's Link header names the next page (RFC 8288, `rel="next"`).
    Link {},
    /// An answer has so many rows at most, the newest of what was asked; older ones are asked for with an earlier `to`.
    Older {
        /// Rows in a full answer.
        full: u32,
    },
    /// An answer has so many rows at most, the oldest of what was asked; newer ones are asked for with a later `from`.
    Newer {
        /// Rows in a full answer.
        full: u32,
    },
}

impl Request {
    /// Whether its address or its body has a place for this variable.
    #[must_use]
    pub fn says(&self, word: &str) -> bool {
        let in_path = self.path().is_some_and(|p| p.variables().any(|v| v == word));
        in_path || self.body.as_ref().is_some_and(|b| b.to_string().contains(&format!("{{{word}}}")))
    }

    /// The template of its address.
    ///
    /// # Panics
    /// Never for a request of a checked profile, which has exactly one of `get` and `post`.
    #[must_use]
    pub fn path(&self) -> Option<&Template> {
        self.get.as_ref().or(self.post.as_ref())
    }

    /// What is wrong with it, and the text to point at.
    pub(super) fn problems(&self, known: &[&str], moments: bool) -> Vec<(String, String)> {
        let mut out = vec![];
        let Some(path) = self.path().filter(|_| self.get.is_none() || self.post.is_none()) else {
            return vec![("request]".to_owned(), "a request has either get = \"/path\" or post = \"/path\"".to_owned())];
        };
        if self.body.is_some() && self.post.is_none() {
            out.push(("body".to_owned(), "only a request with post has a body".to_owned()));
        }
        let page = match &self.pages {
            Some(Pages::Cursor { variable, .. } | Pages::Number { variable, .. }) => Some(variable.as_str()),
            _ => None,
        };
        let body = self.body.as_ref().map(serde_json::Value::to_string).unwrap_or_default();
        let listed = self.listed_at.iter().flat_map(Template::variables);
        let used: Vec<&str> = path.variables().chain(listed).chain(template::names(&body)).collect();
        let is_known = |name: &str| known.contains(&name) || self.with.contains_key(name) || page == Some(name);
        for name in used.iter().filter(|name| !is_known(name) && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')) {
            out.push((
                path.as_str().to_owned(),
                format!("the template uses {{{name}}}, which is neither {} nor in `with`", known.join(", ")),
            ));
        }
        if let Some(page) = page.filter(|page| !used.contains(page)) {
            out.push(("pages".to_owned(), format!("pages are told apart by {{{page}}}, and the template does not use it")));
        }
        if moments && self.stamps.is_none() && ["from", "to"].iter().any(|v| used.contains(v)) {
            out.push((
                path.as_str().to_owned(),
                "says {from} or {to} and not how they are written; add stamps = \"%Y-%m-%d\" or the like".to_owned(),
            ));
        }
        out
    }
}
