//! The tour of the README, on the command line: status, collect, gaps, repair, bars, excuse.

use crate::common::{self, Bench};
use mizuno_sim::faults::Faults;
use parquet::{
    basic::LogicalType,
    file::reader::{FileReader, SerializedFileReader},
};

#[tokio::test(flavor = "multi_thread")]
async fn from_an_empty_directory_to_a_file() {
    let bench = Bench::new(Faults::of_the_demo());
    let service = bench.serve();

    let first = service.cli(&["status"]);
    assert_eq!(first.code, 0, "nothing is expected of a service that was just made: {first:?}");
    assert!(first.out.contains("never ran"), "{}", first.out);

    let daily = service.cli(&["collect", "daily"]);
    assert_eq!(daily.code, 3, "the error page of GRB is a failure: {daily:?}");
    assert!(daily.out.contains("incomplete") && daily.out.contains("2 wrong-content"), "{}", daily.out);
    let minutes = service.cli(&["collect", "minutes"]);
    assert_eq!(minutes.code, 0, "{minutes:?}");

    let status = service.cli(&["status"]);
    assert_eq!(status.code, 3);
    assert!(status.out.contains("MISSING") && status.out.contains("QUARANTINED") && !status.out.contains("All clear"), "{}", status.out);

    let gaps = service.cli(&["gaps", "--to", "2025-04-09", "--json"]).json();
    let by_cause = |cause: &str| -> Vec<String> {
        gaps.as_array().unwrap().iter().filter(|g| g["cause"] == cause).map(|g| g["id"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(by_cause("left-out"), ["OXB/1m/harbour@2025-04-04T00:30:00Z", "QHC/1m/harbour@2025-04-02T00:30:00Z"]);
    assert_eq!(by_cause("quarantined"), ["CRK/1d/harbour@2025-04-03"]);
    assert_eq!(by_cause("fetch-failed").len(), 2);
    let shown = service.cli(&["gaps", "--instrument", "GRB"]);
    assert!(shown.out.contains("wrong-content") && shown.out.contains("mending the quay"), "the source's own words: {}", shown.out);

    let repaired = service.cli(&["repair", "QHC/1m/harbour@2025-04-02T00:30:00Z"]);
    assert_eq!(repaired.code, 0, "{repaired:?}");
    assert!(repaired.out.contains("195 bars new") && repaired.err.contains("1 of 1 gaps closed"), "{repaired:?}");
    let in_vain = service.cli(&["repair", "--all", "--interval", "1m", "--to", "2025-04-09"]);
    assert_eq!(in_vain.code, 3, "OXB's afternoon never comes: {in_vain:?}");
    assert!(in_vain.err.contains("still missing: OXB/1m/harbour"), "{}", in_vain.err);

    let nameless = service.cli(&["excuse", "OXB/1m/harbour@2025-04-04T00:30:00Z", "--by", " ", "--note", "x"]);
    assert_eq!(nameless.code, 1);
    assert!(nameless.err.contains("nothing closes silently"), "{}", nameless.err);
    let excused = service.cli(&["excuse", "OXB/1m/harbour@2025-04-04T00:30:00Z", "--by", "mere", "--note", "lost at the source"]);
    assert_eq!(excused.code, 0, "{excused:?}");
    assert!(service.cli(&["gaps", "--instrument", "OXB", "--to", "2025-04-09"]).out.is_empty());
    let listed = service.cli(&["excuses"]);
    assert!(listed.out.contains("mere") && listed.out.contains("lost at the source"), "{}", listed.out);
    assert_eq!(service.cli(&["excuses", "--revoke", "1"]).code, 0);
    assert!(!service.cli(&["gaps", "--instrument", "OXB", "--to", "2025-04-09"]).out.is_empty(), "an excuse can be taken back");

    let csv = service.cli(&["bars", "KBF", "--source", "harbour"]);
    assert_eq!(csv.out, common::true_days(&bench, "KBF"));
    assert!(csv.err.contains("KBF/1d/harbour: expected="), "{}", csv.err);
    let golden = service.cli(&["bars", "KBF"]);
    assert!(golden.err.contains("KBF/1d/golden: expected="), "{}", golden.err);
    let named = csv.out.lines().enumerate().map(|(i, l)| format!("{l},{}\r\n", if i == 0 { "source" } else { "harbour" }));
    assert_eq!(golden.out, named.collect::<String>(), "of one source the best is its own, and named");
    assert_eq!(service.cli(&["bars", "gul", "--from", "2025-04-01"]).code, 0, "a former symbol finds the instrument");

    assert_eq!(service.stop(), Some(0));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_parquet_file_has_decimal_prices_and_utc_stamps() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "minutes", "-i", "KBF", "--from", "2025-04-08"]).code, 0);
    let path = bench.dir.path().join("kbf.parquet");
    let said = service.cli(&["bars", "KBF/1m/harbour", "--to", "2025-04-09", "-o", path.to_str().unwrap()]);
    assert_eq!(said.code, 0, "{said:?}");
    assert!(!path.with_extension("parquet.part").exists());

    let file = SerializedFileReader::new(std::fs::File::open(&path).unwrap()).unwrap();
    let schema = file.metadata().file_metadata().schema_descr();
    let kinds: Vec<_> = schema.columns().iter().map(|c| (c.name().to_owned(), c.logical_type_ref().cloned())).collect();
    assert_eq!(kinds[0].1, Some(LogicalType::timestamp(true, parquet::basic::TimeUnit::MICROS)), "{kinds:?}");
    assert_eq!(kinds[1], ("open".to_owned(), Some(LogicalType::decimal(2, 18))));
    assert_eq!(file.metadata().file_metadata().num_rows(), 2 * 345);

    let csv = service.cli(&["bars", "KBF/1m/harbour", "--to", "2025-04-09"]);
    assert_eq!(csv.out, common::true_minutes(&bench, "KBF", "2025-04-08", "2025-04-09"));
    let here = service.cli(&["bars", "KBF/1m/harbour", "--from", "2025-04-09", "--zone", "Pacific/Auckland", "--columns", "time,close"]);
    assert!(here.out.starts_with("time,close\r\n2025-04-09T10:00:00+12:00,"), "{}", here.out);
    let rows = service.cli(&["bars", "KBF/1m/harbour", "--to", "2025-04-08", "--format", "ndjson"]);
    assert_eq!(rows.out.lines().count(), 345);
    assert!(serde_json::from_str::<serde_json::Value>(rows.out.lines().next().unwrap()).unwrap()["close"].is_number());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_known_then_stays_known_as_it_was() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    service.cli(&["collect", "daily", "-i", "KBF", "--from", "2025-04-01", "--to", "2025-04-04"]);
    let then = bench.now();
    tokio::time::sleep(std::time::Duration::from_millis(60)).await;
    let before = service.text(&format!("/bars?series=KBF/1d/harbour&as_of={then}")).await;
    assert_eq!(before.lines().count(), 5);
    service.cli(&["collect", "daily", "-i", "KBF", "--from", "2025-03-01"]);
    assert_eq!(service.text(&format!("/bars?series=KBF/1d/harbour&as_of={then}")).await, before, "learned later, not shown");
    assert!(service.text("/bars?series=KBF/1d/harbour").await.lines().count() > 20);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_is_cancelled_in_good_order() {
    let bench = Bench::new(Faults::only(vec![mizuno_sim::faults::Fault::Slow { millis: 40 }]));
    let service = bench.serve();
    let begun = service.cli(&["collect", "daily", "--no-wait", "--json"]).json();
    let id = begun["id"].as_i64().unwrap();
    for _ in 0..200 {
        if service.get(&format!("/runs/{id}")).await["done"].as_u64() > Some(0) {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(10)).await;
    }
    let twice = service.cli(&["collect", "daily"]);
    assert_eq!(twice.code, 1);
    assert!(twice.err.contains(&format!("run {id}")), "it never overlaps itself: {}", twice.err);
    let cancelled = service.cli(&["cancel", &id.to_string()]);
    assert!(cancelled.out.contains("cancelled"), "{cancelled:?}");
    let run = service.get(&format!("/runs/{id}")).await;
    assert!(run["done"].as_u64() > Some(0) && run["done"].as_u64() < run["windows"].as_u64(), "{run}");
    let after = service.get("/series").await;
    assert!(after.as_array().unwrap().iter().any(|s| s["bars"].as_u64() > Some(0)), "what was under way is kept");
}

#[tokio::test(flavor = "multi_thread")]
async fn collectors_keep_up_by_themselves_through_a_close() {
    // Ten minutes before the close, ten minutes a second.
    let bench = Bench::at("2025-04-10T04:35:00Z", 600.0, Faults::default());
    bench.collector("daily", "1d", "2025-04-01", "schedule = { after_close = \"30m\" }");
    bench.collector("minutes", "1m", "2025-04-10", "except = [\"MHN\"]\nschedule = { every = \"5m\" }");
    let service = bench.serve();
    for _ in 0..100 {
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
        let rows = service.text("/bars?series=KBF/1d/harbour&from=2025-04-10").await;
        if rows.lines().count() == 2 && bench.now() > "2025-04-10T05:25:00Z".parse().unwrap() {
            break;
        }
    }
    service.settled().await;
    let minutes = service.text("/bars?series=KBF/1m/harbour").await;
    assert_eq!(minutes, common::true_minutes(&bench, "KBF", "2025-04-10", "2025-04-10"), "the whole session, the last minute too");
    let daily = service.text("/bars?series=KBF/1d/harbour&from=2025-04-10").await;
    assert_eq!(daily.lines().count(), 2, "the day's bar came after the close: {daily}");
    let status = service.cli(&["status"]);
    assert_eq!(status.code, 0, "{}", status.out);
    assert!(status.out.contains("All clear"));
}
