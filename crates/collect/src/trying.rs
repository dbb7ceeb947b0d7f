//! Trying a source: one errand for one instrument, of which nothing is kept.

use crate::Collect;
use futures_util::future::LocalBoxFuture;
use mizuno_config::{Config, Profile, profile};
use mizuno_core::{
    Bar, Interval, Overlap, SeriesKey, Side, Span, Timestamp, Venue,
    check::{self, Standards},
    clock::ClockFace,
    interval::NotAnInterval,
    plan::Reach,
};
use mizuno_desk::{DeskError, Setup, moments, secrets, setup::Means, universes::Told};
use mizuno_sources::{
    Answered, Clock, Failure, NoDayBook, Page, Place, Source, Stop, Ticket, Wanted, decode, failure::beginning, hints, request::same_server,
};
use mizuno_store::configurations::KeptConfiguration;
use std::{
    collections::HashMap,
    path::{Path, PathBuf},
    sync::Arc,
};

/// What to try: one request for one instrument.
#[derive(Clone, Debug, Default)]
pub struct Trial {
    /// Name of a source at work; or `profile`.
    pub source: Option<String>,
    /// The text of a profile that need not be at work.
    pub profile: Option<String>,
    /// Symbol of the instrument.
    pub instrument: String,
    /// Interval; the profile's first when left out.
    pub interval: Option<String>,
    /// Side; the profile's first of that interval when left out.
    pub side: Option<String>,
    /// First trade date or instant; the last few sessions when left out.
    pub from: Option<String>,
    /// Last trade date, included, or an instant, not included.
    pub to: Option<String>,
}

/// What came of a try.
#[derive(Clone, Debug)]
pub struct Tried {
    /// The series it would be.
    pub series: SeriesKey,
    /// The window asked for.
    pub window: Span,
    /// The venue, on whose clock stamps are shown.
    pub venue: Venue,
    /// How the key is carried, without the key; absent for sources without keys.
    pub key: Option<String>,
    /// The pages that came.
    pub pages: Vec<Answered>,
    /// The first lines of the first page, without secrets.
    pub first_lines: Vec<String>,
    /// What was understood; or why there is no answer to use.
    pub outcome: Result<Read, Failure>,
}

/// What a try made of an answer.
#[derive(Clone, Debug)]
pub struct Read {
    /// Rows in the answer.
    pub rows: u64,
    /// Sound bars in it.
    pub sound: u64,
    /// Bars that were not finished.
    pub unfinished: u64,
    /// The first bars.
    pub bars: Vec<Bar>,
    /// The first rows that would be refused: where each stands, why, and its text without secrets.
    pub refused: Vec<(Place, String, String)>,
    /// How many would be refused.
    pub refused_count: u64,
    /// What may be wrong with the profile.
    pub hints: Vec<String>,
}

/// Bars, refused rows and lines shown.
const SHOWN: usize = 20;

/// Tries a profile in this process, without a service: with the venues and instruments of a configuration
/// directory, and the environment of whoever runs it.
///
/// # Errors
/// When the configuration or the profile is not sound, or there is nothing to ask for.
pub fn try_profile(config_dir: PathBuf, ask: Trial, clock: ClockFace) -> LocalBoxFuture<'static, Result<Tried, DeskError>> {
    Box::pin(async move {
        let what = || format!("the configuration in {} is not sound", config_dir.display());
        let config = Config::load(&config_dir).map_err(|source| DeskError::Configuration { what: what(), source })?;
        let (clock, secrets) = (Clock::new(clock), secrets(Some(&config_dir)));
        let means = Means {
            clock: &clock,
            secrets: &secrets,
            book: Arc::new(NoDayBook),
            folder: &config_dir,
            before: None,
            kept: KeptConfiguration::NONE,
            since: Timestamp::MIN,
            names: &[],
            told: &Told::new(),
        };
        let setup = Setup::new(config, vec![], HashMap::new(), &means)?;
        let profile = Arc::new(parsed(ask.profile.as_deref().unwrap_or_default())?);
        let named = |failure| DeskError::Source { name: profile.name.clone(), failure };
        let source = Source::new(profile.clone(), clock.clone(), &secrets, Arc::new(NoDayBook), &config_dir).map_err(named)?;
        try_on(&setup, &source, &clock, ask).await
    })
}

fn parsed(text: &str) -> Result<Profile, DeskError> {
    let said = |problems: Vec<mizuno_config::Problem>| DeskError::unreadable(mizuno_config::Problems(problems));
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

impl Collect {
    /// Sends what one window of one instrument takes, once, and says what it would make of the answer.
    pub async fn try_source(&self, ask: Trial) -> Result<Tried, DeskError> {
        let setup = self.desk.setup();
        let source = self.source_to_try(&setup, &ask)?;
        try_on(&setup, &source, &self.desk.clock, ask).await
    }

    fn source_to_try(&self, setup: &Setup, ask: &Trial) -> Result<Source, DeskError> {
        match (&ask.source, &ask.profile) {
            (Some(name), None) => {
                let known = setup.sources.keys().map(String::as_str);
                setup.sources.get(name).cloned().ok_or_else(|| DeskError::unknown("source", name, known))
            }
            (None, Some(text)) => {
                let profile = Arc::new(parsed(text)?);
                if let Some(what) = not_for_others(&profile, setup).filter(|_| !self.pasted_profiles) {
                    return Err(DeskError::NotAllowed(format!(
                        "the profile {what}; a profile that is sent to the service may not, unless the service was started with \
                         --pasted-profiles. The command line tries a file with the rights of its own user"
                    )));
                }
                let named = |failure| DeskError::Source { name: profile.name.clone(), failure };
                let source =
                    Source::new(profile.clone(), self.desk.clock.clone(), &self.desk.secrets(), Arc::new(NoDayBook), self.desk.data())
                        .map_err(named)?;
                // The limits are those of the source at work, if there is one: a try counts like any call.
                Ok(match setup.sources.get(&profile.name).filter(|s| s.profile.base == profile.base) {
                    Some(at_work) => source.through_the_gate_of(at_work),
                    None => source,
                })
            }
            _ => Err(DeskError::Invalid("name either a source, or give the text of a profile".to_owned())),
        }
    }
}

/// One errand of one source, and what comes of it.
async fn try_on(setup: &Setup, source: &Source, clock: &Clock, ask: Trial) -> Result<Tried, DeskError> {
    let profile = source.profile.clone();
    let instrument = setup.instrument(&ask.instrument)?;
    let interval: Option<Interval> =
        ask.interval.as_deref().map(str::parse).transpose().map_err(|e: NotAnInterval| DeskError::unreadable(e))?;
    let fits = |o: &&profile::Offer| {
        o.venues.contains(&instrument.venue)
            && interval.is_none_or(|i| i == o.interval)
            && ask.side.as_deref().is_none_or(|s| s == o.side.to_string())
    };
    let offer = profile.series.iter().find(fits).ok_or_else(|| {
        DeskError::Invalid(format!("{} has no such bars of {}; its profile offers {}", profile.name, instrument.venue, profile.offers()))
    })?;
    let venue = setup.config.venues.get(&instrument.venue).ok_or(DeskError::Stopping)?;
    let calendar = setup.calendar_of(instrument)?;
    let now = clock.now();
    let asked = moments::Asked { from: ask.from.as_deref(), to: ask.to.as_deref() };
    let wished = moments::span(asked, offer.interval, calendar)?;
    let reach = Reach { depth_days: offer.depth_days, delay: offer.delay }.span(calendar, &venue.zone, offer.interval, now);
    let window = window(calendar, offer, &wished, &reach, ask.from.is_some());
    if window.start >= window.end {
        return Err(DeskError::Invalid("there is nothing to ask for: the range lies outside the source's reach".to_owned()));
    }
    let wanted = Wanted { symbol: &instrument.symbol, id: setup.id(&profile.name, &instrument.symbol), window: &window };
    let ticket = Ticket { who: "a try".to_owned(), newest: true };
    let answer = source.ask(offer, venue, &wanted, &ticket, Stop::default(), 1);
    // A person is waiting: a source that is paused or used up is not waited for.
    let patience = std::time::Duration::from_micros(profile.limits.timeout.unsigned_abs()) + std::time::Duration::from_secs(5);
    let asked = tokio::time::timeout(patience, answer).await.ok().flatten();
    let asked =
        asked.ok_or_else(|| DeskError::Invalid(format!("{} is not asked at this moment: {}", profile.name, source.gate().standing())))?;
    let pages: Vec<Page<'_>> = asked.pages.iter().map(Answered::page).collect();
    let outcome = asked.outcome.map(|decoded| {
        let standards = Standards {
            calendar,
            interval: offer.interval,
            asked_at: asked.asked_at,
            answered_at: asked.answered_at,
            any_price: offer.any_price,
        };
        let sorted = check::sort(&decoded.bars, &standards);
        let flawed = sorted.flawed.iter().map(|(i, flaw)| (decoded.places[*i], flaw.explanation().to_owned()));
        let refused: Vec<_> = decoded.refused.iter().map(|r| (r.place, r.reason.clone())).chain(flawed).collect();
        let spelled = profile.symbols.of(&instrument.symbol);
        let places = refused.iter().take(SHOWN).map(|(place, _)| *place).collect();
        let texts = decode::texts_of(&offer.answer, &spelled, profile.limits.largest_answer(), &pages, &places);
        let text = |place: &Place| source.covered().text(texts.get(place).map_or("", String::as_str));
        Read {
            rows: decoded.rows,
            sound: sorted.sound.rows.len() as u64,
            unfinished: sorted.unfinished,
            bars: decoded.bars.rows.iter().take(SHOWN).cloned().collect(),
            refused_count: refused.len() as u64,
            refused: refused.into_iter().take(SHOWN).map(|(place, why)| (place, why, text(&place))).collect(),
            hints: [
                hints::hints(&decoded.bars, calendar, offer.interval),
                offer.answer.columns.as_ref().map_or(vec![], |columns| hints::silent(&decoded.bars, columns)),
            ]
            .concat(),
        }
    });
    let series = SeriesKey { symbol: instrument.symbol.clone(), interval: offer.interval, side: Side::Trade, source: profile.name.clone() };
    Ok(Tried {
        series,
        window,
        venue: venue.clone(),
        key: profile.key.as_ref().map(|key| how_carried(key, source.has_key())),
        first_lines: first_lines(setup, source, &asked.pages),
        pages: asked.pages,
        outcome,
    })
}

/// What to ask for: the range wished for, or the last sessions, no longer than one request may span.
fn window(calendar: &mizuno_core::Calendar, offer: &profile::Offer, wished: &Span, reach: &Span, from_start: bool) -> Span {
    let span = wished.clip(reach);
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
            dates.clip(&span)
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

fn first_lines(setup: &Setup, source: &Source, pages: &[Answered]) -> Vec<String> {
    let Some(body) = pages.first().and_then(|p| p.body.as_deref()) else { return vec![] };
    let text = source.covered().text(&setup.without_secrets(&beginning(body)));
    text.lines().take(8).map(|l| l.chars().take(300).collect()).collect()
}
