//! Trying a source: one errand for one instrument, of which nothing is kept.

use crate::{
    desk::Desk,
    error::ServiceError,
    moments,
    setup::{Means, Setup},
};
use futures_util::future::LocalBoxFuture;
use mizuno_api::{FetchPage, Tried, TriedBar, TriedRow, Try};
use mizuno_config::{Config, Profile, profile};
use mizuno_core::{
    Bar, Interval, Slot, Span, Timestamp, Venue,
    check::{self, Standards},
    clock::ClockFace,
    interval::NotAnInterval,
    plan::Reach,
};
use mizuno_sources::{Answered, Clock, NoDayBook, Page, Place, Source, Stop, Ticket, Wanted, decode, hints, request::same_server};
use std::{
    collections::HashMap,
    path::{Path, PathBuf},
    sync::Arc,
};

/// Bars, refused rows and lines shown.
const SHOWN: usize = 20;

/// Tries a profile in this process, without a service: with the venues and instruments of a configuration
/// directory, and the environment of whoever runs it.
///
/// # Errors
/// When the configuration or the profile is not sound, or there is nothing to ask for.
pub fn try_profile(config_dir: PathBuf, ask: Try, clock: ClockFace) -> LocalBoxFuture<'static, Result<Tried, ServiceError>> {
    Box::pin(async move {
        let said = |problems: mizuno_config::Problems| {
            ServiceError::Invalid(format!("the configuration in {} is not sound:\n{problems}", config_dir.display()))
        };
        let config = Config::load(&config_dir).map_err(said)?;
        let (clock, secrets) = (Clock::new(clock), crate::desk::secrets(Some(&config_dir)));
        let means = Means { clock: &clock, secrets: &secrets, book: Arc::new(NoDayBook), folder: &config_dir, before: None };
        let setup = Setup::new(config, vec![], HashMap::new(), &means)?;
        let profile = Arc::new(parsed(ask.profile.as_deref().unwrap_or_default())?);
        let named = |failure| ServiceError::Source { name: profile.name.clone(), failure };
        let source = Source::new(profile.clone(), clock.clone(), &secrets, Arc::new(NoDayBook), &config_dir).map_err(named)?;
        try_on(&setup, &source, &clock, ask).await
    })
}

fn parsed(text: &str) -> Result<Profile, ServiceError> {
    let said = |problems: Vec<mizuno_config::Problem>| ServiceError::Invalid(mizuno_config::Problems(problems).to_string());
    profile::parse(Path::new("profile"), text).map_err(said)
}

/// What a profile that came over the network may not do: use an environment variable, read files, or ask whom the
/// configuration does not ask. Whoever sends it need not be the user whose service this is.
fn not_for_others(profile: &Profile, setup: &Setup) -> Option<String> {
    if let Some(key) = &profile.key {
        return Some(format!("uses the environment variable {}", key.env));
    }
    if profile.folder().is_some() {
        return Some("reads files of this machine".to_owned());
    }
    let known = setup.config.sources.values().any(|s| same_server(&s.base, &profile.base));
    (!known).then(|| format!("asks {}, which no source of the configuration does", profile.base))
}

impl Desk {
    /// Sends what one window of one instrument takes, once, and says what it would make of the answer.
    pub(crate) async fn try_source(&self, ask: Try) -> Result<Tried, ServiceError> {
        let setup = self.setup();
        let source = self.source_to_try(&setup, &ask)?;
        try_on(&setup, &source, &self.clock, ask).await
    }

    fn source_to_try(&self, setup: &Setup, ask: &Try) -> Result<Source, ServiceError> {
        match (&ask.source, &ask.profile) {
            (Some(name), None) => {
                let known = setup.sources.keys().map(String::as_str);
                setup.sources.get(name).cloned().ok_or_else(|| ServiceError::unknown("source", name, known))
            }
            (None, Some(text)) => {
                let profile = Arc::new(parsed(text)?);
                if let Some(what) = not_for_others(&profile, setup).filter(|_| !self.pasted_profiles) {
                    return Err(ServiceError::NotAllowed(format!(
                        "the profile {what}; a profile that is sent to the service may not, unless the service was started with \
                         --pasted-profiles. The command line tries a file with the rights of its own user"
                    )));
                }
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

/// One errand of one source, and what comes of it.
async fn try_on(setup: &Setup, source: &Source, clock: &Clock, ask: Try) -> Result<Tried, ServiceError> {
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
        ServiceError::Invalid(format!("{} has no such bars of {}; its profile offers {}", profile.name, instrument.venue, profile.offers()))
    })?;
    let venue = setup.config.venues.get(&instrument.venue).ok_or(ServiceError::Stopping)?;
    let calendar = setup.calendar_of(instrument)?;
    let now = clock.now();
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
    let asked = asked
        .ok_or_else(|| ServiceError::Invalid(format!("{} is not asked at this moment: {}", profile.name, source.gate().standing())))?;
    let pages: Vec<Page<'_>> = asked.pages.iter().map(Answered::page).collect();
    let mut tried = Tried {
        series: format!("{}/{}/{}", instrument.symbol, offer.interval, profile.name),
        from: moments::wire(offer.interval, window.start),
        to: moments::wire(offer.interval, window.end),
        key: profile.key.as_ref().map(|key| how_carried(key, source.has_key())),
        pages: asked.pages.iter().map(page).collect(),
        first_lines: first_lines(setup, source, &asked.pages),
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
            tried.bars = decoded.bars.rows.iter().take(SHOWN).map(|b| bar(b, offer.interval, venue)).collect();
            tried.hints = hints::hints(&decoded.bars, calendar, offer.interval);
        }
    }
    Ok(tried)
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

fn bar(b: &Bar, interval: Interval, venue: &Venue) -> TriedBar {
    let time = match interval {
        Interval::Daily => b.slot.date().to_string(),
        Interval::Intraday { .. } => {
            let at: Timestamp = Slot::instant(b.slot);
            venue.zone.to_datetime(at.to_jiff()).strftime("%Y-%m-%d %H:%M:%S").to_string()
        }
    };
    let [open, high, low, close] = b.prices().map(|p| p.to_string());
    TriedBar { time, open, high, low, close, volume: b.volume().map(|v| v.to_string()) }
}
