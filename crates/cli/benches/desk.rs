//! A desk of 5,000 daily and 500 minute series, sixty million bars, with a year of polls in the ledger: how long a start takes, and
//! each question of the morning.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a bench stops at once when something is not as it needs it")]

mod common;

use common::{FIRST, Figures, HOLE_EVERY, NOW, Outcome, configure, median, year};
use mizuno_core::{Bar, Bars, Calendar, Interval, SeriesKey, Session, Side, Slot, Timestamp, clock::ClockFace, time::SECOND};
use mizuno_store::{Store, answers::Understood};
use sqlx::{Connection, Executor, SqliteConnection};
use std::{
    io::Write,
    net::TcpStream,
    path::Path,
    time::{Duration, Instant},
};
use tempfile::TempDir;

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const MINUTES: usize = 500;
const DAYS: usize = 5_000;
/// Years of minutes made up; the series take turns with them.
const MADE: usize = 8;
/// A poll of the minutes brings so many of them.
const POLL: i64 = 300 * SECOND;
/// Clients that ask for a year of minutes and read nothing.
const SLOW: usize = 200;
/// What each question may take at most.
const LIMIT: Duration = Duration::from_millis(300);

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
    let data = dir.path().join("data");
    let began = Instant::now();
    let polls = year_of_polls(&data.join("mizuno.db"), calendar.sessions()).await?;
    println!("{MINUTES} series of minutes over a year, {DAYS} of days over ten: {bars} bars");
    println!("{polls} polls written in {:.0?}", began.elapsed());

    let mut table = Figures::default();
    let clock = ClockFace { start: at, wall: mizuno_sim::wall(), speed: 1.0 };
    let listen = Some("127.0.0.1:0".parse()?);
    let began = Instant::now();
    let service =
        mizuno_service::serve(mizuno_service::Options { config, config_dir: None, data, listen, clock, pasted_profiles: false }).await?;
    let start = began.elapsed();
    table.add("start", format!("{start:.1?} until it answers"), "under 300 ms", start < LIMIT);
    let base = format!("http://{}/api/v1", service.address);
    let (stop, stopped) = tokio::sync::oneshot::channel::<()>();
    let serving = tokio::spawn(service.until(Box::pin(async { drop(stopped.await) })));
    let http = reqwest::Client::builder().no_proxy().no_gzip().no_zstd().build()?;
    let ask = async |path: &str| -> Result<(Duration, bytes::Bytes), reqwest::Error> {
        let began = Instant::now();
        let body = http.get(format!("{base}/{path}")).send().await?.error_for_status()?.bytes().await?;
        Ok((began.elapsed(), body))
    };
    let count = |body: &bytes::Bytes| serde_json::from_slice::<Vec<serde_json::Value>>(body).map_or(0, |all| all.len());
    let planted: usize = (0..MINUTES).map(|i| years[i % MADE].rows.len() / HOLE_EVERY).sum();
    let questions = [
        ("status", "status", None),
        ("gaps of every series", "gaps?most=1000000", Some(planted)),
        ("completeness of every series", "series", Some(DAYS + MINUTES)),
        ("bars of one series", "bars?series=B007/1d/bench", None),
        ("a year of minutes of one series", "bars?series=B007/1m/bench", None),
        ("one golden series", "bars?instrument=B007&interval=1d", None),
    ];
    let mut firsts = vec![];
    for (_, path, _) in questions {
        firsts.push(ask(path).await?.0);
    }
    // After a start every series is examined once, in the background.
    let began = Instant::now();
    while String::from_utf8_lossy(&ask("status").await?.1).contains("checking") {
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
    println!("every series examined {:.0?} after that", began.elapsed());
    for ((what, path, wanted), first) in questions.into_iter().zip(firsts) {
        let body = ask(path).await?.1;
        assert!(wanted.is_none_or(|n| n == count(&body)), "{what}: {} told, {wanted:?} planted", count(&body));
        let mut times = vec![];
        for _ in 0..5 {
            times.push(ask(path).await?.0);
        }
        let scan = median(times);
        table.add(what, format!("{scan:.1?} over HTTP; the first time {first:.1?}"), "under 300 ms", scan < LIMIT);
    }
    let mut times = vec![];
    for _ in 0..5 {
        let began = Instant::now();
        tokio::try_join!(ask("status"), ask("gaps?most=1000"))?;
        times.push(began.elapsed());
    }
    let page = median(times);
    table.add("the morning page", format!("{page:.1?}: status and gaps side by side"), "under 300 ms", page < LIMIT);
    let slow: Vec<_> = (0..SLOW).map(|_| reader_that_reads_nothing(&base)).collect::<Result<_, _>>()?;
    tokio::time::sleep(Duration::from_secs(1)).await;
    let mut times = vec![];
    for _ in 0..5 {
        times.push(ask("status").await?.0);
    }
    let beside = median(times);
    let limit = Duration::from_millis(200);
    table.add("status beside them", format!("{beside:.1?} while {SLOW} clients read nothing"), "under 200 ms", beside < limit);
    drop(slow);
    println!("{}", table.0);
    let _ = stop.send(());
    serving.await??;
    Ok(())
}

/// A connection on which a year of minutes is asked for and nothing is read.
fn reader_that_reads_nothing(base: &str) -> std::io::Result<TcpStream> {
    let address = base.trim_start_matches("http://").trim_end_matches("/api/v1");
    let mut stream = TcpStream::connect(address)?;
    write!(stream, "GET /api/v1/bars?series=B007/1m/bench&format=json HTTP/1.1\r\nHost: {address}\r\n\r\n")?;
    Ok(stream)
}

/// Writes a year of polls into the ledger: the minutes every five minutes of each session and once more after its close, the days each evening.
/// Returns how many.
async fn year_of_polls(database: &Path, sessions: &[Session]) -> Result<i64, sqlx::Error> {
    let mut connection = SqliteConnection::connect(&format!("sqlite:{}", database.display())).await?;
    connection.execute("PRAGMA synchronous = OFF; PRAGMA foreign_keys = OFF; PRAGMA cache_size = -500000; BEGIN").await?;
    let fetch = "INSERT INTO fetch (run_id, series_id, window_start, window_end, state, asked_at, answered_at, attempts, request, http_status, payload_size, rows, bars_new, bars_same)
        SELECT ?1, id, ?2, ?3, 'stored', ?4, ?4 + 1000000, 1, 'GET http://127.0.0.1:9/harbour/bars?s=' || id || '&n=' || ?2, 200, 300, ?5, ?6, ?7 FROM series WHERE interval = ?8";
    let mut polls = 0;
    for session in &sessions[..252] {
        let (open, close) = (session.open().0, session.close().0);
        let in_session = (open..close).step_by(POLL as usize).map(|start| (start, start + POLL, start + POLL + 90 * SECOND, 5, 5, 0, "1m"));
        let day = Slot::on(session.date).0;
        let evening = [(open, close, close + 3600 * SECOND, 390, 0, 390, "1m"), (day, day + 1, close + 7200 * SECOND, 1, 1, 0, "1d")];
        for (start, end, at, rows, new, same, interval) in in_session.chain(evening) {
            let run = sqlx::query(
                "INSERT INTO run (collector, reason, scope, started_at, ended_at, state, windows) VALUES (?, 'schedule', '', ?, ?, 'complete', 500)",
            )
            .bind(if interval == "1m" { "bench" } else { "days" })
            .bind(at)
            .bind(at + 30 * SECOND)
            .execute(&mut connection)
            .await?
            .last_insert_rowid();
            let bound = sqlx::query(fetch).bind(run).bind(start).bind(end).bind(at).bind(rows).bind(new).bind(same).bind(interval);
            polls += bound.execute(&mut connection).await?.rows_affected() as i64;
        }
    }
    connection.execute("COMMIT").await?;
    connection.close().await?;
    Ok(polls)
}

/// A bar for each session, taken from the minutes in turn.
fn daily_bars(calendar: &Calendar, minutes: &Bars) -> Bars {
    let rows = calendar.sessions().iter().enumerate().map(|(i, s)| {
        let bar = &minutes.rows[i * 30];
        Bar::new(Slot::on(s.date), bar.prices(), bar.volume())
    });
    rows.collect()
}
