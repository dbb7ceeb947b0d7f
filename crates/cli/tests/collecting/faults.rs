//! From a fault at the source to the words a person reads; and nothing is stored that is not true.

use crate::common::Bench;
use mizuno_sim::faults::{Fault, Faults};

/// Collects KBF's daily bars of one week through a fault; returns the fetch, and the bars held after it.
async fn through(fault: Vec<Fault>, changes: &[(&str, &str)]) -> (serde_json::Value, String) {
    // What may pass is asked for again after an hour: ten hours pass in a minute.
    let bench = Bench::at(mizuno_sim::DEMO_START, 600.0, Faults::only(fault));
    for (from, to) in changes {
        bench.change("sources/harbour.toml", from, to);
    }
    let service = bench.serve();
    service.cli(&["collect", "daily", "-i", "KBF", "--from", "2025-04-01", "--to", "2025-04-07"]);
    let fetches = service.get("/fetches").await;
    // What may pass is asked for again at the end of the run, twice; each time has its row.
    let all = fetches.as_array().unwrap();
    assert!(all.len() == 1 || (all.len() == 3 && all.iter().all(|f| f["state"] == "failed")), "{fetches}");
    let run = service.get("/runs/1").await;
    assert_eq!(run["done"].as_u64().unwrap() + run["failed"].as_u64().unwrap(), 1, "and the window counts once: {run}");
    (fetches[0].clone(), service.text("/bars?series=KBF/1d/harbour").await)
}

fn instead(times: u32, status: u16, body: &str) -> Vec<Fault> {
    vec![Fault::Instead { symbol: "KBF", times, status, body: body.to_owned() }]
}

const HEADER: &str = "a\nb\nc\nDate,Close,High,Low,Open,Volume\n";

#[test]
fn each_class_of_failure_has_its_words() {
    let cut = format!("{HEADER}2025-04-07,2.67,2.71,2.63,2.67,84119\n2025-04-04,2.6");
    let large = format!("{HEADER}{}", "2025-04-07,2.67,2.71,2.63,2.67,84119\n".repeat(60_000));
    let all = [
        (200, "<html><body>Sorry</body></html>", "wrong-content", "got a web page: `<html><body>Sorry", 4),
        (
            200,
            "We are closed today.\nCome back.\nThanks.\nBye\n",
            "unreadable",
            "line 4 should be the header, with a column `date`; it reads `Bye`",
            4,
        ),
        (200, "one line\n", "unreadable", "ends within the 3 lines above the header", 4),
        (200, cut.as_str(), "cut-short", "breaks off in the middle of a line: `2025-04-04,2.6`", 4),
        (200, "", "empty-answer", "no bytes at all", 4),
        (200, large.as_str(), "too-large", "larger than 1 MiB, the profile's largest_answer_mib", 1),
        (401, "who are you?", "denied", "401 Unauthorized: `who are you?`", 1),
        (404, "no such symbol", "not-found", "404 Not Found", 1),
        (429, "slow down", "too-many-calls", "429 Too Many Requests", 4),
        (302, "", "redirected", "sends us to nowhere", 4),
        (400, "bad dates", "refused", "400 Bad Request: `bad dates`", 1),
        (503, "mending the quay", "server-error", "503 Service Unavailable: `mending the quay`", 4),
    ];
    // Most of their time they wait for another try, each in a world of its own.
    let one = async |status, body: String, class, words: &str, attempts| {
        let (fetch, held) = through(instead(99, status, &body), &[("largest_answer_mib = 8", "largest_answer_mib = 1")]).await;
        assert_eq!(fetch["failure"], class, "{fetch}");
        assert!(fetch["message"].as_str().unwrap().contains(words), "{class}: {fetch}");
        assert_eq!(fetch["attempts"], attempts, "{class}");
        assert_eq!(held.lines().count(), 1, "{class}: nothing is stored");
    };
    let all = all.map(|(status, body, class, words, attempts): (u16, &str, &str, &str, i32)| {
        let body = body.to_owned();
        std::thread::spawn(move || tokio::runtime::Runtime::new().unwrap().block_on(one(status, body, class, words, attempts)))
    });
    for each in all {
        each.join().unwrap();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_source_that_is_not_there_is_unreachable_or_unknown() {
    let bench = Bench::new(Faults::default());
    bench.change("sources/harbour.toml", "http://127.0.0.1:", "http://127.0.0.1:9/");
    bench.change("sources/harbour.toml", "attempts = 4", "attempts = 2");
    let service = bench.serve();
    let said = service.cli(&["collect", "daily", "-i", "KBF", "--from", "2025-04-01"]);
    assert_eq!(said.code, 3);
    let fetch = &service.get("/fetches").await[0];
    assert_eq!(fetch["failure"], "unreachable", "{fetch}");
    assert!(fetch["message"].as_str().unwrap().contains("no connection"), "{fetch}");
    let gap = &service.get("/gaps?instrument=KBF&from=2025-04-01").await[0];
    assert_eq!((gap["cause"].as_str(), gap["suggestion"].as_str()), (Some("fetch-failed"), Some("refetch")), "{gap}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_failure_that_passes_is_tried_again_and_leaves_no_trace_in_the_bars() {
    let truth = through(vec![], &[]).await.1;
    assert_eq!(truth.lines().count(), 6);
    let (fetch, held) = through(instead(2, 503, "busy"), &[]).await;
    assert_eq!((fetch["attempts"].as_u64(), fetch["state"].as_str()), (Some(3), Some("stored")));
    assert_eq!(held, truth);
    for fault in [Fault::CutFile { symbol: "KBF", times: 1 }, Fault::RepeatedRows { symbol: "KBF" }, Fault::Shuffled { symbol: "KBF" }] {
        let name = format!("{fault:?}");
        let (_, held) = through(vec![fault], &[]).await;
        assert_eq!(held, truth, "{name}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn rows_that_cannot_be_true_are_in_quarantine_with_their_text() {
    let date = "2025-04-03".parse().unwrap();
    let (fetch, held) = through(vec![Fault::HighBelowLow { symbol: "KBF", date }], &[]).await;
    assert_eq!((fetch["refused"].as_u64(), fetch["bars_new"].as_u64()), (Some(1), Some(4)));
    assert!(!held.contains("2025-04-03"));

    let body = format!(
        "{HEADER}2025-04-05,1.00,1.00,1.00,1.00,5\n2025-04-04,1.00,1.00,1.00,one,5\n2025-04-03,1,1,1,1\n2025-04-02,1.00,1.00,1.00,1.00,-\n"
    );
    let bench = Bench::new(Faults::only(instead(1, 200, &body)));
    let service = bench.serve();
    service.cli(&["collect", "daily", "-i", "KBF", "--from", "2025-04-01", "--to", "2025-04-07"]);
    assert_eq!(service.text("/bars?series=KBF/1d/harbour").await, "date,open,high,low,close,volume\r\n2025-04-02,1.00,1.00,1.00,1.00,\r\n");
    let rows = service.get("/quarantine").await;
    let mut found: Vec<_> = rows
        .as_array()
        .unwrap()
        .iter()
        .map(|q| (q["line"].as_u64().unwrap(), q["flaw"].as_str().unwrap(), q["text"].as_str().unwrap()))
        .collect();
    found.sort_unstable();
    assert_eq!(found[0], (5, "closed-market", "2025-04-05,1.00,1.00,1.00,1.00,5"));
    assert_eq!((found[1].0, found[1].1), (6, "unreadable"));
    assert!(found[1].2.contains("open: `one` is not a decimal number"), "{}", found[1].2);
    assert!(found[2].2.contains("has 5 fields where the header has 6"), "{}", found[2].2);
    let shown = service.cli(&["fetches", "1"]);
    assert!(shown.out.contains("2025-04-03,1,1,1,1"), "the payload is kept as it came: {}", shown.out);
    assert_eq!(service.cli(&["fetches", "1", "--payload"]).bytes, body.as_bytes());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_restatement_is_a_further_version() {
    let body = format!("{HEADER}2025-04-02,1.00,1.00,1.00,1.00,7\n");
    let bench = Bench::new(Faults::only(instead(1, 200, &body)));
    let service = bench.serve();
    service.cli(&["collect", "daily", "-i", "KBF", "--from", "2025-04-02", "--to", "2025-04-02"]);
    let then = bench.now();
    let first = service.text(&format!("/bars?series=KBF/1d/harbour&as_of={then}")).await;
    assert!(first.contains("2025-04-02,1.00"), "{first}");
    tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    let again = service.cli(&["collect", "daily", "-i", "KBF", "--from", "2025-04-02", "--to", "2025-04-02", "--again"]);
    assert!(again.out.contains("1 restated"), "{}", again.out);
    assert!(!service.text("/bars?series=KBF/1d/harbour").await.contains("2025-04-02,1.00"));
    assert_eq!(service.text(&format!("/bars?series=KBF/1d/harbour&as_of={then}")).await, first, "the past stays as it was known");
}
