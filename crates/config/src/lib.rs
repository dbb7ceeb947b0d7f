//! The configuration directory, read and checked as a whole.
//!
//! ```text
//! mizuno.toml          the service: desk, address
//! venues/*.toml        market places and their calendars
//! instruments/*.csv    what can be traded
//! sources/*.toml       source profiles
//! collectors/*.toml    standing orders
//! chains/*.toml        continuous series of futures; may be absent
//! editions/*.toml      sets of files that are made from saved questions; may be absent
//! universes/*.toml     named sets of instruments; may be absent
//! ranking.toml         which source goes before which; may be absent
//! rates.toml           what money of one currency is worth in another; may be absent
//! checks.toml          other limits for the checks; may be absent
//! ```
//!
//! Every problem found is a [`Problem`] with file and line, what is wrong and
//! what was expected; [`Config::load`] returns all of them at once. A configuration keeps the [`Texts`] it was
//! read from, so that it can be read again when the files say something else.

pub mod chain;
mod checks;
pub mod collector;
pub mod edition;
mod instruments;
pub mod problem;
pub mod profile;
pub mod ranking;
pub mod rates;
mod text;
pub mod texts;
pub mod universe;
pub mod venue;

pub use chain::Chain;
pub use checks::Checks;
pub use collector::{Collector, Schedule};
pub use edition::Edition;
pub use instruments::{parse as parse_instruments, sound_symbol};
pub use problem::{Problem, Problems};
pub use profile::Profile;
pub use ranking::{Ranked, Ranking};
pub use rates::{Rate, Rates};
pub use texts::Texts;
pub use universe::Universe;

use mizuno_core::{Instrument, Venue};
use serde::Deserialize;
use std::{
    collections::{BTreeMap, BTreeSet},
    net::SocketAddr,
    path::{Path, PathBuf},
    sync::Arc,
};

/// The file `mizuno.toml`.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ServiceFile {
    /// Whose service this is; shown in the console.
    pub desk: String,
    /// Address to listen on; loopback only.
    #[serde(deserialize_with = "text::parsed")]
    pub listen: SocketAddr,
}

/// A whole configuration, checked.
#[derive(Clone, Debug, PartialEq)]
pub struct Config {
    /// The service's own settings.
    pub service: ServiceFile,
    /// Venues by code.
    pub venues: BTreeMap<String, Venue>,
    /// Instruments, in the order of their files.
    pub instruments: Vec<Instrument>,
    /// Source profiles by name.
    pub sources: BTreeMap<String, Profile>,
    /// Collectors by name.
    pub collectors: BTreeMap<String, Collector>,
    /// Which source goes before which.
    pub ranking: Ranking,
    /// What money of one currency is worth in another.
    pub rates: Rates,
    /// How the checks look.
    pub checks: Checks,
    /// Questions that the operator keeps, by name: the text of each file in `questions/`. Whoever answers questions reads them.
    pub questions: BTreeMap<String, String>,
    /// Continuous series of futures by name.
    pub chains: BTreeMap<String, Chain>,
    /// Editions by name.
    pub editions: BTreeMap<String, Edition>,
    /// Universes by name.
    pub universes: BTreeMap<String, Universe>,
    /// Who belongs or ever belonged to the universes that collectors follow, by present symbols; nobody until lists are read.
    pub belonged: BTreeMap<String, BTreeSet<String>>,
    /// The files it was read from.
    pub texts: Arc<Texts>,
}

/// The name that golden series have in the place of a source; no source may carry it.
pub const GOLDEN: &str = "golden";

impl Config {
    /// Reads the directory `dir`.
    ///
    /// # Errors
    /// Every problem in every file.
    pub fn load(dir: &Path) -> Result<Config, Problems> {
        let (texts, unreadable) = Texts::read(dir);
        Config::read(Arc::new(texts), unreadable)
    }

    /// Reads texts that were a sound configuration once.
    ///
    /// # Errors
    /// What of them is a problem today.
    pub fn of(texts: Arc<Texts>) -> Result<Config, Problems> {
        Config::read(texts, vec![])
    }

    fn read(texts: Arc<Texts>, mut problems: Vec<Problem>) -> Result<Config, Problems> {
        let mut keep = |found: Vec<Problem>| problems.extend(found);
        let service = texts.0.get("mizuno.toml").map(|text| problem::toml::<ServiceFile>(Path::new("mizuno.toml"), text));
        let service = service.and_then(|read| read.map_err(&mut keep).ok());
        let venues = texts.many("venues", |path, text| {
            let file = problem::toml::<venue::VenueFile>(path, text)?;
            venue::build(path, file).map(|v| vec![v])
        });
        let instruments = texts.many("instruments", instruments::parse);
        let sources = texts.many("sources", |path, text| profile::parse(path, text).map(|p| vec![p]));
        let collectors = texts.many("collectors", |path, text| {
            let file = problem::toml::<Collector>(path, text)?;
            file.check(path, text).map(|()| vec![file])
        });
        let chains = texts.many("chains", |path, text| Chain::parse(path, text).map(|c| vec![c]));
        let editions = texts.many("editions", |path, text| Edition::parse(path, text).map(|e| vec![e]));
        let universes = texts.many("universes", |path, text| Universe::parse(path, text).map(|u| vec![u]));
        let questions = texts.many("questions", |path, content| Ok(vec![(text::stem(path), content.to_owned())]));
        let questions = questions.map_err(&mut keep).unwrap_or_default();
        let editions = editions.map_err(&mut keep).unwrap_or_default();
        let chains = chains.map_err(&mut keep).unwrap_or_default();
        let universes = universes.map_err(&mut keep).unwrap_or_default();
        let venues = venues.map_err(&mut keep).unwrap_or_default();
        let instruments = instruments.map_err(&mut keep).unwrap_or_default();
        let sources = sources.map_err(&mut keep).unwrap_or_default();
        let collectors = collectors.map_err(&mut keep).unwrap_or_default();
        let ranking = texts.if_there("ranking.toml", Ranking::parse).map_err(&mut keep).unwrap_or_default();
        let rates = texts.if_there("rates.toml", Rates::parse).map_err(&mut keep).unwrap_or_default();
        let checks = texts.if_there("checks.toml", Checks::parse).map_err(&mut keep).unwrap_or_default();
        if let (Some(service), true) = (service, problems.is_empty()) {
            let config = Config {
                service,
                venues: venues.into_iter().map(|(_, v)| (v.code.clone(), v)).collect(),
                instruments: instruments.into_iter().map(|(_, i)| i).collect(),
                sources: sources.into_iter().map(|(_, s)| (s.name.clone(), s)).collect(),
                collectors: collectors.iter().map(|(_, c)| (c.name.clone(), c.clone())).collect(),
                ranking,
                rates,
                checks,
                questions: questions.into_iter().map(|(_, named)| named).collect(),
                chains: chains.into_iter().map(|(_, c)| (c.name.clone(), c)).collect(),
                editions: editions.into_iter().map(|(_, e)| (e.name.clone(), e)).collect(),
                universes: universes.into_iter().map(|(_, u)| (u.name.clone(), u)).collect(),
                belonged: BTreeMap::new(),
                texts: texts.clone(),
            };
            problems = config.cross_check(&collectors);
            if problems.is_empty() {
                return Ok(config);
            }
        }
        Err(Problems(problems))
    }

    /// What one file says of another.
    fn cross_check(&self, collectors: &[(PathBuf, Collector)]) -> Vec<Problem> {
        let mut problems = vec![];
        let mut symbols = std::collections::BTreeSet::new();
        for i in &self.instruments {
            let file = Path::new("instruments");
            if !symbols.insert(&i.symbol) {
                problems.push(Problem::whole(file, format!("the symbol {} stands twice; symbols are unique over all lists", i.symbol)));
            }
            if !self.venues.contains_key(&i.venue) {
                problems.push(Problem::whole(
                    file,
                    format!("{} trades on {}, and there is no such venue; {}", i.symbol, i.venue, known(self.venues.keys())),
                ));
            }
        }
        for (file, c) in collectors {
            let mut wrong = |what: String| problems.push(Problem::whole(file, what));
            match self.sources.get(&c.source) {
                None => wrong(format!("there is no source {}; {}", c.source, known(self.sources.keys()))),
                Some(source) if source.offer(&c.venue, c.interval, c.side).is_none() => wrong(format!(
                    "the source {} has no {} bars of {} ({} side); its profile offers {}",
                    c.source,
                    c.interval,
                    c.venue,
                    c.side,
                    source.offers()
                )),
                Some(_) => {}
            }
            if !self.venues.contains_key(&c.venue) {
                wrong(format!("there is no venue {}; {}", c.venue, known(self.venues.keys())));
            }
            for symbol in c.named() {
                if self.carrier(symbol).is_none_or(|i| i.venue != c.venue) {
                    wrong(format!("there is no instrument {symbol} on {}; look in instruments/", c.venue));
                }
            }
        }
        for (name, profile) in &self.sources {
            let Some(group) = &profile.limits.group else { continue };
            let first = self.sources.iter().find(|(_, other)| other.limits.group.as_ref() == Some(group));
            if let Some((first, _)) = first.filter(|(_, other)| other.limits != profile.limits) {
                problems.push(Problem::whole(
                    &Path::new("sources").join(format!("{name}.toml")),
                    format!("it shares its limits with {first} by the group `{group}`, and says others; write the same [limits] in both"),
                ));
            }
        }
        if self.sources.contains_key(GOLDEN) {
            problems.push(Problem::whole(Path::new("sources"), format!("no source can be called {GOLDEN}; the golden series are")));
        }
        let is_known = |what: &str, name: &String| match what {
            "source" => self.sources.contains_key(name),
            "venue" => self.venues.contains_key(name),
            _ => self.carrier(name).is_some(),
        };
        let mut unknown = |file: &str, what: &str, name: &String| {
            if !is_known(what, name) {
                problems.push(Problem::whole(Path::new(file), format!("there is no {what} {name}")));
            }
        };
        self.ranking.named().for_each(|(what, name)| unknown("ranking.toml", what, name));
        self.rates.named().for_each(|name| unknown("rates.toml", "instrument", name));
        self.checks.named().for_each(|name| unknown("checks.toml", "instrument", name));
        problems.extend(self.check_universes());
        problems.extend(self.check_chains());
        problems.extend(self.check_editions());
        problems
    }

    /// The instrument that carries a symbol now, or else the one that gave it up last.
    fn carrier(&self, symbol: &str) -> Option<&Instrument> {
        let gave_up = |i: &&Instrument| i.former.iter().filter(|f| f.symbol == symbol).map(|f| f.until).max();
        let former = || self.instruments.iter().filter(|i| gave_up(i).is_some()).max_by_key(|i| gave_up(i));
        self.instruments.iter().find(|i| i.symbol == symbol).or_else(former)
    }

    /// Reads a symbol that was given up as that of the instrument that carried it, wherever a file names instruments: a rename in a
    /// list must not take an instrument out of its collector. A symbol that another instrument carries now is that one's.
    pub fn follow_renames(&mut self) {
        let lists = self.collectors.values_mut().flat_map(Collector::named_mut);
        let named: Vec<&mut String> =
            lists.chain(self.ranking.instruments_mut()).chain(self.rates.instruments_mut()).chain(self.checks.instruments_mut()).collect();
        let mut present: BTreeMap<&str, (mizuno_core::TradeDate, &str)> = BTreeMap::new();
        for (i, f) in self.instruments.iter().flat_map(|i| i.former.iter().map(move |f| (i, f))) {
            let newest = present.entry(&f.symbol).or_insert((f.until, &i.symbol));
            *newest = (*newest).max((f.until, &i.symbol));
        }
        for i in &self.instruments {
            present.remove(i.symbol.as_str());
        }
        for name in named {
            if let Some((_, symbol)) = present.get(name.as_str()) {
                *name = (*symbol).to_owned();
            }
        }
    }

    /// The instruments a collector is for, in list order.
    pub fn instruments_of<'a>(&'a self, collector: &'a Collector) -> impl Iterator<Item = &'a Instrument> {
        self.instruments.iter().filter(|i| self.takes(collector, i))
    }

    /// Whether a collector is for an instrument.
    #[must_use]
    pub fn takes(&self, collector: &Collector, instrument: &Instrument) -> bool {
        let belongs = |name: &String| self.belonged.get(name).is_some_and(|members| members.contains(&instrument.symbol));
        collector.names(instrument) && collector.universe.as_ref().is_none_or(belongs)
    }
}

fn known<'a>(names: impl Iterator<Item = &'a String>) -> String {
    let names: Vec<&str> = names.map(String::as_str).collect();
    if names.is_empty() { "none is configured".to_owned() } else { format!("there is {}", names.join(", ")) }
}
