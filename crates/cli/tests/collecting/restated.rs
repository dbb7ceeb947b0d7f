//! Sources that say something else than before: held for a person, audited, followed onto another basis.

use crate::common::{Bench, Rows, browser::Browser};
use mizuno_core::TradeDate;
use mizuno_sim::faults::Faults;
use std::sync::{
    Arc, Mutex,
    atomic::{AtomicBool, Ordering},
};

/// Fills a source of one's own with a bar for each session up to 9 April, prices times `by`.
fn fill(bench: &Bench, rows: &Rows, until: &str, by: f64) {
    let until: TradeDate = until.parse().unwrap();
    let mut rows = rows.lock().unwrap();
    for session in bench.world.market.calendar().between("2025-03-03".parse().unwrap()..until) {
        let n = f64::from(session.date.0 % 7);
        let [o, h, l, c] = [20.0 + n, 22.0 + n, 19.0 + n, 21.0 + n].map(|p| p * by);
        rows.insert(session.date.to_string(), format!("{o:.2},{h:.2},{l:.2},{c:.2},1000"));
    }
}

fn bench(speed: f64) -> Bench {
    Bench::at("2025-04-09T06:00:00Z", speed, Faults::default())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_large_change_waits_for_a_person() {
    let bench = bench(60.0);
    let rows = bench.own_source("restated = { hold_above_percent = 5 }");
    fill(&bench, &rows, "2025-04-10", 1.0);
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "own"]).code, 0);
    let bars = async || service.text("/bars?series=KBF/1d/own&from=2025-04-07").await;
    let before = bars().await;
    // One bar changes a little, one a lot.
    rows.lock().unwrap().insert("2025-04-08".to_owned(), "20.00,99.00,19.00,21.00,1000".to_owned());
    rows.lock()
        .unwrap()
        .insert("2025-04-07".to_owned(), before.lines().nth(1).unwrap().split_once(',').unwrap().1.replace(",1000", ",1001"));
    let again = service.cli(&["collect", "own", "--from", "2025-04-07", "--again"]);
    assert!(again.out.contains("1 bars restated") || again.out.contains("1 restated"), "{}", again.out);
    let after = bars().await;
    assert_eq!(after.lines().nth(2), before.lines().nth(2), "the large change is not served");
    assert!(after.lines().nth(1).unwrap().ends_with(",1001"), "the small one is");
    let status = service.cli(&["status"]);
    assert!(status.code == 3 && status.out.contains("HELD-BACK") && status.out.contains("RESTATED"), "{}", status.out);

    let waiting = service.cli(&["quarantine", "--json"]).json();
    assert_eq!((waiting[0]["flaw"].as_str(), waiting[0]["at"].as_str()), (Some("held-back"), Some("2025-04-08")));
    let id = waiting[0]["id"].to_string();
    assert!(service.cli(&["gaps", "--source", "own"]).err.contains("no gaps"), "the bar held before is held still");
    service.cli(&["collect", "own", "--from", "2025-04-07", "--again"]);
    assert_eq!(service.cli(&["quarantine", "--json"]).json().as_array().unwrap().len(), 1, "said again, it waits once");

    let taken = service.cli(&["decide", &id, "--take", "--by", "mere"]);
    assert_eq!(taken.code, 0, "{taken:?}");
    assert!(bars().await.contains("2025-04-08,20.00,99.00,19.00,21.00,1000"));
    let versions = service.get("/lineage?series=KBF/1d/own&at=2025-04-08").await;
    assert_eq!(versions.as_array().unwrap().len(), 2, "both versions are kept: {versions}");
    let twice = service.cli(&["decide", &id, "--refuse", "--by", "mere"]);
    assert!(twice.code == 1 && twice.err.contains("mere decided on"), "{twice:?}");
    assert!(service.cli(&["quarantine"]).out.contains("taken by mere"));
    assert!(!service.cli(&["status"]).out.contains("HELD-BACK"));
    assert!(service.cli(&["decide", "99", "--take", "--by", "mere"]).err.contains("no bar that is held back"));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_audit_finds_what_a_source_changed_long_ago() {
    let bench = bench(60.0);
    let rows = bench.own_source("");
    fill(&bench, &rows, "2025-04-10", 1.0);
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "own"]).code, 0);
    let quiet = service.cli(&["audit", "own", "--windows", "50"]);
    assert!(quiet.code == 0 && quiet.out.contains("complete"), "{quiet:?}");
    rows.lock().unwrap().insert("2025-03-05".to_owned(), "1.00,9.00,1.00,2.00,5".to_owned());
    assert_eq!(service.cli(&["collect", "own"]).code, 0);
    assert!(service.cli(&["restatements"]).out.is_empty(), "the second look does not go back that far");
    let found = service.cli(&["audit", "own", "--windows", "50"]);
    assert!(found.code == 3 && found.err.contains("1 bar changed since they were collected"), "{found:?}");
    let changed = service.cli(&["restatements", "--days", "1"]);
    assert!(changed.out.contains("2025-03-05") && changed.out.contains(" → 9.00"), "{}", changed.out);
    let runs = service.cli(&["runs", "--json"]).json();
    assert_eq!(runs[0]["reason"], "audit");
    // One window of a few is asked for, not all.
    let one = service.cli(&["audit", "own", "--windows", "1", "--json"]).json();
    assert_eq!(one[0]["windows"], 1, "{one}");
    let (status, refused) = service.post("/audits", &serde_json::json!({ "collector": "own", "windows": 0 })).await;
    assert!(status == 422 || status == 400, "{status} {refused}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_changed_basis_is_collected_again_and_no_reader_sees_a_step() {
    // Four hours a second: the evening after a split comes soon.
    let bench = bench(14_400.0);
    let rows = bench.own_source("");
    fill(&bench, &rows, "2025-04-10", 1.0);
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "own"]).code, 0);
    let bars = async |more: &str| service.text(&format!("/bars?series=KBF/1d/own{more}")).await;
    let before = bars("").await;
    let then = bench.now();
    // A split of two for one: the source rewrites everything.
    rows.lock().unwrap().clear();
    fill(&bench, &rows, "2025-04-12", 0.5);
    while bench.now() < "2025-04-11T06:00:00Z".parse().unwrap() {
        tokio::time::sleep(std::time::Duration::from_millis(200)).await;
    }
    let close = |line: &str| line.split(',').nth(4).unwrap().parse::<f64>().unwrap();
    let level = |text: &str| text.lines().skip(1).map(|l| close(l) > 15.0).collect::<Vec<_>>();
    let run = service.cli(&["collect", "own", "--no-wait", "--json"]).json();
    // At every moment a reader sees one basis.
    let mut seen = vec![];
    for _ in 0..200 {
        let text = bars("").await;
        let levels = level(&text);
        assert!(levels.iter().all(|l| *l == levels[0]), "a step reached a reader: {text}");
        seen.push(levels[0]);
        let ended = service.get("/runs").await.as_array().unwrap().iter().all(|r| r["state"] != "running");
        if ended && !levels[0] {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(25)).await;
    }
    assert_eq!(seen.last(), Some(&false), "in the end the new basis is served: {run}");
    let now = bars("").await;
    assert_eq!(now.lines().count(), before.lines().count() + 2, "the sessions since are there too");
    assert_eq!(bars(&format!("&as_of={then}")).await, before, "what was known then is as it was");
    let runs = service.get("/runs").await;
    assert!(runs.as_array().unwrap().iter().any(|r| r["reason"] == "new-basis" && r["state"] == "complete"), "{runs}");
    // Nothing is left to follow, and the next look finds the same.
    let again = service.cli(&["collect", "own", "--again", "--json"]).json();
    assert_eq!((again[0]["restated"].as_u64(), again[0]["bars_new"].as_u64()), (Some(0), Some(0)), "{again}");
}

#[tokio::test(flavor = "multi_thread")]
async fn one_series_that_cannot_be_asked_for_again_holds_no_other_back() {
    let bench = bench(14_400.0);
    let rows = bench.own_source("");
    fill(&bench, &rows, "2025-04-10", 1.0);
    let (told, asked) = (rows.clone(), Arc::new(Mutex::new(vec![])));
    let (calls, refuses) = (asked.clone(), Arc::new(AtomicBool::new(false)));
    let refusing = refuses.clone();
    let base = bench.talking(move |path, _, _| {
        calls.lock().unwrap().push(path.to_owned());
        let date = |name: &str| path.split(['?', '&']).find_map(|p| p.strip_prefix(name)).unwrap().to_owned();
        if (path.starts_with("/OXB") || path.starts_with("/TRN"))
            && refusing.load(Ordering::SeqCst)
            && date("from=").as_str() < "2025-04-01"
        {
            return (503, "not today".to_owned());
        }
        let rows = told.lock().unwrap();
        let lines = rows.range(date("from=")..=date("to=")).map(|(date, row)| format!("{date},{row}\n"));
        (200, "date,o,h,l,c,v\n".to_owned() + &lines.collect::<String>())
    });
    bench.own_profile(&base, "");
    bench.change("sources/own.toml", "burst = 10", "burst = 10\nattempts = 1");
    bench.change("collectors/own.toml", "[\"KBF\"]", "[\"KBF\", \"OXB\", \"QHC\", \"TRN\"]");
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "own"]).code, 0);
    let before = service.text("/bars?series=OXB/1d/own").await;
    rows.lock().unwrap().clear();
    fill(&bench, &rows, "2025-04-12", 0.5);
    refuses.store(true, Ordering::SeqCst);
    while bench.now() < "2025-04-11T06:00:00Z".parse().unwrap() {
        tokio::time::sleep(std::time::Duration::from_millis(200)).await;
    }
    service.cli(&["collect", "own"]);
    service.settled().await;
    let first = async |symbol: &str| service.text(&format!("/bars?series={symbol}/1d/own")).await.lines().nth(1).unwrap().to_owned();
    let old = before.lines().nth(1).unwrap().to_owned();
    for symbol in ["KBF", "QHC"] {
        assert_ne!(first(symbol).await, old, "{symbol} stands on the new basis");
    }
    assert_eq!(first("OXB").await, old, "and OXB as a whole on the old one");
    let status = service.get("/status").await;
    let basis = async || {
        let status = service.get("/status").await;
        status["concerns"].as_array().unwrap().iter().find(|c| c["kind"] == "new-basis").cloned()
    };
    let told = basis().await.unwrap_or_else(|| panic!("{}", status["concerns"]));
    assert!(told["what"].as_str().unwrap().contains("OXB/1d/own") && told["what"].as_str().unwrap().contains("503"), "{told}");
    // The next run asks for nothing that was answered.
    let so_far = asked.lock().unwrap().len();
    service.cli(&["collect", "own"]);
    service.settled().await;
    let again = asked.lock().unwrap()[so_far..].to_vec();
    assert!(again.iter().all(|p| p.starts_with("/OXB") || p.starts_with("/TRN") || p.contains("from=2025-04")), "{again:?}");
    let settled = service.cli(&["settle", "OXB/1d/own", "--by", "mere"]);
    assert_eq!(settled.code, 0, "{settled:?}");
    // The other one from the console.
    let browser = Browser::open().await;
    browser.page.goto(&service.url).await.unwrap();
    browser.press("//li[contains(., 'TRN/1d/own since')]//button[contains(., 'Read it as it is…')]").await;
    browser.decides("mere", "Read it as it is").await;
    browser.no_longer_sees("TRN/1d/own since").await;
    browser.close().await;
    assert!(service.cli(&["settle", "TRN/1d/own", "--by", "mere"]).err.contains("not being collected again"));
    let told = basis().await.expect("what was settled by hand is told for a day");
    assert!(told["what"].as_str().unwrap().contains("ended as it is by mere"), "{told}");
    assert!(service.cli(&["settle", "OXB/1d/own", "--by", "mere"]).err.contains("not being collected again"));
}
