//! Profiles made for one question, and small servers that answer it.
#![allow(dead_code, reason = "each test file uses a part of it")]

use actix_web::{App, HttpRequest, HttpResponse, HttpServer, web};
use mizuno_config::{Profile, profile};
use mizuno_core::{Interval, Side, Slot, Span, Venue, clock::ClockFace};
use mizuno_sources::{Asked, Clock, Decoded, Failure, NoDayBook, Page, Secrets, Source, Stop, Ticket, Wanted, clock::wall, decode};
use std::{
    path::Path,
    sync::{Arc, Mutex},
};

pub fn venue() -> Venue {
    mizuno_config::venue::parse(Path::new("aldx.toml"), include_str!("../../../../../demo/config/venues/aldx.toml")).unwrap()
}

/// A profile of one daily trade series, with this base, request and answer.
pub fn profile(base: &str, top: &str, request: &str, answer: &str) -> Profile {
    series(base, top, "interval = \"1d\"", request, answer)
}

/// The same with any head of the series.
pub fn series(base: &str, top: &str, head: &str, request: &str, answer: &str) -> Profile {
    let text = format!(
        "name = \"s\"\ntitle = \"S\"\nbase = \"{base}\"\n[limits]\ncalls_per_minute = 60000\nburst = 1000\nat_once = 4\nattempts = 3\nlargest_answer_mib = 1\nfirst_pause = \"10ms\"\ntimeout = \"2s\"\n{top}\n\
         [[series]]\n{head}\nvenues = [\"ALDX\"]\nadjusted = \"no\"\ndelay = \"0s\"\nspan_days = 5000\n{request}\n[series.answer]\n{answer}\n"
    );
    profile::parse(Path::new("s.toml"), &text).unwrap_or_else(|p| panic!("{p:?}\n{text}"))
}

pub const PLAIN: &str = "[[series.request]]\nget = \"/{symbol}{?from,to}\"\nstamps = \"%Y-%m-%d\"\nto_included = true\n";
pub const CSV: &str = "form = \"delimited\"\ncolumns = { time = \"date\", open = \"o\", high = \"h\", low = \"l\", close = \"c\", volume = \"v\" }\nstamp = \"%Y-%m-%d\"\n";

/// Two days in the form of [`CSV`].
pub const BODY: &str = "date,o,h,l,c,v\n2025-04-08,1,1,1,1,1\n2025-04-09,1,1,1,1,1\n";
/// Rows of [`rows`] under `rows`.
pub const JSON: &str = "form = \"json-rows\"\nrows = \"/rows\"\ncolumns = { time = \"d\", open = \"p\", high = \"p\", low = \"p\", close = \"p\" }\nstamp = \"%Y-%m-%d\"\n";

/// A source at work without any secret.
pub fn work(profile: Profile) -> Source {
    at_work(profile, &[], Path::new("."))
}

/// Rows of so many days from some day on, as JSON.
pub fn rows(days: std::ops::Range<u32>) -> serde_json::Value {
    days.map(|d| serde_json::json!({ "d": format!("2025-04-{d:02}"), "p": 1 })).collect()
}

/// What an answer of this description says.
pub fn read(answer: &str, body: &[u8]) -> Result<Decoded, Failure> {
    let profile = profile("http://127.0.0.1:1", "", PLAIN, answer);
    decode::decode(&profile.series[0], &venue(), "KBF", 1 << 20, &[Page { part: None, media_type: None, body }])
}

/// Bars as `date open high low close volume`.
pub fn shown(read: &Decoded) -> Vec<String> {
    let line = |b: &mizuno_core::Bar| {
        let [open, high, low, close] = b.prices().map(|p| p.to_string());
        let volume = b.volume().map_or("-".to_owned(), |v| v.to_string());
        let slot = if b.slot.0.abs() > 10_000_000 { b.slot.instant().to_string() } else { b.slot.date().to_string() };
        format!("{slot} {open} {high} {low} {close} {volume}")
    };
    read.bars.rows.iter().map(line).collect()
}

/// What a server makes of a request, the so-many-th.
type Say = dyn Fn(&Heard, usize) -> HttpResponse + Send + Sync;

/// A server that keeps what it was asked.
pub struct Server {
    pub base: String,
    pub asked: Arc<Mutex<Vec<Heard>>>,
}

#[derive(Clone, Debug)]
pub struct Heard {
    pub method: String,
    pub target: String,
    pub header: Option<String>,
    pub body: String,
}

impl Server {
    /// Starts one that answers with what `say` makes of a request.
    pub fn start(say: impl Fn(&Heard, usize) -> HttpResponse + Send + Sync + 'static) -> Server {
        let asked: Arc<Mutex<Vec<Heard>>> = Arc::default();
        let say: Arc<Say> = Arc::new(say);
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let base = format!("http://{}", listener.local_addr().unwrap());
        let kept = asked.clone();
        let server = HttpServer::new(move || {
            let (kept, say) = (kept.clone(), say.clone());
            App::new().default_service(web::route().to(move |request: HttpRequest, body: web::Bytes| {
                let header = |name: &str| request.headers().get(name).and_then(|v| v.to_str().ok()).map(str::to_owned);
                let heard = Heard {
                    method: request.method().to_string(),
                    target: request.uri().to_string(),
                    header: header("X-Key").or(header("Authorization")),
                    body: String::from_utf8_lossy(&body).into_owned(),
                };
                let number = {
                    let mut all = kept.lock().unwrap();
                    all.push(heard.clone());
                    all.len()
                };
                std::future::ready(say(&heard, number))
            }))
        });
        tokio::spawn(server.workers(1).disable_signals().listen(listener).unwrap().run());
        Server { base, asked }
    }

    pub fn targets(&self) -> Vec<String> {
        self.asked.lock().unwrap().iter().map(|h| h.target.clone()).collect()
    }
}

pub fn at_work(profile: Profile, secrets: &[(&str, &str)], folder: &Path) -> Source {
    let secrets = Secrets::new(secrets.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())));
    // A thousand seconds a second, so that pauses are short.
    let face = ClockFace { start: "2025-04-10T02:30:00Z".parse().unwrap(), wall: wall(), speed: 1000.0 };
    Source::new(Arc::new(profile), Clock::new(face), &secrets, Arc::new(NoDayBook), folder).unwrap()
}

pub fn days(from: &str, to: &str) -> Span {
    Slot::on(from.parse().unwrap())..Slot::on(to.parse::<mizuno_core::TradeDate>().unwrap().plus(1))
}

/// Asks for the daily bars of KBF from 1 to 9 April 2025.
pub async fn ask(source: &Source) -> Asked {
    ask_for(source, Interval::Daily, Side::Trade, &days("2025-04-01", "2025-04-09")).await
}

pub async fn ask_for(source: &Source, interval: Interval, side: Side, window: &Span) -> Asked {
    let profile = source.profile.clone();
    let offer = profile.offer("ALDX", interval, side).unwrap();
    let wanted = Wanted { symbol: "KBF", id: None, window };
    source.ask(offer, &venue(), &wanted, &Ticket::default(), Stop::default(), profile.limits.attempts).await.unwrap()
}
