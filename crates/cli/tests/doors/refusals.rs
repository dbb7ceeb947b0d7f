//! Bad input: a message that names the thing, the value and the way out, and nothing lost.

use crate::common::{self, Bench, Said, client};
use mizuno_sim::faults::Faults;
use serde_json::json;
use sqlx::Connection;

#[tokio::test(flavor = "multi_thread")]
async fn every_bad_question_gets_a_problem_that_names_it() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "daily", "-i", "KBF"]).code, 0);
    for (path, status, words) in [
        ("/bars?instrument=KBX", 404, "no instrument `KBX`; did you mean KBF"),
        ("/bars?instrument=KBF&interval=5m", 404, "no series `KBF/5m/golden`; did you mean KBF/1d/harbour"),
        ("/bars?instrument=KBF&interval=soon", 400, "`soon` is not an interval"),
        ("/bars?instrument=KBF&from=2025-04-09&to=2025-04-01", 400, "from 2025-04-09 to 2025-04-01 is empty"),
        ("/bars?instrument=KBF&from=yesterday", 400, "from: `yesterday` is neither a trade date"),
        ("/bars?instrument=KBF&from=99999-01-01", 400, "`99999-01-01`"),
        ("/bars?instrument=KBF&format=xls", 400, "`xls` is not a format; it is csv, ndjson, json, parquet or xlsx"),
        ("/bars?instrument=KBF&columns=time,price", 400, "`price` is not a column; there is date, open"),
        ("/bars?instrument=KBF&zone=Mars/Olympus", 400, "`Mars/Olympus` is not an IANA time zone"),
        ("/bars?instrument=KBF&as_of=2031-01-01T00:00:00Z", 400, "is still to come"),
        ("/bars", 400, "say whose bars"),
        ("/bars?instrument=KBF&frm=2025-04-01", 400, "frm"),
        ("/bars?series=KBF", 400, "`KBF` is not a series"),
        ("/gaps?cause=gremlins", 400, "`gremlins` is not a cause"),
        ("/coverage?interval=1d&by=week", 400, "`week` is neither session nor month"),
        ("/coverage?interval=1d&from=2025-04-09&to=2025-04-01", 400, "is empty"),
        ("/runs/999", 404, "no run 999"),
        ("/runs/first", 400, "first"),
        ("/runs?collector=nightly", 404, "no collector `nightly`"),
        ("/fetches/999/payload", 404, "no fetch 999"),
        ("/nothing", 404, "nothing at GET /api/v1/nothing"),
    ] {
        let response = service.ask(path).await;
        assert_eq!(response.status(), status, "{path}");
        assert_eq!(response.headers()["content-type"], "application/problem+json", "{path}");
        let problem: serde_json::Value = response.json().await.unwrap();
        assert!(problem["detail"].as_str().unwrap().contains(words), "{path}: {problem}");
        assert_eq!(problem["status"], status);
    }
    for (path, body, status, words) in [
        ("/runs", json!({ "collector": "daily", "instruments": ["ZZZ"] }), 404, "no instrument `ZZZ`"),
        ("/runs", json!({ "collector": "daily", "speed": 9 }), 400, "unknown field `speed`"),
        ("/repairs", json!({ "gaps": [] }), 400, "name at least one gap"),
        ("/repairs", json!({ "gaps": ["KBF"] }), 400, "`KBF` is not the id of a gap: it has no @; ids read like KBF/1m/harbour@"),
        ("/repairs", json!({ "gaps": ["KBF/1d/harbour@2025-04-10T02:30:00Z"] }), 400, "a daily gap begins on a date"),
        ("/repairs", json!({ "gaps": ["KBF/1m/harbour@2025-04-10"] }), 400, "an intraday gap begins at an instant"),
        ("/repairs", json!({ "gaps": ["KBF/1m/harbour@noon"] }), 400, "`noon` is neither a trade date like 2025-04-10"),
        ("/repairs", json!({ "gaps": ["KBF/fortnight/harbour@2025-04-10"] }), 400, "fortnight"),
        ("/repairs", json!({ "gaps": ["KBF/1d/harbour@2025-04-01", "ZZZ/1d/harbour@2025-04-01"] }), 404, "no instrument `ZZZ`"),
        ("/excuses", json!({ "gaps": ["KBF/1d/harbour@2025-04-01"], "by": "mere", "note": "x" }), 404, "it may have been closed"),
        (
            "/excuses",
            json!({ "gaps": ["KBF/1d/harbour@2025-04-01"], "by": "mere", "note": "x".repeat(70_000) }),
            413,
            "larger than 65536 bytes",
        ),
    ] {
        let (got, problem) = service.post(path, &body).await;
        assert_eq!(got, status, "{path}: {problem}");
        assert!(problem["detail"].as_str().unwrap().contains(words), "{path}: {problem}");
    }
    let empty = service.text("/bars?series=KBF/1d/harbour&from=2031-01-01").await;
    assert_eq!(empty, "date,open,high,low,close,volume\r\n", "an empty range is an empty file with a header");
}

#[tokio::test(flavor = "multi_thread")]
async fn answers_can_be_validated_compressed_and_are_for_this_host_only() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "daily", "-i", "KBF"]).code, 0);
    let url = format!("{}/api/v1/bars?series=KBF/1d/harbour", service.url);
    let first = client().get(&url).send().await.unwrap();
    let tag = first.headers()["etag"].clone();
    assert_eq!(first.headers()["mizuno-series"], "KBF/1d/harbour");
    let plain = first.bytes().await.unwrap();
    let again = client().get(&url).header("If-None-Match", &tag).send().await.unwrap();
    assert_eq!((again.status().as_u16(), again.bytes().await.unwrap().len()), (304, 0));
    let other = client().get(format!("{url}&columns=date")).header("If-None-Match", &tag).send().await.unwrap();
    assert_eq!(other.status(), 200, "another question has another validator");

    let packed = reqwest::Client::builder().no_proxy().no_gzip().no_zstd().build().unwrap();
    let packed = packed.get(&url).header("Accept-Encoding", "gzip").send().await.unwrap();
    assert_eq!(packed.headers()["content-encoding"], "gzip");
    assert!(packed.bytes().await.unwrap().len() * 2 < plain.len());

    let elsewhere = client().get(&url).header("Host", "prices.example").send().await.unwrap();
    assert_eq!(elsewhere.status(), 403, "a name that points here is not this host");
    let document = service.get("/openapi.json").await;
    assert_eq!(document["openapi"].as_str().unwrap().split('.').next(), Some("3"));
    let committed = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/openapi.json")).unwrap();
    assert_eq!(document, serde_json::from_str::<serde_json::Value>(&committed).unwrap(), "run `make openapi`");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_service_a_newer_database_and_an_open_address_are_refused() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    let second = Said::of(bench.command().output().unwrap());
    assert_eq!(second.code, 1);
    assert!(second.err.contains("in use by another mizuno (process "), "{}", second.err);
    assert_eq!(service.stop(), Some(0));

    let open = Said::of(
        common::mizuno()
            .args(["serve", "--listen", "0.0.0.0:0", "--config"])
            .arg(bench.config())
            .arg("--data")
            .arg(bench.data())
            .output()
            .unwrap(),
    );
    assert!(open.code == 1 && open.err.contains("only loopback"), "{}", open.err);

    let mut database = bench.database().await;
    sqlx::query(
        "INSERT INTO _sqlx_migrations (version, description, success, checksum, execution_time) VALUES (9999, 'later', 1, x'00', 0)",
    )
    .execute(&mut database)
    .await
    .unwrap();
    database.close().await.unwrap();
    let newer = Said::of(bench.command().output().unwrap());
    assert_eq!(newer.code, 1);
    assert!(newer.err.contains("written by a newer mizuno (its schema has version 9999"), "{}", newer.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_broken_configuration_is_refused_with_file_and_line() {
    let bench = Bench::new(Faults::default());
    let check = || Said::of(common::mizuno().arg("check").arg(bench.config()).output().unwrap());
    assert_eq!(check().code, 0, "{:?}", check());
    bench.change("sources/harbour.toml", "calls_per_minute = 600", "calls_per_minute = \"many\"");
    bench.change("venues/aldx.toml", "Pacific/Auckland", "Pacific/Oakland");
    let said = check();
    assert_eq!(said.code, 1);
    assert!(said.err.contains("sources/harbour.toml:7: invalid type: string \"many\", expected u32"), "{}", said.err);
    assert!(said.err.contains("venues/aldx.toml:3: `Pacific/Oakland` is not an IANA time zone"), "{}", said.err);
    let refused = Said::of(bench.command().output().unwrap());
    assert_eq!(refused.code, 1);
    assert!(refused.err.contains("harbour.toml:7"), "{}", refused.err);
}

#[test]
fn no_service_at_the_address_is_exit_code_4() {
    let said = Said::of(common::mizuno().args(["status", "--service", "http://127.0.0.1:9"]).output().unwrap());
    assert_eq!(said.code, 4);
    assert!(said.err.contains("nothing listens there") && said.err.contains("mizuno serve"), "{}", said.err);
}

/// What a file cannot hold is refused with its reason, however late in the answer it stands, as long as no byte has left.
#[tokio::test(flavor = "multi_thread")]
async fn a_workbook_that_cannot_be_written_is_refused_and_not_broken_off() {
    let bench = Bench::new(Faults::default());
    let late: mizuno_core::Timestamp = "2025-04-08T22:00:00Z".parse().unwrap();
    bench.own_minutes("2025-03-11", "time,o,h,l,c,v", move |_, at| {
        format!("{at},10.00,11.00,9.00,10.00,{}\n", if at == late { "12345678901234567" } else { "100" })
    });
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "own"]).code, 0);
    let asked = "/bars?series=KBF/1m/own&format=xlsx";
    let refused = service.ask(asked).await;
    assert_eq!(refused.status(), 400);
    let why = refused.text().await.unwrap();
    assert!(why.contains("12345678901234567 in the column volume has more digits than a workbook can give back"), "{why}");
    let before = service.ask(&format!("{asked}&to=2025-04-08")).await;
    assert_eq!(before.status(), 200);
    assert!(before.bytes().await.unwrap().starts_with(b"PK"), "what fits is written");
    let csv = service.text("/bars?series=KBF/1m/own").await;
    assert!(csv.lines().count() > 6_000 && csv.contains("12345678901234567"));
}
