//! Ten thousand windows from a source of whose answers one in seven is something else.

use crate::common::Bench;
use mizuno_core::TradeDate;
use mizuno_sim::faults::Faults;
use std::{
    io::{BufRead, BufReader, Write},
    net::{TcpListener, TcpStream},
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
};

const SYMBOLS: usize = 500;
/// Calendar days a window, of which each symbol has twenty.
const DAYS: i32 = 7;
const WINDOWS: usize = SYMBOLS * 20;
const SINCE: &str = "2024-11-18";

fn serve() -> (String, Arc<AtomicUsize>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let base = format!("http://{}", listener.local_addr().unwrap());
    let asked = Arc::new(AtomicUsize::new(0));
    let count = asked.clone();
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let nth = count.fetch_add(1, Ordering::SeqCst);
            std::thread::spawn(move || drop(answer(stream, nth)));
        }
    });
    (base, asked)
}

fn answer(mut stream: TcpStream, nth: usize) -> std::io::Result<()> {
    let mut lines = BufReader::new(stream.try_clone()?).lines();
    let path = lines.next().transpose()?.unwrap_or_default().split(' ').nth(1).unwrap_or_default().to_owned();
    while lines.next().transpose()?.is_some_and(|l| !l.is_empty()) {}
    let date = |name: &str| path.split(['?', '&']).find_map(|p| p.strip_prefix(name)).and_then(|t| t.parse::<TradeDate>().ok());
    let (Some(from), Some(to)) = (date("from="), date("to=")) else { return Ok(()) };
    let days = (from.0..=to.0).filter(|d| (d + 3).rem_euclid(7) < 5);
    let body = "date,o,h,l,c,v\n".to_owned() + &days.map(|d| format!("{},10.00,11.00,9.00,10.50,{d}\n", TradeDate(d))).collect::<String>();
    let mut say = |status: &str, kind: &str, length: usize, body: &str| {
        write!(
            stream,
            "HTTP/1.1 {status}\r\ncontent-type: {kind}\r\nlocation: /login\r\nconnection: close\r\ncontent-length: {length}\r\n\r\n{body}"
        )
    };
    // Not every seventh in turn: a window must not meet the same fate at each try.
    match (nth.wrapping_mul(2_654_435_761) >> 7) % 42 {
        0 => say("200 OK", "text/html", 25, "<html>We are busy.</html>"),
        1 => say("503 Service Unavailable", "text/plain", 4, "busy"),
        2 => Ok(()),
        3 => say("200 OK", "text/csv", body.len(), &body[..body.len() / 2]),
        4 => say("200 OK", "text/csv", 0, ""),
        5 => say("302 Found", "text/html", 0, ""),
        _ => say("200 OK", "text/csv", body.len(), &body),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn ten_thousand_windows_with_one_fault_in_seven_end_complete() {
    let bench = Bench::new(Faults::default());
    let (base, asked) = serve();
    bench.own_profile(&base, "");
    bench.change("sources/own.toml", "calls_per_minute = 600", "calls_per_minute = 60000\nat_once = 8\nfirst_pause = \"10s\"");
    bench.change("sources/own.toml", "span_days = 20", &format!("span_days = {DAYS}"));
    let row = |i| format!("M{i:03},Made up {i},share,ALDX,NZD,0.01,,,,\n");
    let list = (0..SYMBOLS).map(row).collect::<String>();
    bench.write(
        "instruments/many.csv",
        &("symbol,name,kind,venue,currency,tick_size,multiplier,listed,last_traded,former\n".to_owned() + &list),
    );
    let symbols: Vec<String> = (0..SYMBOLS).map(|i| format!("\"M{i:03}\"")).collect();
    bench.change("collectors/own.toml", "[\"KBF\"]", &format!("[{}]", symbols.join(",")));
    bench.change("collectors/own.toml", "2025-03-03", SINCE);
    let service = bench.serve();
    let until = SINCE.parse::<TradeDate>().unwrap().plus(DAYS * 20 - 1).to_string();
    let said = service.cli(&["collect", "own", "--to", &until, "--json"]);
    let run = &said.json()[0];
    let asked = asked.load(Ordering::SeqCst);
    println!("{} windows, {asked} calls: {run}", run["windows"]);
    assert!(run["state"] == "complete" && run["failed"] == 0, "{run}");
    let windows = run["windows"].as_u64().unwrap() as usize;
    assert!(windows * 10 >= WINDOWS * 9, "about ten thousand windows: {windows}");
    assert!(asked > windows * 8 / 7 && asked < windows * 3 / 2, "one in seven failed, and only those were asked for again: {asked}");
    let gaps = service.get(&format!("/gaps?source=own&to={until}")).await;
    assert_eq!(gaps, serde_json::json!([]), "and nothing is missing");
}
