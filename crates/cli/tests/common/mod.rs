//! The real service on loopback, the simulated world beside it, and the real command line.
#![allow(dead_code, reason = "each test file uses a part of it")]

pub mod browser;
pub mod parquet;

use actix_web::{App, HttpRequest, HttpResponse, HttpServer, web};
use mizuno_core::{Interval, Timestamp, TradeDate, clock::ClockFace};
use mizuno_sim::{World, faults::Faults, street};
use serde_json::Value;
use sqlx::{Connection, SqliteConnection};
use std::{
    collections::BTreeMap,
    fs,
    io::{BufRead, BufReader},
    path::{Path, PathBuf},
    process::{Child, Command, Output, Stdio},
    sync::{
        Arc, Mutex,
        atomic::{AtomicU32, Ordering},
    },
};
use tempfile::TempDir;

/// A simulated source, a configuration that asks it, and room for data.
pub struct Bench {
    pub world: Arc<World>,
    pub clock: ClockFace,
    pub dir: TempDir,
}

/// What a source of one's own says: the rest of a line by date.
pub type Rows = Arc<Mutex<BTreeMap<String, String>>>;

const OWN: &str = r#"
[limits]
calls_per_minute = 600
burst = 10
[[series]]
interval = "1d"
venues = ["ALDX"]
adjusted = "splits"
delay = "10m"
span_days = 20
[[series.request]]
get = "/{symbol}{?from,to}"
stamps = "%Y-%m-%d"
to_included = true
[series.answer]
form = "delimited"
columns = { time = "date", open = "o", high = "h", low = "l", close = "c", volume = "v" }
stamp = "%Y-%m-%d"
"#;

const OWN_MINUTES: &str = r#"
[limits]
calls_per_minute = 600
burst = 20
attempts = 2
[[series]]
interval = "1m"
venues = ["ALDX"]
adjusted = "no"
delay = "1m"
span_days = 3650
[[series.request]]
get = "/{symbol}{?from,to}"
stamps = "%Y-%m-%d"
to_included = true
[series.answer]
form = "delimited"
columns = { time = "time", open = "o", high = "h", low = "l", close = "c", volume = "v" }
stamp = "rfc3339"
"#;

/// A service process; killed when dropped.
pub struct Service {
    child: Child,
    pub url: String,
}

impl Bench {
    /// The demo's world with these faults, an hour a minute, and collectors that run only when asked.
    pub fn new(faults: Faults) -> Bench {
        Bench::at(mizuno_sim::DEMO_START, 60.0, faults)
    }

    pub fn at(start: &str, speed: f64, faults: Faults) -> Bench {
        let clock = ClockFace { start: start.parse().unwrap(), wall: mizuno_sim::wall(), speed };
        let world = World::new(mizuno_sim::DEMO_SEED, clock, faults);
        let bench = Bench { world, clock, dir: TempDir::new().unwrap() };
        bench.files(&["mizuno.toml", "venues/aldx.toml", "instruments/aldx.csv"]);
        bench.source("harbour");
        bench.collector("daily", "1d", "2016-01-04", "");
        bench.collector("minutes", "1m", "2025-03-11", "except = [\"MHN\"]");
        bench
    }

    /// Copies files of the demo's configuration.
    pub fn files(&self, files: &[&str]) {
        let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/config");
        for file in files {
            self.write(file, &fs::read_to_string(demo.join(file)).unwrap());
        }
    }

    /// Starts a simulated source and writes its profile, with the address it listens on.
    pub fn source(&self, name: &'static str) {
        let port = street::SOURCES.iter().find(|s| s.0 == name).unwrap().1;
        let (address, server) = street::start(self.world.clone(), name, 0).unwrap();
        tokio::spawn(server);
        let file = format!("sources/{name}.toml");
        self.files(&[&file]);
        self.change(&file, &format!("http://127.0.0.1:{port}"), &format!("http://{address}"));
        // A provider may have two profiles.
        if name == "lodestar" {
            let second = "sources/lodestar-adjusted.toml";
            self.files(&[second]);
            self.change(second, &format!("http://127.0.0.1:{port}"), &format!("http://{address}"));
        }
    }

    /// All venues, instruments, sources and collectors of the demo, each collector to run only when asked unless `scheduled`. On a clock that does
    /// not run faster, nobody waits for a turn, unless the collectors run by themselves.
    pub fn whole_demo(start: &str, speed: f64, faults: Faults, scheduled: bool) -> Bench {
        let bench = Bench::at(start, speed, faults);
        for name in ["daily", "minutes"] {
            fs::remove_file(bench.config().join(format!("collectors/{name}.toml"))).unwrap();
        }
        bench.files(&["venues/corf.toml", "venues/mfx.toml", "instruments/corf.csv", "instruments/mfx.csv", "ranking.toml", "checks.toml"]);
        bench.files(&["universes/aldermere-12.toml", "universes/traded-shares.toml", "universes/study.toml"]);
        for (name, ..) in street::SOURCES.into_iter().filter(|s| s.0 != "harbour") {
            bench.source(name);
        }
        let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/config/collectors");
        for entry in fs::read_dir(demo).unwrap().flatten() {
            let text = fs::read_to_string(entry.path()).unwrap();
            let kept = text.lines().filter(|l| scheduled || !l.starts_with("schedule"));
            let file = format!("collectors/{}", entry.file_name().to_string_lossy());
            bench.write(&file, &(kept.collect::<Vec<_>>().join("\n") + "\n"));
        }
        bench.write(".env", &format!("LODESTAR_KEY={}\n", mizuno_sim::LODESTAR_KEY));
        if speed == 1.0 && !scheduled {
            bench.without_limits();
        }
        bench
    }

    /// Lets sources be asked as often as anybody likes.
    fn without_limits(&self) {
        self.world.be_patient();
        for profile in fs::read_dir(self.config().join("sources")).unwrap().flatten() {
            let text = fs::read_to_string(profile.path()).unwrap();
            let line = |line: &str| match line.split(" = ").next() {
                Some("calls_per_minute") => "calls_per_minute = 60000".to_owned(),
                Some("burst") => "burst = 1000".to_owned(),
                _ => line.to_owned(),
            };
            fs::write(profile.path(), text.lines().map(line).collect::<Vec<_>>().join("\n") + "\n").unwrap();
        }
    }

    /// A source of one's own beside the simulated ones: daily bars as delimited text, which a test may change at will.
    pub fn own_source(&self, more: &str) -> Rows {
        let rows: Rows = Arc::default();
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let base = format!("http://{}", listener.local_addr().unwrap());
        let told = rows.clone();
        let answer = move |request: HttpRequest| {
            let query = web::Query::<BTreeMap<String, String>>::from_query(request.query_string()).unwrap();
            let told = told.lock().unwrap();
            // A sixth number is an open interest.
            let header = if told.values().any(|row| row.matches(',').count() > 4) { "date,o,h,l,c,v,i\n" } else { "date,o,h,l,c,v\n" };
            let mut out = header.to_owned();
            for (date, row) in told.range(query["from"].clone()..=query["to"].clone()) {
                out += &format!("{date},{row}\n");
            }
            std::future::ready(HttpResponse::Ok().content_type("text/csv").body(out))
        };
        let app = move || App::new().default_service(web::route().to(answer.clone()));
        tokio::spawn(HttpServer::new(app).workers(1).disable_signals().listen(listener).unwrap().run());
        self.own_profile(&base, more);
        rows
    }

    /// The profile of a source of daily bars as delimited text at this address, and its collector of KBF.
    pub fn own_profile(&self, base: &str, more: &str) {
        self.write("sources/own.toml", &format!("name = \"own\"\ntitle = \"Own\"\nbase = \"{base}\"\n{more}\n{OWN}"));
        let collector =
            "name = \"own\"\nsource = \"own\"\nvenue = \"ALDX\"\ninterval = \"1d\"\nsince = \"2025-03-03\"\ninstruments = [\"KBF\"]\n";
        self.write("collectors/own.toml", collector);
    }

    /// A source of one's own with what `row` says of each minute of the sessions asked for, and its collector; returns how often it was asked.
    pub fn own_minutes(
        &self,
        since: &str,
        columns: &str,
        row: impl Fn(&str, Timestamp) -> String + Send + Sync + 'static,
    ) -> Arc<AtomicU32> {
        let (calendar, asked) = (self.world.market.calendar().clone(), Arc::new(AtomicU32::new(0)));
        let (count, header) = (asked.clone(), format!("{columns}\n"));
        let base = self.talking(move |path, _, _| {
            count.fetch_add(1, Ordering::SeqCst);
            let date = |name: &str| path.split(['?', '&']).find_map(|p| p.strip_prefix(name)).and_then(|t| t.parse::<TradeDate>().ok());
            let (Some(from), Some(to)) = (date("from="), date("to=")) else { return (400, "from and to".to_owned()) };
            let symbol = path.trim_start_matches('/').split('?').next().unwrap_or_default();
            let mut out = header.clone();
            for span in calendar.between(from..to.plus(1)).iter().flat_map(|s| s.slots(Interval::MINUTE)) {
                out.extend((span.start.0..span.end.0).step_by(60_000_000).map(|at| row(symbol, Timestamp(at))));
            }
            (200, out)
        });
        self.write("sources/own.toml", &format!("name = \"own\"\ntitle = \"Own\"\nbase = \"{base}\"\n{OWN_MINUTES}"));
        let collector = format!(
            "name = \"own\"\nsource = \"own\"\nvenue = \"ALDX\"\ninterval = \"1m\"\nsince = \"{since}\"\ninstruments = [\"KBF\"]\n"
        );
        self.write("collectors/own.toml", &collector);
        asked
    }

    /// A source that answers as a test says: from path with query, body and `Authorization` to status and text.
    pub fn talking(&self, talk: impl Fn(&str, &str, &str) -> (u16, String) + Send + Sync + 'static) -> String {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let base = format!("http://{}", listener.local_addr().unwrap());
        let talk = Arc::new(talk);
        let app = move || {
            let talk = talk.clone();
            let answer = move |request: HttpRequest, body: String| {
                let key = request.headers().get("Authorization").and_then(|v| v.to_str().ok()).unwrap_or_default();
                let (status, text) = talk(&request.uri().to_string(), &body, key);
                let status = actix_web::http::StatusCode::from_u16(status).unwrap();
                std::future::ready(HttpResponse::build(status).content_type("text/plain").body(text))
            };
            App::new().default_service(web::route().to(answer))
        };
        tokio::spawn(HttpServer::new(app).workers(1).disable_signals().listen(listener).unwrap().run());
        base
    }

    pub fn collector(&self, name: &str, interval: &str, since: &str, more: &str) {
        let text =
            format!("name = \"{name}\"\nsource = \"harbour\"\nvenue = \"ALDX\"\ninterval = \"{interval}\"\nsince = \"{since}\"\n{more}\n");
        self.write(&format!("collectors/{name}.toml"), &text);
    }

    /// Changes a configuration file by replacing some of its text.
    pub fn change(&self, file: &str, from: &str, to: &str) {
        let text = fs::read_to_string(self.config().join(file)).unwrap();
        assert!(text.contains(from), "{file} has no {from}");
        self.write(file, &text.replace(from, to));
    }

    pub fn write(&self, file: &str, text: &str) {
        let path = self.config().join(file);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    pub fn config(&self) -> PathBuf {
        self.dir.path().join("config")
    }

    pub fn data(&self) -> PathBuf {
        self.dir.path().join("data")
    }

    /// The database, while no service has it.
    pub async fn database(&self) -> SqliteConnection {
        SqliteConnection::connect(&format!("sqlite:{}", self.data().join("mizuno.db").display())).await.unwrap()
    }

    /// As a kill between the two steps of keeping an answer leaves it: its bytes kept, its bars not.
    pub async fn forget_bars(&self) {
        let mut database = self.database().await;
        for sql in ["DELETE FROM block", "DELETE FROM tail", "UPDATE fetch SET state = 'answered', rows = 0, bars_new = 0"] {
            sqlx::query(sql).execute(&mut database).await.unwrap();
        }
        database.close().await.unwrap();
    }

    pub fn command(&self) -> Command {
        let mut command = mizuno();
        command.arg("serve").arg("--config").arg(self.config()).arg("--data").arg(self.data());
        command.args(["--listen", "127.0.0.1:0", "--clock", &self.clock.to_string()]);
        command
    }

    pub fn serve(&self) -> Service {
        Service::start(self.command())
    }

    pub fn now(&self) -> Timestamp {
        self.clock.at(mizuno_sim::wall())
    }
}

/// How many kills a campaign has: so many in `make test`, more where somebody asks for them.
pub fn kills(usual: u32) -> u32 {
    std::env::var("MIZUNO_KILLS").ok().and_then(|n| n.parse().ok()).unwrap_or(usual)
}

pub fn mizuno() -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_mizuno"));
    command.env_remove("MIZUNO_SERVICE").env("MIZUNO_LOG", "warn");
    command
}

impl Service {
    /// Starts a service and waits until it listens.
    pub fn start(mut command: Command) -> Service {
        let mut child = command.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
        let url = line.trim().rsplit(' ').next().unwrap_or_default().to_owned();
        assert!(url.starts_with("http://"), "the service did not start: {line}");
        Service { child, url }
    }

    /// Runs the command line against this service.
    pub fn cli(&self, args: &[&str]) -> Said {
        Said::of(mizuno().args(args).args(["--service", &self.url]).output().unwrap())
    }

    pub async fn get(&self, path: &str) -> Value {
        let response = self.ask(path).await;
        let status = response.status();
        let text = response.text().await.unwrap();
        assert!(status.is_success(), "{path}: {status} {text}");
        serde_json::from_str(&text).unwrap_or_else(|_| panic!("{path} is not JSON: {text}"))
    }

    pub async fn ask(&self, path: &str) -> reqwest::Response {
        client().get(format!("{}/api/v1{path}", self.url)).send().await.unwrap()
    }

    pub async fn text(&self, path: &str) -> String {
        self.ask(path).await.text().await.unwrap()
    }

    pub async fn post(&self, path: &str, body: &Value) -> (u16, Value) {
        let response = client().post(format!("{}/api/v1{path}", self.url)).json(body).send().await.unwrap();
        let status = response.status().as_u16();
        (status, response.json().await.unwrap_or(Value::Null))
    }

    /// Memory the process holds now.
    pub fn resident_kib(&self) -> u64 {
        let status = fs::read_to_string(format!("/proc/{}/status", self.child.id())).unwrap();
        let line = status.lines().find(|l| l.starts_with("RssAnon")).unwrap();
        line.split_whitespace().nth(1).unwrap().parse().unwrap()
    }

    /// `kill -9`.
    pub fn kill(mut self) {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
    }

    /// A polite kill, and its exit code.
    pub fn stop(mut self) -> Option<i32> {
        Command::new("kill").args(["-TERM", &self.child.id().to_string()]).status().unwrap();
        self.child.wait().unwrap().code()
    }

    /// The run, once this holds of it.
    pub async fn run_when(&self, id: &Value, holds: impl Fn(&Value) -> bool) -> Value {
        let until = std::time::Instant::now() + std::time::Duration::from_secs(30);
        loop {
            let run = self.get(&format!("/runs/{id}")).await;
            if holds(&run) {
                return run;
            }
            assert!(std::time::Instant::now() < until, "run {id} does not come to it: {run}");
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
    }

    /// Waits until no run is under way.
    pub async fn settled(&self) {
        for _ in 0..1200 {
            let runs = self.get("/runs?most=20").await;
            if runs.as_array().unwrap().iter().all(|r| r["state"] != "running") {
                return;
            }
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        panic!("a run does not end");
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

pub fn client() -> reqwest::Client {
    let _ = rustls::crypto::ring::default_provider().install_default();
    reqwest::Client::builder().no_proxy().build().unwrap()
}

/// What a command said, and how it ended.
#[derive(Debug)]
pub struct Said {
    pub code: i32,
    pub out: String,
    pub err: String,
    pub bytes: Vec<u8>,
}

impl Said {
    pub fn of(output: Output) -> Said {
        Said {
            code: output.status.code().unwrap_or(-1),
            out: String::from_utf8_lossy(&output.stdout).into_owned(),
            err: String::from_utf8_lossy(&output.stderr).into_owned(),
            bytes: output.stdout,
        }
    }

    pub fn json(&self) -> Value {
        serde_json::from_str(&self.out).unwrap_or_else(|_| panic!("not JSON: {self:?}"))
    }
}

/// The daily bars a symbol truly had by now, as the service's CSV has them.
pub fn true_days(bench: &Bench, symbol: &str) -> String {
    let mut out = "date,open,high,low,close,volume\r\n".to_owned();
    let calendar = bench.world.market.calendar();
    for day in bench.world.market.days(symbol).unwrap() {
        let published = calendar.session(day.date).unwrap().close().plus(20 * 60_000_000) <= bench.now();
        if let (Some(bar), true) = (day.bar, published) {
            let [open, high, low, close] = bar.prices.map(|c| format!("{}.{:02}", c / 100, c % 100));
            out += &format!("{},{open},{high},{low},{close},{}\r\n", day.date, bar.volume);
        }
    }
    out
}

/// The minute bars a symbol truly had in the sessions from one date to another, as the service's CSV has them.
pub fn true_minutes(bench: &Bench, symbol: &str, from: &str, to: &str) -> String {
    let mut out = "time,open,high,low,close,volume\r\n".to_owned();
    let dates = from.parse().unwrap()..to.parse::<mizuno_core::TradeDate>().unwrap().plus(1);
    for session in bench.world.market.calendar().between(dates) {
        for bar in bench.world.market.minutes(symbol, session.date) {
            let [open, high, low, close] = bar.prices.map(|c| format!("{}.{:02}", c / 100, c % 100));
            out += &format!("{},{open},{high},{low},{close},{}\r\n", bar.open_at, bar.volume);
        }
    }
    out
}
