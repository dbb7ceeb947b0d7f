//! What all rooms share.

use crate::{
    error::DeskError,
    events::Events,
    hands::Hands,
    lately::Lately,
    lateness::Lateness,
    setup::{Means, Setup},
    sight::Sights,
    universes::{lists_followed, told},
};
use futures_util::future::BoxFuture;
use mizuno_config::Config;
use mizuno_core::{SeriesKey, Timestamp, TradeDate, clock::ClockFace, time::MINUTE};
use mizuno_sources::{Clock, DayBook, Secrets};
use mizuno_store::{Store, series::SeriesRow};
use std::{
    collections::HashMap,
    path::PathBuf,
    sync::{Arc, PoisonError, RwLock},
};
use tokio::{runtime::Handle, sync::watch};

/// Setups of the past that are remembered.
const PASTS: usize = 4;

/// What a setup of the past follows from: the configuration, and how many instruments were listed, how many renamed, and how many
/// rows of lists of members came or went since then.
pub(crate) type Past = (i64, i64, i64, i64);

/// The setup at work, the store, the clock, and what is known of every series.
pub struct Desk {
    /// Everything kept.
    pub store: Store,
    /// Service time.
    pub clock: Clock,
    /// What happens.
    pub events: Events,
    /// How much later than their profiles say collectors' sources were found to publish.
    pub late: Lateness,
    /// Where work goes on that nobody waits for: beside the writer, and not on a thread that answers calls.
    pub home: Handle,
    /// The threads on which answers are worked out.
    pub hands: Hands,
    /// What is known of each series, until it changes.
    pub(crate) sights: Sights,
    config_dir: Option<PathBuf>,
    data: PathBuf,
    setup: RwLock<Arc<Setup>>,
    /// Held while another setup is put to work.
    pub(crate) changing: tokio::sync::RwLock<()>,
    /// Setups of the past.
    pub(crate) past: Lately<Past, Setup>,
    /// Counts the setups there have been.
    changed: watch::Sender<u64>,
}

impl Desk {
    /// Opens the data directory `data` and puts a configuration to work, which was read from `config_dir`.
    ///
    /// # Errors
    /// When the data directory is in use or cannot be read, or a source cannot be set up.
    pub async fn open(config: Config, config_dir: Option<PathBuf>, data: PathBuf, clock: ClockFace) -> Result<Desk, DeskError> {
        let clock = Clock::new(clock);
        let hand = clock.clone();
        let store = Store::open(&data, Arc::new(move || hand.now())).await?;
        let secrets = secrets(config_dir.as_deref());
        let setup = accept(&store, &clock, &secrets, &data, config, None).await?;
        // Calls of a process that ended within the last minute still count at their sources.
        let now = clock.now();
        for (name, at) in store.newest_calls().await? {
            // A clock that was ahead then must not silence a source now.
            let at = at.min(now);
            if let Some(source) = setup.sources.get(&name).filter(|_| now < at.plus(MINUTE)) {
                source.gate().begin_at(at.plus(MINUTE));
            }
        }
        Ok(Desk {
            store,
            clock,
            events: Events::default(),
            late: Lateness::default(),
            home: Handle::current(),
            hands: Hands::start().map_err(|e| DeskError::fault("starting threads", e))?,
            sights: Sights::default(),
            config_dir,
            data,
            setup: RwLock::new(Arc::new(setup)),
            changing: tokio::sync::RwLock::new(()),
            past: Lately::of(PASTS),
            changed: watch::channel(0).0,
        })
    }

    /// The setup at work now. Whoever takes it keeps it, also when another takes its place.
    #[must_use]
    pub fn setup(&self) -> Arc<Setup> {
        self.setup.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// The series of a name, with the present symbol of its instrument or a former one.
    pub async fn series_named(&self, setup: &Setup, name: &str) -> Result<SeriesRow, DeskError> {
        if let Ok(key) = name.parse::<SeriesKey>()
            && let Some(row) = self.store.find_series(&setup.present(key)).await?
        {
            return Ok(row);
        }
        Err(self.no_series(name).await?)
    }

    /// That there is no series of a name, with those that come near.
    pub async fn no_series(&self, name: &str) -> Result<DeskError, DeskError> {
        let names: Vec<String> = self.store.series().await?.iter().map(|s| s.key.to_string()).collect();
        Ok(DeskError::unknown("series", name, names.iter().map(String::as_str)))
    }

    /// Puts a configuration, and what the lists of sources say, in the place of the setup at work.
    pub async fn put_to_work(&self, config: Config) -> Result<(), DeskError> {
        // An instant that is pinned meanwhile waits until it is settled which setup it is of.
        let _changing = self.changing.write().await;
        let before = self.setup();
        let secrets = secrets(self.config_dir.as_deref());
        let setup = accept(&self.store, &self.clock, &secrets, &self.data, config, Some(&before)).await?;
        setup.take_over_from(&before);
        *self.setup.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(setup);
        self.changed.send_modify(|n| *n += 1);
        Ok(())
    }

    /// What keys and passwords there are, read afresh.
    pub fn secrets(&self) -> Secrets {
        secrets(self.config_dir.as_deref())
    }

    /// The ledger of calls a day.
    pub(crate) fn book(&self) -> Arc<dyn DayBook> {
        Arc::new(Book(self.store.clone()))
    }

    /// The data directory.
    pub fn data(&self) -> &std::path::Path {
        &self.data
    }

    /// Tells when another setup is at work.
    pub fn changes(&self) -> watch::Receiver<u64> {
        self.changed.subscribe()
    }

    /// Where the configuration is, for reading it again.
    #[must_use]
    pub fn config_dir(&self) -> Option<&std::path::Path> {
        self.config_dir.as_deref()
    }
}

/// Keeps a configuration, and makes the setup of it and of what the lists of sources say.
async fn accept(
    store: &Store,
    clock: &Clock,
    secrets: &Secrets,
    data: &std::path::Path,
    config: Config,
    before: Option<&Setup>,
) -> Result<Setup, DeskError> {
    let kept = store.keep_configuration(&config.texts.0).await?;
    store.put_instruments(config.instruments.clone(), None).await?;
    let (listed, ids) = (store.listed_instruments().await?, listed_ids(store).await?);
    let (since, told) = (store.newest(), told(store, lists_followed(&config), Timestamp::MAX).await?);
    let means = Means { clock, secrets, book: Arc::new(Book(store.clone())), folder: data, before, kept, since, names: &[], told: &told };
    Setup::new(config, listed, ids, &means)
}

/// What the file `.env` of a configuration holds; nothing when there is none.
pub fn secrets(dir: Option<&std::path::Path>) -> Secrets {
    let Some(path) = dir.map(|d| d.join(".env")) else { return Secrets::default() };
    match dotenvy::from_path_iter(&path) {
        Ok(pairs) => Secrets::new(pairs.filter_map(Result::ok)),
        Err(_) => Secrets::default(),
    }
}

/// What the sources' lists call our symbols.
async fn listed_ids(store: &Store) -> Result<HashMap<String, HashMap<String, String>>, DeskError> {
    let mut out: HashMap<String, HashMap<String, String>> = HashMap::new();
    for row in store.list_rows(None, None).await? {
        if let (Some(symbol), Some(id)) = (row.columns.get("symbol"), row.columns.get("id")) {
            out.entry(row.source).or_default().insert(symbol.clone(), id.clone());
        }
    }
    Ok(out)
}

/// The ledger of calls a day, in the store.
struct Book(Store);

impl DayBook for Book {
    fn reserved<'a>(&'a self, source: &'a str, day: TradeDate) -> BoxFuture<'a, Result<u32, String>> {
        Box::pin(async move { self.0.reserved_calls(source, day.0).await.map_err(|e| e.to_string()) })
    }

    fn reserve<'a>(&'a self, source: &'a str, day: TradeDate, calls: u32) -> BoxFuture<'a, Result<(), String>> {
        Box::pin(async move { self.0.reserve_calls(source.to_owned(), day.0, calls).await.map_err(|e| e.to_string()) })
    }
}
