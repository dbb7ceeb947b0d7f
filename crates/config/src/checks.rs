//! The file `checks.toml`: other limits for the checks, by kind or instrument, and which are switched off.

use crate::{Problem, problem};
use mizuno_core::{
    Instrument,
    finding::{Check, Rule, Rules},
};
use serde::{Deserialize, Deserializer, de::Error};
use std::path::Path;

/// The checks as the desk wants them; without the file, as they usually look.
#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Checks {
    /// In order; a later entry goes before an earlier one.
    #[serde(default, rename = "check")]
    entries: Vec<Entry>,
}

/// One check, for some instruments.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
struct Entry {
    #[serde(deserialize_with = "check")]
    name: Check,
    /// Kinds of instrument it holds for; all when left out.
    #[serde(default)]
    kinds: Option<Vec<String>>,
    /// Symbols it holds for; all when left out.
    #[serde(default)]
    instruments: Option<Vec<String>>,
    #[serde(default)]
    limit: Option<f64>,
    #[serde(default)]
    off: bool,
}

fn check<'de, D: Deserializer<'de>>(d: D) -> Result<Check, D::Error> {
    let word = String::deserialize(d)?;
    Check::ALL.into_iter().find(|c| c.word() == word).ok_or_else(|| {
        let words: Vec<_> = Check::ALL.iter().map(|c| c.word()).collect();
        D::Error::custom(format!("`{word}` is not a check; there is {}", words.join(", ")))
    })
}

impl Checks {
    pub(crate) fn parse(file: &Path, text: &str) -> Result<Checks, Vec<Problem>> {
        let checks: Checks = problem::toml(file, text)?;
        let unsound = |e: &&Entry| e.limit.is_some_and(|l| !l.is_finite() || l < 0.0);
        match checks.entries.iter().find(unsound) {
            Some(e) => {
                let (limit, unit) = (e.limit.unwrap_or_default(), e.name.usual_limit().1);
                Err(vec![Problem::whole(file, format!("{}: a limit of {limit} is no number of {unit}; it is 0 or more", e.name))])
            }
            None => Ok(checks),
        }
    }

    /// The rules for one instrument.
    #[must_use]
    pub fn rules(&self, instrument: &Instrument) -> Rules {
        let mut rules = Rules::default();
        let listed = |list: &Option<Vec<String>>, word: &str| list.as_ref().is_none_or(|all| all.iter().any(|w| w == word));
        for entry in self.entries.iter().filter(|e| listed(&e.kinds, &instrument.kind) && listed(&e.instruments, &instrument.symbol)) {
            let limit = entry.limit.or(rules.of(entry.name).map(|r| r.limit)).unwrap_or(entry.name.usual_limit().0);
            rules.set(entry.name, Rule { on: !entry.off, limit });
        }
        rules
    }

    pub(crate) fn instruments_mut(&mut self) -> impl Iterator<Item = &mut String> {
        self.entries.iter_mut().flat_map(|e| e.instruments.iter_mut().flatten())
    }

    /// Every symbol the file names.
    pub(crate) fn named(&self) -> impl Iterator<Item = &String> {
        self.entries.iter().flat_map(|e| e.instruments.iter().flatten())
    }
}
