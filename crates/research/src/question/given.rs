//! The keys of a question as they were given, before anybody has looked whether they make sense.

use serde_json::Value as Json;
use std::collections::BTreeMap;

/// What was given for a key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Value {
    /// One word, number or sentence.
    Text(String),
    /// Several.
    List(Vec<String>),
    /// Names for columns.
    Names(BTreeMap<String, String>),
}

/// The keys of a question.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Given(pub BTreeMap<String, Value>);

/// What a value of a question may not be, in any notation.
fn misplaced(key: &str) -> String {
    format!("{key}: a value is a text, a number, true or false, a list of these, or for names a table of texts")
}

impl Given {
    /// Reads TOML.
    ///
    /// # Errors
    /// When it is not TOML, or a value cannot be one of a question.
    pub fn from_toml(text: &str) -> Result<Given, String> {
        let table: toml::Table = text.parse().map_err(|e: toml::de::Error| format!("the question is not TOML: {}", e.message()))?;
        let one = |value: &toml::Value| match value {
            toml::Value::String(text) => Some(text.clone()),
            toml::Value::Integer(n) => Some(n.to_string()),
            toml::Value::Boolean(b) => Some(b.to_string()),
            toml::Value::Datetime(at) => Some(at.to_string()),
            _ => None,
        };
        let read = |(key, value): (&String, &toml::Value)| {
            let found = match value {
                toml::Value::Array(all) => all.iter().map(one).collect::<Option<Vec<_>>>().map(Value::List),
                toml::Value::Table(names) => {
                    names.iter().map(|(k, v)| Some((k.clone(), one(v)?))).collect::<Option<BTreeMap<_, _>>>().map(Value::Names)
                }
                value => one(value).map(Value::Text),
            };
            found.map(|value| (key.clone(), value)).ok_or_else(|| misplaced(key))
        };
        table.iter().map(read).collect::<Result<_, _>>().map(Given)
    }

    /// Reads a JSON object.
    ///
    /// # Errors
    /// When it is not one, or a value cannot be one of a question.
    pub fn from_json(text: &str) -> Result<Given, String> {
        let object: BTreeMap<String, Json> = serde_json::from_str(text).map_err(|e| format!("the question is not a JSON object: {e}"))?;
        let one = |value: &Json| match value {
            Json::String(text) => Some(text.clone()),
            Json::Number(n) => Some(n.to_string()),
            Json::Bool(b) => Some(b.to_string()),
            _ => None,
        };
        let read = |(key, value): (&String, &Json)| {
            let found = match value {
                Json::Array(all) => all.iter().map(one).collect::<Option<Vec<_>>>().map(Value::List),
                Json::Object(names) => {
                    names.iter().map(|(k, v)| Some((k.clone(), one(v)?))).collect::<Option<BTreeMap<_, _>>>().map(Value::Names)
                }
                value => one(value).map(Value::Text),
            };
            found.map(|value| (key.clone(), value)).ok_or_else(|| misplaced(key))
        };
        // An absent value says the same as no key.
        object.iter().filter(|(_, value)| !value.is_null()).map(read).collect::<Result<_, _>>().map(Given)
    }

    /// Takes pairs, as they stand behind a question mark; lists are parted by commas where a list is wanted.
    ///
    /// # Errors
    /// When a key stands there twice.
    pub fn from_pairs(pairs: impl IntoIterator<Item = (String, String)>) -> Result<Given, String> {
        let mut out = BTreeMap::new();
        for (key, value) in pairs {
            if out.insert(key.clone(), Value::Text(value)).is_some() {
                return Err(format!("{key}: it is given twice; once is enough"));
            }
        }
        Ok(Given(out))
    }
}
