//! Sources of every kind against the real service: tried, collected, reloaded, resumed; keys kept to themselves.

use crate::common::{self, Bench};
use mizuno_sim::{
    LODESTAR_KEY,
    faults::{Fault, Faults, Trouble},
};
use std::fs;

#[tokio::test(flavor = "multi_thread")]
async fn a_source_is_tried_and_nothing_is_kept() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 60.0, Faults::of_the_demo(), false);
    let service = bench.serve();
    let tried = service.cli(&["try", "harbour", "KBF", "--interval", "1m", "--from", "2025-04-09", "--to", "2025-04-09"]);
    assert_eq!(tried.code, 0, "{tried:?}");
    for words in ["GET http://127.0.0.1", "Harbour Quotes", "rows: ", "TIME (Pacific/Auckland)", "2025-04-09 16:44:00"] {
        let shown = tried.out.replace("understood 345 rows", "understood 345 rows: ");
        assert!(shown.contains(words), "{words}: {}", tried.out);
    }
    let flawed = service.cli(&["try", "harbour", "CRK", "--from", "2025-04-01", "--to", "2025-04-09"]);
    assert_eq!(flawed.code, 3);
    assert!(flawed.out.contains("refused    line") && flawed.out.contains("the high is below the low"), "{}", flawed.out);

    // A profile that is not at work yet, with the columns and the zone wrong.
    let text = fs::read_to_string(bench.config().join("sources/harbour.toml")).unwrap();
    let swapped = text.replace("high = \"high\", low = \"low\"", "high = \"low\", low = \"high\"");
    let path = bench.dir.path().join("swapped.toml");
    fs::write(&path, swapped).unwrap();
    let outside = service.cli(&["try", path.to_str().unwrap(), "KBF"]);
    assert!(outside.code == 2 && outside.err.contains("--config DIR"), "a file alone names no venues: {outside:?}");
    let dir = bench.config();
    let with_config =
        |more: &[&str]| service.cli(&[&["try", path.to_str().unwrap(), "KBF", "--config", dir.to_str().unwrap()], more].concat());
    let said = with_config(&[]);
    assert!(said.code == 3 && said.out.contains("`high` and `low` look swapped"), "{}", said.out);
    fs::write(&path, text.replace("stamp = \"%Y-%m-%d %H:%M\"", "stamp = \"%Y-%m-%d %H:%M\"\nzone = \"UTC\"")).unwrap();
    let said = with_config(&["--interval", "1m", "--from", "2025-04-08", "--to", "2025-04-08"]);
    assert!(said.out.contains("moved by -12 hours") && said.out.contains("look at `zone`"), "{}", said.out);
    fs::write(&path, "name = 3").unwrap();
    let said = with_config(&[]);
    assert!(said.code == 1 && said.err.contains("profile:1: invalid type"), "{said:?}");
    assert!(service.cli(&["try", "nowhere", "KBF"]).err.contains("there is no source `nowhere`"));
    assert!(service.cli(&["try", "harbour", "TRC-USD"]).err.contains("has no such bars of MFX"));

    assert_eq!(service.get("/runs").await.as_array().unwrap().len(), 0);
    assert_eq!(service.get("/fetches").await.as_array().unwrap().len(), 0, "nothing is kept of a try");
}

#[tokio::test(flavor = "multi_thread")]
async fn numeric_ids_come_from_the_list_and_lots_become_shares() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 60.0, Faults::default(), false);
    let service = bench.serve();
    let said = service.cli(&["collect", "lodestar-daily", "-i", "SME", "--from", "2025-03-12", "--to", "2025-03-19"]);
    assert_eq!(said.code, 0, "{said:?}");
    let bars = service.text("/bars?series=SME/1d/lodestar").await;
    let close = |date: &str| -> f64 { bars.lines().find(|l| l.starts_with(date)).unwrap().split(',').nth(4).unwrap().parse().unwrap() };
    let ratio = close("2025-03-14") / close("2025-03-17");
    assert!((0.85..1.15).contains(&ratio), "adjusted for the split: {ratio}");
    assert!(bars.lines().skip(1).all(|l| l.rsplit(',').next().unwrap().ends_with("00")), "lots of a hundred: {bars}");
    let lists = service.cli(&["lists"]);
    assert!(lists.out.contains("lodestar/instruments") && lists.out.contains("25 rows"), "{}", lists.out);

    for list in ["almanack/aldermere-12", "almanack/splits", "almanack/dividends", "almanack/aldx-holidays", "packhorse/contracts"] {
        let collected = service.cli(&["lists", list, "--json"]);
        assert!(collected.code == 0 && collected.json()[0]["rows"].as_u64() > Some(1), "{list}: {collected:?}");
        assert_eq!(collected.json()[0]["refused"], 0, "{list}");
    }
    let changes = service.get("/lists/changes?days=1").await;
    let split = changes.as_array().unwrap().iter().find(|c| c["key"] == "SME 2025-03-18").unwrap();
    assert!(split["is"].as_str().unwrap().contains("\"new\":\"4\""), "{split}");
    let found = service.cli(&["instruments", "tidal", "june"]);
    assert!(found.out.contains("TDP-2025-06") && !found.out.contains("TDP-2025-05"), "{}", found.out);
    assert!(service.cli(&["lists", "almanack/nothing"]).err.contains("there is no list `nothing`"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_key_reaches_the_source_and_nobody_else() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 60.0, Faults::default(), false);
    // A wrong key, which the source repeats in its refusal.
    bench.write(".env", "LODESTAR_KEY=wrong-and-secret-9\n");
    let service = bench.serve();
    let said = service.cli(&["lists", "lodestar/instruments"]);
    assert!(said.code == 3 && said.out.contains("denied") && said.out.contains("unknown key"), "{said:?}");
    let mut seen = format!("{said:?}");
    seen += &format!("{:?}", service.cli(&["try", "lodestar", "KBF"]));
    service.cli(&["collect", "lodestar-daily", "-i", "KBF"]);
    for path in ["/status", "/lists", "/fetches", "/runs", "/lists/changes"] {
        seen += &service.text(path).await;
    }
    assert!(!seen.contains("wrong-and-secret"), "{seen}");

    bench.write(".env", &format!("LODESTAR_KEY={LODESTAR_KEY}\n"));
    let reloaded = service.cli(&["reload"]);
    assert!(reloaded.out.contains("key of lodestar: another than before"), "{reloaded:?}");
    assert_eq!(service.cli(&["lists", "lodestar/instruments"]).code, 0, "the right key is taken up");
    assert_eq!(service.cli(&["collect", "lodestar-daily", "-i", "KBF", "--from", "2025-04-01"]).code, 0);
    assert_eq!(service.stop(), Some(0));
    for file in fs::read_dir(bench.data()).unwrap().flatten() {
        let bytes = fs::read(file.path()).unwrap_or_default();
        for secret in ["wrong-and-secret-9", LODESTAR_KEY] {
            assert!(!bytes.windows(secret.len()).any(|w| w == secret.as_bytes()), "{secret} is in {:?}", file.path());
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn calls_of_the_day_are_remembered_over_a_restart() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 60.0, Faults::default(), false);
    bench.write(".env", "");
    let service = bench.serve();
    service.cli(&["collect", "lodestar-daily", "-i", "KBF", "-i", "OXB", "-i", "SME"]);
    let source =
        |status: &serde_json::Value| status["sources"].as_array().unwrap().iter().find(|s| s["name"] == "lodestar").unwrap().clone();
    let before = source(&service.get("/status").await);
    assert_eq!((before["calls_a_day"].as_u64(), before["key"].as_bool()), (Some(25), Some(false)), "fewer without a key: {before}");
    let used = before["calls_today"].as_u64().unwrap();
    // The lists of both profiles of the provider are among them.
    assert!((4..=12).contains(&used), "{before}");
    service.kill();
    let service = bench.serve();
    service.cli(&["collect", "lodestar-daily", "-i", "PLV"]);
    let after = source(&service.get("/status").await);
    assert!(after["calls_today"].as_u64().unwrap() > used, "counted on from {used}: {after}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_changed_configuration_is_taken_up_and_a_broken_one_is_not() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    assert_eq!(service.cli(&["reload"]).out, "taken up; nothing has changed\n");
    bench.collector("weekly", "1d", "2025-01-06", "instruments = [\"KBF\"]\nschedule = { cron = \"0 9 * * 1\" }");
    bench.change("instruments/aldx.csv", "KBF,Kelp & Barley Foods", "KBF,Kelp Foods");
    let said = service.cli(&["reload"]);
    assert!(said.out.contains("collector new: weekly") && said.out.contains("instrument changed: KBF"), "{said:?}");
    let schedule = service.cli(&["schedule"]);
    assert!(schedule.out.contains("2025-04-14 09:00, 2025-04-21 09:00, 2025-04-28 09:00"), "the venue's clock: {}", schedule.out);
    // It was due before anybody knew of it, and is caught up by itself.
    while service.get("/runs?collector=weekly").await.as_array().unwrap().is_empty() {
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
    }
    service.settled().await;
    assert_eq!(service.cli(&["collect", "weekly"]).code, 0);

    bench.change("sources/harbour.toml", "burst = 20", "burst = twenty");
    let broken = service.cli(&["reload"]);
    assert!(broken.code == 1 && broken.err.contains("sources/harbour.toml:8") && broken.err.contains("the old one goes on"), "{broken:?}");
    assert_eq!(service.cli(&["collect", "weekly", "--again"]).code, 0, "it still works");
    assert_eq!(bench_check(&bench).code, 1, "and the check says the same");
}

fn bench_check(bench: &Bench) -> common::Said {
    common::Said::of(common::mizuno().arg("check").arg(bench.config()).output().unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_is_resumed_and_only_what_failed_is_asked_for_again() {
    let trouble = Fault::Trouble { source: "harbour", symbol: "KBF", times: Some(1), what: Trouble::Status(400, "fog") };
    let bench = Bench::new(Faults::only(vec![trouble]));
    bench.change("sources/harbour.toml", "first_pause = \"20s\"", "first_pause = \"1s\"");
    let service = bench.serve();
    let run = service.cli(&["collect", "daily", "-i", "KBF", "-i", "OXB", "--json"]);
    assert_eq!(run.code, 3, "{run:?}");
    let (id, failed) = (run.json()[0]["id"].as_i64().unwrap(), run.json()[0]["failed"].as_u64().unwrap());
    assert!(failed >= 1);
    let calls = bench.world.calls().len();
    let again = service.cli(&["resume", &id.to_string(), "--failed", "--json"]).json();
    assert_eq!((again[0]["windows"].as_u64().unwrap(), again[0]["state"].as_str()), (failed, Some("complete")), "{again}");
    let asked: Vec<_> = bench.world.calls().into_iter().skip(calls).map(|c| c.target).collect();
    assert!(asked.len() == failed as usize && asked.iter().all(|t| t.contains("/KBF?")), "{asked:?}");
    assert!(service.cli(&["resume", "999"]).err.contains("there is no run 999"));
}

#[tokio::test(flavor = "multi_thread")]
async fn files_dropped_into_a_folder_are_taken_in_by_themselves() {
    let bench = Bench::new(Faults::default());
    bench.write(
        "sources/hand.toml",
        "name = \"hand\"\ntitle = \"By hand\"\nbase = \"folder:incoming\"\n[limits]\ncalls_per_minute = 6000\nburst = 50\n[[series]]\ninterval = \"1d\"\nvenues = [\"ALDX\"]\nadjusted = \"no\"\ndelay = \"0s\"\nspan_days = 20000\n[[series.request]]\nget = \"/{symbol}.csv\"\n[series.answer]\nform = \"delimited\"\ncolumns = { time = \"day\", open = \"o\", high = \"h\", low = \"l\", close = \"c\" }\nstamp = \"%d.%m.%Y\"\n",
    );
    bench.collector("hand", "1d", "2025-04-01", "schedule = { dropped = \"300ms\" }");
    bench.change("collectors/hand.toml", "source = \"harbour\"", "source = \"hand\"");
    let service = bench.serve();
    let folder = bench.data().join("incoming");
    fs::create_dir_all(&folder).unwrap();
    fs::write(folder.join("OXB.csv"), "day,o,h,l,c\n08.04.2025,1.0,2.0,1.0,1.5\n09.04.2025,1.5,2.0,1.0,1.5\n").unwrap();
    for _ in 0..100 {
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
        if service.text("/bars?series=OXB/1d/hand").await.lines().count() == 3 {
            break;
        }
    }
    assert!(service.text("/bars?series=OXB/1d/hand").await.contains("2025-04-09,1.5,2.0,1.0,1.5,"), "taken in by itself");
    service.settled().await;
    let fetches = service.get("/fetches?series=OXB/1d/hand").await;
    assert_eq!(fetches.as_array().unwrap().len(), 1, "asked once, and for nobody else");
    fs::write(folder.join("OXB.csv"), "day,o,h,l,c\n07.04.2025,1.0,2.0,1.0,1.5\n08.04.2025,1.0,2.0,1.0,1.5\n09.04.2025,1.5,2.0,1.0,1.5\n")
        .unwrap();
    for _ in 0..100 {
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
        if service.text("/bars?series=OXB/1d/hand").await.lines().count() == 4 {
            return;
        }
    }
    panic!("a changed file is taken in again");
}
