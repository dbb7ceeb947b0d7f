//! The simulated sources speak as the scenario says, and fail as their switches say.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test stops at once when something is not as it needs it")]

use mizuno_core::{Timestamp, clock::ClockFace};
use mizuno_sim::{
    DEMO_SEED, DEMO_START, LODESTAR_KEY, World,
    faults::{Fault, Faults, Trouble},
    street, wall,
};
use serde_json::Value;
use std::{io::Read, sync::Arc};

struct Said {
    status: u16,
    headers: String,
    body: Vec<u8>,
}

impl Said {
    fn text(&self) -> String {
        String::from_utf8_lossy(&self.body).into_owned()
    }
    fn json(&self) -> Value {
        serde_json::from_slice(&self.body).unwrap_or_else(|_| panic!("not JSON: {}", self.text()))
    }
}

/// A world whose clock stands almost still at the demo's first moment.
fn world(faults: Faults) -> Arc<World> {
    World::new(DEMO_SEED, ClockFace { start: DEMO_START.parse().unwrap(), wall: wall(), speed: 0.001 }, faults)
}

/// Starts a source and returns a way to ask it, in plain HTTP/1.1.
fn source(world: &Arc<World>, name: &'static str) -> impl AsyncFn(&str, &str) -> Said + use<> {
    let (address, server) = street::start(world.clone(), name, 0).unwrap();
    tokio::spawn(server);
    async move |path: &str, header: &str| {
        use tokio::io::{AsyncReadExt, AsyncWriteExt};
        let mut stream = tokio::net::TcpStream::connect(address).await.unwrap();
        let request = format!("GET {path} HTTP/1.0\r\nHost: {address}\r\n{header}\r\n");
        stream.write_all(request.as_bytes()).await.unwrap();
        let mut all = vec![];
        let _ = stream.read_to_end(&mut all).await;
        let end = all.windows(4).position(|w| w == b"\r\n\r\n").map_or(all.len(), |at| at + 4);
        let headers = String::from_utf8_lossy(&all[..end]).into_owned();
        let status = headers.split(' ').nth(1).and_then(|s| s.parse().ok()).unwrap_or(0);
        Said { status, headers: headers.to_lowercase(), body: all[end..].to_vec() }
    }
}

#[actix_web::test]
async fn harbour_prints_text_newest_first_under_three_lines_of_chatter() {
    let ask = source(&world(Faults::default()), "harbour");
    let said = ask("/bars/LNT-A?step=day&from=2025-04-07&to=2025-04-09", "").await;
    let text = said.text();
    let lines: Vec<&str> = text.lines().collect();
    assert_eq!(lines[3], "Date,Close,High,Low,Open,Volume");
    let dates: Vec<&str> = lines[4..].iter().map(|l| &l[..10]).collect();
    assert_eq!(dates, ["2025-04-09", "2025-04-08", "2025-04-07"]);
    let from = "2025-04-08T22:00:00Z".parse::<Timestamp>().unwrap().0 / 1_000_000;
    let minutes = ask(&format!("/bars/KBF?step=minute&from={from}&to={}", from + 300), "").await.text();
    assert_eq!(minutes.lines().count(), 4 + 5, "seconds for short ranges, the last not included: {minutes}");
    assert!(minutes.lines().nth(4).unwrap().starts_with("2025-04-09 10:04,"), "the wall clock of the exchange");
    let old = ask("/bars/KBF?step=minute&from=2025-02-03&to=2025-02-07", "").await.text();
    assert_eq!(old.lines().count(), 4, "thirty days back and no further");
    assert_eq!(ask("/bars/NONE?step=day&from=2025-04-07&to=2025-04-09", "").await.status, 404);
    assert_eq!(ask("/bars/KBF?step=day&from=yesterday&to=today", "").await.status, 400);
}

#[actix_web::test]
async fn lodestar_wants_a_key_counts_calls_and_adjusts_its_past() {
    let world = world(Faults::default());
    let ask = source(&world, "lodestar");
    let key = format!("X-Lodestar-Key: {LODESTAR_KEY}\r\n");
    let list = ask("/v2/instruments", &key).await.json();
    let id = |symbol: &str| {
        let all = list["instruments"].as_array().unwrap();
        all.iter().find(|i| i["ticker"] == symbol).unwrap()["id"].clone()
    };
    let (from, to) = (1_741_604_400, 1_742_554_800); // 11 to 21 March 2025 at Aldermere
    let days = ask(&format!("/v2/bars/{}/D?from={from}&to={to}", id("SME")), &key).await.json();
    let closes: Vec<f64> = days["bars"]["c"].as_array().unwrap().iter().map(|c| c.as_f64().unwrap()).collect();
    assert!(closes.windows(2).all(|w| (0.8..1.25).contains(&(w[1] / w[0]))), "no step at the split of 17 March: {closes:?}");
    assert_eq!(days["bars"]["t"].as_array().unwrap().len(), closes.len(), "one array a column");
    let long = ask(&format!("/v2/bars/{}/M?from={from}&to={}", id("SME"), from + 40 * 86_400), &key).await;
    assert_eq!((long.status, long.json()["error"].as_str()), (400, Some("thirty days at most")));
    assert_eq!(ask("/v2/instruments", "X-Lodestar-Key: wrong\r\n").await.status, 401);
    let mut answered = 0;
    while ask("/v2/instruments", "").await.status == 200 {
        answered += 1;
    }
    assert!((15..=25).contains(&answered), "twenty-five calls a day without a key, those before counted in: {answered}");
    let refused = ask("/v2/instruments", "").await;
    assert_eq!((refused.status, refused.headers.contains("retry-after: 20")), (429, true));
    assert_eq!(ask("/v2/instruments", &key).await.status, 200, "with a key there are more");
}

#[actix_web::test]
async fn lodestar_shows_unfinished_bars_and_restates_when_its_switches_are_on() {
    let quiet = source(&world(Faults::default()), "lodestar");
    let faults = vec![Fault::Unfinished { source: "lodestar" }, Fault::Restates { source: "lodestar" }];
    let noisy = source(&world(Faults::only(faults)), "lodestar");
    let key = format!("X-Lodestar-Key: {LODESTAR_KEY}\r\n");
    let list = quiet("/v2/instruments", &key).await.json();
    let (mut unfinished, mut smaller) = (0, 0);
    for instrument in list["instruments"].as_array().unwrap() {
        let path = format!("/v2/bars/{}/D?from=1743850800&to=1744290000", instrument["id"]);
        let (plain, odd) = (quiet(&path, &key).await.json(), noisy(&path, &key).await.json());
        let volumes = |said: &Value| said["bars"]["v"].as_array().unwrap().iter().map(|v| v.as_u64().unwrap()).collect::<Vec<_>>();
        let (plain, odd) = (volumes(&plain), volumes(&odd));
        unfinished += usize::from(odd.len() > plain.len());
        smaller += plain.iter().zip(&odd).filter(|(p, o)| o < p).count();
        assert!(plain.iter().zip(&odd).all(|(p, o)| o <= p));
    }
    assert!(unfinished >= 20 && smaller > 3, "{unfinished} unfinished, {smaller} to be restated");
}

#[actix_web::test]
async fn packhorse_hands_out_pages_stamped_at_the_close_with_bid_below_ask() {
    let ask = source(&world(Faults::default()), "packhorse");
    let path = |side: &str, cursor: &str| {
        format!("/bars?symbol=TRC_USD&step=minute&side={side}&from=2025-04-07T21:00:00Z&to=2025-04-09T21:00:00Z&cursor={cursor}")
    };
    let (first, mut cursor, mut pages, mut rows) = (ask(&path("bid", ""), "").await.json(), String::new(), 0, 0);
    assert_eq!(first["rows"][0]["end"], "2025-04-07T21:01:00Z");
    loop {
        let page = ask(&path("bid", &cursor), "").await.json();
        (pages, rows) = (pages + 1, rows + page["rows"].as_array().unwrap().len());
        match page["next"].as_str() {
            Some(next) => cursor = next.to_owned(),
            None => break,
        }
    }
    assert_eq!((pages, rows), (2, 2 * 1440), "pages of two thousand");
    let asks = ask(&path("ask", ""), "").await.json();
    let price = |said: &Value, n: usize| said["rows"][n]["close"].as_f64().unwrap();
    assert!((0..50).all(|n| price(&first, n) < price(&asks, n)));
    assert!(first["rows"][0].get("volume").is_none());
    let contracts = ask("/contracts", "").await.json();
    assert_eq!((contracts["rows"].as_array().unwrap().len(), contracts["next"].as_str()), (5, Some("5")));
}

#[actix_web::test]
async fn almanack_has_tables_text_and_a_calendar() {
    let ask = source(&world(Faults::default()), "almanack");
    let page = ask("/twelve", "").await.text();
    assert!(page.contains("<td>2025-03-17</td>") && page.contains("Kelp and Barley Foods") && page.matches("<table").count() == 2);
    let splits = ask("/splits.txt", "").await.text();
    assert!(splits.contains("SME|2025-03-18|4|1") && splits.ends_with("3 splits in all\n"), "{splits}");
    assert!(ask("/dividends.txt", "").await.text().contains("KBF|2025-03-24|0.12|NZD"));
    let calendar = ask("/holidays/aldx.ics", "").await;
    assert!(calendar.headers.contains("text/calendar") && calendar.text().contains("DTSTART;VALUE=DATE:20250328\r\nSUMMARY:"));
}

#[actix_web::test]
async fn cellar_zips_a_session_and_is_late_or_absent_on_its_switches() {
    let faults = vec![
        Fault::File { date: "2025-04-03".parse().unwrap(), late: None },
        Fault::File { date: "2025-04-09".parse().unwrap(), late: Some(10) },
    ];
    let (quiet, odd) = (source(&world(Faults::default()), "cellar"), source(&world(Faults::only(faults)), "cellar"));
    let index = quiet("/", "").await.text();
    assert!(index.contains("href=\"/aldx-20250409.zip\"") && !index.contains("20250410"), "{index}");
    let shelf = odd("/", "").await.text();
    assert!(!shelf.contains("20250403") && !shelf.contains("20250409") && shelf.contains("20250408"), "{shelf}");
    assert_eq!(odd("/aldx-20250403.zip", "").await.status, 404);
    let body = quiet("/aldx-20250409.zip", "").await.body;
    let mut archive = zip::ZipArchive::new(std::io::Cursor::new(body)).unwrap();
    assert_eq!(archive.len(), 24, "RSB no longer trades");
    let mut text = String::new();
    archive.by_name("LNTA.txt").unwrap().read_to_string(&mut text).unwrap();
    assert!(text.starts_with("day;time;o;h;l;c;v\n20250409;10:00;") && text.lines().count() == 346, "{}", text.lines().count());
}

#[actix_web::test]
async fn every_trouble_is_what_its_name_says() {
    let trouble = |what: Trouble| Faults::only(vec![Fault::Trouble { source: "harbour", symbol: "", times: Some(1), what }]);
    let path = "/bars/KBF?step=day&from=2025-04-01&to=2025-04-09";
    let whole = source(&world(Faults::default()), "harbour")(path, "").await.body.len();
    for (what, check) in [
        (Trouble::Status(503, "fog"), Box::new(|s: &Said, _| s.status == 503 && s.text() == "fog") as Box<dyn Fn(&Said, usize) -> bool>),
        (Trouble::TooMany { seconds: 90, as_date: false }, Box::new(|s, _| s.status == 429 && s.headers.contains("retry-after: 90"))),
        (Trouble::TooMany { seconds: 90, as_date: true }, Box::new(|s, _| s.headers.contains("retry-after: thu, 10 apr 2025 02:31:3"))),
        (Trouble::Redirect("/login"), Box::new(|s, _| s.status == 302 && s.headers.contains("location: /login"))),
        (Trouble::WebPage, Box::new(|s, _| s.status == 200 && s.text().contains("Please sign in"))),
        (Trouble::WrongType("image/png"), Box::new(|s, whole| s.headers.contains("image/png") && s.body.len() == whole)),
        (Trouble::Nothing, Box::new(|s, _| s.status == 200 && s.body.is_empty())),
        (Trouble::Truncated, Box::new(|s, whole| s.body.len() == whole / 2)),
        (Trouble::Reset, Box::new(|s, whole| s.body.len() < whole)),
        (Trouble::Garbled, Box::new(|s, whole| s.body.len() == whole + 1 && s.body.contains(&1))),
        (Trouble::Flood(3), Box::new(|s, _| s.body.len() >= 3 << 20)),
        (Trouble::Slow(20), Box::new(|s, whole| s.body.len() == whole)),
    ] {
        let ask = source(&world(trouble(what.clone())), "harbour");
        let said = ask(path, "").await;
        assert!(check(&said, whole), "{what:?}: {} {} bytes", said.headers, said.body.len());
        assert_eq!(ask(path, "").await.body.len(), whole, "{what:?} strikes once");
    }
}
