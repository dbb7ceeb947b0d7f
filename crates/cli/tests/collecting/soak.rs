//! Sessions in accelerated time: all sources, all faults, with and without kills. At the end everything that a source
//! ever offered is held, or in quarantine with a reason, and the rest is explained as demo/ANSWERS.md says.

use crate::common::{Bench, Service};
use mizuno_core::{TradeDate, time::SECOND};
use mizuno_sim::{faults::Faults, market::Market};
use rand::Rng;
use std::{collections::BTreeMap, time::Duration};

/// Scenario seconds a second: a day in under half a minute.
const SPEED: f64 = 3600.0;

/// Calendar days the soak lasts; ten sessions in `make soak`, a few in `make test`.
fn days() -> i64 {
    std::env::var("MIZUNO_SOAK_DAYS").ok().and_then(|n| n.parse().ok()).unwrap_or(4)
}

#[tokio::test(flavor = "multi_thread")]
async fn sessions_with_every_fault_end_with_everything_held_or_explained() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, SPEED, Faults::of_the_demo(), true);
    let service = bench.serve();
    let end = bench.now().plus(days() * 86_400 * SECOND);
    let mut memory = vec![];
    while bench.now() < end {
        tokio::time::sleep(Duration::from_secs(1)).await;
        memory.push(service.resident_kib());
    }
    let dates = compared(&bench);
    finish(&service, &bench).await;
    let half = memory[memory.len() / 2];
    let last = service.resident_kib();
    println!("resident: {half} KiB half-way, {last} KiB at the end");
    assert!(last < half * 3 / 2 + 32 * 1024, "memory grows: {memory:?}");
    everything_is_held_or_explained(&bench, &service, &dates).await;
    assert_eq!(service.stop(), Some(0));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_same_with_kills_at_random_moments_ends_the_same() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, SPEED, Faults::of_the_demo(), true);
    let end = bench.now().plus(days() * 86_400 * SECOND);
    let mut kills = 0;
    while bench.now() < end {
        let service = bench.serve();
        let moment = rand::rng().random_range(200..4000);
        tokio::time::sleep(Duration::from_millis(moment)).await;
        service.kill();
        kills += 1;
    }
    println!("{kills} kills");
    let service = bench.serve();
    let dates = compared(&bench);
    finish(&service, &bench).await;
    everything_is_held_or_explained(&bench, &service, &dates).await;
    assert_eq!(service.stop(), Some(0));
}

/// Lets every collector bring what is still missing, as an operator would.
async fn finish(service: &Service, bench: &Bench) {
    for _ in 0..2 {
        for name in collectors(bench) {
            let said = service.cli(&["collect", &name, "--from", "2025-03-24"]);
            // Another run of it may be under way; wait for that one.
            if said.err.contains("already at work") {
                tokio::time::sleep(Duration::from_millis(500)).await;
                service.cli(&["collect", &name, "--from", "2025-03-24"]);
            }
        }
    }
}

fn collectors(bench: &Bench) -> Vec<String> {
    let files = std::fs::read_dir(bench.config().join("collectors")).unwrap().flatten();
    let mut all: Vec<String> = files.map(|f| f.path().file_stem().unwrap().to_string_lossy().into_owned()).collect();
    all.sort();
    all
}

/// The dates compared: from the start of the newest collector to the last session that nobody has anything more to say of:
/// two have closed after it, and the morning after has come.
fn compared(bench: &Bench) -> std::ops::Range<TradeDate> {
    let over = bench.now().plus(-20 * 3600 * SECOND);
    let closed: Vec<TradeDate> = bench.world.market.calendar().sessions().iter().filter(|s| s.close() <= over).map(|s| s.date).collect();
    "2025-03-31".parse().unwrap()..closed[closed.len() - 2]
}

type Printed = BTreeMap<String, String>;

async fn held(service: &Service, series: &str, dates: &std::ops::Range<TradeDate>) -> Printed {
    let text = service.text(&format!("/bars?series={series}&from={}&to={}", dates.start, dates.end.plus(-1))).await;
    let rows = text.lines().skip(1).filter_map(|l| l.split_once(','));
    rows.map(|(time, rest)| (time.to_owned(), rest.to_owned())).collect()
}

fn line(market: &Market, prices: [i64; 4], volume: Option<i64>) -> String {
    let [open, high, low, close] = prices.map(|p| market.print(p));
    format!("{open},{high},{low},{close},{}", volume.map_or(String::new(), |v| v.to_string()))
}

async fn everything_is_held_or_explained(bench: &Bench, service: &Service, dates: &std::ops::Range<TradeDate>) {
    assert!(dates.end.0 - dates.start.0 >= 8, "something to compare: {dates:?}");
    let world = &bench.world;
    let lots = |v: i64| (v + 50) / 100 * 100;
    let mut compared = 0;
    for symbol in world.market.symbols() {
        let market = &world.market;
        let (mut days, mut adjusted, mut minutes, mut in_lots) = (Printed::new(), Printed::new(), Printed::new(), Printed::new());
        let mut cellar = Printed::new();
        for session in market.calendar().between(dates.clone()) {
            let day = market.days(&symbol).unwrap().iter().find(|d| d.date == session.date);
            if let Some(bar) = day.and_then(|d| d.bar) {
                // CRK's bar of 3 April cannot be true, and is in quarantine.
                if (symbol.as_str(), session.date.to_string().as_str()) != ("CRK", "2025-04-03") {
                    days.insert(session.date.to_string(), line(market, bar.prices, Some(bar.volume)));
                }
                adjusted.insert(session.date.to_string(), line(market, bar.prices, Some(lots(bar.volume))));
            }
            for bar in market.minutes(&symbol, session.date) {
                let at = bar.open_at.to_string();
                // OXB's afternoon of 4 April never comes from harbour.
                let lost = symbol == "OXB" && session.date.to_string() == "2025-04-04" && at.as_str() >= "2025-04-04T00:30:00Z";
                if !lost {
                    minutes.insert(at.clone(), line(market, bar.prices, Some(bar.volume)));
                }
                let mut bad = bar.prices;
                if symbol == "WIG" && at == "2025-04-08T00:15:00Z" {
                    bad[1] = bad[1] * 3 / 2;
                }
                in_lots.insert(at.clone(), line(market, bad, Some(lots(bar.volume))));
                if session.date.to_string() != "2025-04-03" {
                    cellar.insert(at, line(market, bar.prices, Some(bar.volume)));
                }
            }
        }
        let series =
            [("1d/harbour", days), ("1d/lodestar", adjusted), ("1m/harbour", minutes), ("1m/lodestar", in_lots), ("1m/cellar", cellar)];
        for (name, truth) in series {
            compared += same(&format!("{symbol}/{name}"), &held(service, &format!("{symbol}/{name}"), dates).await, &truth);
        }
    }
    for symbol in world.corran.symbols() {
        let market = &world.corran;
        let (mut days, mut minutes) = (Printed::new(), Printed::new());
        for session in market.calendar().between(dates.clone()) {
            let day = market.days(&symbol).unwrap().iter().find(|d| d.date == session.date);
            if let Some(bar) = day.and_then(|d| d.bar) {
                days.insert(session.date.to_string(), line(market, bar.prices, Some(bar.volume)));
            }
            let bars = market.minutes(&symbol, session.date).into_iter().filter(|_| day.is_some());
            minutes.extend(bars.map(|b| (b.open_at.to_string(), line(market, b.prices, Some(b.volume)))));
        }
        for (name, truth) in [("1d/packhorse", days), ("1m/packhorse", minutes)] {
            if !truth.is_empty() {
                compared += same(&format!("{symbol}/{name}"), &held(service, &format!("{symbol}/{name}"), dates).await, &truth);
            }
        }
    }
    for symbol in world.meridian.symbols() {
        let market = &world.meridian;
        for (side, sign) in [("bid", -1), ("ask", 1)] {
            let mut truth = Printed::new();
            for bar in market.calendar().between(dates.clone()).iter().flat_map(|s| market.minutes(&symbol, s.date)) {
                let half = 1 + (bar.open_at.0 / (60 * SECOND)).rem_euclid(3);
                truth.insert(bar.open_at.to_string(), line(market, bar.prices.map(|p| p + sign * half), None));
            }
            let name = format!("{symbol}/1m/{side}/packhorse");
            compared += same(&name, &held(service, &name, dates).await, &truth);
        }
        let mids = held(service, &format!("{symbol}/1d/mid/packhorse"), dates).await;
        for (date, row) in &mids {
            let day = market.days(&symbol).unwrap().iter().find(|d| d.date.to_string() == *date).and_then(|d| d.bar).unwrap();
            let mid = day.prices.map(|p| format!("{}0", market.print(p)));
            assert_eq!(*row, format!("{},", mid.join(",")), "{symbol} {date}: bid and ask lie evenly round it");
        }
        assert!(mids.len() >= 5, "{mids:?}");
    }
    println!("{compared} bars compared");
    let traced = every_bar_leads_to_its_line(service, dates).await;
    println!("{traced} bars traced to their lines");
    explained(service, dates).await;
}

/// Takes bars of every series at random and follows each version to the line of kept bytes that says the same.
async fn every_bar_leads_to_its_line(service: &Service, dates: &std::ops::Range<TradeDate>) -> usize {
    let mut traced = 0;
    for series in service.get("/series").await.as_array().unwrap() {
        let name = series["name"].as_str().unwrap();
        let rows: Vec<(String, String)> = held(service, name, dates).await.into_iter().collect();
        for (at, row) in rand::seq::IndexedRandom::choose_multiple(&rows[..], &mut rand::rng(), 3) {
            let lineage = service.get(&format!("/lineage?series={name}&at={at}")).await;
            let versions = lineage.as_array().unwrap();
            for version in versions {
                // Nothing is told of a line whose bytes do not decode to this very version.
                let told = (version["line"].as_u64(), version["text"].as_str().map(str::is_empty), version["payload"].is_string());
                assert!(matches!(told, (Some(1..), Some(false), true)), "{name}@{at}: {version}");
            }
            let last = versions.last().unwrap()["values"].as_array().unwrap();
            // The open interest is no usual column of an answer.
            let values: Vec<&str> = last.iter().take(5).map(|v| v.as_str().unwrap_or_default()).collect();
            assert_eq!(values.join(","), *row, "{name}@{at}: the last version is the one that is served");
            traced += versions.len();
        }
    }
    assert!(traced > 100, "{traced}");
    traced
}

/// Compares a series with the truth, and names the first difference.
fn same(name: &str, held: &Printed, truth: &Printed) -> usize {
    let missing: Vec<_> = truth.keys().filter(|k| !held.contains_key(*k)).collect();
    let more: Vec<_> = held.keys().filter(|k| !truth.contains_key(*k)).collect();
    assert!(missing.is_empty(), "{name} lacks {} bars, the first {:?}", missing.len(), missing[0]);
    assert!(more.is_empty(), "{name} has {} bars that never were, the first {:?}", more.len(), more[0]);
    let other = truth.iter().find(|(k, v)| held.get(*k) != Some(*v));
    assert!(other.is_none(), "{name} differs: {other:?}, held {:?}", other.and_then(|(k, _)| held.get(k)));
    truth.len()
}

/// The answer key: what is still missing has its cause, what came and cannot be true its flaw, what changed a second version.
async fn explained(service: &Service, dates: &std::ops::Range<TradeDate>) {
    let gaps = service.get(&format!("/gaps?cause=any&most=10000&from={}&to={}", dates.start, dates.end.plus(-1))).await;
    let mut found: BTreeMap<String, String> = BTreeMap::new();
    for gap in gaps.as_array().unwrap() {
        found.insert(gap["id"].as_str().unwrap().to_owned(), gap["cause"].as_str().unwrap().to_owned());
    }
    let cause = |id: &str| found.get(id).map(String::as_str);
    assert_eq!(cause("CRK/1d/harbour@2025-04-03"), Some("quarantined"));
    assert!(matches!(cause("OXB/1m/harbour@2025-04-04T00:30:00Z"), Some("left-out" | "source-had-nothing")), "{found:?}");
    let cellar: Vec<_> = found.iter().filter(|(id, _)| id.contains("/cellar@")).collect();
    let absent = |(id, cause): &&(&String, &String)| id.contains("@2025-04-02T21") && *cause == "fetch-failed";
    let others: Vec<_> = cellar.iter().filter(|c| !absent(c)).collect();
    assert!(cellar.len() == 24 && others.is_empty(), "{} gaps, others: {others:?}", cellar.len());
    // The contract listed on the way has no prices yet, and says so.
    let unpriced = |id: &str| id.starts_with("TDP-2025-07/");
    assert!(found.iter().filter(|(id, _)| unpriced(id)).all(|(_, cause)| cause == "fetch-failed"), "{found:?}");
    let known = |id: &&String| id.contains("/cellar@") || id.starts_with("CRK") || id.starts_with("OXB") || unpriced(id);
    let unexpected: Vec<_> = found.keys().filter(|id| !known(id)).collect();
    assert!(unexpected.is_empty(), "nothing else is missing: {unexpected:?}");

    // The file that never came is one event, not twenty-three; MHN's minutes without a trade are none at all.
    let holes = service.get(&format!("/holes?source=cellar&from={}&to={}", dates.start, dates.end.plus(-1))).await;
    let told: Vec<_> = holes.as_array().unwrap().iter().map(|h| (h["series"].as_u64(), h["cause"].as_str())).collect();
    assert_eq!(told, [(Some(24), Some("fetch-failed"))], "{holes}");
    // In the best of all sources only what no source has is missing.
    let golden = service.get(&format!("/gaps?golden=true&interval=1m&cause=any&from={}&to={}", dates.start, dates.end.plus(-1))).await;
    let beyond: Vec<_> = golden.as_array().unwrap().iter().filter(|g| !unpriced(g["id"].as_str().unwrap())).collect();
    assert!(beyond.is_empty(), "{beyond:?}");
    // The bad print is doubted in the minutes it stands in and in the day it contradicts, so is a price below nought, and nothing else is.
    let findings = service.get("/findings?most=1000").await;
    let ids: Vec<_> = findings.as_array().unwrap().iter().map(|f| f["id"].as_str().unwrap()).collect();
    let planted = [
        "WIG/1d/lodestar@2025-04-08#daily-against-minutes",
        "WIG/1m/lodestar@2025-04-08T00:15:00Z#spike",
        "TDP-2025-03/1d/packhorse@2025-03-06#spike",
        // What *lodestar* takes out of its prices, and no list tells or tells otherwise.
        "OXB/1d/lodestar-adjusted@2025-02-11#unexplained-step",
        "LNT.B/1d/lodestar-adjusted@2024-12-02#unexplained-step",
        "HTH/1d/lodestar@2024-08-05#unexplained-step",
        "HTH/1d/lodestar-adjusted@2024-08-05#unexplained-step",
    ];
    assert_eq!(ids, planted, "{findings}");

    let quarantine = service.get("/quarantine?most=10000").await;
    let rows = quarantine.as_array().unwrap();
    assert!(rows.iter().any(|r| r["series"] == "CRK/1d/harbour" && r["flaw"] == "high-below-low"));
    assert!(rows.iter().all(|r| r["series"] == "CRK/1d/harbour"), "nothing else is suspect: {quarantine}");
    let absent = service.get("/fetches?state=failed&most=100000").await;
    let listed = absent.as_array().unwrap().iter().filter(|f| f["failure"] == "not-listed");
    assert!(
        listed.clone().count() > 0 && listed.clone().all(|f| f["message"].as_str().unwrap().contains("lists")),
        "the late and the absent file"
    );
    let restated: u64 = service.get("/runs?most=1000000").await.as_array().unwrap().iter().filter_map(|r| r["restated"].as_u64()).sum();
    assert!(restated > 0, "lodestar restates its volumes");
    let changes = service.get("/lists/changes?days=60").await;
    assert!(
        changes.as_array().unwrap().iter().any(|c| c["key"] == "TDP-2025-07" && c["change"] == "new"),
        "a contract was listed on the way"
    );
}
