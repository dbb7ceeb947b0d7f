//! Editions: fifty million minutes as Parquet, the next month's where little has changed, and a copy brought up to date.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a bench stops at once when something is not as it needs it")]

mod common;

use common::{
    Figures, NOW, Outcome,
    asking::Service,
    world::{Size, two_sources},
    year,
};
use mizuno_core::{Bar, Bars, Calendar, Decimal, Timestamp, clock::ClockFace};
use mizuno_store::{Store, answers::Understood};
use serde_json::{Value, json};
use std::{
    path::Path,
    process::Command,
    sync::Arc,
    time::{Duration, Instant},
};
use tempfile::TempDir;

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Series with a year of minutes, 98,280 bars each.
const SERIES: usize = 510;
/// In microseconds.
const HOUR: i64 = 3_600_000_000;
/// Of these, how many change between two editions: two percent.
const CHANGED: usize = 10;

fn spec(question: &str, cut: &str, name: &str) -> String {
    format!("venue = \"BNCH\"\n[[file]]\nname = \"{name}\"\nquestion = \"{question}\"\ncut = [{cut}]\nprice_decimals = 4\n")
}

#[tokio::main]
async fn main() -> Outcome {
    let dir = TempDir::new()?;
    let data = dir.path().join("data");
    let at: Timestamp = NOW.parse()?;
    let asked = |more: &str| format!("instruments = [\"B*\"]\ninterval = \"1m\"\nformat = \"parquet\"\n{more}");
    let (one, golden) = (asked("source = \"bench\"\n"), asked(""));
    let (whole, best) = (spec("one", "\"month\"", "{month}.parquet"), spec("golden", "\"month\"", "{month}.parquet"));
    let parts = spec("one", "\"instrument\", \"month\"", "instrument={instrument}/{month}.parquet");
    let files = [
        ("questions/one.toml", one.as_str()),
        ("questions/golden.toml", golden.as_str()),
        ("editions/whole.toml", whole.as_str()),
        ("editions/best.toml", best.as_str()),
        ("editions/parts.toml", parts.as_str()),
    ];
    let size = Size { instruments: SERIES, minutes: SERIES };
    two_sources(dir.path(), &data, at, size, &files, |year, _| year.clone(), |_, _| vec![]).await?;
    let clock = ClockFace { start: at, wall: mizuno_sim::wall(), speed: 1.0 };
    let serve = |clock: &ClockFace| Service::start(&dir.path().join("config"), &data, clock);
    let service = serve(&clock)?;
    let _ = rustls::crypto::ring::default_provider().install_default();
    let http = reqwest::Client::builder().no_proxy().build()?;
    let mut table = Figures::default();

    let (took, told) = make(&http, &service.base, "whole").await?;
    let bars = bars_of(&told);
    assert!(bars > 50_000_000, "{bars} bars");
    let rate = |took: Duration| bars as f64 / took.as_secs_f64() / 1e6;
    let figure = format!("{bars} bars in {took:.1?}: {:.2} million a second", rate(took));
    table.add("an edition of one source, by month", figure, "at least 5", rate(took) >= 5.0);
    table.add("resident memory at most", format!("{} MiB", service.peak_mib()?), "under 300 MB", service.peak_mib()? < 286);
    make(&http, &service.base, "best").await?;
    // What the checks find is known now; without the files of the first, none can be taken from it.
    std::fs::remove_dir_all(data.join("editions/best"))?;
    let (took, _) = make(&http, &service.base, "best").await?;
    table.add("golden, findings known", format!("{took:.1?}: {:.2} million bars a second", rate(took)), "at least 2.5", rate(took) >= 2.5);

    let (first, told) = make(&http, &service.base, "parts").await?;
    let size_of_first = told["bytes"].as_u64().unwrap_or(0);
    drop(service);
    restate(dir.path(), &data, at).await?;
    let service = serve(&ClockFace { start: at.plus(2 * HOUR), ..clock })?;
    let copy = dir.path().join("copy");
    let to = |service: &Service, number: u32| -> Result<Value, Box<dyn std::error::Error>> {
        let mut command = Command::new(env!("CARGO_BIN_EXE_mizuno"));
        command.args(["--json", "--service", service.base.trim_end_matches("/api/v1"), "editions", &format!("parts/{number}"), "--copy"]);
        let said = command.arg(&copy).output()?;
        Ok(serde_json::from_slice(&said.stdout)?)
    };
    let begun = Instant::now();
    to(&service, 1)?;
    table.add(
        "a first copy of it",
        format!("{:.1?} for {} files", begun.elapsed(), told["content"].as_array().map_or(0, Vec::len)),
        "",
        true,
    );
    // As on a desk that has looked at its findings since it was started.
    http.get(format!("{}/findings?most=1", service.base)).send().await?.error_for_status()?;
    let (second, told) = make(&http, &service.base, "parts").await?;
    let new: u64 = told["content"]
        .as_array()
        .ok_or("no files")?
        .iter()
        .filter(|f| f["linked"] == false && !f["path"].as_str().unwrap_or_default().starts_with("about/changes"))
        .filter_map(|f| f["bytes"].as_u64())
        .sum();
    let told_changes: u64 = told["bytes"].as_u64().unwrap_or(0) - told["linked_bytes"].as_u64().unwrap_or(0) - new;
    let share = second.as_secs_f64() / first.as_secs_f64();
    let figure = format!("{second:.1?} after {first:.1?}: {:.3}", share);
    table.add("the next, 2 % changed: its time", figure, "under 0.1", share < 0.1);
    let share = new as f64 / size_of_first as f64;
    let figure = format!("{:.1} of {:.1} MB: {share:.3}; {:.1} MB tell of changes", mb(new), mb(size_of_first), mb(told_changes));
    table.add("its disk", figure, "under 0.1", share < 0.1);
    let said = to(&service, 2)?;
    let (came, changed) = (said["bytes_fetched"].as_u64().unwrap_or(u64::MAX), new + told_changes);
    let share = came as f64 / changed as f64;
    table.add("a copy brought up to date", format!("{:.1} MB: {share:.3} of what changed", mb(came)), "under 1.1", share < 1.1);
    println!("{}", table.0);
    Ok(())
}

fn mb(bytes: u64) -> f64 {
    bytes as f64 / 1e6
}

/// Bars in the files of an edition.
fn bars_of(told: &Value) -> u64 {
    let files = told["content"].as_array().into_iter().flatten();
    files.filter(|f| f["path"].as_str().is_some_and(|p| p.ends_with(".parquet"))).filter_map(|f| f["rows"].as_u64()).sum()
}

/// Makes an edition; how long that took, and what there is then. Its files are listed afterwards.
async fn make(http: &reqwest::Client, base: &str, spec: &str) -> Result<(Duration, Value), Box<dyn std::error::Error>> {
    let address = format!("{base}/editions/{spec}");
    let begun = Instant::now();
    let made: Value = http.post(&address).json(&json!({ "by": "bench" })).send().await?.error_for_status()?.json().await?;
    let took = loop {
        let all: Vec<Value> = http.get(&address).send().await?.error_for_status()?.json().await?;
        let told = all.iter().find(|told| told["number"] == made["number"]).ok_or("it is not listed")?;
        match told["state"].as_str() {
            Some("making") => tokio::time::sleep(Duration::from_millis(10)).await,
            Some("made") => break begun.elapsed(),
            state => return Err(format!("{spec} is {state:?}: {}", told["remark"]).into()),
        }
    };
    let told = http.get(format!("{address}/{}", made["number"])).send().await?.error_for_status()?.json().await?;
    Ok((took, told))
}

/// A source that says something else of a year of some instruments: every close a cent higher.
async fn restate(dir: &Path, data: &Path, at: Timestamp) -> Outcome {
    let config = mizuno_config::Config::load(&dir.join("config")).map_err(|e| e.to_string())?;
    let calendar = Calendar::new(&config.venues["BNCH"], common::FIRST.parse()?.."2025-01-01".parse()?);
    let later = at.plus(HOUR);
    let store = Store::open(data, Arc::new(move || later)).await?;
    for (at, row) in store.series().await?.iter().filter(|row| row.key.interval.is_intraday()).take(CHANGED).enumerate() {
        let up = |bar: &Bar| {
            let [open, high, low, close] = bar.prices();
            let cent = |p: Decimal| Decimal { mantissa: p.mantissa + 1, ..p };
            Bar::new(bar.slot, [open, cent(high), low, cent(close)], bar.volume())
        };
        let bars = Bars { rows: year(&calendar, (at % 4) as u64).rows.iter().map(up).collect() };
        let understood = Understood { rows: bars.rows.len() as u64, bars, ..Understood::default() };
        store.keep_bars(0, row.id, row.key.interval, understood).await?;
    }
    store.close().await;
    Ok(())
}
