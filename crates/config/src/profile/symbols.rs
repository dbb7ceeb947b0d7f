//! How a source spells our symbols.

use serde::Deserialize;
use std::collections::BTreeMap;

/// How a source spells our symbols.
#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Spelling {
    /// Replacements, in order.
    #[serde(default)]
    replace: Vec<Replacement>,
    /// Symbols it spells in a way of their own.
    #[serde(default)]
    exceptions: BTreeMap<String, String>,
    /// Whether it knows an instrument's past only under the symbol of that time.
    #[serde(default)]
    pub dated: bool,
}

#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
struct Replacement {
    text: String,
    with: String,
}

impl Spelling {
    /// Our symbol as the source writes it.
    #[must_use]
    pub fn of(&self, symbol: &str) -> String {
        match self.exceptions.get(symbol) {
            Some(own) => own.clone(),
            None => self.replace.iter().fold(symbol.to_owned(), |s, r| s.replace(&r.text, &r.with)),
        }
    }

    /// The source's spelling as our symbol: the rules backwards.
    #[must_use]
    pub fn back(&self, theirs: &str) -> String {
        match self.exceptions.iter().find(|(_, own)| *own == theirs) {
            Some((ours, _)) => ours.clone(),
            None => self.replace.iter().rev().filter(|r| !r.with.is_empty()).fold(theirs.to_owned(), |s, r| s.replace(&r.with, &r.text)),
        }
    }
}
