//! What the whole service shares.

use crate::{Options, error::ServiceError, events::Events, run::LiveRuns};
use mizuno_config::{Collector, Config, profile::Offer};
use mizuno_core::{Calendar, Instrument, Venue, calendar::usual_dates};
use mizuno_sources::{Clock, Source};
use mizuno_store::Store;
use std::{
    collections::{BTreeMap, HashMap},
    sync::Arc,
};

/// The configuration at work, the store, the clock and the runs under way.
pub struct Desk {
    /// The configuration.
    pub config: Config,
    /// Everything kept.
    pub store: Store,
    /// Service time.
    pub clock: Clock,
    symbols: HashMap<String, usize>,
    pub(crate) calendars: BTreeMap<String, Calendar>,
    pub(crate) sources: BTreeMap<String, Source>,
    pub(crate) events: Events,
    pub(crate) live: LiveRuns,
}

/// All that is needed to collect for one collector.
#[derive(Clone, Copy)]
pub(crate) struct Post<'d> {
    pub collector: &'d Collector,
    pub source: &'d Source,
    pub offer: &'d Offer,
    pub venue: &'d Venue,
    pub calendar: &'d Calendar,
}

impl Desk {
    pub(crate) async fn open(options: Options) -> Result<Arc<Desk>, ServiceError> {
        let Options { config, data, clock, .. } = options;
        let clock = Clock::new(clock);
        let store = Store::open(&data).await?;
        store.put_instruments(config.instruments.clone()).await?;
        let dates = usual_dates(clock.now());
        let calendars = config.venues.iter().map(|(code, v)| (code.clone(), Calendar::new(v, dates.clone()))).collect();
        let mut sources = BTreeMap::new();
        for (name, profile) in &config.sources {
            let source = Source::new(Arc::new(profile.clone()), clock.clone());
            let source = source.map_err(|failure| ServiceError::Source { name: name.clone(), failure })?;
            sources.insert(name.clone(), source);
        }
        let (events, live) = (Events::new(), LiveRuns::default());
        let symbols = config.instruments.iter().enumerate().map(|(at, i)| (i.symbol.clone(), at)).collect();
        Ok(Arc::new(Desk { config, store, clock, symbols, calendars, sources, events, live }))
    }

    /// A collector and all it works with.
    pub(crate) fn post(&self, collector: &str) -> Result<Post<'_>, ServiceError> {
        let unknown = || ServiceError::unknown("collector", collector, self.config.collectors.keys().map(String::as_str));
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
        parts().ok_or_else(|| ServiceError::Invalid(format!("the collector {} does not fit its source and venue", collector.name)))
    }

    /// The instrument with exactly this present symbol.
    pub(crate) fn known(&self, symbol: &str) -> Option<&Instrument> {
        self.symbols.get(symbol).and_then(|&at| self.config.instruments.get(at))
    }

    /// The instrument with this symbol, present or former, in either case.
    pub(crate) fn instrument(&self, symbol: &str) -> Result<&Instrument, ServiceError> {
        if let Some(instrument) = self.known(symbol) {
            return Ok(instrument);
        }
        let all = &self.config.instruments;
        let named = |i: &&Instrument| i.symbol.eq_ignore_ascii_case(symbol);
        let formerly = |i: &&Instrument| i.former.iter().any(|f| f.symbol.eq_ignore_ascii_case(symbol));
        all.iter()
            .find(named)
            .or_else(|| all.iter().find(formerly))
            .ok_or_else(|| ServiceError::unknown("instrument", symbol, all.iter().map(|i| i.symbol.as_str())))
    }

    /// Stops every run in good order; they are taken up again at the next start.
    pub(crate) async fn stop(&self) {
        self.live.stop().await;
    }
}
