//! Bars that are missing and would not be missed: hours always left out, bars that come late, rows of other days.

use crate::common::{self, Bench};
use mizuno_core::Timestamp;
use mizuno_sim::faults::Faults;
use std::{sync::Arc, time::Duration};

const KBF: &str = "KBF/1m/own";

fn line(at: Timestamp) -> String {
    let n = at.0 / 60_000_000 % 7;
    format!("{at},10.0{n},11.0{n},9.0{n},10.5{n},1{n}0\n")
}

/// The hour of the day in UTC.
fn hour(at: Timestamp) -> i64 {
    at.0 / 3_600_000_000 % 24
}

#[tokio::test(flavor = "multi_thread")]
async fn an_hour_that_a_source_always_leaves_out_stays_missing_and_is_told() {
    let bench = Bench::new(Faults::default());
    bench.own_minutes("2025-03-11", "time,o,h,l,c,v", |_, at| if hour(at) == 2 { String::new() } else { line(at) });
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "own"]).code, 0);
    let gaps = service.get("/gaps?source=own&to=2025-04-08").await;
    let missing: u64 = gaps.as_array().unwrap().iter().map(|g| g["slots"].as_u64().unwrap()).sum();
    // Twenty sessions lack at least half an hour each: the other half may lie in the lunch break.
    assert!(missing >= 20 * 30, "{missing}: {gaps}");
    assert!(gaps.as_array().unwrap().iter().all(|g| g["cause"] == "left-out"), "{gaps}");
    let series = service.get("/series?instrument=KBF").await;
    let own = series.as_array().unwrap().iter().find(|s| s["name"] == KBF).unwrap();
    assert!(own["completeness"]["missing"].as_u64().unwrap() >= missing, "{own}");
    let status = service.cli(&["status"]);
    assert!(status.code == 3, "{}", status.out);
}

#[tokio::test(flavor = "multi_thread")]
async fn slots_whose_rows_are_in_quarantine_are_not_quiet() {
    let bench = Bench::new(Faults::default());
    // One hour's rows say that the high is below the low.
    bench.own_minutes("2025-03-11", "time,o,h,l,c,v", |_, at| match hour(at) {
        3 => format!("{at},10.00,9.00,11.00,10.00,100\n"),
        _ => line(at),
    });
    let service = bench.serve();
    service.cli(&["collect", "own", "--to", "2025-04-08"]);
    let gaps = service.get("/gaps?source=own&to=2025-04-08").await;
    let refused: u64 = service.get("/quarantine?most=1000").await.as_array().unwrap().iter().map(|q| q["rows"].as_u64().unwrap()).sum();
    let missing: u64 = gaps.as_array().unwrap().iter().map(|g| g["slots"].as_u64().unwrap()).sum();
    assert!(refused > 500 && missing == refused, "{refused} refused, {missing} missing");
    assert!(gaps.as_array().unwrap().iter().all(|g| g["cause"] == "quarantined"), "{gaps}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_comes_a_little_late_is_asked_for_at_the_next_poll() {
    // A minute a second, in the session; each bar is there 130 seconds after its end, where the profile says one minute.
    let bench = Bench::at("2025-04-09T23:20:00Z", 60.0, Faults::default());
    let clock = bench.clock;
    bench.own_minutes("2025-04-10", "time,o,h,l,c,v", move |_, at| {
        let now = clock.at(mizuno_sim::wall());
        if at.plus(60_000_000 + 130_000_000) <= now { line(at) } else { String::new() }
    });
    let service = bench.serve();
    for _ in 0..12 {
        assert_eq!(service.cli(&["collect", "own"]).code, 0);
        tokio::time::sleep(Duration::from_millis(900)).await;
    }
    service.cli(&["collect", "own"]);
    let text = service.text(&format!("/bars?series={KBF}")).await;
    let newest = text.lines().last().unwrap().split(',').next().unwrap().parse::<Timestamp>().unwrap();
    assert!(newest.plus(6 * 60_000_000) > bench.now(), "the newest bar is {newest} at {}", bench.now());
    let status = service.get("/status").await;
    let slow = status["concerns"].as_array().unwrap().iter().find(|c| c["kind"] == "slow-source").cloned();
    let slow = slow.unwrap_or_else(|| panic!("the status says that it is late: {}", status["concerns"]));
    assert!(slow["what"].as_str().unwrap().contains("the profile says 1m"), "{slow}");
    assert!(slow["next"].as_str().unwrap().contains("write delay = "), "{slow}");
}

#[tokio::test(flavor = "multi_thread")]
async fn schedules_go_on_after_the_calendar_that_was_made_at_the_start() {
    // Five hundred days in ten seconds.
    let bench = Bench::at("2025-04-10T02:30:00Z", 4_000_000.0, Faults::default());
    bench.own_source("");
    bench.change("collectors/own.toml", "instruments", "schedule = { after_close = \"30m\" }\ninstruments");
    let service = bench.serve();
    let until = bench.clock.start.plus(500 * 86_400_000_000);
    while bench.now() < until {
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    let mut next = None;
    for _ in 0..50 {
        let status = service.get("/status").await;
        let own = status["collectors"].as_array().unwrap().iter().find(|c| c["name"] == "own").unwrap().clone();
        next = own["next"].as_str().map(|t| t.parse::<Timestamp>().unwrap());
        if next.is_some_and(|n| n > until) {
            break;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    assert!(next.is_some_and(|n| n > until), "the next time is {next:?} at {}", bench.now());
}

#[tokio::test(flavor = "multi_thread")]
async fn rows_of_other_days_are_told_and_never_stored() {
    let bench = Bench::new(Faults::default());
    let more = Arc::new(std::sync::Mutex::new(vec!["07/04/2025", "08/04/2025", "12/03/2025"]));
    let told = more.clone();
    let base = bench.talking(move |_, _, _| {
        let rows: String = told.lock().unwrap().iter().map(|d| format!("{d},10.00,11.00,9.00,10.50,100\n")).collect();
        (200, format!("date,o,h,l,c,v\n{rows}"))
    });
    bench.own_profile(&base, "");
    bench.change("sources/own.toml", "stamp = \"%Y-%m-%d\"", "stamp = \"%d/%m/%Y\"");
    let service = bench.serve();
    let week = ["collect", "own", "--from", "2025-04-07", "--to", "2025-04-08", "--again"];
    assert_eq!(service.cli(&week).code, 0);
    let held = service.text("/bars?series=KBF/1d/own").await;
    assert_eq!(held.lines().skip(1).map(|l| &l[..10]).collect::<Vec<_>>(), ["2025-04-07", "2025-04-08"], "March was not asked for");
    let fetch = service.get("/fetches?series=KBF/1d/own").await[0].clone();
    assert_eq!((fetch["bars_new"].as_u64(), fetch["outside"].as_u64()), (Some(2), Some(1)), "{fetch}");
    // Day and month the wrong way round: most rows lie months away, and nothing of the answer is believed.
    *more.lock().unwrap() = vec!["04/07/2024", "04/08/2024", "08/04/2025"];
    let wrong = service.cli(&week);
    assert!(wrong.code == 3 && wrong.out.contains("not-asked-for"), "{wrong:?}");
    let why = service.cli(&["fetches", "--failed", "--json"]).json()[0]["message"].to_string();
    assert!(why.contains("day and month may be"), "{why}");
    assert_eq!(service.text("/bars?series=KBF/1d/own").await, held);
}

#[tokio::test(flavor = "multi_thread")]
async fn rows_before_the_open_are_left_out_and_counted_where_the_profile_says_so() {
    let bench = Bench::new(Faults::default());
    let early = |at: Timestamp| line(at.plus(-4 * 3_600_000_000));
    bench.own_minutes("2025-04-01", "time,o,h,l,c,v", move |_, at| early(at) + &line(at));
    let service = bench.serve();
    service.cli(&["collect", "own", "--to", "2025-04-08"]);
    let sum = |rows: &serde_json::Value, field: &str| rows.as_array().unwrap().iter().map(|r| r[field].as_u64().unwrap()).sum::<u64>();
    let aside = service.get("/quarantine?most=1000").await;
    let folded = sum(&aside, "rows");
    assert!(folded > 500 && aside.as_array().unwrap().len() < 20, "{folded} rows, told in {}", aside.as_array().unwrap().len());
    bench.change("sources/own.toml", "[series.answer]", "[series.answer]\noutside_hours = \"leave-out\"");
    assert_eq!(service.cli(&["reload"]).code, 0);
    service.cli(&["collect", "own", "--to", "2025-04-08", "--again"]);
    assert_eq!(sum(&service.get("/quarantine?most=1000").await, "rows"), folded, "none is new");
    assert!(sum(&service.get("/fetches?series=KBF/1m/own&most=1").await, "outside") > 100, "they are counted");
}

/// What the service says of three questions as of these instants: bytes of the file, and what it says of itself.
async fn told(service: &common::Service, instants: &[String]) -> Vec<String> {
    let mut out = vec![];
    for instant in instants {
        for path in [
            "/bars?series=KBF/1d/harbour",
            "/bars?series=MHN/1d/harbour",
            "/bars?series=CRK/1d/harbour",
            "/bars?instrument=KBF&interval=1d",
        ] {
            let answer = service.ask(&format!("{path}&as_of={instant}")).await;
            assert_eq!(answer.status(), 200, "{path} {instant}");
            let header = |name: &str| answer.headers()[name].to_str().unwrap().to_owned();
            let head = format!("{instant} {path} {} {}", header("mizuno-as-of"), header("mizuno-completeness"));
            out.push(format!("{head}\n{}", answer.text().await.unwrap()));
        }
    }
    out
}

#[tokio::test(flavor = "multi_thread")]
async fn folding_old_polls_changes_no_answer_of_any_instant() {
    let mut bench = Bench::new(Faults::of_the_demo());
    let service = bench.serve();
    let mut instants = vec![];
    // The first time everything is new; what is asked for again brings nothing.
    for more in [&[][..], &["--again"], &["--again", "--from", "2024-01-01"]] {
        service.cli(&[&["collect", "daily", "-i", "KBF", "-i", "MHN", "-i", "CRK"], more].concat());
        instants.push(bench.now().to_string());
    }
    let before = told(&service, &instants).await;
    let old_gaps = async |service: &common::Service| -> Vec<String> {
        let mut out = vec![];
        for symbol in ["KBF", "CRK"] {
            let all = service.get(&format!("/gaps?instrument={symbol}&cause=any")).await;
            let old = all.as_array().unwrap().iter().filter(|g| g["to"].as_str().unwrap() < "2025-04-10").cloned().collect::<Vec<_>>();
            out.extend(old.iter().map(|g| format!("{} {} {} {} {}", g["series"], g["from"], g["to"], g["cause"], g["slots"])));
        }
        out
    };
    let gaps = old_gaps(&service).await;
    assert!(!gaps.is_empty());
    let polls = service.get("/fetches?most=1000").await.as_array().unwrap().len();
    assert_eq!(service.stop(), Some(0));

    // Forty days later, and a second start after that.
    bench.clock.start = bench.clock.start.plus(40 * 86_400_000_000);
    let mut kept = 0;
    for _ in 0..2 {
        let service = bench.serve();
        let folded = async || service.get("/runs").await.as_array().unwrap().iter().map(|r| r["folded"].as_u64().unwrap()).sum::<u64>();
        let began = std::time::Instant::now();
        while folded().await == 0 {
            assert!(began.elapsed() < Duration::from_secs(30), "nothing is folded after forty days");
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        tokio::time::sleep(Duration::from_millis(500)).await;
        kept = service.get("/fetches?most=1000").await.as_array().unwrap().len();
        assert_eq!(kept as u64 + folded().await, polls as u64, "each poll is kept or folded");
        let now = told(&service, &instants).await;
        for (was, is) in before.iter().zip(&now) {
            assert_eq!(was, is);
        }
        assert_eq!(old_gaps(&service).await, gaps);
        assert_eq!(service.stop(), Some(0));
    }
    assert!(kept > 0 && kept < polls, "{kept} of {polls} are kept as they are");
}
