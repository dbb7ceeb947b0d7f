//! `kill -9` at random moments of a load: nothing is lost, nothing stands twice, nothing is asked for twice.

use crate::common::{self, Bench};
use mizuno_sim::faults::{Fault, Faults};
use rand::Rng;
use serde_json::json;
use std::{collections::BTreeMap, time::Duration};

#[tokio::test(flavor = "multi_thread")]
async fn a_load_survives_kills_at_random_moments() {
    let kills = common::kills(25);
    // Small windows and slow answers, so that there is a load to kill.
    let millis = if kills > 50 { 60 } else { 16 };
    let bench = Bench::new(Faults::only(vec![Fault::Slow { millis }]));
    bench.change("sources/harbour.toml", "span_days = 1830", "span_days = 200");
    bench.change("sources/harbour.toml", "span_days = 7", "span_days = 1");
    bench.change("sources/harbour.toml", "calls_per_minute = 600", "calls_per_minute = 590");
    let mut cut_short = 0;
    for _ in 0..kills {
        let service = bench.serve();
        for collector in ["daily", "minutes"] {
            // Already taken up again when the process before was killed in the middle of it.
            let (status, _) = service.post("/runs", &json!({ "collector": collector })).await;
            assert!([202, 409].contains(&status));
        }
        let pause = rand::rng().random_range(5..220);
        tokio::time::sleep(Duration::from_millis(pause)).await;
        let runs = service.get("/runs?most=2").await;
        cut_short += u32::from(runs.as_array().unwrap().iter().any(|r| r["state"] == "running"));
        service.kill();
    }
    assert!(cut_short * 2 > kills, "most kills must hit a load: {cut_short} of {kills}");

    let service = bench.serve();
    service.settled().await;
    for collector in ["daily", "minutes"] {
        service.post("/runs", &json!({ "collector": collector })).await;
    }
    service.settled().await;

    // Every bar is there once, as it truly was.
    for symbol in bench.world.market.symbols() {
        let held = service.text(&format!("/bars?series={symbol}/1d/harbour")).await;
        assert_eq!(held, common::true_days(&bench, &symbol), "{symbol}");
    }
    for symbol in ["KBF", "LNT.A", "QHC"] {
        let held = service.text(&format!("/bars?series={symbol}/1m/harbour&to=2025-04-09")).await;
        assert_eq!(held, common::true_minutes(&bench, symbol, "2025-03-11", "2025-04-09"), "{symbol}");
    }
    // The session in progress goes on growing while we look.
    let gaps = service.get("/gaps?to=2025-04-09").await;
    assert_eq!(gaps.as_array().unwrap().len(), 0, "nothing is missing: {}", gaps[0]);

    // No window that was answered was asked for again.
    let mut windows: BTreeMap<String, Vec<(String, String)>> = BTreeMap::new();
    let fetches = service.get("/fetches?most=1000000").await;
    for fetch in fetches.as_array().unwrap() {
        assert_eq!(fetch["state"], "stored", "{fetch}");
        let part = |name: &str| fetch[name].as_str().unwrap().to_owned();
        windows.entry(part("series")).or_default().push((part("from"), part("to")));
    }
    for (series, windows) in &mut windows {
        windows.sort();
        for pair in windows.windows(2) {
            assert!(pair[0].1 <= pair[1].0, "{series} was asked twice: {pair:?}");
        }
    }
    assert_eq!(service.stop(), Some(0));

    let mut database = bench.database().await;
    let sound: String = sqlx::query_scalar("PRAGMA integrity_check").fetch_one(&mut database).await.unwrap();
    assert_eq!(sound, "ok");
    let dangling: Vec<String> =
        sqlx::query_scalar("SELECT \"table\" FROM pragma_foreign_key_check").fetch_all(&mut database).await.unwrap();
    assert!(dangling.is_empty(), "{dangling:?}");
    println!("{cut_short} of {kills} kills hit a load; {} fetches", fetches.as_array().unwrap().len());
}

#[tokio::test(flavor = "multi_thread")]
async fn an_answer_that_was_kept_is_understood_after_a_kill_without_the_network() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    let said = service.cli(&["collect", "daily", "-i", "KBF"]);
    assert_eq!(said.code, 0, "{said:?}");
    let before = service.text("/bars?series=KBF/1d/harbour").await;
    assert_eq!(service.stop(), Some(0));

    bench.forget_bars().await;
    let calls = bench.world.calls().len();

    let service = bench.serve();
    assert_eq!(service.text("/bars?series=KBF/1d/harbour").await, before);
    assert_eq!(bench.world.calls().len(), calls, "no call was needed");
    let fetches = service.get("/fetches").await;
    assert!(fetches.as_array().unwrap().iter().all(|f| f["state"] == "stored" && f["bars_new"].as_u64() > Some(0)));
}
