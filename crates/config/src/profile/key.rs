//! Credentials: where they stand in the environment and how a request carries them. Never their values.

use super::template::Template;
use crate::text;
use serde::Deserialize;

/// How requests carry a key. The value comes from the environment, or from the file `.env` of the configuration.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Key {
    /// Name of the environment variable that holds the key, token or password.
    pub env: String,
    /// Name of the one that holds the user's name, for Basic and for logins.
    #[serde(default)]
    pub user_env: Option<String>,
    /// Whether nothing can be asked without it.
    #[serde(default)]
    pub required: bool,
    /// Carried in this header.
    #[serde(default)]
    pub header: Option<String>,
    /// Text before the key in that header, such as `Bearer ` (RFC 6750).
    #[serde(default)]
    pub prefix: String,
    /// Carried in this query parameter.
    #[serde(default)]
    pub query: Option<String>,
    /// Carried as HTTP Basic (RFC 7617), with the user's name.
    #[serde(default)]
    pub basic: bool,
    /// Given once to a login call, which answers with a token that `header` carries.
    #[serde(default)]
    pub login: Option<Login>,
}

/// A call that gives a token for a name and a password.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Login {
    /// Path after `base`; the request is a POST.
    pub post: Template,
    /// JSON sent; `{user}` and `{key}` in its strings are filled in.
    pub body: serde_json::Value,
    /// JSON Pointer (RFC 6901) to the token in the answer.
    pub token: String,
    /// JSON Pointer to its life in seconds.
    #[serde(default)]
    pub lasts: Option<String>,
    /// Its life when the answer does not say, in microseconds.
    #[serde(default = "an_hour", deserialize_with = "text::duration")]
    pub lasts_for: i64,
}

fn an_hour() -> i64 {
    3_600_000_000
}

impl Key {
    /// What is wrong with it, if something is.
    pub(super) fn problem(&self) -> Option<String> {
        let ways = [self.header.is_some(), self.query.is_some(), self.basic].iter().filter(|w| **w).count();
        if ways != 1 {
            return Some("a key is carried in one way: header = \"…\", query = \"…\" or basic = true".to_owned());
        }
        if self.basic && self.user_env.is_none() {
            return Some("basic = true needs user_env, the variable with the user's name".to_owned());
        }
        if self.login.is_some() && self.header.is_none() {
            return Some("a login's token is carried in a header; name it with header = \"Authorization\"".to_owned());
        }
        let names = [Some(&self.env), self.user_env.as_ref()];
        let wrong = |name: &&String| name.is_empty() || !name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
        names
            .into_iter()
            .flatten()
            .find(wrong)
            .map(|name| format!("`{name}` is not the name of an environment variable; profiles hold names of variables, never keys"))
    }
}
