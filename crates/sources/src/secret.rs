//! Keys and passwords: read from the environment, carried by requests, shown to nobody.

use std::{collections::BTreeMap, fmt};

/// The values of the variables that profiles name. They are never printed.
#[derive(Clone, Default)]
pub struct Secrets(BTreeMap<String, String>);

impl Secrets {
    /// The variables of a `.env` file, as pairs. What the environment says goes before them.
    #[must_use]
    pub fn new(file: impl IntoIterator<Item = (String, String)>) -> Secrets {
        Secrets(file.into_iter().collect())
    }

    /// The value of a variable, if it has one that is not empty.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<String> {
        std::env::var(name).ok().or_else(|| self.0.get(name).cloned()).filter(|v| !v.is_empty())
    }
}

impl fmt::Debug for Secrets {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_set().entries(self.0.keys()).finish()
    }
}

/// Values that must not be seen, covered wherever they turn up.
#[derive(Clone, Default)]
pub struct Covered(Vec<String>);

/// Shorter values would cover parts of ordinary words and numbers.
const SHORTEST: usize = 4;

impl Covered {
    pub(crate) fn add(&mut self, secret: &str) {
        for form in [secret.to_owned(), encoded(secret)] {
            if form.len() >= SHORTEST && !self.0.contains(&form) {
                self.0.push(form);
            }
        }
        // The longest first, so that no part of a longer one is left standing.
        self.0.sort_by_key(|s| std::cmp::Reverse(s.len()));
    }

    /// The text with every secret in it covered by asterisks.
    #[must_use]
    pub fn text(&self, text: &str) -> String {
        self.0.iter().fold(text.to_owned(), |text, secret| if text.contains(secret) { text.replace(secret, "***") } else { text })
    }

    /// Covers every secret in an answer, byte for byte, so that its length and lines stay what they were.
    pub(crate) fn bytes(&self, body: &mut [u8]) {
        for secret in &self.0 {
            let mut from = 0;
            while let Some(at) = memchr::memmem::find(&body[from..], secret.as_bytes()) {
                body[from + at..from + at + secret.len()].fill(b'*');
                from += at + secret.len();
            }
        }
    }
}

impl fmt::Debug for Covered {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} covered", self.0.len())
    }
}

/// As it stands in a query.
fn encoded(secret: &str) -> String {
    secret
        .bytes()
        .map(|b| if b.is_ascii_alphanumeric() || b"-._~".contains(&b) { char::from(b).to_string() } else { format!("%{b:02X}") })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn secrets_are_covered_in_every_form() {
        let mut covered = Covered::default();
        covered.add("s3cr&t key");
        assert_eq!(covered.text("GET /?key=s3cr%26t%20key&a=1 says s3cr&t key"), "GET /?key=***&a=1 says ***");
        let mut body = b"no such key: s3cr&t key\n".to_vec();
        covered.bytes(&mut body);
        assert_eq!(body, b"no such key: **********\n");
        let secrets = Secrets::new([("MIZUNO_TEST_UNSET".to_owned(), "hush".to_owned())]);
        assert_eq!(secrets.get("MIZUNO_TEST_UNSET").as_deref(), Some("hush"));
        assert!(!format!("{secrets:?}").contains("hush") && !format!("{covered:?}").contains("s3cr"));
    }
}
