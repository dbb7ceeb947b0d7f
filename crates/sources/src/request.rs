//! From a window to an address.

use crate::{Failure, failure::Class, stamp};
use iri_string::{
    spec::UriSpec,
    template::{UriTemplateStr, simple_context::SimpleContext},
};
use mizuno_config::{
    Profile,
    profile::{Offer, Request},
};
use mizuno_core::{Interval, Slot, Span, TradeDate, Venue};

/// The address that asks for `window` of `symbol`.
///
/// # Errors
/// When the template cannot be filled; a checked profile's can.
pub fn url(profile: &Profile, offer: &Offer, venue: &Venue, symbol: &str, window: &Span) -> Result<String, Failure> {
    let dates = dates(offer.interval, venue, window);
    let days = (dates.1.0 - dates.0.0 + 1).unsigned_abs();
    let request = choose(offer, days)
        .ok_or_else(|| Failure::new(Class::BadRequest, format!("the profile has no request for a window of {days} days")))?;
    let last = Slot(window.end.0 - offer.interval.step());
    let to = if request.to_included { last } else { window.end };
    let mut context = SimpleContext::new();
    context.insert("symbol", profile.symbols.of(symbol));
    context.insert("from", stamp::print(&request.stamps, offer.interval, venue, window.start));
    context.insert("to", stamp::print(&request.stamps, offer.interval, venue, to));
    for (name, value) in &request.with {
        context.insert(name.as_str(), value.as_str());
    }
    let template: &UriTemplateStr = &request.get;
    let path = template
        .expand::<UriSpec, _>(&context)
        .map_err(|e| Failure::new(Class::BadRequest, format!("the template {template} cannot be filled: {e}")))?;
    Ok(format!("{}{path}", profile.base.trim_end_matches('/')))
}

fn choose(offer: &Offer, days: u32) -> Option<&Request> {
    offer.request.iter().find(|r| r.up_to_days.is_none_or(|most| days <= most))
}

/// The calendar dates of a window's first and last slot, on the venue's wall.
fn dates(interval: Interval, venue: &Venue, window: &Span) -> (TradeDate, TradeDate) {
    let last = Slot(window.end.0 - interval.step());
    match interval {
        Interval::Daily => (window.start.date(), last.date()),
        Interval::Intraday { .. } => (window.start.instant().date_in(&venue.zone), last.instant().date_in(&venue.zone)),
    }
}
