//! Many at once, slow readers, a clock that goes back, a source that never answers.

use crate::common::{self, Bench, client};
use mizuno_sim::faults::{Fault, Faults, Trouble};
use std::{
    io::{Read, Write},
    net::TcpStream,
    time::Duration,
};

const BARS: &str = "/bars?series=KBF/1m/harbour";

/// The instant an answer stands for, and the answer.
async fn heard(service: &common::Service, path: &str) -> (String, String) {
    let response = service.ask(path).await;
    assert!(response.status().is_success(), "{path}: {}", response.text().await.unwrap());
    let as_of = response.headers()["mizuno-as-of"].to_str().unwrap().to_owned();
    (as_of, response.text().await.unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn an_answer_of_an_instant_is_the_same_for_ever_while_bars_come_in() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "minutes", "-i", "KBF", "--from", "2025-04-01", "--no-wait"]).code, 0);
    let paths = [BARS, "/bars?series=KBF/1m/golden", "/bars?series=KBF/1d/harbour"];
    assert_eq!(service.cli(&["collect", "daily", "-i", "KBF", "--no-wait"]).code, 0);
    // Both runs have begun; the series are made when they plan.
    let began = std::time::Instant::now();
    for path in paths {
        while service.ask(path).await.status() == 404 {
            assert!(began.elapsed() < Duration::from_secs(30), "the runs make no series");
            tokio::time::sleep(Duration::from_millis(2)).await;
        }
    }
    let mut seen = vec![];
    for _ in 0..40 {
        for path in paths {
            let (as_of, text) = heard(&service, path).await;
            seen.push((format!("{path}&as_of={as_of}"), text));
        }
        // As of this very moment: nothing that is committed later may turn up in it.
        let now = bench.now();
        let (as_of, text) = heard(&service, &format!("{BARS}&as_of={now}")).await;
        assert!(as_of.parse::<mizuno_core::Timestamp>().unwrap() <= now);
        seen.push((format!("{BARS}&as_of={now}"), text));
        tokio::time::sleep(Duration::from_millis(15)).await;
    }
    service.settled().await;
    let lengths: std::collections::BTreeSet<usize> = seen.iter().map(|(_, text)| text.len()).collect();
    assert!(lengths.len() > 4, "the answers grew meanwhile: {lengths:?}");
    for (path, before) in &seen {
        assert!(service.text(path).await == *before, "{path} says something else than it did");
    }
    let to_come = service.ask(&format!("{BARS}&as_of=2031-01-01T00:00:00Z")).await;
    assert_eq!(to_come.status(), 400, "an instant to come is refused");
}

#[tokio::test(flavor = "multi_thread")]
async fn many_at_once_and_readers_that_read_nothing_hold_nobody_up() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "minutes", "-i", "KBF", "-i", "OXB"]).code, 0);
    let right = service.text(BARS).await;
    assert!(right.lines().count() > 5_000);
    let at_once = |n: usize, path: String| {
        let url = format!("{}/api/v1{path}", service.url);
        async move {
            let client = client();
            let all = (0..n).map(|_| {
                let (client, url) = (client.clone(), url.clone());
                tokio::spawn(async move {
                    let response = client.get(&url).send().await.unwrap();
                    assert_eq!(response.status(), 200, "{url}");
                    response.text().await.unwrap()
                })
            });
            let mut texts = vec![];
            for one in all.collect::<Vec<_>>() {
                texts.push(one.await.unwrap());
            }
            texts
        }
    };
    let within = Duration::from_secs(60);
    let texts = tokio::time::timeout(within, at_once(64, BARS.to_owned())).await.expect("64 at once are answered");
    assert!(texts.iter().all(|t| *t == right), "each of them gets what one alone gets");
    let golden = tokio::time::timeout(within, at_once(32, "/bars?series=KBF/1m/golden".to_owned())).await.expect("golden files too");
    assert!(golden.iter().all(|t| *t == golden[0]));

    // Two hundred that ask for much and read nothing.
    let address = service.url.trim_start_matches("http://").to_owned();
    let mut slow: Vec<TcpStream> = (0..200)
        .map(|_| {
            let mut stream = TcpStream::connect(&address).unwrap();
            write!(stream, "GET /api/v1{BARS}&format=json HTTP/1.1\r\nHost: {address}\r\n\r\n").unwrap();
            stream
        })
        .collect();
    tokio::time::sleep(Duration::from_millis(500)).await;
    let ask = async {
        assert_eq!(service.ask("/status").await.status(), 200);
        assert_eq!(service.text(BARS).await, right);
        service.post("/runs", &serde_json::json!({ "collector": "minutes" })).await
    };
    let (code, run) = tokio::time::timeout(Duration::from_secs(20), ask).await.expect("all others go on");
    assert!(code < 300, "{run}");
    service.settled().await;
    let log = std::fs::metadata(bench.data().join("mizuno.db-wal")).unwrap().len();
    assert!(log < 64 << 20, "the write-ahead log is reset meanwhile: {log} bytes");
    let mut first = [0; 12];
    slow[0].read_exact(&mut first).unwrap();
    assert_eq!(&first, b"HTTP/1.1 200", "and the slow ones are served still");
    drop(slow);
    assert_eq!(service.stop(), Some(0));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clock_that_was_ahead_hides_nothing_when_it_is_right_again() {
    let mut bench = Bench::new(Faults::default());
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "daily", "-i", "KBF", "--from", "2025-03-03"]).code, 0);
    let held = service.text("/bars?series=KBF/1d/harbour").await;
    let (as_of, _) = heard(&service, "/bars?series=KBF/1d/harbour").await;
    assert_eq!(service.stop(), Some(0));
    // Two days back.
    bench.clock.start = bench.clock.start.plus(-2 * 86_400_000_000);
    let service = bench.serve();
    for more in ["", "&as_of=now", &format!("&as_of={as_of}")] {
        assert_eq!(service.text(&format!("/bars?series=KBF/1d/harbour{more}")).await, held, "{more}");
    }
    // What is learned now stands after what was learned then.
    assert_eq!(service.cli(&["collect", "daily", "-i", "OXB", "--from", "2025-04-01"]).code, 0);
    let (later, text) = heard(&service, "/bars?series=OXB/1d/harbour&as_of=now").await;
    let instant = |text: &str| text.parse::<mizuno_core::Timestamp>().unwrap();
    assert!(text.lines().count() > 1 && instant(&later) > instant(&as_of), "{later}, and {as_of} before: {text}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_source_that_never_answers_keeps_neither_a_run_nor_the_service() {
    let silence = Fault::Trouble { source: "harbour", symbol: "", times: None, what: Trouble::Slow(600_000) };
    let bench = Bench::new(Faults::only(vec![silence]));
    bench.change("sources/harbour.toml", "timeout = \"20s\"", "timeout = \"10m\"");
    let service = bench.serve();
    let run = service.cli(&["collect", "daily", "--no-wait", "--json"]).json();
    let id = run["id"].to_string();
    tokio::time::sleep(Duration::from_millis(500)).await;
    let ended = tokio::time::timeout(Duration::from_secs(20), async {
        let said = service.cli(&["cancel", &id]);
        assert_eq!(said.code, 0, "{said:?}");
        service.settled().await;
    });
    ended.await.expect("a run is cancelled in seconds");
    assert_eq!(service.get(&format!("/runs/{id}")).await["state"], "cancelled");
    service.cli(&["collect", "daily", "--no-wait"]);
    tokio::time::sleep(Duration::from_millis(300)).await;
    let stopped = tokio::task::spawn_blocking(move || service.stop());
    assert_eq!(tokio::time::timeout(Duration::from_secs(20), stopped).await.expect("the service stops").unwrap(), Some(0));
}
