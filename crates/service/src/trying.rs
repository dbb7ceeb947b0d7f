//! Trying a source: one errand for one instrument, of which nothing is kept.

use crate::{desk::Desk, error::ServiceError, moments, setup::Setup};
use mizuno_api::{FetchPage, Tried, TriedBar, TriedRow, Try};
use mizuno_config::profile;
use mizuno_core::{
    Bar, Interval, Slot, Span, Timestamp, Venue,
    check::{self, Standards},
    interval::NotAnInterval,
    plan::Reach,
};
use mizuno_sources::{Answered, NoDayBook, Page, Place, Source, Stop, Ticket, Wanted, decode, hints};
use std::{path::Path, sync::Arc};

/// Bars, refused rows and lines shown.
const SHOWN: usize = 20;

impl Desk {
    /// Sends what one window of one instrument takes, once, and says what it would make of the answer.
    pub(crate) async fn try_source(&self, ask: Try) -> Result<Tried, ServiceError> {
        let setup = self.setup();
        let source = self.source_to_try(&setup, &ask)?;
        let profile = source.profile.clone();
        let instrument = setup.instrument(&ask.instrument)?;
        let interval: Option<Interval> =
            ask.interval.as_deref().map(str::parse).transpose().map_err(|e: NotAnInterval| ServiceError::Invalid(e.to_string()))?;
        let fits = |o: &&profile::Offer| {
            o.venues.contains(&instrument.venue)
                && interval.is_none_or(|i| i == o.interval)
                && ask.side.as_deref().is_none_or(|s| s == o.side.to_string())
        };
        let offer = profile.series.iter().find(fits).ok_or_else(|| {
            ServiceError::Invalid(format!(
                "{} has no such bars of {}; its profile offers {}",
                profile.name,
                instrument.venue,
                profile.offers()
            ))
        })?;
        let venue = setup.config.venues.get(&instrument.venue).ok_or(ServiceError::Stopping)?;
        let calendar = setup.calendar_of(instrument)?;
        let now = self.clock.now();
        let asked = moments::Asked { from: ask.from.as_deref(), to: ask.to.as_deref() };
        let wished = moments::span(asked, offer.interval, calendar)?;
        let reach = Reach { depth_days: offer.depth_days, delay: offer.delay }.span(calendar, &venue.zone, offer.interval, now);
        let window = window(calendar, offer, &wished, &reach, ask.from.is_some());
        if window.start >= window.end {
            return Err(ServiceError::Invalid("there is nothing to ask for: the range lies outside the source's reach".to_owned()));
        }
        let wanted = Wanted { symbol: &instrument.symbol, id: setup.id(&profile.name, &instrument.symbol), window: &window };
        let ticket = Ticket { who: "a try".to_owned(), newest: true };
        let answer = source.ask(offer, venue, &wanted, &ticket, Stop::default(), 1);
        // A person is waiting: a source that is paused or used up is not waited for.
        let patience = std::time::Duration::from_micros(profile.limits.timeout.unsigned_abs()) + std::time::Duration::from_secs(5);
        let asked = tokio::time::timeout(patience, answer).await.ok().flatten();
        let asked = asked.ok_or_else(|| {
            ServiceError::Invalid(format!(
                "{} is not asked at this moment ({:?}); look at: mizuno status",
                profile.name,
                source.gate().standing()
            ))
        })?;
        let pages: Vec<Page<'_>> = asked.pages.iter().map(Answered::page).collect();
        let mut tried = Tried {
            series: format!("{}/{}/{}", instrument.symbol, offer.interval, profile.name),
            from: moments::wire(offer.interval, window.start),
            to: moments::wire(offer.interval, window.end),
            key: profile.key.as_ref().map(|key| how_carried(key, source.has_key())),
            pages: asked.pages.iter().map(page).collect(),
            first_lines: first_lines(&setup, &source, &asked.pages),
            failure: None,
            message: None,
            rows: 0,
            sound: 0,
            unfinished: 0,
            zone: venue.zone_name().to_owned(),
            bars: vec![],
            refused: vec![],
            refused_count: 0,
            hints: vec![],
        };
        match asked.outcome {
            Err(failure) => (tried.failure, tried.message) = (Some(failure.class.word().to_owned()), Some(failure.message)),
            Ok(decoded) => {
                let standards = Standards {
                    calendar,
                    interval: offer.interval,
                    asked_at: asked.asked_at,
                    answered_at: asked.answered_at,
                    any_price: offer.any_price,
                };
                let sorted = check::sort(&decoded.bars, &standards);
                let spelled = profile.symbols.of(&instrument.symbol);
                let flawed = sorted.flawed.iter().map(|(i, flaw)| (decoded.places[*i], flaw.explanation().to_owned()));
                let refused: Vec<_> = decoded.refused.iter().map(|r| (r.place, r.reason.clone())).chain(flawed).collect();
                (tried.rows, tried.sound, tried.unfinished) = (decoded.rows, sorted.sound.rows.len() as u64, sorted.unfinished);
                tried.refused_count = refused.len() as u64;
                let places = refused.iter().take(SHOWN).map(|(place, _)| *place).collect();
                let texts = decode::texts_of(&offer.answer, &spelled, profile.limits.largest_answer(), &pages, &places);
                let text = |place: &Place| source.covered().text(texts.get(place).map_or("", String::as_str));
                let row = |(place, because): (Place, String)| TriedRow { line: place.row, because, text: text(&place) };
                tried.refused = refused.into_iter().take(SHOWN).map(row).collect();
                tried.bars = decoded.bars.rows.iter().take(SHOWN).map(|b| bar(&decoded.bars, b, offer.interval, venue)).collect();
                tried.hints = hints::hints(&decoded.bars, calendar, offer.interval);
            }
        }
        Ok(tried)
    }

    fn source_to_try(&self, setup: &Setup, ask: &Try) -> Result<Source, ServiceError> {
        match (&ask.source, &ask.profile) {
            (Some(name), None) => {
                let known = setup.sources.keys().map(String::as_str);
                setup.sources.get(name).cloned().ok_or_else(|| ServiceError::unknown("source", name, known))
            }
            (None, Some(text)) => {
                let said = |problems: Vec<mizuno_config::Problem>| ServiceError::Invalid(mizuno_config::Problems(problems).to_string());
                let profile = Arc::new(profile::parse(Path::new("profile"), text).map_err(said)?);
                let named = |failure| ServiceError::Source { name: profile.name.clone(), failure };
                let source =
                    Source::new(profile.clone(), self.clock.clone(), &self.secrets(), Arc::new(NoDayBook), self.data()).map_err(named)?;
                // The limits are those of the source at work, if there is one: a try counts like any call.
                Ok(match setup.sources.get(&profile.name).filter(|s| s.profile.base == profile.base) {
                    Some(at_work) => source.through_the_gate_of(at_work),
                    None => source,
                })
            }
            _ => Err(ServiceError::Invalid("name either a source, or give the text of a profile".to_owned())),
        }
    }
}

/// What to ask for: the range wished for, or the last sessions, no longer than one request may span.
fn window(calendar: &mizuno_core::Calendar, offer: &profile::Offer, wished: &Span, reach: &Span, from_start: bool) -> Span {
    let span = wished.start.max(reach.start)..wished.end.min(reach.end);
    let sessions: Vec<_> = calendar.sessions().iter().filter(|s| s.slots(offer.interval).overlaps(&span)).collect();
    let most = if offer.interval.is_intraday() { 2 } else { 10 };
    let days = |a: &mizuno_core::Session, b: &mizuno_core::Session| (b.date.0 - a.date.0).unsigned_abs() < offer.span_days;
    let chosen: Vec<_> = match from_start {
        true => sessions.iter().take_while(|s| days(sessions[0], s)).take(most).collect(),
        false => sessions.iter().rev().take_while(|s| days(s, sessions[sessions.len() - 1])).take(most).collect(),
    };
    let first = chosen.iter().map(|s| s.date).min();
    let last = chosen.iter().map(|s| s.date).max();
    match first.zip(last) {
        Some((first, last)) => {
            let dates = calendar.span_of_dates(offer.interval, first..last.plus(1));
            dates.start.max(span.start)..dates.end.min(span.end)
        }
        None => span.start..span.start,
    }
}

fn how_carried(key: &profile::Key, present: bool) -> String {
    let how = match (&key.header, &key.query) {
        (Some(header), _) => format!("header {header}: {}***", key.prefix),
        (_, Some(query)) => format!("query {query}=***"),
        _ => "HTTP Basic ***".to_owned(),
    };
    match present {
        true => how,
        false => format!("none: the variable {} is not set", key.env),
    }
}

fn page(p: &Answered) -> FetchPage {
    FetchPage {
        part: p.part.clone(),
        request: p.request.clone(),
        status: p.status,
        media_type: p.media_type.clone(),
        payload: None,
        bytes: p.body.as_ref().map_or(0, |b| b.len() as u64),
    }
}

fn first_lines(setup: &Setup, source: &Source, pages: &[Answered]) -> Vec<String> {
    let Some(body) = pages.first().and_then(|p| p.body.as_deref()) else { return vec![] };
    let text = source.covered().text(&setup.without_secrets(&String::from_utf8_lossy(&body[..body.len().min(16 * 1024)])));
    text.lines().take(8).map(|l| l.chars().take(300).collect()).collect()
}

fn bar(bars: &mizuno_core::Bars, b: &Bar, interval: Interval, venue: &Venue) -> TriedBar {
    let time = match interval {
        Interval::Daily => b.slot.date().to_string(),
        Interval::Intraday { .. } => {
            let at: Timestamp = Slot::instant(b.slot);
            venue.zone.to_datetime(at.to_jiff()).strftime("%Y-%m-%d %H:%M:%S").to_string()
        }
    };
    let price = |p| bars.price(p).to_string();
    TriedBar {
        time,
        open: price(b.open),
        high: price(b.high),
        low: price(b.low),
        close: price(b.close),
        volume: b.volume.map(|v| bars.volume(v).to_string()),
    }
}
