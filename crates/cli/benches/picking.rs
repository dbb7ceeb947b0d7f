//! The newest bars of thousands of instruments, and rows that conditions pick out of many minutes.

mod common;

use common::{
    DAYS, FIRST, Figures, NOW, Outcome,
    asking::{Service, ask, often, told},
    configure, daily, year,
};
use mizuno_core::{Bar, Bars, Calendar, Decimal, Interval, SeriesKey, Side, Timestamp, clock::ClockFace};
use mizuno_store::{Store, actions::NewAction, answers::Understood, blocks};
use std::{path::Path, sync::Arc, time::Duration};
use tempfile::TempDir;

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const INSTRUMENTS: usize = 5_000;
/// Series that have a year of minutes too: ten million bars.
const MINUTES: usize = 100;

#[tokio::main]
async fn main() -> Outcome {
    let dir = TempDir::new()?;
    let data = dir.path().join("data");
    let at: Timestamp = NOW.parse()?;
    world(dir.path(), &data, at).await?;
    let clock = ClockFace { start: at, wall: mizuno_sim::wall(), speed: 1.0 };
    let service = Service::start(&dir.path().join("config"), &data, &clock)?;
    let base = service.base.clone();
    let _ = rustls::crypto::ring::default_provider().install_default();
    let http = reqwest::Client::builder().no_proxy().no_gzip().no_zstd().build()?;
    let mut table = Figures::default();

    let latest = format!("{base}/bars?instruments=B*&layout=latest&adjust=splits&columns=instrument,date,close,mean_200,rises&sort=-rises");
    let cold = ask(&http, &latest).await?;
    assert_eq!(cold.lines, INSTRUMENTS + 1, "a row an instrument");
    table.add("newest bars of 5,000, findings cold", told(&cold), "under 10 s", cold.all < Duration::from_secs(10));
    let warm = often(&http, &latest).await?;
    table.add("the same, findings known", told(&warm), "under 1 s", warm.all < Duration::from_secs(1));

    let minutes = async |columns: &str, condition: &str| {
        let url = format!("{base}/bars?instruments=B0*&interval=1m&source=bench&columns=instrument,time,{columns}&where={condition}");
        often(&http, &url).await
    };
    // Every bar is unpacked, and none is given: nothing is written that would take time of its own.
    let all = minutes("open,high,low,close,volume", "range+%3C+0").await?;
    assert_eq!(all.lines, 1, "no bar has a high below its low");
    table.add("ten million minutes, all unpacked", told(&all), "", true);
    for (what, condition, least) in
        [("1 % in a twentieth of the blocks", "volume+%3E+1000000", 5.0), ("1 % scattered", "volume+%3C%3D+40", 2.0)]
    {
        let picked = minutes("close,volume", condition).await?;
        let share = (picked.lines - 1) as f64 / (MINUTES as f64 * 98_280.0) * 100.0;
        let times = all.all.as_secs_f64() / picked.all.as_secs_f64();
        let figure = format!("{:.1?}, {share:.2} % of the bars, {times:.1} times faster", picked.all);
        table.add(what, figure, &format!("{least} times"), times >= least);
    }
    println!("{}", table.0);
    Ok(())
}

/// 5,000 instruments at two sources, ten years of days each, with two splits; of some a year of minutes.
async fn world(dir: &Path, data: &Path, at: Timestamp) -> Outcome {
    let harbour = include_str!("../../../demo/config/sources/harbour.toml");
    let second = harbour.replace("name = \"harbour\"", "name = \"second\"").replace("ALDX", "BNCH").replace("depth_days = 30\n", "");
    let days = |name: &str, source: &str| {
        format!("name = \"{name}\"\nsource = \"{source}\"\nvenue = \"BNCH\"\ninterval = \"1d\"\nsince = \"2015-01-05\"\n")
    };
    let symbols: Vec<String> = (0..MINUTES).map(|i| format!("\"B{i:03}\"")).collect();
    let minutes = format!(
        "name = \"bench\"\nsource = \"bench\"\nvenue = \"BNCH\"\ninterval = \"1m\"\nsince = \"{FIRST}\"\ninstruments = [{}]\n",
        symbols.join(", ")
    );
    let venue = "code = \"BNCH\"\nname = \"Bench\"\nzone = \"America/New_York\"\n[[week]]\nfrom = \"2014-01-01\"\ndays = [\"Mon\", \"Tue\", \"Wed\", \"Thu\", \"Fri\"]\nhours = [\"09:30-16:00\"]\n";
    let (first, other) = (days("days", "bench"), days("days-second", "second"));
    let more = [
        ("ranking.toml", "[[rank]]\ninterval = \"1d\"\nsources = [\"bench\", \"second\"]\n"),
        ("sources/second.toml", second.as_str()),
        ("collectors/days.toml", &first),
        ("collectors/second.toml", &other),
        ("collectors/bench.toml", &minutes),
        ("venues/bnch.toml", venue),
    ];
    let config = configure(dir, INSTRUMENTS, &more)?;
    let calendar = Calendar::new(&config.venues["BNCH"], FIRST.parse()?.."2025-01-01".parse()?);
    let decade = Calendar::new(&config.venues["BNCH"], "2015-01-05".parse()?.."2024-12-20".parse()?);
    let years: Vec<Bars> = (0..4).map(|i| year(&calendar, i)).collect();
    let store = Store::open(data, Arc::new(move || at)).await?;
    store.put_instruments(config.instruments.clone(), None).await?;
    let key =
        |symbol: &str, interval, source: &str| SeriesKey { symbol: symbol.to_owned(), interval, side: Side::Trade, source: source.into() };
    let mut keys: Vec<SeriesKey> = config.instruments.iter().take(MINUTES).map(|i| key(&i.symbol, Interval::MINUTE, "bench")).collect();
    for source in ["bench", "second"] {
        keys.extend(config.instruments.iter().map(|i| key(&i.symbol, Interval::Daily, source)));
    }
    for (i, row) in store.ensure_series(keys).await?.into_iter().enumerate() {
        let minutes = &years[i % years.len()];
        let bars = if row.key.interval == Interval::Daily { daily(&decade, minutes) } else { with_bursts(minutes, i) };
        let understood = Understood { rows: bars.rows.len() as u64, bars, ..Understood::default() };
        store.keep_bars(0, row.id, row.key.interval, understood).await?;
    }
    let split = |symbol: &str, n: usize| {
        let date = decade.sessions()[n * DAYS / 3].date.to_string();
        let terms = [("new", "2"), ("old", "1"), ("ex_date", date.as_str())];
        let columns = terms.into_iter().map(|(k, v)| (k.to_owned(), v.to_owned())).collect();
        NewAction { symbol: symbol.to_owned(), kind: "split".to_owned(), columns }
    };
    let actions = config.instruments.iter().flat_map(|i| [split(&i.symbol, 1), split(&i.symbol, 2)]).collect();
    store.enter_actions(actions, "bench".to_owned(), "to measure".to_owned()).await?;
    store.close().await;
    Ok(())
}

/// The minutes of a series with large volumes in each twentieth block: every fifth bar there.
fn with_bursts(minutes: &Bars, series: usize) -> Bars {
    let mut out = minutes.clone();
    let mut block = 0;
    let mut start = None;
    for (at, bar) in out.rows.iter_mut().enumerate() {
        let span = blocks::span_of(Interval::MINUTE, bar.slot).start;
        block += usize::from(start.is_some_and(|before| before != span));
        start = Some(span);
        if (series * 12 + block).is_multiple_of(20) && at % 5 == 0 {
            *bar = Bar::new(bar.slot, bar.prices(), Some(Decimal { mantissa: 2_000_000 + at as i64, scale: 0 }));
        }
    }
    out
}
