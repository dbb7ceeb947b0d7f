//! The figures of docs/architecture.md, measured in one run.
//!
//! Speeds are ratios against a plain row-per-bar table in the same SQLite
//! through the same SQLx, so that a noisy machine disturbs both alike.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a bench stops at once when something is not as it needs it")]

mod common;

use common::{FIRST, Figures, HOLE_EVERY, NOW, Outcome, configure, median, year};
use futures_util::{StreamExt, stream};
use mizuno_config::Config;
use mizuno_core::{Bar, Bars, Calendar, Decimal, Interval, SeriesKey, Slot, Span, Timestamp, clock::ClockFace};
use mizuno_store::{Store, answers::Understood};
use sqlx::{Connection, QueryBuilder, Sqlite, SqliteConnection};
use std::{
    fs,
    path::Path,
    time::{Duration, Instant},
};
use tempfile::TempDir;

/// The one of the service.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Series-years compared with the plain table: about two million bars.
const COMPARED: usize = 20;
/// Series-years in all: about ten million bars.
const ALL: usize = 102;

#[tokio::main]
async fn main() -> Outcome {
    let dir = TempDir::new()?;
    let config = configure(dir.path(), ALL, &[])?;
    let calendar = Calendar::new(&config.venues["BNCH"], FIRST.parse()?.."2025-01-01".parse()?);
    let years: Vec<Bars> = (0..ALL).map(|i| year(&calendar, i as u64)).collect();
    let total: usize = years.iter().map(|y| y.rows.len()).sum();
    println!("{ALL} series-years of minute bars, {total} bars; the plain table has {COMPARED} of them\n");

    let mut table = Figures::default();
    let data = dir.path().join("data");
    let now: Timestamp = NOW.parse()?;
    let store = Store::open(&data, std::sync::Arc::new(move || now)).await?;
    store.put_instruments(config.instruments.clone(), None).await?;
    let keys = (0..ALL).map(|i| SeriesKey {
        symbol: format!("B{i:03}"),
        interval: Interval::MINUTE,
        side: mizuno_core::Side::Trade,
        source: "bench".into(),
    });
    let series = store.ensure_series(keys.collect()).await?;
    let mut rows = plain_table(&dir.path().join("rows.db")).await?;

    // Storing, in turn with the plain table.
    let (mut ours, mut plain, mut compared) = (Duration::ZERO, Duration::ZERO, 0);
    for (i, (row, year)) in series.iter().zip(&years).enumerate() {
        let months = months(year);
        let batches: Vec<Understood> =
            months.iter().map(|m| Understood { rows: m.rows.len() as u64, bars: m.clone(), ..Understood::default() }).collect();
        // As a run does: some windows at once. The plain table gets the best it can have, one transaction.
        let began = Instant::now();
        let mut kept = stream::iter(batches).map(|batch| store.keep_bars(0, row.id, Interval::MINUTE, batch)).buffer_unordered(6);
        while let Some(learned) = kept.next().await {
            learned?;
        }
        if i < COMPARED {
            ours += began.elapsed();
            compared += year.rows.len();
            let began = Instant::now();
            insert(&mut rows, row.id, year).await?;
            plain += began.elapsed();
        }
    }
    let ratio = plain.as_secs_f64() / ours.as_secs_f64();
    let rate = |d: Duration| format!("{:.2} M bars/s", compared as f64 / d.as_secs_f64() / 1e6);
    table.add("bulk storing", format!("{ratio:.1} times as fast ({} against {})", rate(ours), rate(plain)), "at least 4", ratio >= 4.0);

    let size = |path: &Path| fs::metadata(path).map(|m| m.len()).unwrap_or(0);
    sqlx::query("PRAGMA wal_checkpoint(TRUNCATE)").execute(&mut rows).await?;
    let bytes = store.size().await? as f64 / total as f64;
    let plain_bytes = size(&dir.path().join("rows.db")) as f64 / compared as f64;
    table.add("size", format!("{bytes:.2} bytes a bar, everything counted (plain {plain_bytes:.1})"), "at most 6.5", bytes <= 6.5);

    // Reading one series-year, in turn.
    let whole = Slot(i64::MIN)..Slot(i64::MAX);
    let (mut ours, mut plain) = (vec![], vec![]);
    for one in series.iter().take(9) {
        let began = Instant::now();
        let bars = store.bars(one, whole.clone(), Timestamp::MAX).await?;
        ours.push(began.elapsed());
        let began = Instant::now();
        let read = select(&mut rows, one.id).await?;
        plain.push(began.elapsed());
        assert_eq!(bars.rows, read, "both must give the same bars");
    }
    let (ours, plain) = (median(ours), median(plain));
    let ratio = plain.as_secs_f64() / ours.as_secs_f64();
    table.add("reading a series-year", format!("{ratio:.0} times as fast ({ours:.1?} against {plain:.0?})"), "at least 50", ratio >= 50.0);
    store.close().await;
    drop(store);
    serving(&mut table, config, &data, &years).await?;
    println!("{}", table.0);
    Ok(())
}

/// A gap scan and a file, through the service.
async fn serving(table: &mut Figures, config: Config, data: &Path, years: &[Bars]) -> Outcome {
    let clock = ClockFace { start: NOW.parse()?, wall: mizuno_sim::wall(), speed: 1.0 };
    let options = mizuno_service::Options {
        config,
        config_dir: None,
        data: data.to_owned(),
        listen: Some("127.0.0.1:0".parse()?),
        clock,
        pasted_profiles: false,
    };
    let service = mizuno_service::serve(options).await?;
    let base = format!("http://{}/api/v1", service.address);
    let (stop, stopped) = tokio::sync::oneshot::channel::<()>();
    let serving = tokio::spawn(service.until(Box::pin(async { drop(stopped.await) })));
    let http = reqwest::Client::builder().no_proxy().no_gzip().no_zstd().build()?;

    let mut times = vec![];
    for _ in 0..7 {
        let began = Instant::now();
        let gaps: serde_json::Value = http.get(format!("{base}/gaps?most=100000")).send().await?.json().await?;
        times.push(began.elapsed());
        let planted: usize = years.iter().map(|y| y.rows.len() / HOLE_EVERY).sum();
        assert_eq!(gaps.as_array().map_or(0, Vec::len), planted, "every planted gap is found, and no other");
    }
    let scan = median(times);
    let bars: usize = years.iter().map(|y| y.rows.len()).sum();
    table.add("gap scan, over HTTP", format!("{scan:.1?} over {bars} bars"), "under 100 ms", scan < Duration::from_millis(100));

    let mut times = vec![];
    for i in 0..15 {
        let began = Instant::now();
        let body = http.get(format!("{base}/bars?series=B{:03}/1m/bench", i % ALL)).send().await?.bytes().await?;
        times.push(began.elapsed());
        assert_eq!(body.iter().filter(|b| **b == b'\n').count(), years[i % ALL].rows.len() + 1);
    }
    let csv = median(times);
    table.add("a year of minutes as CSV, over HTTP", format!("{csv:.1?}"), "under 60 ms", csv < Duration::from_millis(60));

    let mut times = vec![];
    for i in 0..9 {
        let began = Instant::now();
        // A series with itself: when all bars differ, finding out why takes longer.
        let pair = format!("{base}/comparison?here=B{i:03}/1m/bench&there=B{i:03}/1m/bench");
        let found: serde_json::Value = http.get(pair).send().await?.json().await?;
        times.push(began.elapsed());
        assert!(found["matched"].as_u64() > Some(98_000), "{found}");
    }
    let comparison = median(times);
    table.add(
        "two years of minutes compared, over HTTP",
        format!("{comparison:.1?}"),
        "under 50 ms",
        comparison < Duration::from_millis(50),
    );
    let _ = stop.send(());
    serving.await??;
    Ok(())
}

fn months(year: &Bars) -> Vec<Bars> {
    let month = |b: &Bar| -> Span { mizuno_store::blocks::span_of(Interval::MINUTE, b.slot) };
    let chunks = year.rows.chunk_by(|a, b| month(a) == month(b));
    chunks.map(|rows| Bars { rows: rows.to_vec() }).collect()
}

async fn plain_table(path: &Path) -> Result<SqliteConnection, sqlx::Error> {
    let mut connection = SqliteConnection::connect(&format!("sqlite:{}?mode=rwc", path.display())).await?;
    for sql in [
        "PRAGMA journal_mode = WAL",
        "PRAGMA synchronous = FULL",
        "CREATE TABLE bar (series INTEGER, time INTEGER, open INTEGER, high INTEGER, low INTEGER, close INTEGER, volume INTEGER,
             PRIMARY KEY (series, time)) WITHOUT ROWID",
    ] {
        sqlx::query(sql).execute(&mut connection).await?;
    }
    Ok(connection)
}

async fn insert(connection: &mut SqliteConnection, series: i64, bars: &Bars) -> Result<(), sqlx::Error> {
    let mut transaction = connection.begin().await?;
    for chunk in bars.rows.chunks(500) {
        let mut query = QueryBuilder::<Sqlite>::new("INSERT INTO bar ");
        query.push_values(chunk, |mut row, b| {
            row.push_bind(series).push_bind(b.slot.0);
            for price in b.prices() {
                row.push_bind(price.mantissa);
            }
            row.push_bind(b.volume().map(|v| v.mantissa));
        });
        query.build().execute(&mut *transaction).await?;
    }
    transaction.commit().await
}

async fn select(connection: &mut SqliteConnection, series: i64) -> Result<Vec<Bar>, sqlx::Error> {
    type Row = (i64, i64, i64, i64, i64, Option<i64>);
    let rows: Vec<Row> = sqlx::query_as("SELECT time, open, high, low, close, volume FROM bar WHERE series = ? ORDER BY time")
        .bind(series)
        .fetch_all(connection)
        .await?;
    let bar = |(slot, open, high, low, close, volume): Row| {
        let prices = [open, high, low, close].map(|mantissa| Decimal { mantissa, scale: 2 });
        Bar::new(Slot(slot), prices, volume.map(|mantissa| Decimal { mantissa, scale: 0 }))
    };
    Ok(rows.into_iter().map(bar).collect())
}
