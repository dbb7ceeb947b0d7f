//! Serving researchers: wide files of many instruments, a year of minutes, and many clients at once.

mod common;

use common::{FIRST, Figures, NOW, Outcome, configure, median, year};
use futures_util::StreamExt;
use mizuno_core::{Bar, Bars, Calendar, Interval, SeriesKey, Side, Slot, Timestamp, clock::ClockFace};
use mizuno_store::{Store, answers::Understood};
use std::{
    path::Path,
    sync::Arc,
    time::{Duration, Instant},
};
use tempfile::TempDir;

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const INSTRUMENTS: usize = 500;
/// Daily bars of each series: ten years.
const DAYS: usize = 2_520;
/// Series that have a year of minutes too.
const MINUTES: usize = 20;
const CLIENTS: usize = 100;

#[tokio::main]
async fn main() -> Outcome {
    let dir = TempDir::new()?;
    let data = dir.path().join("data");
    let at: Timestamp = NOW.parse()?;
    let config = world(dir.path(), &data, at).await?;
    let clock = ClockFace { start: at, wall: mizuno_sim::wall(), speed: 1.0 };
    let options =
        mizuno_service::Options { config, config_dir: None, data, listen: Some("127.0.0.1:0".parse()?), clock, pasted_profiles: false };
    let service = mizuno_service::serve(options).await?;
    let base = format!("http://{}/api/v1", service.address);
    let (stop, stopped) = tokio::sync::oneshot::channel::<()>();
    let serving = tokio::spawn(service.until(Box::pin(async { drop(stopped.await) })));
    let http = reqwest::Client::builder().no_proxy().no_gzip().no_zstd().build()?;
    let mut table = Figures::default();
    // From here on counts what the service takes, and the clients beside it.
    std::fs::write("/proc/self/clear_refs", "5")?;
    let before = peak_mib()?;

    let wide = "bars?instruments=B*&layout=wide&interval=1d";
    let cold = ask(&http, &format!("{base}/{wide}")).await?;
    table.add("wide, 500 x 10 years, findings cold", told(&cold), "under 3 s", cold.all < Duration::from_secs(3));
    assert_eq!(cold.lines, DAYS + 1, "a row a session");
    let warm = often(&http, &format!("{base}/{wide}")).await?;
    table.add("the same, findings known", told(&warm), "under 0.5 s", warm.all < Duration::from_millis(500));
    table.add("its first byte", format!("{:.1?}", warm.first), "under 300 ms", warm.first < Duration::from_millis(300));
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
    // Somebody writes all the while.
    let (writer, question) = (http.clone(), format!("{base}/questions/bench"));
    let body = "{\"text\": \"instruments = [\\\"B001\\\"]\", \"by\": \"bench\"}";
    let writing = tokio::spawn(async move {
        loop {
            let saved = writer.put(&question).header("Content-Type", "application/json").body(body).send().await;
            assert!(saved.is_ok_and(|s| s.status().is_success()), "a commit");
            tokio::time::sleep(Duration::from_millis(50)).await;
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
    let mib = peak_mib()?;
    let told = format!("{mib} MiB with the clients in the same process, {before} before the first question");
    table.add("resident memory at most", told, "under 250 MB", mib < 250);
    println!("{}", table.0);
    let _ = stop.send(());
    serving.await??;
    Ok(())
}

/// 500 instruments at two sources, ten years of days each; of some a year of minutes at one.
async fn world(dir: &Path, data: &Path, at: Timestamp) -> Result<mizuno_config::Config, Box<dyn std::error::Error>> {
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
        let bars = if row.key.interval == Interval::Daily { daily(&decade, minutes) } else { minutes.clone() };
        let understood = Understood { rows: bars.rows.len() as u64, bars, ..Understood::default() };
        store.keep_bars(0, row.id, row.key.interval, understood).await?;
    }
    store.close().await;
    Ok(config)
}

/// A bar for each session, taken from the minutes in turn.
fn daily(calendar: &Calendar, minutes: &Bars) -> Bars {
    let sessions = &calendar.sessions()[..DAYS];
    sessions
        .iter()
        .enumerate()
        .map(|(i, s)| {
            let bar = &minutes.rows[i * 30];
            Bar::new(Slot::on(s.date), bar.prices(), bar.volume())
        })
        .collect()
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

struct Timed {
    first: Duration,
    all: Duration,
    bytes: usize,
    lines: usize,
}

fn told(timed: &Timed) -> String {
    format!("{:.1?} to the last of {:.1} MB", timed.all, timed.bytes as f64 / 1e6)
}

async fn ask(http: &reqwest::Client, url: &str) -> Result<Timed, reqwest::Error> {
    let began = Instant::now();
    let answer = http.get(url).send().await?.error_for_status()?;
    let mut stream = answer.bytes_stream();
    let (mut first, mut bytes, mut lines) = (None, 0, 0);
    while let Some(piece) = stream.next().await {
        let piece = piece?;
        first.get_or_insert_with(|| began.elapsed());
        bytes += piece.len();
        lines += piece.iter().filter(|b| **b == b'\n').count();
    }
    Ok(Timed { first: first.unwrap_or_default(), all: began.elapsed(), bytes, lines })
}

/// The middle of seven askings.
async fn often(http: &reqwest::Client, url: &str) -> Result<Timed, reqwest::Error> {
    let (mut firsts, mut alls, mut last) = (vec![], vec![], (0, 0));
    for _ in 0..7 {
        let timed = ask(http, url).await?;
        firsts.push(timed.first);
        alls.push(timed.all);
        last = (timed.bytes, timed.lines);
    }
    Ok(Timed { first: median(firsts), all: median(alls), bytes: last.0, lines: last.1 })
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

/// The most memory that was resident, in MiB.
fn peak_mib() -> Result<u64, Box<dyn std::error::Error>> {
    let status = std::fs::read_to_string("/proc/self/status")?;
    let line = status.lines().find_map(|l| l.strip_prefix("VmHWM:")).unwrap_or_default();
    Ok(line.split_whitespace().next().ok_or("no peak is told")?.parse::<u64>()? / 1024)
}

fn percentile(times: &[Duration], percent: usize) -> Duration {
    let mut times = times.to_vec();
    times.sort();
    times.get((times.len() * percent / 100).min(times.len().saturating_sub(1))).copied().unwrap_or_default()
}
