//! Sources that keep to nothing, for days of accelerated time, with and without kills: one publishes late, one tells bars from outside the
//! session, one prints binary floats, one gives the same cursor twice, one lets bytes trickle, one changes its basis while
//! a symbol fails, one renames an instrument, and one is an FTP server whose data connections stall.
//! At the end every bar of each is held as it was told, and nothing is missing.

use crate::common::{self, Bench, Service};
use mizuno_core::{Timestamp, TradeDate, time::SECOND};
use mizuno_sim::{faults::Faults, market::Market};
use rand::Rng;
use std::{
    collections::HashSet,
    io::{BufRead, BufReader, Read, Write},
    net::{TcpListener, TcpStream},
    sync::{
        Arc, Mutex,
        atomic::{AtomicU32, Ordering},
    },
    time::Duration,
};

/// Scenario seconds a second.
const SPEED: f64 = 3600.0;
/// Between two sessions: from now on the basis is another, and the instrument has another name.
const TURN: &str = "2025-04-10T12:00:00Z";
/// From now on the symbol answers that failed on its new basis.
const MENDED: &str = "2025-04-11T12:00:00Z";
/// The sessions of these dates are compared.
const DATES: std::ops::Range<&str> = "2025-04-03".."2025-04-12";

/// What all the sources know.
#[derive(Clone)]
struct Odd {
    market: Arc<mizuno_sim::World>,
    now: Arc<dyn Fn() -> Timestamp + Send + Sync>,
    /// Windows whose pages were broken off already.
    broken: Arc<Mutex<HashSet<String>>>,
}

fn date(path: &str, name: &str) -> TradeDate {
    let text = path.split(['?', '&']).find_map(|p| p.strip_prefix(name)).unwrap_or_else(|| panic!("{path} has no {name}"));
    text.parse().unwrap()
}

fn printed(market: &Market, prices: [i64; 4], volume: i64) -> String {
    let [open, high, low, close] = prices.map(|p| market.print(p));
    format!("{open},{high},{low},{close},{volume}")
}

/// As a program prints a price that it keeps in single precision.
fn as_float(price: i64) -> String {
    f64::from(price as f32 / 100.0).to_string()
}

impl Odd {
    fn now(&self) -> Timestamp {
        (self.now)()
    }

    fn is_past(&self, instant: &str) -> bool {
        self.now() >= instant.parse().unwrap()
    }

    fn market(&self) -> &Market {
        &self.market.market
    }

    /// The days that are over, and published.
    fn days(&self, symbol: &str, from: TradeDate, to: TradeDate) -> Vec<(TradeDate, [i64; 4], i64)> {
        let closed = |date| self.market().calendar().session(date).unwrap().close().plus(600 * SECOND) <= self.now();
        let days = self.market().days(symbol).unwrap().iter().filter(|d| from <= d.date && d.date <= to && closed(d.date));
        days.filter_map(|d| d.bar.map(|b| (d.date, b.prices, b.volume))).collect()
    }

    /// Daily bars on the basis of now.
    fn on_a_basis(&self, symbol: &str, from: TradeDate, to: TradeDate) -> String {
        let by = if self.is_past(TURN) { 1 } else { 2 };
        let line = |(date, prices, volume): (TradeDate, [i64; 4], i64)| {
            format!("{date},{}\n", printed(self.market(), prices.map(|p| p * by), volume))
        };
        self.days(symbol, from, to).into_iter().map(line).collect()
    }

    fn minutes(&self, symbol: &str, from: TradeDate, to: TradeDate, late: i64) -> Vec<String> {
        let sessions = self.market().calendar().between(from..to.plus(1));
        let bars = sessions.iter().flat_map(|s| self.market().minutes(symbol, s.date));
        let there = bars.filter(|b| b.open_at.plus((60 + late) * SECOND) <= self.now());
        there.map(|b| format!("{},{}\n", b.open_at, printed(self.market(), b.prices, b.volume))).collect()
    }

    fn answer(&self, path: &str) -> (u16, String) {
        let (source, rest) = path.trim_start_matches('/').split_once('/').unwrap();
        let symbol = rest.split('?').next().unwrap();
        if source == "names" && symbol == "instruments" {
            return (200, format!("id,symbol,name\n17,{},Moss & Daughters\n", if self.is_past(TURN) { "FERN" } else { "MOSS" }));
        }
        let (from, to) = (date(path, "from="), date(path, "to="));
        let with_header = |lines: String| (200, "time,o,h,l,c,v\n".to_owned() + &lines);
        match source {
            // A minute and a half later than its profile says.
            "late" => with_header(self.minutes(symbol, from, to, 150).concat()),
            "outside" => {
                let mut lines = self.minutes(symbol, from, to, 60);
                for session in self.market().calendar().between(from..to.plus(1)).iter().filter(|s| s.open() <= self.now()) {
                    lines.extend((1..20).map(|n| format!("{},1.00,1.00,1.00,1.00,1\n", session.open().plus(-n * 60 * SECOND))));
                }
                with_header(lines.concat())
            }
            "floats" => {
                let line =
                    |(date, prices, volume): (TradeDate, [i64; 4], i64)| format!("{date},{},{volume}\n", prices.map(as_float).join(","));
                with_header(self.days(symbol, from, to).into_iter().map(line).collect())
            }
            "basis" if symbol == "OXB" && self.is_past(TURN) && !self.is_past(MENDED) && from < "2025-04-09".parse().unwrap() => {
                (503, "no".into())
            }
            "basis" => with_header(self.on_a_basis(symbol, from, to)),
            // A plant that costs what KBF costs.
            "names" => with_header(
                self.days("KBF", from, to).into_iter().map(|(d, p, v)| format!("{d},{}\n", printed(self.market(), p, v))).collect(),
            ),
            "cursor" => (200, self.page(path, symbol, from, to)),
            _ => (404, String::new()),
        }
    }

    /// Two days a page; the first time a window is asked for, its second page points to itself.
    fn page(&self, path: &str, symbol: &str, from: TradeDate, to: TradeDate) -> String {
        let days = self.days(symbol, from, to);
        let at: usize = path.split("cursor=").nth(1).and_then(|c| c.parse().ok()).unwrap_or(0);
        let rows: Vec<_> = days
            .iter()
            .skip(at)
            .take(3)
            .map(|(date, prices, volume)| {
                let [o, h, l, c] = prices.map(|p| self.market().print(p));
                format!("{{\"d\":\"{date}\",\"o\":{o},\"h\":{h},\"l\":{l},\"c\":{c},\"v\":{volume}}}")
            })
            .collect();
        let next = match at + 2 < days.len() {
            false => "null".to_owned(),
            true if at > 0 && self.broken.lock().unwrap().insert(format!("{symbol}{from}{to}")) => format!("\"{at}\""),
            true => format!("\"{}\"", at + 2),
        };
        format!("{{\"rows\":[{}],\"next\":{next}}}", rows.join(","))
    }
}

/// Serves answers a byte at a time, every third one so slowly that nobody waits for it.
fn trickling(odd: Odd) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let base = format!("http://{}", listener.local_addr().unwrap());
    std::thread::spawn(move || {
        for (n, stream) in listener.incoming().flatten().enumerate() {
            let odd = odd.clone();
            std::thread::spawn(move || trickle(stream, &odd, n % 3 == 1));
        }
    });
    base
}

fn trickle(mut stream: TcpStream, odd: &Odd, slowly: bool) {
    let mut line = String::new();
    let mut lines = BufReader::new(stream.try_clone().unwrap());
    if lines.read_line(&mut line).is_err() {
        return;
    }
    let path = line.split(' ').nth(1).unwrap_or_default().to_owned();
    while line.trim() != "" {
        line.clear();
        if lines.read_line(&mut line).is_err() {
            return;
        }
    }
    let (_, body) = odd.answer(&format!("/floats{path}"));
    let head = format!("HTTP/1.1 200 OK\r\ncontent-type: text/csv\r\nconnection: close\r\ncontent-length: {}\r\n\r\n", body.len());
    let _ = stream.write_all(head.as_bytes());
    for piece in body.as_bytes().chunks(if slowly { 1 } else { 4096 }) {
        if stream.write_all(piece).is_err() {
            return;
        }
        std::thread::sleep(Duration::from_millis(if slowly { 100 } else { 0 }));
    }
}

/// An FTP server (RFC 959) with a file for each symbol; every third data connection stalls.
fn stalling_ftp(odd: Odd) -> String {
    let control = TcpListener::bind("127.0.0.1:0").unwrap();
    let base = format!("ftp://{}", control.local_addr().unwrap());
    let transfers = Arc::new(AtomicU32::new(0));
    std::thread::spawn(move || {
        for stream in control.incoming().flatten() {
            let (odd, transfers) = (odd.clone(), transfers.clone());
            std::thread::spawn(move || drop(converse(&stream, &odd, &transfers)));
        }
    });
    base
}

fn converse(stream: &TcpStream, odd: &Odd, transfers: &AtomicU32) -> std::io::Result<()> {
    let mut out = stream.try_clone()?;
    let data = TcpListener::bind("127.0.0.1:0")?;
    let port = data.local_addr()?.port();
    out.write_all(b"220 hello\r\n")?;
    for line in BufReader::new(stream).lines() {
        let line = line?;
        let (command, what) = line.split_once(' ').unwrap_or((&line, ""));
        match command {
            "USER" => out.write_all(b"331 and the password?\r\n")?,
            "PASS" => out.write_all(b"230 come in\r\n")?,
            "PASV" => out.write_all(format!("227 here (127,0,0,1,{},{})\r\n", port / 256, port % 256).as_bytes())?,
            "QUIT" => return out.write_all(b"221 bye\r\n"),
            "RETR" => {
                out.write_all(b"150 it comes\r\n")?;
                let (mut to, _) = data.accept()?;
                let symbol = what.trim_start_matches('/').trim_end_matches(".csv");
                let rows = odd.days(symbol, DATES.start.parse().unwrap(), DATES.end.parse().unwrap());
                let line =
                    |(date, prices, volume): (TradeDate, [i64; 4], i64)| format!("{date},{}\n", printed(odd.market(), prices, volume));
                let file = "time,o,h,l,c,v\n".to_owned() + &rows.into_iter().map(line).collect::<String>();
                if transfers.fetch_add(1, Ordering::SeqCst).is_multiple_of(3) {
                    to.write_all(&file.as_bytes()[..10])?;
                    // Until whoever waits has gone away.
                    to.set_read_timeout(Some(Duration::from_secs(20)))?;
                    let _ = to.read(&mut [0]);
                    return Ok(());
                }
                to.write_all(file.as_bytes())?;
                drop(to);
                out.write_all(b"226 done\r\n")?;
            }
            _ => out.write_all(b"200 well\r\n")?,
        }
    }
    Ok(())
}

/// A profile of bars as delimited text, and its collector.
fn profile(bench: &Bench, name: &str, base: &str, interval: &str, more: &str, request: &str, instruments: &str) {
    let (delay, stamp) = if interval == "1d" { ("10m", "%Y-%m-%d") } else { ("1m", "rfc3339") };
    let adjusted = if name == "basis" { "splits" } else { "no" };
    let answer = match name {
        "cursor" => "form = \"json-rows\"\nrows = \"/rows\"\ncolumns = { time = \"d\", open = \"o\", high = \"h\", low = \"l\", close = \"c\", volume = \"v\" }".to_owned(),
        _ => "form = \"delimited\"\ncolumns = { time = \"time\", open = \"o\", high = \"h\", low = \"l\", close = \"c\", volume = \"v\" }".to_owned(),
    };
    let list = if name == "names" {
        "[[list]]\nname = \"instruments\"\nof = \"instruments\"\nvenue = \"ALDX\"\ndaily_at = \"07:00\"\nadds = true\nrequest = { get = \"/names/instruments\" }\ncolumns = { id = \"id\", symbol = \"symbol\", name = \"name\" }\nconstants = { kind = \"plant\", currency = \"NZD\" }\nanswer = { form = \"delimited\" }\n"
    } else {
        ""
    };
    bench.write(
        &format!("sources/{name}.toml"),
        &format!(
            "name = \"{name}\"\ntitle = \"Odd\"\nbase = \"{base}\"\n[limits]\ncalls_per_minute = 60000\nburst = 100\ntimeout = \"1s\"\nattempts = 3\nfirst_pause = \"1m\"\n{list}
[[series]]\ninterval = \"{interval}\"\nvenues = [\"ALDX\"]\nadjusted = \"{adjusted}\"\ndelay = \"{delay}\"\nspan_days = 20
[[series.request]]\n{request}
[series.answer]\n{more}\n{answer}\nstamp = \"{stamp}\"\n"
        ),
    );
    let schedule = if interval == "1d" { "after_close = \"30m\"" } else { "every = \"30m\"" };
    bench.write(
        &format!("collectors/{name}.toml"),
        &format!("name = \"{name}\"\nsource = \"{name}\"\nvenue = \"ALDX\"\ninterval = \"{interval}\"\nsince = \"{}\"\n{instruments}\nschedule = {{ {schedule} }}\n", DATES.start),
    );
}

const SOURCES: [&str; 8] = ["late", "outside", "floats", "cursor", "trickle", "basis", "names", "ftp"];

fn bench() -> (Bench, Odd) {
    let bench = Bench::at(mizuno_sim::DEMO_START, SPEED, Faults::default());
    for name in ["daily", "minutes"] {
        std::fs::remove_file(bench.config().join(format!("collectors/{name}.toml"))).unwrap();
    }
    let clock = bench.clock;
    let now = Arc::new(move || clock.at(mizuno_sim::wall()));
    let odd = Odd { market: bench.world.clone(), now, broken: Arc::default() };
    let answers = odd.clone();
    let base = bench.talking(move |path, _, _| answers.answer(path));
    let shares = "instruments = [\"KBF\", \"OXB\", \"QHC\"]";
    for name in SOURCES {
        let (base, interval) = match name {
            "trickle" => (trickling(odd.clone()), "1d"),
            "ftp" => (stalling_ftp(odd.clone()), "1d"),
            "late" | "outside" => (base.clone(), "1m"),
            _ => (base.clone(), "1d"),
        };
        let ranged = |path: &str| format!("get = \"{path}\"\nstamps = \"%Y-%m-%d\"\nto_included = true\n");
        let request = match name {
            "ftp" => "get = \"/{symbol}.csv\"\n".to_owned(),
            "trickle" => ranged("/{symbol}{?from,to}"),
            "cursor" => ranged("/cursor/{symbol}{?from,to,cursor}") + "pages = { cursor = { at = \"/next\", variable = \"cursor\" } }\n",
            _ => ranged(&format!("/{name}/{{symbol}}{{?from,to}}")),
        };
        let more = match name {
            "outside" => "outside_hours = \"leave-out\"",
            "floats" | "trickle" => "round_decimals = 2",
            _ => "",
        };
        profile(&bench, name, &base, interval, more, &request, if name == "names" { "kinds = [\"plant\"]" } else { shares });
    }
    let checked = common::mizuno().arg("check").arg(bench.config()).output().unwrap();
    assert!(checked.status.success(), "{}", String::from_utf8_lossy(&checked.stderr));
    (bench, odd)
}

/// Calendar days it lasts; more in `make soak`.
fn end() -> Timestamp {
    let days = if std::env::var("MIZUNO_SOAK_DAYS").is_ok() { 4 } else { 2 };
    mizuno_sim::DEMO_START.parse::<Timestamp>().unwrap().plus(days * 86_400 * SECOND)
}

/// Asks for what is still missing, as an operator would.
async fn finish(service: &Service) {
    service.settled().await;
    service.cli(&["lists", "names/instruments"]);
    for name in SOURCES.iter().chain(&SOURCES) {
        service.cli(&["collect", name, "--from", DATES.start]);
        service.settled().await;
    }
}

async fn everything_is_as_it_was_told(bench: &Bench, service: &Service) {
    let market = &bench.world.market;
    let until: TradeDate = DATES.end.parse().unwrap();
    let mut compared = 0;
    for name in SOURCES {
        for symbol in if name == "names" { &["FERN"][..] } else { &["KBF", "OXB", "QHC"] } {
            let true_symbol = if name == "names" { "KBF" } else { symbol };
            let days =
                market.days(true_symbol).unwrap().iter().filter(|d| DATES.start.parse::<TradeDate>().unwrap() <= d.date && d.date < until);
            let truth: Vec<String> = match name {
                "late" | "outside" => days
                    .flat_map(|d| market.minutes(symbol, d.date))
                    .map(|b| format!("{},{}", b.open_at, printed(market, b.prices, b.volume)))
                    .collect(),
                _ => days.filter_map(|d| d.bar.map(|b| format!("{},{}", d.date, printed(market, b.prices, b.volume)))).collect(),
            };
            let interval = if name == "late" || name == "outside" { "1m" } else { "1d" };
            let text = service.text(&format!("/bars?series={symbol}/{interval}/{name}&from={}&to=2025-04-11", DATES.start)).await;
            let held: Vec<&str> = text.lines().skip(1).map(str::trim_end).collect();
            assert_eq!(held.len(), truth.len(), "{symbol} of {name}: {text:.300}");
            assert_eq!(held, truth, "{symbol} of {name}");
            compared += held.len();
        }
    }
    println!("{compared} bars compared");
    let gaps = service.get(&format!("/gaps?cause=any&from={}&to=2025-04-11", DATES.start)).await;
    assert_eq!(gaps, serde_json::json!([]), "nothing is missing");
    assert_eq!(service.get("/quarantine").await, serde_json::json!([]), "and nothing is suspect");
    // Each did what it is here for.
    let failed = service.get("/fetches?state=failed&most=100000").await;
    let classes = |source: &str| -> HashSet<String> {
        let of = |f: &&serde_json::Value| f["series"].as_str().unwrap().ends_with(&format!("/{source}"));
        failed.as_array().unwrap().iter().filter(of).map(|f| f["failure"].as_str().unwrap().to_owned()).collect()
    };
    let attempts: u64 =
        service.get("/fetches?source=ftp&most=1000").await.as_array().unwrap().iter().map(|f| f["attempts"].as_u64().unwrap()).sum();
    assert!(attempts > 3, "the FTP server stalled");
    println!("failed on the way: {:?}", SOURCES.map(|s| (s, classes(s))));
}

#[tokio::test(flavor = "multi_thread")]
async fn sources_that_keep_to_nothing_end_with_everything_held() {
    let (bench, odd) = bench();
    let service = bench.serve();
    while bench.now() < end() {
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
    finish(&service).await;
    everything_is_as_it_was_told(&bench, &service).await;
    assert!(!odd.broken.lock().unwrap().is_empty(), "a cursor came twice");
    assert_eq!(service.stop(), Some(0));
}

#[tokio::test(flavor = "multi_thread")]
async fn and_the_same_with_kills_at_random_moments() {
    let (bench, odd) = bench();
    let mut kills = 0;
    while bench.now() < end() {
        let service = bench.serve();
        let moment = rand::rng().random_range(200..5_000);
        tokio::time::sleep(Duration::from_millis(moment)).await;
        service.kill();
        kills += 1;
    }
    println!("{kills} kills");
    let service = bench.serve();
    finish(&service).await;
    everything_is_as_it_was_told(&bench, &service).await;
    assert!(!odd.broken.lock().unwrap().is_empty(), "a cursor came twice");
    assert_eq!(service.stop(), Some(0));
}
