//! The configuration at work: one checked configuration and all that is worked out from it.
//!
//! A [`Setup`] never changes; reloading puts another in its place
//! ([`crate::reload`]), and what is under way finishes with the old one.

use crate::{error::DeskError, universes::Told};
use mizuno_config::{Collector, Config, profile::Offer};
use mizuno_core::{
    Calendar, Instrument, Interval, SeriesKey, Timestamp, TradeDate, Venue, calendar::usual_dates, check::Standards,
    instrument::FormerSymbol, search::Index,
};
use mizuno_sources::{Clock, DayBook, Secrets, Source};
use mizuno_store::{configurations::KeptConfiguration, series::SeriesList};
use std::{
    collections::{BTreeMap, HashMap},
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
};

/// One configuration at work.
pub struct Setup {
    /// No other has it.
    pub serial: u64,
    /// The configuration, with the instruments that lists of sources added.
    pub config: Config,
    /// The sources by name.
    pub sources: BTreeMap<String, Source>,
    /// The calendar of each venue, by its code.
    pub calendars: BTreeMap<String, Calendar>,
    /// No other venue, as it is described, has the number of one of these.
    pub descriptions: BTreeMap<String, u64>,
    /// What each source calls our symbols, where its list says.
    pub ids: HashMap<String, HashMap<String, String>>,
    /// Finds instruments.
    pub index: Index,
    /// The kept configuration it was made of.
    pub kept: KeptConfiguration,
    /// When it was put to work; for what was known before, another may have counted.
    pub since: Timestamp,
    symbols: HashMap<String, usize>,
    /// Of a setup of the past: instruments by the symbols that they have given up since, and those symbols by the present ones.
    then: HashMap<String, usize>,
    was: HashMap<String, String>,
}

/// All that is needed to collect for one collector.
#[derive(Clone, Copy)]
pub struct Post<'s> {
    /// What it collects, and when.
    pub collector: &'s Collector,
    /// Whom it asks.
    pub source: &'s Source,
    /// What that source offers of such bars.
    pub offer: &'s Offer,
    /// The venue it follows.
    pub venue: &'s Venue,
    /// The venue's sessions.
    pub calendar: &'s Calendar,
}

/// What a setup is made from besides its configuration.
pub struct Means<'a> {
    /// Service time.
    pub clock: &'a Clock,
    /// Keys and passwords.
    pub secrets: &'a Secrets,
    /// Where calls of a day are counted.
    pub book: Arc<dyn DayBook>,
    /// Where the folders of `folder:` sources begin.
    pub folder: &'a Path,
    /// The setup before, whose sources go on as they are when their profiles are the same.
    pub before: Option<&'a Setup>,
    /// Which configuration it is.
    pub kept: KeptConfiguration,
    /// When the setup is put to work.
    pub since: Timestamp,
    /// Of a setup of the past: what instruments were called then, each with its present symbol.
    pub names: &'a [(String, String)],
    /// What lists say of the members of universes.
    pub told: &'a Told,
}

impl Setup {
    /// Puts a configuration to work, with instruments and ids from the lists of sources.
    pub fn new(
        mut config: Config,
        listed: Vec<Instrument>,
        ids: HashMap<String, HashMap<String, String>>,
        means: &Means<'_>,
    ) -> Result<Setup, DeskError> {
        let (then, was) = under_present_names(&mut config, means.names);
        let mut symbols: HashMap<String, usize> = config.instruments.iter().enumerate().map(|(at, i)| (i.symbol.clone(), at)).collect();
        for instrument in listed.into_iter().filter(|i| config.venues.contains_key(&i.venue)) {
            // One that a list has renamed stands in the configuration under its former symbol still.
            let renamed = instrument.former.iter().rev().find_map(|f| symbols.get(&f.symbol).copied());
            let renamed =
                renamed.filter(|at| config.instruments[*at].venue == instrument.venue && !symbols.contains_key(&instrument.symbol));
            if let Some(at) = renamed {
                symbols.insert(instrument.symbol.clone(), at);
                let known = &mut config.instruments[at];
                known.former.extend(instrument.former.into_iter().filter(|f| !known.former.contains(f)).collect::<Vec<_>>());
                known.symbol = instrument.symbol;
            } else if !symbols.contains_key(&instrument.symbol) {
                symbols.insert(instrument.symbol.clone(), config.instruments.len());
                config.instruments.push(instrument);
            }
        }
        config.follow_renames();
        let dates = usual_dates(means.clock.now());
        let calendars = config.venues.iter().map(|(code, v)| (code.clone(), Calendar::new(v, dates.clone()))).collect();
        let mut sources = BTreeMap::new();
        for (name, profile) in &config.sources {
            let kept = means.before.and_then(|b| b.sources.get(name)).filter(|s| *s.profile == *profile && s.has_key_of(means.secrets));
            let source = match kept {
                Some(source) => source.clone(),
                None => Source::new(Arc::new(profile.clone()), means.clock.clone(), means.secrets, means.book.clone(), means.folder)
                    .map_err(|failure| DeskError::Source { name: name.clone(), failure })?,
            };
            sources.insert(name.clone(), source);
        }
        share_limits(&mut sources, means.before);
        let index = Index::new(&config.instruments);
        static SERIAL: AtomicU64 = AtomicU64::new(0);
        let serial = || SERIAL.fetch_add(1, Ordering::Relaxed);
        let same = |code: &String, venue: &Venue| {
            let before = means.before.filter(|b| b.config.venues.get(code) == Some(venue));
            before.and_then(|b| b.descriptions.get(code).copied()).unwrap_or_else(serial)
        };
        let descriptions = config.venues.iter().map(|(code, venue)| (code.clone(), same(code, venue))).collect();
        let mut setup = Setup {
            serial: serial(),
            descriptions,
            config,
            sources,
            calendars,
            ids,
            index,
            kept: means.kept.clone(),
            since: means.since,
            symbols,
            then,
            was,
        };
        setup.follow_universes(means.told)?;
        Ok(setup)
    }

    /// What an instrument was called at the instant that the setup is of; today's symbol, but for a setup of the past.
    #[must_use]
    pub fn symbol_then<'s>(&'s self, instrument: &'s Instrument) -> &'s str {
        self.was.get(&instrument.symbol).map_or(&instrument.symbol, String::as_str)
    }

    /// A collector and all it works with.
    pub fn post(&self, collector: &str) -> Result<Post<'_>, DeskError> {
        let unknown = || DeskError::unknown("collector", collector, self.config.collectors.keys().map(String::as_str));
        let collector = self.config.collectors.get(collector).ok_or_else(unknown)?;
        let parts = || {
            let source = self.sources.get(&collector.source)?;
            Some(Post {
                collector,
                source,
                offer: source.profile.offer(&collector.venue, collector.interval, collector.side)?,
                venue: self.config.venues.get(&collector.venue)?,
                calendar: self.calendars.get(&collector.venue)?,
            })
        };
        parts().ok_or_else(|| DeskError::Invalid(format!("the collector {} does not fit its source and venue", collector.name)))
    }

    /// The collector that keeps a series, if one does: among several, the one that wants the longest past.
    pub fn post_of(&self, key: &SeriesKey) -> Option<Post<'_>> {
        let instrument = self.known(&key.symbol)?;
        self.config
            .collectors
            .values()
            .filter(|c| c.source == key.source && c.interval == key.interval && c.side == key.side)
            .filter(|c| self.config.takes(c, instrument))
            .min_by_key(|c| c.since)
            .and_then(|c| self.post(&c.name).ok())
    }

    /// The instrument with exactly this present symbol.
    pub fn known(&self, symbol: &str) -> Option<&Instrument> {
        self.symbols.get(symbol).and_then(|&at| self.config.instruments.get(at))
    }

    /// The instrument that carried a symbol on `date`: one that was given up may be another's by now.
    pub fn carried_on(&self, symbol: &str, date: TradeDate) -> Option<&Instrument> {
        let carried = |i: &&Instrument| i.symbol_on(date) == symbol && i.listed.is_none_or(|first| first <= date);
        let formerly = |i: &&Instrument| i.former.iter().any(|f| f.symbol == symbol);
        self.known(symbol).filter(carried).or_else(|| self.config.instruments.iter().filter(formerly).find(carried))
    }

    /// The instrument that somebody means who says a symbol of `date`: who carried it then, and else whoever does now or did before.
    pub fn meant_on(&self, symbol: &str, date: TradeDate) -> Result<&Instrument, DeskError> {
        self.carried_on(symbol, date).map_or_else(|| self.instrument(symbol), Ok)
    }

    /// The instrument with this symbol, present or former, in either case.
    pub fn instrument(&self, symbol: &str) -> Result<&Instrument, DeskError> {
        let all = &self.config.instruments;
        if let Some(instrument) = self.then.get(symbol).and_then(|&at| all.get(at)).or_else(|| self.known(symbol)) {
            return Ok(instrument);
        }
        let named = |i: &&Instrument| i.symbol.eq_ignore_ascii_case(symbol);
        let formerly = |i: &&Instrument| i.former.iter().any(|f| f.symbol.eq_ignore_ascii_case(symbol));
        all.iter()
            .find(named)
            .or_else(|| all.iter().find(formerly))
            .ok_or_else(|| DeskError::unknown("instrument", symbol, all.iter().map(|i| i.symbol.as_str())))
    }

    /// A question narrowed to a source, a series or an interval that nobody knows is refused: an empty answer would read as all clear.
    ///
    /// # Errors
    /// When one of them is not known, here or in `held`, the series there are.
    pub fn check_names(
        &self,
        held: &SeriesList,
        source: Option<&str>,
        series: Option<&str>,
        interval: Option<&str>,
    ) -> Result<(), DeskError> {
        if let Some(name) = source.filter(|s| !self.sources.contains_key(*s) && held.iter().all(|r| r.key.source != **s)) {
            return Err(DeskError::unknown("source", name, self.sources.keys().map(String::as_str)));
        }
        if let Some(name) = series.filter(|s| held.iter().all(|r| r.key.to_string() != **s)) {
            let names: Vec<String> = held.iter().map(|r| r.key.to_string()).collect();
            return Err(DeskError::unknown("series", name, names.iter().map(String::as_str)));
        }
        interval.map_or(Ok(()), |i| i.parse::<Interval>().map(drop).map_err(|e| DeskError::Invalid(format!("interval: {e}"))))
    }

    /// A series' name with the present symbol of its instrument, whichever of its symbols was given.
    pub fn present(&self, key: SeriesKey) -> SeriesKey {
        match self.instrument(&key.symbol) {
            Ok(instrument) => SeriesKey { symbol: instrument.symbol.clone(), ..key },
            Err(_) => key,
        }
    }

    /// What a source calls one of our symbols, where its list says.
    pub fn id(&self, source: &str, symbol: &str) -> Option<&str> {
        self.ids.get(source)?.get(symbol).map(String::as_str)
    }

    /// Text with the secrets of all sources covered.
    pub fn without_secrets(&self, text: &str) -> String {
        self.sources.values().fold(text.to_owned(), |text, source| source.covered().text(&text))
    }

    /// The calendar of an instrument's venue.
    pub fn calendar_of(&self, instrument: &Instrument) -> Result<&Calendar, DeskError> {
        let found = self.calendars.get(&instrument.venue);
        found.ok_or_else(|| DeskError::Invalid(format!("{} trades on {}, which is no venue any more", instrument.symbol, instrument.venue)))
    }
}

/// Puts the present symbols in the place of those that instruments had then, since series carry them: where each instrument stands
/// by its symbol then, and the symbols then by the present ones.
fn under_present_names(config: &mut Config, names: &[(String, String)]) -> (HashMap<String, usize>, HashMap<String, String>) {
    let present: HashMap<&str, &str> = names.iter().map(|(was, is)| (was.as_str(), is.as_str())).collect();
    let mut then = HashMap::new();
    for (at, instrument) in config.instruments.iter_mut().enumerate() {
        if let Some(&symbol) = present.get(instrument.symbol.as_str()) {
            let was = std::mem::replace(&mut instrument.symbol, symbol.to_owned());
            // Collectors, rankings and checks that name it follow.
            instrument.former.push(FormerSymbol { symbol: was.clone(), until: TradeDate(i32::MAX) });
            then.insert(was, at);
        }
    }
    (then, names.iter().map(|(was, is)| (is.clone(), was.clone())).collect())
}

impl Post<'_> {
    /// The symbol to ask with for a window: the present one, or that of the time where the source knows no other.
    pub fn symbol_for(&self, setup: &Setup, symbol: &str, window: &mizuno_core::Span) -> String {
        // Windows are cut where a name changes, so any day of one will do; the first need not be a session.
        let date = match self.collector.interval {
            Interval::Daily => Some(window.start.date()),
            Interval::Intraday { .. } => self.calendar.at_or_after(window.start.instant()).map(|s| s.date),
        };
        match (setup.known(symbol), date) {
            (Some(instrument), Some(date)) if self.source.profile.symbols.dated => instrument.symbol_on(date).to_owned(),
            _ => symbol.to_owned(),
        }
    }

    /// What the bars of an answer are held to.
    pub fn standards(&self, interval: Interval, asked_at: Timestamp, answered_at: Timestamp) -> Standards<'_> {
        Standards { calendar: self.calendar, interval, asked_at, answered_at, any_price: self.offer.any_price }
    }

    /// Whether a window reaches into the newest session: today's increment, which goes ahead of backfill.
    pub fn is_newest(&self, window: &mizuno_core::Span, now: Timestamp) -> bool {
        let interval = self.collector.interval;
        let newest = self.calendar.at_or_after(now).filter(|s| s.open() <= now).or(self.calendar.last_closed(now));
        newest.is_some_and(|s| s.slots(interval).overlaps(window))
    }
}

impl Setup {
    /// Lets sources whose profile is another than before go on counting where their gates were left.
    pub(crate) fn take_over_from(&self, before: &Setup) {
        let is_at_work = |gate| self.sources.values().any(|source| std::ptr::eq(source.gate(), gate));
        for (name, source) in &self.sources {
            if let Some(old) = before.sources.get(name).map(Source::gate).filter(|old| !is_at_work(*old)) {
                source.gate().succeed(old);
            }
        }
    }
}

/// Sources of one group go through one gate: that of one which was at work before, so that what it counted counts still.
fn share_limits(sources: &mut BTreeMap<String, Source>, before: Option<&Setup>) {
    let group = |source: &Source| source.profile.limits.group.clone();
    let groups: std::collections::BTreeSet<String> = sources.values().filter_map(group).collect();
    for name in groups {
        let mine = |source: &&Source| group(source).as_ref() == Some(&name);
        let kept = |source: &&Source| before.is_some_and(|b| b.sources.values().any(|s| std::ptr::eq(s.gate(), source.gate())));
        let Some(first) = sources.values().filter(mine).find(kept).or_else(|| sources.values().find(mine)).cloned() else { continue };
        for source in sources.values_mut().filter(|s| group(s).as_ref() == Some(&name)) {
            *source = source.clone().through_the_gate_of(&first);
        }
    }
}
