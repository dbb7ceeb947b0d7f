//! From a window to addresses.

use crate::{Failure, failure::Class, stamp};
use iri_string::{
    spec::UriSpec,
    template::{UriTemplateStr, simple_context::SimpleContext},
};
use mizuno_config::{
    Profile,
    profile::{Offer, Request, Template},
};
use mizuno_core::{Interval, Slot, Span, TradeDate, Venue};
use serde_json::Value;
use std::collections::BTreeMap;

/// What the variables of a template stand for.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Words(BTreeMap<String, String>);

impl Words {
    pub(crate) fn set(&mut self, name: &str, value: impl Into<String>) {
        self.0.insert(name.to_owned(), value.into());
    }

    /// The address a template makes of them.
    pub(crate) fn address(&self, base: &str, template: &Template) -> Result<String, Failure> {
        let mut context = SimpleContext::new();
        for (name, value) in &self.0 {
            context.insert(name.as_str(), value.as_str());
        }
        let text: &UriTemplateStr = template;
        let path = text
            .expand::<UriSpec, _>(&context)
            .map_err(|e| Failure::new(Class::BadRequest, format!("the template {text} cannot be filled: {e}")))?;
        Ok(format!("{}{path}", base.trim_end_matches('/')))
    }

    /// JSON with `{name}` in its strings filled in.
    pub(crate) fn json(&self, value: &Value) -> String {
        self.fill(value).to_string()
    }

    fn fill(&self, value: &Value) -> Value {
        match value {
            Value::String(text) => {
                Value::String(self.0.iter().fold(text.clone(), |text, (name, word)| text.replace(&format!("{{{name}}}"), word)))
            }
            Value::Array(items) => Value::Array(items.iter().map(|v| self.fill(v)).collect()),
            Value::Object(entries) => Value::Object(entries.iter().map(|(k, v)| (k.clone(), self.fill(v))).collect()),
            other => other.clone(),
        }
    }
}

/// What is asked for: a window of an instrument, as its source names it.
#[derive(Clone, Debug)]
pub struct Wanted<'a> {
    /// Our symbol, or the one of that time.
    pub symbol: &'a str,
    /// The source's own number or name for it, from its list.
    pub id: Option<&'a str>,
    /// The window.
    pub window: &'a Span,
}

/// The requests that a window takes: one for each part.
///
/// # Errors
/// When the profile has none for a window of that length; a checked profile's has.
pub(crate) fn choose<'o>(offer: &'o Offer, venue: &Venue, window: &Span) -> Result<Vec<&'o Request>, Failure> {
    let (first, last) = dates(offer.interval, venue, window);
    let days = (last.0 - first.0 + 1).unsigned_abs();
    let fitting = offer.requests(days);
    fitting.ok_or_else(|| Failure::new(Class::BadRequest, format!("the profile has no request for a window of {days} days")))
}

/// The words of one request for one window.
///
/// # Errors
/// When the template wants an id and the source's list has none.
pub(crate) fn words(profile: &Profile, offer: &Offer, venue: &Venue, request: &Request, wanted: &Wanted<'_>) -> Result<Words, Failure> {
    let mut words = Words::default();
    words.set("symbol", profile.symbols.of(wanted.symbol));
    let wants_id = request.path().is_some_and(|p| p.variables().any(|v| v == "id"));
    match wanted.id {
        Some(id) => words.set("id", id),
        None if wants_id => {
            let message =
                format!("{} does not list {}; collect its list of instruments, or see what it calls it", profile.title, wanted.symbol);
            return Err(Failure::new(Class::NotOnList, message));
        }
        None => {}
    }
    span(&mut words, offer.interval, venue, request, wanted.window);
    for (name, value) in &request.with {
        words.set(name, value.as_str());
    }
    Ok(words)
}

/// Says `from` and `to` as the request writes them.
pub(crate) fn span(words: &mut Words, interval: Interval, venue: &Venue, request: &Request, window: &Span) {
    let last = Slot(window.end.0 - interval.step());
    let to = if request.to_included { last } else { window.end };
    if let Some(stamps) = &request.stamps {
        words.set("from", stamp::print(stamps, interval, venue, window.start));
        words.set("to", stamp::print(stamps, interval, venue, to));
    }
}

/// The address that asks for a window, for requests of one part.
///
/// # Errors
/// When the template cannot be filled.
pub fn url(profile: &Profile, offer: &Offer, venue: &Venue, wanted: &Wanted<'_>) -> Result<String, Failure> {
    let requests = choose(offer, venue, wanted.window)?;
    let request = requests.first().ok_or_else(|| Failure::new(Class::BadRequest, "the profile has no request"))?;
    let path = request.path().ok_or_else(|| Failure::new(Class::BadRequest, "the request has no path"))?;
    words(profile, offer, venue, request, wanted)?.address(&profile.base, path)
}

/// Whether two addresses name the same scheme, host and port: whether one asks the same server with both.
#[must_use]
pub fn same_server(one: &str, other: &str) -> bool {
    let whom = |address: &str| {
        let url = reqwest::Url::parse(address).ok()?;
        Some((url.scheme().to_owned(), url.host_str()?.to_owned(), url.port_or_known_default()))
    };
    whom(one).is_some_and(|w| Some(w) == whom(other))
}

/// The calendar dates of a window's first and last slot, on the venue's wall.
fn dates(interval: Interval, venue: &Venue, window: &Span) -> (TradeDate, TradeDate) {
    let last = Slot(window.end.0 - interval.step());
    match interval {
        Interval::Daily => (window.start.date(), last.date()),
        Interval::Intraday { .. } => (window.start.instant().date_in(&venue.zone), last.instant().date_in(&venue.zone)),
    }
}
