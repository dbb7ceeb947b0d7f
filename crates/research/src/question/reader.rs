//! The values of keys, read one by one.

use super::given::Value;
use mizuno_desk::moments::{Moment, moment};
use std::{collections::BTreeMap, str::FromStr};

/// Reads values and gathers what is wrong with them.
pub(super) struct Reader {
    pub(super) given: BTreeMap<String, Value>,
    pub(super) problems: Vec<String>,
}

impl Reader {
    pub(super) fn text(&mut self, key: &str) -> Option<String> {
        match self.given.remove(key)? {
            Value::Text(text) => Some(text),
            Value::List(all) if all.len() == 1 => all.into_iter().next(),
            _ => {
                self.problems.push(format!("{key}: one value is wanted, not several"));
                None
            }
        }
    }

    pub(super) fn list(&mut self, key: &str) -> Option<Vec<String>> {
        match self.given.remove(key)? {
            Value::Text(text) => Some(text.split(',').map(|part| part.trim().to_owned()).collect()),
            Value::List(all) => Some(all),
            Value::Names(_) => {
                self.problems.push(format!("{key}: a list is wanted, not a table"));
                None
            }
        }
    }

    pub(super) fn read<T: FromStr<Err: ToString>>(&mut self, key: &str) -> Option<T> {
        let text = self.text(key)?;
        text.parse().map_err(|e: T::Err| self.problems.push(format!("{key}: {}", e.to_string()))).ok()
    }

    /// One of some words.
    pub(super) fn word<T: Copy>(&mut self, key: &str, what: &str, words: &[(&str, T)]) -> Option<T> {
        let text = self.text(key)?;
        let found = words.iter().find(|(word, _)| *word == text).map(|(_, value)| *value);
        if found.is_none() {
            let names: Vec<&str> = words.iter().map(|(word, _)| *word).collect();
            let (last, others) = names.split_last().map_or(("", &[][..]), |(last, others)| (*last, others));
            self.problems.push(format!("{key}: `{text}` is not {what}; it is {} or {last}", others.join(", ")));
        }
        found
    }

    pub(super) fn whole(&mut self, key: &str, least: u32, most: u32) -> Option<u32> {
        let text = self.text(key)?;
        let read = text.parse::<u32>().ok().filter(|n| (least..=most).contains(n));
        if read.is_none() {
            self.problems.push(format!("{key}: `{text}` is not a whole number from {least} to {most}"));
        }
        read
    }

    pub(super) fn moment(&mut self, key: &str) -> Option<Moment> {
        let text = self.text(key)?;
        moment(key, &text).map_err(|e| self.problems.push(e.to_string())).ok()
    }

    pub(super) fn wrong(&mut self, problem: impl Into<String>) {
        self.problems.push(problem.into());
    }
}
