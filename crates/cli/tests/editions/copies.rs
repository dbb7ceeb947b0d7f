//! Editions that are due by themselves, and copies of them.

use crate::common::{self, Bench, Service};
use mizuno_sim::faults::Faults;
use serde_json::json;
use std::{
    path::Path,
    process::{Command, Stdio},
    time::{Duration, Instant},
};

const SPEC: &str = "venue = \"ALDX\"\n[[file]]\nname = \"days/{instrument}.csv\"\nquestion = \"days\"\ncut = [\"instrument\"]\n\
    [[file]]\nname = \"all.csv\"\nquestion = \"days\"\n";

async fn collected(spec: &str, start: &str, speed: f64) -> (Bench, Service) {
    scheduled(spec, None, start, speed).await
}

async fn scheduled(spec: &str, schedule: Option<&str>, start: &str, speed: f64) -> (Bench, Service) {
    let bench = Bench::whole_demo(start, speed, Faults::default(), false);
    bench.write(
        "questions/days.toml",
        "instruments = [\"KBF\", \"OXB\", \"SME\"]\ncolumns = [\"date\", \"close\", \"volume\"]\nsource = \"harbour\"\n",
    );
    bench.write("editions/desk.toml", spec);
    if let Some(schedule) = schedule {
        let named = "instruments = [\"KBF\", \"OXB\", \"SME\"]";
        bench.change("collectors/aldx-daily.toml", "source = ", &format!("{named}\nschedule = {{ {schedule} }}\nsource = "));
        let service = bench.serve();
        return (bench, service);
    }
    let service = bench.serve();
    let said = service.cli(&["collect", "aldx-daily", "-i", "KBF", "-i", "OXB", "-i", "SME"]);
    assert_eq!(said.code, 0, "{said:?}");
    (bench, service)
}

fn is_whole(folder: &Path) -> bool {
    let said = Command::new("sha256sum").args(["--strict", "--quiet", "-c", "SHA256SUMS"]).current_dir(folder).output();
    said.is_ok_and(|said| said.status.success())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_copy_fetches_what_changed_and_is_whole_whenever_it_is_killed() {
    let (bench, service) = collected(SPEC, mizuno_sim::DEMO_START, 1.0).await;
    assert_eq!(service.cli(&["editions", "desk", "--make", "--by", "mere"]).code, 0);
    let to = bench.dir.path().join("copy");
    let copy = |args: &[&str]| service.cli(&[&["editions", "desk/latest", "--copy", to.to_str().unwrap()][..], args].concat());
    let said = copy(&["--json"]);
    assert_eq!(said.code, 0, "{said:?}");
    let current = to.join("current");
    assert!(is_whole(&current) && said.json()["files_fetched"].as_u64() > Some(8), "{said:?}");
    let said = copy(&[]);
    assert!(said.code == 0 && said.out.contains("already"), "{said:?}");

    // Another price of one instrument: what is fetched is what changed, and nothing else.
    let action = json!({ "actions": [{ "instrument": "SME", "kind": "split", "terms": { "ex_date": "2024-09-02", "new": "2", "old": "1" } }], "by": "mere", "reason": "letter" });
    assert_eq!(service.post("/actions", &action).await.0, 201);
    bench.write("questions/days.toml", "instruments = [\"KBF\", \"OXB\", \"SME\"]\ncolumns = [\"date\", \"close\", \"volume\"]\nsource = \"harbour\"\nadjust = \"splits\"\n");
    assert_eq!(service.cli(&["reload"]).code, 0);
    assert_eq!(service.cli(&["editions", "desk", "--make", "--by", "mere"]).code, 0);
    let told = service.get("/editions/desk/2").await;
    let changed = |f: &&serde_json::Value| f["linked"] == false;
    let bytes: u64 = told["content"].as_array().unwrap().iter().filter(changed).map(|f| f["bytes"].as_u64().unwrap()).sum();
    let said = copy(&["--json"]);
    let came = said.json()["bytes_fetched"].as_u64().unwrap();
    assert!(said.code == 0 && came <= bytes && came * 10 >= bytes * 9, "{came} of {bytes}");
    assert!(is_whole(&current));

    // A file that somebody changed is put right; what was begun and broken off is gone on with.
    // It is there all the while: the mended one has another name, and the damaged one is taken away.
    for _ in 0..2 {
        let link = std::fs::read_link(&current).unwrap();
        let damaged = std::fs::canonicalize(&current).unwrap();
        std::fs::write(current.join("all.csv"), "date\n").unwrap();
        let said = copy(&["--json"]);
        assert!(said.code == 0 && said.json()["files_fetched"] == 1, "{said:?}");
        assert!(is_whole(&current) && std::fs::read_link(&current).unwrap() != link && !damaged.exists());
    }

    // Killed at random moments, it is always an edition, whole; and in the end the newest.
    let (kills, mut cut_short) = (common::kills(10), 0);
    let days = bench.world.market.calendar().between("2024-01-03".parse().unwrap().."2025-03-01".parse().unwrap());
    for kill in 0..kills {
        // Another small action each time, so that there is something to fetch.
        let ex_date = days[kill as usize % days.len()].date.to_string();
        let terms = json!({ "ex_date": ex_date, "new": "1", "old": (100 + kill).to_string() });
        let action = json!({ "actions": [{ "instrument": "SME", "kind": "bonus", "terms": terms }], "by": "mere", "reason": "letter" });
        assert_eq!(service.post("/actions", &action).await.0, 201);
        assert_eq!(service.post("/editions/desk", &json!({ "by": "mere" })).await.0, 202);
        while service.get("/editions/desk").await[0]["state"] == "making" {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        let mut command = bench_copy(&service, &to);
        let mut child = command.spawn().unwrap();
        tokio::time::sleep(Duration::from_millis(rand::random_range(2..60))).await;
        cut_short += u32::from(child.try_wait().unwrap().is_none());
        let _ = child.kill();
        let _ = child.wait();
        assert!(is_whole(&current), "current is not whole");
    }
    assert!(cut_short > 0, "no kill hit a copy");
    println!("{cut_short} of {kills} kills hit a copy");
    assert_eq!(copy(&[]).code, 0);
    let newest = service.get("/editions/desk/latest").await["number"].as_i64().unwrap();
    assert!(std::fs::read_link(&current).unwrap().to_str().unwrap().starts_with(&format!("desk-{newest}-")));
    let left: Vec<String> = std::fs::read_dir(&to).unwrap().flatten().map(|e| e.file_name().to_string_lossy().into_owned()).collect();
    assert!(left.iter().filter(|name| name.contains("desk-")).count() <= 2, "{left:?}");
}

fn bench_copy(service: &Service, to: &Path) -> Command {
    let mut command = common::mizuno();
    command.args(["--service", &service.url, "editions", "desk/latest", "--copy", to.to_str().unwrap()]);
    command.stdout(Stdio::null()).stderr(Stdio::null());
    command
}

#[tokio::test(flavor = "multi_thread")]
async fn an_edition_is_made_when_it_is_due_and_what_it_needs_holds() {
    // A quarter of an hour before the close, a minute a second.
    let due = "[made]\nevery = \"day\"\nafter_close = \"10m\"\n[holds]\ncollectors_done = true\n";
    let spec = SPEC.replacen("[[file]]", &format!("{due}[[file]]"), 1);
    let (_bench, service) = scheduled(&spec, Some("after_close = \"20m\""), "2025-04-10T04:35:00Z", 60.0).await;
    // That of the session before is caught up, as its collector is.
    let until = Instant::now() + Duration::from_secs(60);
    let newest = async || service.get("/editions/desk").await[0].clone();
    while newest().await["state"] != "made" {
        assert!(Instant::now() < until, "{}", service.get("/editions").await);
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    let first = newest().await;
    assert_eq!((first["label"].as_str(), first["due"].as_str()), (Some("2025-04-09"), Some("2025-04-09T04:55:00Z")));
    // The next is due ten minutes after the close, and held up until its collector has run, ten minutes later.
    loop {
        let told = service.get("/editions").await;
        if let Some(why) = told[0]["held_up"]["why"][0].as_str() {
            assert!(why.contains("the collector aldx-daily runs at 2025-04-10 05:05 UTC for the session that has closed"), "{why}");
            break;
        }
        assert!(Instant::now() < until, "{told}");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    let status = service.cli(&["status"]);
    assert!(status.out.contains("the edition desk, due at 2025-04-10 04:55 UTC, is held up"), "{status:?}");
    assert_eq!(newest().await["number"], first["number"]);
    let until = Instant::now() + Duration::from_secs(60);
    while newest().await["due"] != "2025-04-10T04:55:00Z" || newest().await["state"] != "made" {
        assert!(Instant::now() < until, "{}", service.get("/editions").await);
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    assert_eq!(newest().await["label"], "2025-04-10");
    assert!(service.get("/editions").await[0]["held_up"].is_null());
}
