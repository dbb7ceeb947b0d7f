//! URI Templates (RFC 6570), checked when a profile is read.

use iri_string::template::UriTemplateString;
use serde::{Deserialize, Deserializer, de::Error};
use std::ops::Deref;

/// A URI Template.
#[derive(Clone, Debug, PartialEq)]
pub struct Template(UriTemplateString);

impl Template {
    /// The names of its variables.
    pub fn variables(&self) -> impl Iterator<Item = &str> {
        names(self.0.as_str())
    }
}

impl Deref for Template {
    type Target = UriTemplateString;

    fn deref(&self) -> &UriTemplateString {
        &self.0
    }
}

impl<'de> Deserialize<'de> for Template {
    fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Template, D::Error> {
        let text = String::deserialize(d)?;
        UriTemplateString::try_from(text.as_str()).map(Template).map_err(|e| {
            D::Error::custom(format!("`{text}` is not an RFC 6570 template ({e}); write it like /bars/{{symbol}}{{?from,to}}"))
        })
    }
}

/// The variable names of an RFC 6570 template.
pub(super) fn names(template: &str) -> impl Iterator<Item = &str> {
    template
        .split('{')
        .skip(1)
        .filter_map(|rest| rest.split('}').next())
        .flat_map(|expression| expression.trim_start_matches(['+', '#', '.', '/', ';', '?', '&']).split(','))
        .map(|name| name.trim_end_matches('*').split(':').next().unwrap_or(name))
}
