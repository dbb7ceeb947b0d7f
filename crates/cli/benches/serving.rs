//! Serving researchers: wide files of many instruments, a year of minutes, and many clients at once.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a bench stops at once when something is not as it needs it")]

mod common;

use actix_web::{App, HttpResponse, HttpServer, web};
use common::{
    DAYS, Figures, NOW, Outcome,
    asking::{Service, ask, often, told},
    world::{Size, daily_collector, entered, two_sources},
};
use mizuno_core::{Calendar, Timestamp, clock::ClockFace};
use mizuno_store::actions::NewAction;
use std::{
    net::TcpListener,
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};
use tempfile::TempDir;

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const INSTRUMENTS: usize = 500;
/// Series that have a year of minutes too.
const MINUTES: usize = 20;
const CLIENTS: usize = 100;
/// Corporate actions of each instrument.
const ACTIONS: usize = 40;

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
    let before = service.peak_mib()?;

    let wide = "bars?instruments=B*&layout=wide&interval=1d";
    let cold = ask(&http, &format!("{base}/{wide}")).await?;
    table.add("wide, 500 x 10 years, findings cold", told(&cold), "under 3 s", cold.all < Duration::from_secs(3));
    assert_eq!(cold.lines, DAYS + 1, "a row a session");
    let warm = often(&http, &format!("{base}/{wide}")).await?;
    table.add("the same, findings known", told(&warm), "under 0.5 s", warm.all < Duration::from_millis(500));
    table.add("its first byte", format!("{:.1?}", warm.first), "under 300 ms", warm.first < Duration::from_millis(300));
    let adjusted = often(&http, &format!("{base}/{wide}&adjust=all")).await?;
    let figure = format!("{}, {ACTIONS} actions each", told(&adjusted));
    table.add("the same, adjusted for splits and dividends", figure, "under 0.8 s", adjusted.all < Duration::from_millis(800));
    let weeks = often(&http, &format!("{base}/{}&adjust=all", wide.replace("1d", "1w"))).await?;
    table.add("the same as weeks", told(&weeks), "", true);
    let fives = often(&http, &format!("{base}/bars?instrument=B001&interval=5m")).await?;
    table.add("a year of minutes as bars of 5 minutes", told(&fives), "under 15 ms", fives.all < Duration::from_millis(15));
    let parquet = often(&http, &format!("{base}/{wide}&format=parquet")).await?;
    table.add("the same as Parquet", told(&parquet), "", true);
    let long = often(&http, &format!("{base}/bars?instruments=B*&interval=1d")).await?;
    table.add("long, the same bars", told(&long), "", true);
    for (format, limit) in [("parquet", 25), ("csv", 40)] {
        let asked = often(&http, &format!("{base}/bars?series=B001/1m/bench&format={format}")).await?;
        let limit = Duration::from_millis(limit);
        table.add(&format!("a series-year of minutes, {format}"), told(&asked), &format!("under {limit:?}"), asked.all < limit);
    }
    let one = often(&http, &format!("{base}/bars?instrument=B001&interval=1d&last=250")).await?;
    table.add("first byte of one series", format!("{:.1?}", one.first), "under 20 ms", one.first < Duration::from_millis(20));

    if let Some(python) = std::env::var_os("MIZUNO_DATA_FRAME") {
        let seconds = by_data_frame(&http, &base, dir.path(), &python).await?;
        let times = seconds / warm.all.as_secs_f64();
        table.add("the same work by a data-frame script", format!("{seconds:.2} s, {times:.0} times as long"), "", true);
    }

    let month = |n: usize| {
        format!("{base}/bars?instrument=B{:03}&interval=1m&from=2024-{:02}-01&to=2024-{:02}-28", n % MINUTES, n % 12 + 1, n % 12 + 1)
    };
    // A collector writes all the while: as soon as its run is over it begins again.
    let (writer, runs) = (http.clone(), format!("{base}/runs"));
    let writing = tokio::spawn(async move {
        loop {
            let order = serde_json::json!({ "collector": "writing", "from": "2024-12-02", "again": true });
            let begun = writer.post(&runs).json(&order).send().await;
            assert!(begun.is_ok_and(|b| b.status().is_success() || b.status() == 409), "a run");
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
    });
    let (times, _) = crowd(&http, &month, Duration::from_secs(10), Duration::from_secs(1)).await?;
    let p99 = percentile(&times, 99);
    table.add(
        "100 clients, a month a second each",
        format!("{} answers, p99 {p99:.1?}", times.len()),
        "p99 under 50 ms",
        p99 < Duration::from_millis(50),
    );
    let (times, elapsed) = crowd(&http, &month, Duration::from_secs(10), Duration::ZERO).await?;
    let (rate, p99) = (times.len() as f64 / elapsed.as_secs_f64(), percentile(&times, 99));
    table.add("100 clients without a pause", format!("{rate:.0} answers a second"), "at least 300", rate >= 300.0);
    table.add("", format!("p99 {p99:.1?}"), "under 500 ms", p99 < Duration::from_millis(500));
    assert!(!writing.is_finished(), "the writer wrote to the end");
    writing.abort();
    let fetches: serde_json::Value = http.get(format!("{base}/fetches?most=1")).send().await?.json().await?;
    table.add("answers collected meanwhile", fetches[0]["id"].to_string(), "", true);
    let mib = service.peak_mib()?;
    let told = format!("{mib} MiB, {before} before the first question");
    table.add("resident memory at most", told, "under 250 MB", mib < 250);
    println!("{}", table.0);
    Ok(())
}

/// A source that says something else of the newest days each time it is asked; its address.
fn writer() -> std::io::Result<String> {
    let listener = TcpListener::bind("127.0.0.1:0")?;
    let address = listener.local_addr()?;
    let asked = Arc::new(AtomicU64::new(0));
    let answer = move || {
        let n = asked.fetch_add(1, Ordering::Relaxed);
        let row = |day: u64| format!("2024-12-{day:02},20.{:02},21.00,20.00,20.50,{}\n", n % 100, 1000 + n);
        let rows: String = (2..=6).chain(9..=13).map(row).collect();
        std::future::ready(HttpResponse::Ok().content_type("text/csv").body(format!("date,o,h,l,c,v\n{rows}")))
    };
    let app = move || App::new().default_service(web::route().to(answer.clone()));
    tokio::spawn(HttpServer::new(app).workers(1).disable_signals().listen(listener)?.run());
    Ok(format!("http://{address}"))
}

const WRITER: &str = r#"
[limits]
calls_per_minute = 6000
burst = 50
[[series]]
interval = "1d"
venues = ["BNCH"]
adjusted = "no"
delay = "10m"
span_days = 60
[[series.request]]
get = "/{symbol}{?from,to}"
stamps = "%Y-%m-%d"
to_included = true
[series.answer]
form = "delimited"
columns = { time = "date", open = "o", high = "h", low = "l", close = "c", volume = "v" }
stamp = "%Y-%m-%d"
"#;

/// 500 instruments at two sources, ten years of days each; of some a year of minutes at one. A third source is written from all the while.
async fn world(dir: &Path, data: &Path, at: Timestamp) -> Outcome {
    let profile = format!("name = \"writer\"\ntitle = \"Writer\"\nbase = \"{}\"\n{WRITER}", writer()?);
    let collector = daily_collector("writing", "writer", "2024-12-02");
    let more = [("sources/writer.toml", profile.as_str()), ("collectors/writing.toml", collector.as_str())];
    let size = Size { instruments: INSTRUMENTS, minutes: MINUTES };
    two_sources(dir, data, at, size, &more, |minutes, _| minutes.clone(), actions).await
}

/// Forty actions in ten years: a dividend a quarter, and two splits in the place of one.
fn actions(calendar: &Calendar, symbol: &str) -> Vec<NewAction> {
    let action = |n: usize| {
        let date = calendar.sessions()[(n + 1) * DAYS / (ACTIONS + 1)].date.to_string();
        let (kind, terms) = match n % 20 {
            19 => ("split", vec![("new", "2"), ("old", "1")]),
            _ => ("dividend", vec![("amount", "0.11")]),
        };
        entered(symbol, kind, &terms, &date)
    };
    (0..ACTIONS).map(action).collect()
}

/// The same wide file by a script, from a file an instrument and source; the seconds it says it took.
async fn by_data_frame(
    http: &reqwest::Client,
    base: &str,
    dir: &Path,
    python: &std::ffi::OsStr,
) -> Result<f64, Box<dyn std::error::Error>> {
    for (folder, source) in [("first", "bench"), ("second", "second")] {
        let folder = dir.join("files").join(folder);
        std::fs::create_dir_all(&folder)?;
        for n in 0..INSTRUMENTS {
            let file = http.get(format!("{base}/bars?instrument=B{n:03}&interval=1d&source={source}")).send().await?.bytes().await?;
            std::fs::write(folder.join(format!("B{n:03}.csv")), file)?;
        }
    }
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/../../tools/wide_by_data_frame.py");
    let run = std::process::Command::new(python).arg(script).arg(dir.join("files")).arg(dir.join("wide.csv")).output()?;
    Ok(String::from_utf8_lossy(&run.stdout).trim().parse().map_err(|_| String::from_utf8_lossy(&run.stderr).into_owned())?)
}

/// Many clients at once, for so long, each with such a pause between two questions; how long each answer took.
async fn crowd(
    http: &reqwest::Client,
    url: &(dyn Fn(usize) -> String + Sync),
    lasting: Duration,
    pause: Duration,
) -> Result<(Vec<Duration>, Duration), Box<dyn std::error::Error>> {
    let began = Instant::now();
    let clients = (0..CLIENTS).map(|client| {
        let (http, urls): (_, Vec<String>) = (http.clone(), (0..12).map(|n| url(client * 7 + n)).collect());
        tokio::spawn(async move {
            let mut times = vec![];
            tokio::time::sleep(pause.mul_f64(client as f64 / CLIENTS as f64)).await;
            while began.elapsed() < lasting {
                let asked = Instant::now();
                let answer = http.get(&urls[times.len() % urls.len()]).send().await?.error_for_status()?;
                answer.bytes().await?;
                times.push(asked.elapsed());
                tokio::time::sleep(pause.saturating_sub(asked.elapsed())).await;
            }
            Ok::<_, reqwest::Error>(times)
        })
    });
    let mut all = vec![];
    for client in clients.collect::<Vec<_>>() {
        all.extend(client.await??);
    }
    Ok((all, began.elapsed()))
}

fn percentile(times: &[Duration], percent: usize) -> Duration {
    let mut times = times.to_vec();
    times.sort();
    times.get((times.len() * percent / 100).min(times.len().saturating_sub(1))).copied().unwrap_or_default()
}
