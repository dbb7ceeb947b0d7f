//! A gap and completeness scan over sixty million bars, through the service: 500 series of minutes over a year and
//! 5,000 of days over ten.

mod common;

use common::{FIRST, Figures, HOLE_EVERY, NOW, Outcome, configure, median, year};
use mizuno_core::{Bar, Bars, Calendar, Interval, SeriesKey, Side, Slot, Timestamp, clock::ClockFace};
use mizuno_store::{Store, answers::Understood};
use std::time::{Duration, Instant};
use tempfile::TempDir;

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const MINUTES: usize = 500;
const DAYS: usize = 5_000;
/// Years of minutes made up; the series take turns with them.
const MADE: usize = 8;

#[tokio::main]
async fn main() -> Outcome {
    let dir = TempDir::new()?;
    let daily = "name = \"days\"\nsource = \"bench\"\nvenue = \"BNCH\"\ninterval = \"1d\"\nsince = \"2015-01-05\"\n";
    let venue = "code = \"BNCH\"\nname = \"Bench\"\nzone = \"America/New_York\"\n[[week]]\nfrom = \"2014-01-01\"\ndays = [\"Mon\", \"Tue\", \"Wed\", \"Thu\", \"Fri\"]\nhours = [\"09:30-16:00\"]\n";
    let symbols: Vec<String> = (0..MINUTES).map(|i| format!("\"B{i:03}\"")).collect();
    let minutes = format!(
        "name = \"bench\"\nsource = \"bench\"\nvenue = \"BNCH\"\ninterval = \"1m\"\nsince = \"{FIRST}\"\ninstruments = [{}]\n",
        symbols.join(", ")
    );
    let more = [("collectors/days.toml", daily), ("venues/bnch.toml", venue), ("collectors/bench.toml", &minutes)];
    let config = configure(dir.path(), DAYS, &more)?;
    let calendar = Calendar::new(&config.venues["BNCH"], FIRST.parse()?.."2025-01-01".parse()?);
    let decade = Calendar::new(&config.venues["BNCH"], "2015-01-05".parse()?.."2024-12-20".parse()?);
    let years: Vec<Bars> = (0..MADE).map(|i| year(&calendar, i as u64)).collect();
    let days: Vec<Bars> = years.iter().map(|y| daily_bars(&decade, y)).collect();
    let at: Timestamp = NOW.parse()?;
    let store = Store::open(&dir.path().join("data"), std::sync::Arc::new(move || at)).await?;
    store.put_instruments(config.instruments.clone(), None).await?;
    let key = |symbol: &str, interval| SeriesKey { symbol: symbol.to_owned(), interval, side: Side::Trade, source: "bench".into() };
    let mut keys: Vec<SeriesKey> = config.instruments.iter().take(MINUTES).map(|i| key(&i.symbol, Interval::MINUTE)).collect();
    keys.extend(config.instruments.iter().map(|i| key(&i.symbol, Interval::Daily)));
    let mut bars = 0;
    for (i, row) in store.ensure_series(keys).await?.into_iter().enumerate() {
        let all = if row.key.interval == Interval::Daily { &days } else { &years };
        let of_this = all[i % MADE].clone();
        bars += of_this.rows.len();
        let understood = Understood { rows: of_this.rows.len() as u64, bars: of_this, ..Understood::default() };
        store.keep_bars(0, row.id, row.key.interval, understood).await?;
    }
    store.close().await;
    drop(store);
    println!("{MINUTES} series of minutes over a year, {DAYS} of days over ten: {bars} bars");

    let clock = ClockFace { start: at, wall: mizuno_sim::wall(), speed: 1.0 };
    let listen = Some("127.0.0.1:0".parse()?);
    let data = dir.path().join("data");
    let service =
        mizuno_service::serve(mizuno_service::Options { config, config_dir: None, data, listen, clock, pasted_profiles: false }).await?;
    let base = format!("http://{}/api/v1", service.address);
    let (stop, stopped) = tokio::sync::oneshot::channel::<()>();
    let serving = tokio::spawn(service.until(Box::pin(async { drop(stopped.await) })));
    let http = reqwest::Client::builder().no_proxy().no_gzip().no_zstd().build()?;
    let mut table = Figures::default();
    for (what, path) in [("gaps of every series", "gaps?most=1000000"), ("completeness of every series", "series")] {
        let mut times = vec![];
        for _ in 0..5 {
            let began = Instant::now();
            let found: serde_json::Value = http.get(format!("{base}/{path}")).send().await?.json().await?;
            times.push(began.elapsed());
            let planted: usize = (0..MINUTES).map(|i| years[i % MADE].rows.len() / HOLE_EVERY).sum();
            let told = found.as_array().map_or(0, Vec::len);
            assert!(told == DAYS + MINUTES || told == planted, "{told}, {planted} holes were planted");
        }
        let scan = median(times);
        table.add(what, format!("{scan:.1?} over {bars} bars, over HTTP"), "under 1 s", scan < Duration::from_secs(1));
    }
    println!("{}", table.0);
    let _ = stop.send(());
    serving.await??;
    Ok(())
}

/// A bar for each session, taken from the minutes in turn.
fn daily_bars(calendar: &Calendar, minutes: &Bars) -> Bars {
    let rows = calendar.sessions().iter().enumerate().map(|(i, s)| {
        let bar = &minutes.rows[i * 30];
        Bar::new(Slot::on(s.date), bar.prices(), bar.volume())
    });
    rows.collect()
}
