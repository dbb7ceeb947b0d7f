//! Hard days: a disk that fills up, five thousand instruments.

use crate::common::{self, Bench};
use mizuno_sim::faults::{Fault, Faults};
use sqlx::Connection;
use std::{fmt::Write, fs, path::Path, process::Command};

/// A file system of a few megabytes; unmounted when dropped.
struct SmallDisk(std::path::PathBuf);

impl SmallDisk {
    fn mount(at: &Path) -> SmallDisk {
        fs::create_dir_all(at).unwrap();
        let done = Command::new("mount").args(["-t", "tmpfs", "-o", "size=4m", "tmpfs"]).arg(at).status().unwrap();
        assert!(done.success(), "the test of a full disk mounts a small one, which takes root");
        SmallDisk(at.to_owned())
    }
}

impl Drop for SmallDisk {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.0).status();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_disk_is_named_and_nothing_that_was_stored_is_lost() {
    let bench = Bench::new(Faults::only(vec![Fault::Slow { millis: 20 }]));
    let disk = SmallDisk::mount(&bench.data());
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "daily", "-i", "KBF"]).code, 0);
    let before = service.text("/bars?series=KBF/1d/harbour").await;
    assert!(before.lines().count() > 2000);
    // The run gets as far as there is room, and then waits.
    assert_eq!(service.cli(&["collect", "minutes", "-i", "KBF", "--no-wait"]).code, 0);
    fs::write(bench.data().join("ballast"), vec![0u8; 1 << 20]).unwrap_or_default();
    let mut padding = 0;
    while fs::write(bench.data().join(format!("ballast-{padding}")), vec![0u8; 16 << 10]).is_ok() {
        padding += 1;
    }
    let concern = |status: &serde_json::Value| status["concerns"].as_array().unwrap().iter().any(|c| c["kind"] == "not-writing");
    let mut status = service.get("/status").await;
    for _ in 0..200 {
        if concern(&status) {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        status = service.get("/status").await;
    }
    assert!(concern(&status), "the status says that nothing can be written: {}", status["concerns"]);
    let excuse =
        service.cli(&["excuse", "KBF/1d/harbour", "--since", "2016-01-04", "--until", "2016-01-05", "--by", "mere", "--note", "x"]);
    assert!(excuse.code == 1 && excuse.err.contains("nothing can be written at the moment"), "{excuse:?}");
    assert_eq!(service.text("/bars?series=KBF/1d/harbour").await, before, "what was stored is served as before");

    for file in fs::read_dir(bench.data()).unwrap().flatten().filter(|f| f.file_name().to_string_lossy().starts_with("ballast")) {
        fs::remove_file(file.path()).unwrap();
    }
    let mut run = service.get("/runs?collector=minutes").await[0].clone();
    for _ in 0..1200 {
        if run["state"] != "running" {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        run = service.get("/runs?collector=minutes").await[0].clone();
    }
    assert!(run["state"] == "complete" && run["failed"] == 0, "once there is room it goes on by itself, and nothing is lost: {run}");
    assert!(!concern(&service.get("/status").await));
    let again = service.cli(&["collect", "daily", "-i", "OXB", "--from", "2024-01-01"]);
    assert_eq!(again.code, 0, "{again:?}");
    assert_eq!(service.text("/bars?series=KBF/1d/harbour").await, before);
    assert_eq!(service.stop(), Some(0));
    drop(disk);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_disk_that_is_full_while_old_polls_are_folded_loses_nothing() {
    let mut bench = Bench::new(Faults::default());
    let disk = SmallDisk::mount(&bench.data());
    let service = bench.serve();
    for more in [&[][..], &["--again"], &["--again"]] {
        assert_eq!(service.cli(&[&["collect", "daily", "-i", "KBF"], more].concat()).code, 0);
    }
    let before = service.text("/bars?series=KBF/1d/harbour").await;
    let polls = service.get("/fetches?most=1000").await.as_array().unwrap().len() as u64;
    assert_eq!(service.stop(), Some(0));
    bench.clock.start = bench.clock.start.plus(40 * 86_400_000_000);
    let mut padding = 0;
    while fs::write(bench.data().join(format!("ballast-{padding}")), vec![0u8; 4 << 10]).is_ok() {
        padding += 1;
    }
    let folded = async |service: &common::Service| {
        service.get("/runs").await.as_array().unwrap().iter().map(|r| r["folded"].as_u64().unwrap()).sum::<u64>()
    };
    let service = bench.serve();
    tokio::time::sleep(std::time::Duration::from_secs(1)).await;
    assert_eq!(folded(&service).await, 0, "there is no room to fold");
    assert_eq!(service.get("/fetches?most=1000").await.as_array().unwrap().len() as u64, polls, "and every poll is there still");
    assert_eq!(service.text("/bars?series=KBF/1d/harbour").await, before);
    drop(service);
    for file in fs::read_dir(bench.data()).unwrap().flatten().filter(|f| f.file_name().to_string_lossy().starts_with("ballast")) {
        fs::remove_file(file.path()).unwrap();
    }
    let service = bench.serve();
    let began = std::time::Instant::now();
    while folded(&service).await == 0 {
        assert!(began.elapsed() < std::time::Duration::from_secs(30), "once there is room it is folded");
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    assert_eq!(service.text("/bars?series=KBF/1d/harbour").await, before);
    assert_eq!(service.stop(), Some(0));
    drop(disk);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_damaged_block_concerns_its_series_and_nothing_else() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "daily", "-i", "KBF", "-i", "OXB"]).code, 0);
    let before = service.text("/bars?series=OXB/1d/harbour").await;
    assert_eq!(service.stop(), Some(0));
    let mut database = bench.database().await;
    let of_kbf = "series_id IN (SELECT s.id FROM series s JOIN instrument i ON i.id = s.instrument_id WHERE i.symbol = 'KBF')";
    for sql in [format!("DELETE FROM tail WHERE {of_kbf}"), format!("UPDATE block SET body = zeroblob(2000) WHERE {of_kbf}")] {
        sqlx::query(sqlx::AssertSqlSafe(sql)).execute(&mut database).await.unwrap();
    }
    database.close().await.unwrap();

    let service = bench.serve();
    let said = service.cli(&["collect", "daily", "-i", "KBF", "-i", "OXB", "--again", "--from", "2025-01-01"]);
    assert_eq!(said.code, 3, "the run goes on, and says what is wrong: {said:?}");
    assert!(said.out.contains("1 not-stored"), "{}", said.out);
    let failed = &service.get("/fetches?state=failed").await[0];
    let message = failed["message"].as_str().unwrap();
    assert!(message.contains("cannot be read") && message.contains("integrity_check"), "{message}");
    assert!(failed["payload"].is_string(), "what the source said is kept");
    assert_eq!(service.text("/bars?series=OXB/1d/harbour").await, before, "another series is as it was");
    let refused = service.cli(&["bars", "KBF/1d/harbour"]);
    assert!(refused.code != 0 && refused.err.contains("cannot be read"), "{refused:?}");
    for page in [&["status"][..], &["gaps"], &["checks"], &["runs"], &["findings"]] {
        let said = service.cli(page);
        assert!([0, 3].contains(&said.code), "{page:?} {said:?}");
    }
    let status = service.cli(&["status"]).out;
    assert!(status.contains("DAMAGED") && status.contains("1 series cannot be read: KBF/1d/harbour: block"), "{status}");
    assert_eq!(service.stop(), Some(0));
    let service = bench.serve();
    assert_eq!(service.text("/bars?series=OXB/1d/harbour").await, before, "it starts all the same");
}

#[tokio::test(flavor = "multi_thread")]
async fn five_thousand_instruments_are_listed_searched_and_looked_over() {
    let bench = Bench::new(Faults::default());
    let mut list = fs::read_to_string(bench.config().join("instruments/aldx.csv")).unwrap();
    for n in 0..5_000 {
        writeln!(list, "X{n:04},Example number {n},share,ALDX,NZD,0.01,,,,,").unwrap();
    }
    bench.write("instruments/aldx.csv", &list);
    let service = bench.serve();
    let run = service.cli(&["collect", "daily", "-i", "KBF", "-i", "X4999", "--from", "2024-01-01"]);
    assert_eq!(run.code, 3, "the source does not know X4999: {run:?}");
    assert!(run.out.contains("1 not-found"), "{}", run.out);
    let found = service.cli(&["instruments", "number", "4321"]);
    assert!(found.out.contains("X4321") && found.out.lines().count() == 2, "{}", found.out);
    let status = service.get("/status").await;
    assert_eq!(status["totals"]["series"].as_u64(), Some(5_025));
    let daily = status["collectors"].as_array().unwrap().iter().find(|c| c["name"] == "daily").unwrap();
    let c = &daily["completeness"];
    let sum = ["held", "excused", "missing"].iter().map(|k| c[*k].as_u64().unwrap()).sum::<u64>();
    assert_eq!(c["expected"].as_u64(), Some(sum), "held, excused and missing are all that is expected");
    let coverage = service.get("/coverage?interval=1d&by=month").await;
    assert_eq!(coverage["rows"].as_array().unwrap().len(), 5_025);
}
