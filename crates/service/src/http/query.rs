//! What stands behind the question mark, with the parameter named that cannot be read.

use super::problem::Refusal;
use actix_web::{FromRequest, HttpRequest, dev::Payload};
use serde::{Deserialize, de::DeserializeOwned};
use std::{
    future::{Ready, ready},
    ops::Deref,
};
use utoipa::IntoParams;

/// The parameters of a request.
pub(super) struct Query<T>(T);

/// No parameters at all.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Nothing {}

/// As of when.
#[derive(Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(super) struct AsOf {
    /// Only what was known at this instant.
    pub as_of: Option<String>,
}

impl<T> Deref for Query<T> {
    type Target = T;

    fn deref(&self) -> &T {
        &self.0
    }
}

impl<T: DeserializeOwned> FromRequest for Query<T> {
    type Error = Refusal;
    type Future = Ready<Result<Self, Refusal>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        ready(read(request.query_string()).map(Query))
    }
}

fn read<T: DeserializeOwned>(text: &str) -> Result<T, Refusal> {
    serde_urlencoded::from_str(text).map_err(|error| {
        // Each on its own: one that fails for another reason than that others are missing is the culprit.
        let alone = |pair: &&str| serde_urlencoded::from_str::<T>(pair).err().filter(|e| !e.to_string().starts_with("missing field"));
        let culprit = text.split('&').find_map(|pair| Some((pair, alone(&pair)?)));
        Refusal::invalid(match culprit {
            Some((pair, error)) => {
                let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
                format!("{name}: `{}` cannot be taken: {error}", decoded(value))
            }
            None => error.to_string().replace("missing field", "say also").replace("duplicate field", "given twice:"),
        })
    })
}

fn decoded(value: &str) -> String {
    let pairs: Vec<(String, String)> = serde_urlencoded::from_str(&format!("v={value}")).unwrap_or_default();
    pairs.into_iter().next().map_or(value.to_owned(), |(_, v)| v)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Debug, Deserialize)]
    #[serde(deny_unknown_fields)]
    #[allow(dead_code, reason = "only read")]
    struct Ask {
        run: Option<i64>,
        series: String,
    }

    #[test]
    fn the_parameter_that_cannot_be_read_is_named() {
        let said = |text: &str| read::<Ask>(text).map(|_| ()).unwrap_err().to_string();
        assert!(read::<Ask>("series=KBF&run=3").is_ok());
        assert!(said("series=KBF&run=x%20y").starts_with("run: `x y` cannot be taken"), "{}", said("series=KBF&run=x%20y"));
        assert!(said("series=KBF&colour=red").contains("unknown field `colour`, expected `run` or `series`"));
        assert_eq!(said("run=3"), "say also `series`");
        assert_eq!(said("series=a&series=b"), "given twice: `series`");
    }
}
