//! Editions in object storage: all or nothing, sent once, gone on with after a kill.

use crate::common::{self, Bench, Service};
use mizuno_sim::{
    bucket::{self, Bucket},
    faults::Faults,
};
use serde_json::{Value, json};
use std::{
    collections::BTreeMap,
    sync::Arc,
    time::{Duration, Instant},
};

const PLACE: &str = "tarn-street/editions/desk/mere";

fn all(mean: u32) -> String {
    let columns =
        ["instrument", "date", "open", "high", "low", "close", "volume", &format!("mean_{mean}"), "mean_50", "mean_200", "return"];
    let columns = columns.map(|name| format!("\"{name}\"")).join(", ");
    format!("search = \"share ALDX\"\ncolumns = [{columns}, \"log_return\"]\nformat = \"json\"\n")
}

/// A storage, and a desk with an edition that is published there.
async fn publishing() -> (Bench, Arc<Bucket>) {
    let storage = Arc::new(Bucket::default());
    let (address, server) = bucket::start(storage.clone(), 0).unwrap();
    tokio::spawn(server);
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 1.0, Faults::default(), false);
    bench.write("questions/days.toml", "instruments = [\"KBF\", \"OXB\", \"SME\"]\ncolumns = [\"date\", \"close\", \"volume\"]\nadjust = \"splits\"\nsource = \"harbour\"\n");
    // Large enough to be sent in parts.
    bench.write("questions/all.toml", &all(20));
    bench.write(
        "editions/desk.toml",
        &format!(
            "venue = \"ALDX\"\n[publish]\nto = \"s3://tarn-street/editions\"\nwriter = \"mere\"\nendpoint = \"http://{address}\"\n\
             [[file]]\nname = \"days/{{instrument}}.csv\"\nquestion = \"days\"\ncut = [\"instrument\"]\n[[file]]\nname = \"all.json\"\nquestion = \"all\"\n"
        ),
    );
    let keys =
        format!("LODESTAR_KEY={}\nAWS_ACCESS_KEY_ID={}\nAWS_SECRET_ACCESS_KEY={}\n", mizuno_sim::LODESTAR_KEY, bucket::KEY, bucket::SECRET);
    bench.write(".env", &keys);
    (bench, storage)
}

async fn published(service: &Service, number: u32) -> Value {
    let until = Instant::now() + Duration::from_secs(90);
    loop {
        let told = service.get(&format!("/editions/desk/{number}")).await;
        if !told["published"].is_null() {
            return told;
        }
        assert!(Instant::now() < until, "{}", service.get("/editions").await);
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

/// The files of an edition in the storage, by their paths.
fn stored(storage: &Bucket, number: u32) -> BTreeMap<String, Vec<u8>> {
    let prefix = format!("{PLACE}/{number:06}/");
    let objects = storage.objects();
    objects.iter().filter_map(|(key, body)| Some((key.strip_prefix(&prefix)?.to_owned(), body.to_vec()))).collect()
}

/// Whether the storage has exactly the files that the sums there name, each with its sum; nothing of it is seen before.
fn is_whole(storage: &Bucket, number: u32) -> bool {
    let files = stored(storage, number);
    let Some(sums) = files.get("SHA256SUMS") else { return false };
    let listed = String::from_utf8_lossy(sums).lines().all(|line| {
        let (sum, path) = line.split_once("  ").unwrap();
        files.get(path).is_some_and(|body| mizuno_store::payloads::digest(body) == sum)
    });
    listed && files.len() == String::from_utf8_lossy(sums).lines().count() + 1
}

#[tokio::test(flavor = "multi_thread")]
async fn an_edition_is_published_whole_and_what_is_the_same_is_not_sent_again() {
    let (bench, storage) = publishing().await;
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "aldx-daily"]).code, 0);
    // The storage is busy at first: that is waited out.
    storage.is_busy_for(3);
    assert_eq!(service.cli(&["editions", "desk", "--make", "--by", "mere"]).code, 0);
    let told = published(&service, 1).await;
    assert!(is_whole(&storage, 1) && storage.unfinished() == 0, "{:?}", storage.asked());
    assert_eq!(told["published"]["to"], "s3://tarn-street/editions/desk/mere/000001");
    let latest: Value = serde_json::from_slice(&storage.objects()[&format!("{PLACE}/latest.json")]).unwrap();
    assert_eq!((&latest["edition"], &latest["sums"]), (&json!(1), &told["sums"]));
    let big = told["content"].as_array().unwrap().iter().find(|f| f["path"] == "all.json").unwrap()["bytes"].as_u64().unwrap();
    let parts = storage.asked().iter().filter(|(method, path, _)| method == "PUT" && path.ends_with("all.json")).count() as u64;
    assert!(big > 8 << 20 && parts == big.div_ceil(8 << 20), "{big} bytes in {parts} parts");
    // The manifest came last, and the name of the newest after it.
    let put: Vec<String> = storage.asked().into_iter().filter(|(method, ..)| method == "PUT").map(|(_, path, _)| path).collect();
    assert!(put[put.len() - 2].ends_with("/SHA256SUMS") && put[put.len() - 1].ends_with("/latest.json"), "{put:?}");

    // Of the next, only what changed is sent.
    let action = json!({ "actions": [{ "instrument": "SME", "kind": "split", "terms": { "ex_date": "2024-09-02", "new": "2", "old": "1" } }], "by": "mere", "reason": "letter" });
    assert_eq!(service.post("/actions", &action).await.0, 201);
    let before = storage.asked().len();
    assert_eq!(service.cli(&["editions", "desk", "--make", "--by", "mere"]).code, 0);
    let told = published(&service, 2).await;
    assert!(is_whole(&storage, 2) && is_whole(&storage, 1));
    let sent: usize = storage.asked()[before..].iter().map(|(.., bytes)| bytes).sum();
    let changed = (told["bytes"].as_u64().unwrap() - told["linked_bytes"].as_u64().unwrap()) as usize;
    assert!(sent <= changed + 10_000 && (sent as u64) < big, "{sent} of {changed}");
    let said = service.cli(&["editions", "desk/2"]);
    assert!(said.out.contains("published to s3://tarn-street/editions/desk/mere/000002"), "{said:?}");

    // A storage that does not know the key is told of, without the key.
    bench.write(
        ".env",
        &format!("LODESTAR_KEY={}\nAWS_ACCESS_KEY_ID=NOBODY\nAWS_SECRET_ACCESS_KEY=very-secret-indeed\n", mizuno_sim::LODESTAR_KEY),
    );
    assert_eq!(service.cli(&["reload"]).code, 0);
    assert_eq!(service.cli(&["editions", "desk", "--make", "--by", "mere"]).code, 0);
    let until = Instant::now() + Duration::from_secs(60);
    loop {
        let said = service.cli(&["status"]);
        if said.out.contains("the object storage of desk is behind: desk/3 is not there") {
            assert!(!said.out.contains("very-secret"), "{said:?}");
            break;
        }
        assert!(Instant::now() < until, "{said:?}");
        tokio::time::sleep(Duration::from_millis(300)).await;
    }
    assert!(stored(&storage, 3).is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_storage_that_does_not_answer_holds_up_no_other() {
    let (bench, storage) = publishing().await;
    // It takes calls, and never answers one.
    let silent = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let desk = std::fs::read_to_string(bench.config().join("editions/desk.toml")).unwrap();
    let endpoint = desk.lines().find(|line| line.starts_with("endpoint")).unwrap();
    let far = desk.replace(endpoint, &format!("endpoint = \"http://{}\"", silent.local_addr().unwrap()));
    bench.write("editions/attic.toml", &far);
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "aldx-daily", "-i", "KBF"]).code, 0);
    // The one that will not get there is made first, and stands first.
    for spec in ["attic", "desk"] {
        assert_eq!(service.cli(&["editions", spec, "--make", "--by", "mere"]).code, 0);
    }
    published(&service, 1).await;
    assert!(is_whole(&storage, 1));
    assert!(service.get("/editions/attic/1").await["published"].is_null());
    assert!(!service.cli(&["status"]).out.contains("attic is behind"), "it has not been given up when the other is there");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_killed_publishing_is_finished_by_itself_and_nobody_sees_half_of_it() {
    let (bench, storage) = publishing().await;
    let mut service = bench.serve();
    assert_eq!(service.cli(&["collect", "aldx-daily", "-i", "KBF", "-i", "OXB", "-i", "SME"]).code, 0);
    let (kills, mut cut_short, mut takes) = (common::kills(8), 0, Duration::ZERO);
    for number in 1..=kills {
        // The large file is another each time, and has to be sent.
        bench.write("questions/all.toml", &all(51 + number));
        assert_eq!(service.cli(&["reload"]).code, 0);
        let (status, _) = service.post("/editions/desk", &json!({ "by": "mere" })).await;
        assert!([202, 409].contains(&status));
        while service.get("/editions/desk").await[0]["state"] == "making" {
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        let until = Instant::now() + Duration::from_secs(5);
        while stored(&storage, number).is_empty() && Instant::now() < until {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
        let begun = Instant::now();
        if number == 1 {
            published(&service, number).await;
            takes = begun.elapsed();
            continue;
        }
        tokio::time::sleep(takes.mul_f64(rand::random::<f64>())).await;
        let begun = stored(&storage, number).len();
        service.kill();
        cut_short += u32::from(begun > 0 && !is_whole(&storage, number));
        // Who begins with latest.json sees a whole one.
        if let Some(latest) = storage.objects().get(&format!("{PLACE}/latest.json")) {
            let latest: Value = serde_json::from_slice(latest).unwrap();
            assert!(is_whole(&storage, latest["edition"].as_u64().unwrap() as u32), "{latest} of {number}");
        }
        service = bench.serve();
    }
    println!("{cut_short} of {kills} kills hit a publishing");
    for number in 1..=kills {
        published(&service, number).await;
        assert!(is_whole(&storage, number), "{number}");
    }
}

/// Waits until the storage has these files of an edition.
async fn until_stored(storage: &Bucket, number: u32, as_it_should: impl Fn(&BTreeMap<String, Vec<u8>>) -> bool) {
    let until = Instant::now() + Duration::from_secs(60);
    while !as_it_should(&stored(storage, number)) {
        assert!(Instant::now() < until, "{number}: {:?}", stored(storage, number).keys());
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

fn newest(storage: &Bucket) -> Option<u64> {
    let latest = storage.objects().get(&format!("{PLACE}/latest.json")).cloned()?;
    serde_json::from_slice::<Value>(&latest).unwrap()["edition"].as_u64()
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_withdrawn_or_has_outlived_its_keeping_is_taken_out_of_the_storage() {
    let (bench, storage) = publishing().await;
    bench.change("editions/desk.toml", "writer = \"mere\"\n", "writer = \"mere\"\nkeep = 2\n");
    bench.change("editions/desk.toml", "[[file]]\nname = \"all.json\"\nquestion = \"all\"\n", "");
    let mut service = bench.serve();
    assert_eq!(service.cli(&["collect", "aldx-daily", "-i", "KBF", "-i", "OXB", "-i", "SME"]).code, 0);
    for number in 1..=3 {
        assert_eq!(service.cli(&["editions", "desk", "--make", "--by", "mere"]).code, 0);
        published(&service, number).await;
    }
    until_stored(&storage, 1, BTreeMap::is_empty).await;
    assert!(is_whole(&storage, 2) && is_whole(&storage, 3) && newest(&storage) == Some(3));
    assert!(service.get("/editions/desk/1").await["published"].is_null(), "and it is served here as before");
    assert_eq!(service.ask("/editions/desk/1/files/SHA256SUMS").await.status(), 200);

    // Of one that is withdrawn, the reason is left; nobody is sent to it any more, even where the service is killed on the way.
    assert_eq!(service.cli(&["editions", "desk/3", "--withdraw", "wrong splits", "--by", "mere"]).code, 0);
    service.kill();
    service = bench.serve();
    until_stored(&storage, 3, |files| files.keys().eq(["withdrawn.json"])).await;
    let left: Value = serde_json::from_slice(&stored(&storage, 3)["withdrawn.json"]).unwrap();
    assert_eq!((&left["withdrawn_by"], &left["why"], &left["edition"]), (&json!("mere"), &json!("wrong splits"), &json!(3)));
    assert!(newest(&storage) == Some(2) && is_whole(&storage, 2), "{:?}", storage.objects().keys());

    // A number is used once. One that a person keeps stays beside the newest two.
    assert_eq!(service.cli(&["editions", "desk/2", "--pin", "study of March", "--by", "mere"]).code, 0);
    for number in 4..=6 {
        assert_eq!(service.cli(&["editions", "desk", "--make", "--by", "mere"]).code, 0);
        published(&service, number).await;
    }
    until_stored(&storage, 4, BTreeMap::is_empty).await;
    assert!([2, 5, 6].iter().all(|number| is_whole(&storage, *number)) && newest(&storage) == Some(6));
    // An older one that somebody keeps after all is published again, and is not the newest for that.
    assert_eq!(service.cli(&["editions", "desk/4", "--pin", "study of April", "--by", "mere"]).code, 0);
    published(&service, 4).await;
    assert!(is_whole(&storage, 4) && newest(&storage) == Some(6), "{:?}", newest(&storage));
    assert_eq!(service.cli(&["editions", "desk/4", "--unpin", "--by", "mere"]).code, 0);
    until_stored(&storage, 4, BTreeMap::is_empty).await;
    assert_eq!(newest(&storage), Some(6));

    // A storage that refuses is told of; with another key it is asked at once.
    let keys = std::fs::read_to_string(bench.config().join(".env")).unwrap();
    bench.write(".env", "AWS_ACCESS_KEY_ID=NOBODY\nAWS_SECRET_ACCESS_KEY=very-secret-indeed\n");
    assert_eq!(service.cli(&["reload"]).code, 0);
    for number in [6, 5, 2] {
        assert_eq!(service.cli(&["editions", &format!("desk/{number}"), "--withdraw", "all wrong", "--by", "mere"]).code, 0);
    }
    let until = Instant::now() + Duration::from_secs(60);
    while !service.cli(&["status"]).out.contains("the object storage of desk is behind: desk/") {
        assert!(Instant::now() < until, "{}", service.get("/editions").await);
        tokio::time::sleep(Duration::from_millis(300)).await;
    }
    bench.write(".env", &keys);
    assert_eq!(service.cli(&["reload"]).code, 0);
    for number in [2, 5, 6] {
        until_stored(&storage, number, |files| files.keys().eq(["withdrawn.json"])).await;
    }
    assert_eq!(newest(&storage), None, "there is none to be read");
}
