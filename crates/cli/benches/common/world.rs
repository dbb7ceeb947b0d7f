//! A desk of many instruments at two sources: ten years of days, and of some a year of minutes.

use super::{FIRST, Outcome, configure, daily, year};
use mizuno_core::{Bars, Calendar, Interval, SeriesKey, Side, Timestamp};
use mizuno_store::{Store, actions::NewAction, answers::Understood};
use std::{collections::HashMap, path::Path, sync::Arc};

/// How large it is.
#[derive(Clone, Copy)]
pub struct Size {
    /// Instruments, each with days at both sources.
    pub instruments: usize,
    /// How many of them have minutes too.
    pub minutes: usize,
}

/// The text of a collector of daily bars.
pub fn daily_collector(name: &str, source: &str, since: &str) -> String {
    format!("name = \"{name}\"\nsource = \"{source}\"\nvenue = \"BNCH\"\ninterval = \"1d\"\nsince = \"{since}\"\n")
}

/// An action as a person enters it.
pub fn entered(symbol: &str, kind: &str, terms: &[(&str, &str)], ex_date: &str) -> NewAction {
    let columns = terms.iter().copied().chain([("ex_date", ex_date)]).map(|(k, v)| (k.to_owned(), v.to_owned())).collect();
    NewAction { symbol: symbol.to_owned(), kind: kind.to_owned(), columns }
}

/// Makes it, with `more` files of its configuration. `minutes` says what the minutes of each series are, `actions` which actions an instrument
/// has.
pub async fn two_sources(
    dir: &Path,
    data: &Path,
    at: Timestamp,
    size: Size,
    more: &[(&str, &str)],
    minutes: impl Fn(&Bars, usize) -> Bars,
    actions: impl Fn(&Calendar, &str) -> Vec<NewAction>,
) -> Outcome {
    let harbour = include_str!("../../../../demo/config/sources/harbour.toml");
    let second = harbour.replace("name = \"harbour\"", "name = \"second\"").replace("ALDX", "BNCH").replace("depth_days = 30\n", "");
    let symbols: Vec<String> = (0..size.minutes).map(|i| format!("\"B{i:03}\"")).collect();
    let of_minutes = format!(
        "name = \"bench\"\nsource = \"bench\"\nvenue = \"BNCH\"\ninterval = \"1m\"\nsince = \"{FIRST}\"\ninstruments = [{}]\n",
        symbols.join(", ")
    );
    let venue = "code = \"BNCH\"\nname = \"Bench\"\nzone = \"America/New_York\"\n[[week]]\nfrom = \"2014-01-01\"\ndays = [\"Mon\", \"Tue\", \"Wed\", \"Thu\", \"Fri\"]\nhours = [\"09:30-16:00\"]\n";
    let (first, other) = (daily_collector("days", "bench", "2015-01-05"), daily_collector("days-second", "second", "2015-01-05"));
    let files = [
        ("ranking.toml", "[[rank]]\ninterval = \"1d\"\nsources = [\"bench\", \"second\"]\n"),
        ("sources/second.toml", second.as_str()),
        ("collectors/days.toml", &first),
        ("collectors/second.toml", &other),
        ("collectors/bench.toml", &of_minutes),
        ("venues/bnch.toml", venue),
    ];
    let config = configure(dir, size.instruments, &[more, &files].concat())?;
    let calendar = Calendar::new(&config.venues["BNCH"], FIRST.parse()?.."2025-01-01".parse()?);
    let decade = Calendar::new(&config.venues["BNCH"], "2015-01-05".parse()?.."2024-12-20".parse()?);
    let years: Vec<Bars> = (0..4).map(|i| year(&calendar, i)).collect();
    let store = Store::open(data, Arc::new(move || at)).await?;
    store.put_instruments(config.instruments.clone(), None).await?;
    let key =
        |symbol: &str, interval, source: &str| SeriesKey { symbol: symbol.to_owned(), interval, side: Side::Trade, source: source.into() };
    let mut keys: Vec<SeriesKey> =
        config.instruments.iter().take(size.minutes).map(|i| key(&i.symbol, Interval::MINUTE, "bench")).collect();
    for source in ["bench", "second"] {
        keys.extend(config.instruments.iter().map(|i| key(&i.symbol, Interval::Daily, source)));
    }
    // A contract has bars while it is listed.
    let lives: HashMap<&str, _> = config.instruments.iter().map(|i| (i.symbol.as_str(), i.life())).collect();
    for (i, row) in store.ensure_series(keys).await?.into_iter().enumerate() {
        let year = &years[i % years.len()];
        let mut bars = if row.key.interval == Interval::Daily { daily(&decade, year) } else { minutes(year, i) };
        if let (Interval::Daily, Some(life)) = (row.key.interval, lives.get(row.key.symbol.as_str())) {
            bars.rows.retain(|bar| life.contains(&bar.slot.date()));
        }
        let understood = Understood { rows: bars.rows.len() as u64, bars, ..Understood::default() };
        store.keep_bars(0, row.id, row.key.interval, understood).await?;
    }
    let entered = config.instruments.iter().flat_map(|i| actions(&decade, &i.symbol)).collect();
    store.enter_actions(entered, "bench".to_owned(), "to measure".to_owned()).await?;
    store.close().await;
    Ok(())
}
