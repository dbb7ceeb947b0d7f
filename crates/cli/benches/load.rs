//! Two thousand instruments through a source that allows 6,000 calls a minute.
//!
//! The source stands in this process and counts; the service is a process of
//! its own, whose CPU time the system tells.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a bench stops at once when something is not as it needs it")]

use actix_web::{App, HttpRequest, HttpResponse, HttpServer, web};
use mizuno_core::TradeDate;
use std::{
    fmt::Write as _,
    fs,
    io::{BufRead, BufReader},
    path::Path,
    process::{Command, Stdio},
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};
use tempfile::TempDir;

const INSTRUMENTS: usize = 2_000;
const A_MINUTE: usize = 6_000;
type Outcome = Result<(), Box<dyn std::error::Error>>;

#[actix_web::main]
async fn main() -> Outcome {
    // Windows of 350 days; four of them take eighty seconds. `MIZUNO_LOAD_YEARS=1` is a quick look.
    let years: i32 = std::env::var("MIZUNO_LOAD_YEARS").ok().and_then(|n| n.parse().ok()).unwrap_or(4);
    let calls: Arc<Mutex<Vec<Instant>>> = Arc::default();
    let base = serve(calls.clone())?;
    let dir = TempDir::new()?;
    configure(dir.path(), &base, years)?;
    let mut service = Command::new(env!("CARGO_BIN_EXE_mizuno"))
        .args(["serve", "--listen", "127.0.0.1:0", "--config"])
        .arg(dir.path().join("config"))
        .arg("--data")
        .arg(dir.path().join("data"))
        .args(["--clock", &format!("2025-04-10T20:00:00Z@{}x1", mizuno_sim::wall())])
        .env("MIZUNO_LOG", "warn")
        .stdout(Stdio::piped())
        .spawn()?;
    let mut line = String::new();
    BufReader::new(service.stdout.take().ok_or("no output")?).read_line(&mut line)?;
    let url = format!("{}/api/v1", line.trim().rsplit(' ').next().unwrap_or_default());
    let _ = rustls::crypto::ring::default_provider().install_default();
    let http = reqwest::Client::builder().no_proxy().build()?;
    let before = cpu(service.id())?;
    let began = Instant::now();
    let run: serde_json::Value =
        http.post(format!("{url}/runs")).json(&serde_json::json!({ "collector": "load" })).send().await?.json().await?;
    let run = loop {
        tokio::time::sleep(Duration::from_millis(200)).await;
        let now: serde_json::Value = http.get(format!("{url}/runs/{}", run["id"])).send().await?.json().await?;
        if now["state"] != "running" {
            break now;
        }
    };
    let spent = cpu(service.id())? - before;
    let resident = fs::read_to_string(format!("/proc/{}/status", service.id()))?;
    let peak = resident.lines().find(|l| l.starts_with("VmHWM")).unwrap_or_default().to_owned();
    service.kill()?;
    service.wait()?;

    let calls = calls.lock().map_err(|_| "the counter broke")?;
    assert_eq!((run["state"].as_str(), run["failed"].as_u64()), (Some("complete"), Some(0)), "{run}");
    assert_eq!(calls.len(), INSTRUMENTS * years as usize, "each window once");
    let first = calls.iter().min().copied().unwrap_or(began);
    let last = calls.iter().max().copied().unwrap_or(began);
    let took = (last - first).as_secs_f64();
    let ideal = calls.len() as f64 * 60.0 / A_MINUTE as f64;
    let busiest = (0..calls.len()).map(|i| calls[i..].partition_point(|c| *c < calls[i] + Duration::from_secs(60))).max().unwrap_or(0);
    let over = 100.0 * (took / ideal - 1.0);
    let each = 1e3 * spent / calls.len() as f64;
    let met = |yes: bool| if yes { "met" } else { "MISSED" };
    println!("{} calls of 250 daily bars in {took:.1} s", calls.len());
    println!("above calls ÷ limit                    {over:.1} %                 at most 3 %    {}", met(over <= 3.0));
    println!("busiest sixty seconds at the source    {busiest} calls          at most {A_MINUTE}   {}", met(busiest <= A_MINUTE));
    println!("the service's own CPU                  {each:.2} ms a fetch     under 1.5 ms   {}", met(each < 1.5));
    println!("{} bars stored; {}", run["bars_new"], peak.split_whitespace().collect::<Vec<_>>().join(" "));
    Ok(())
}

/// Seconds of CPU a process has used, from /proc.
fn cpu(process: u32) -> Result<f64, Box<dyn std::error::Error>> {
    let stat = fs::read_to_string(format!("/proc/{process}/stat"))?;
    let fields: Vec<&str> = stat.rsplit(')').next().unwrap_or_default().split_whitespace().collect();
    let ticks = |at: usize| fields.get(at).and_then(|t| t.parse::<f64>().ok()).unwrap_or(0.0);
    Ok((ticks(11) + ticks(12)) / 100.0)
}

fn serve(calls: Arc<Mutex<Vec<Instant>>>) -> Result<String, std::io::Error> {
    let listener = std::net::TcpListener::bind("127.0.0.1:0")?;
    let base = format!("http://{}", listener.local_addr()?);
    let answer = move |request: HttpRequest| {
        if let Ok(mut calls) = calls.lock() {
            calls.push(Instant::now());
        }
        std::future::ready(HttpResponse::Ok().content_type("text/csv").body(bars(request.uri().path(), request.query_string())))
    };
    let app = move || App::new().default_service(web::route().to(answer.clone()));
    actix_web::rt::spawn(HttpServer::new(app).workers(1).disable_signals().listen(listener)?.run());
    Ok(base)
}

/// A bar for each weekday asked for, priced by symbol and day.
fn bars(path: &str, query: &str) -> String {
    let date = |name: &str| query.split('&').find_map(|p| p.strip_prefix(name)).and_then(|t| t.parse::<TradeDate>().ok());
    let (Some(from), Some(to)) = (date("from="), date("to=")) else { return String::new() };
    let seed = path.bytes().fold(7i32, |h, b| h.wrapping_mul(31).wrapping_add(i32::from(b))).rem_euclid(900);
    let mut out = "date,o,h,l,c,v\n".to_owned();
    for day in (from.0..=to.0).filter(|d| (d + 3).rem_euclid(7) < 5) {
        let price = 1000 + seed + day % 97;
        let _ = writeln!(
            out,
            "{},{}.{:02},{}.00,{}.00,{}.50,{}",
            TradeDate(day),
            price / 100,
            price % 100,
            price / 100 + 1,
            price / 100,
            price / 100,
            day * 3
        );
    }
    out
}

fn configure(dir: &Path, base: &str, years: i32) -> Outcome {
    let write = |file: &str, text: &str| {
        let path = dir.join("config").join(file);
        fs::create_dir_all(path.parent().unwrap_or(dir))?;
        fs::write(path, text)
    };
    write("mizuno.toml", "desk = \"load\"\nlisten = \"127.0.0.1:0\"\n")?;
    write(
        "venues/load.toml",
        "code = \"LOAD\"\nname = \"Load\"\nzone = \"UTC\"\n[[week]]\nfrom = \"2010-01-01\"\ndays = [\"Mon\", \"Tue\", \"Wed\", \"Thu\", \"Fri\"]\nhours = [\"09:00-17:00\"]\n",
    )?;
    let mut list = "symbol,name,kind,venue,currency,tick_size,multiplier,listed,last_traded,former\n".to_owned();
    for i in 0..INSTRUMENTS {
        let _ = writeln!(list, "L{i:04},Load {i},share,LOAD,USD,0.01,,,,");
    }
    write("instruments/load.csv", &list)?;
    write(
        "sources/load.toml",
        &format!(
            "name = \"load\"\ntitle = \"Load\"\nbase = \"{base}\"\n[limits]\ncalls_per_minute = {A_MINUTE}\nburst = 20\nat_once = 8\n[[series]]\ninterval = \"1d\"\nvenues = [\"LOAD\"]\nadjusted = \"no\"\ndelay = \"10m\"\nspan_days = 350\n[[series.request]]\nget = \"/{{symbol}}{{?from,to}}\"\nstamps = \"%Y-%m-%d\"\nto_included = true\n[series.answer]\nform = \"delimited\"\ncolumns = {{ time = \"date\", open = \"o\", high = \"h\", low = \"l\", close = \"c\", volume = \"v\" }}\nstamp = \"%Y-%m-%d\"\n"
        ),
    )?;
    let since = "2025-04-10".parse::<TradeDate>()?.plus(-350 * years + 1);
    write(
        "collectors/load.toml",
        &format!("name = \"load\"\nsource = \"load\"\nvenue = \"LOAD\"\ninterval = \"1d\"\nsince = \"{since}\"\n"),
    )?;
    Ok(())
}
