//! One question, one answer: the same bars in every format, the same bytes after a restart; and whatever is asked, in
//! whatever words, an answer or a problem that names what is wrong.

use crate::common::{Bench, Service, client, parquet::of_parquet};
use mizuno_sim::faults::Faults;
use rand::{Rng, SeedableRng, seq::IndexedRandom};
use rand_pcg::Pcg64Mcg;
use serde_json::Value;

/// Rows of text fields in the order of the columns; an absent value is empty.
type Rows = Vec<Vec<String>>;

fn of_csv(text: &str) -> (Vec<String>, Rows) {
    let mut lines = text.lines().map(|l| l.split(',').map(str::to_owned).collect::<Vec<_>>());
    (lines.next().unwrap(), lines.collect())
}

/// Numbers with the digits they were printed with, which a JSON number read as a float would lose.
fn of_object(columns: &[String], text: &str) -> Vec<String> {
    let object: std::collections::HashMap<String, Box<serde_json::value::RawValue>> = serde_json::from_str(text).unwrap();
    assert_eq!(object.len(), columns.len(), "{text}");
    let field = |c: &String| object.get(c).unwrap_or_else(|| panic!("no {c} in {text}")).get().trim_matches('"').replace("null", "");
    columns.iter().map(field).collect()
}

fn of_json(columns: &[String], text: &str) -> Rows {
    let objects: Vec<Box<serde_json::value::RawValue>> = serde_json::from_str(text).unwrap();
    objects.iter().map(|o| of_object(columns, o.get())).collect()
}

async fn collected() -> (Bench, Service) {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 60.0, Faults::of_the_demo(), false);
    let service = bench.serve();
    for (collector, symbols) in [
        ("aldx-minutes", &["OXB", "KBF"][..]),
        ("lodestar-minutes", &["OXB", "WIG"]),
        ("cellar-minutes", &["OXB"]),
        ("aldx-daily", &["KBF", "SME"]),
        ("lodestar-daily", &["SME"]),
    ] {
        let mut args = vec!["collect", collector, "--from", "2025-03-24"];
        args.extend(symbols.iter().flat_map(|s| ["-i", s]));
        let said = service.cli(&args);
        assert!([0, 3].contains(&said.code), "{said:?}");
    }
    (bench, service)
}

#[tokio::test(flavor = "multi_thread")]
async fn every_format_tells_the_same_bars_and_the_same_bytes_after_a_restart() {
    let (bench, service) = collected().await;
    let mut dice = Pcg64Mcg::seed_from_u64(17);
    let mut asked = vec![];
    let mut bars = 0;
    for _ in 0..40 {
        let series = ["OXB/1m/golden", "OXB/1m/harbour", "WIG/1m/lodestar", "KBF/1d/harbour", "SME/1d/golden", "SME/1d/lodestar"];
        let (from, days) = (dice.random_range(24..40), dice.random_range(0..6));
        let date = |d: i32| "2025-03-01".parse::<mizuno_core::TradeDate>().unwrap().plus(d - 1);
        let mut question = format!("/bars?series={}&from={}&to={}", series.choose(&mut dice).unwrap(), date(from), date(from + days));
        if dice.random_bool(0.3) {
            question += "&columns=time,close,volume";
        }
        // A file that says of itself what it is names its instant, and is the same when it is asked for as of that.
        let as_of = service.ask(&question).await.headers()["mizuno-as-of"].to_str().unwrap().to_owned();
        question += &format!("&as_of={as_of}");
        let csv = service.text(&format!("{question}&format=csv")).await;
        let (columns, rows) = of_csv(&csv);
        bars += rows.len();
        let ndjson = service.text(&format!("{question}&format=ndjson")).await;
        assert_eq!(ndjson.lines().map(|l| of_object(&columns, l)).collect::<Rows>(), rows, "{question}");
        assert_eq!(of_json(&columns, &service.text(&format!("{question}&format=json")).await), rows, "{question}");
        let parquet = service.ask(&format!("{question}&format=parquet")).await.bytes().await.unwrap().to_vec();
        assert_eq!(of_parquet(&columns, parquet.clone()), rows, "{question}");
        asked.push((question, csv, parquet));
    }
    assert!(bars > 5_000, "something was compared: {bars}");
    assert_eq!(service.stop(), Some(0));
    let service = bench.serve();
    for (question, csv, parquet) in asked {
        assert_eq!(service.text(&format!("{question}&format=csv")).await, csv, "{question}");
        let again = service.ask(&format!("{question}&format=parquet")).await.bytes().await.unwrap();
        assert!(again == parquet, "{question}: the same bytes");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_range_in_pieces_is_the_range() {
    let (_bench, service) = collected().await;
    let weekend = service.text("/bars?series=OXB/1m/harbour&from=2025-03-28&to=2025-03-30").await;
    assert_eq!(weekend, "time,open,high,low,close,volume\r\n", "a holiday and a weekend have no bars, and asking is no mistake");
    let whole = service.text("/bars?series=OXB/1m/golden&from=2025-03-31T21:00:00Z&to=2025-04-04T06:00:00Z").await;
    let mut dice = Pcg64Mcg::seed_from_u64(5);
    let (first, last) = ("2025-03-31T21:00:00Z", "2025-04-04T06:00:00Z");
    let at = |text: &str| text.parse::<mizuno_core::Timestamp>().unwrap();
    for _ in 0..6 {
        let mut cuts: Vec<i64> = (0..4).map(|_| dice.random_range(at(first).0..at(last).0) / 1_000_000 * 1_000_000).collect();
        cuts.extend([at(first).0, at(last).0]);
        cuts.sort();
        cuts.dedup();
        let mut pieces = String::new();
        for cut in cuts.windows(2) {
            let [from, to] = [cut[0], cut[1]].map(mizuno_core::Timestamp);
            let piece = service.text(&format!("/bars?series=OXB/1m/golden&from={from}&to={to}")).await;
            let (header, rows) = piece.split_once("\r\n").unwrap();
            pieces += if pieces.is_empty() { &piece } else { rows };
            assert!(whole.starts_with(header));
        }
        assert_eq!(pieces, whole, "cut at {cuts:?}");
    }
}

/// Values that a person or a program might give for anything, right and wrong.
const VALUES: [&str; 32] = [
    "",
    "KBF",
    "OXB/1m/harbour",
    "OXB/1m/golden",
    "KBF/1d/harbour@2025-04-09",
    "no/such/series",
    "1m",
    "1d",
    "7m",
    "0s",
    "-1",
    "0",
    "1",
    "99999999999999999999",
    "2025-04-09",
    "2025-02-30",
    "9999-12-31",
    "-9999-01-01",
    "2025-04-09T00:00:00Z",
    "2025-04-09T00:00:00",
    "true",
    "golden",
    "harbour",
    "any",
    "left-out",
    "Pacific/Auckland",
    "Mars/Olympus",
    "parquet",
    "time,close",
    "%27;drop table bar;--",
    "%00",
    "%F0%9F%90%9F",
];

#[tokio::test(flavor = "multi_thread")]
async fn no_question_upsets_the_service() {
    let (_bench, service) = collected().await;
    let document = service.get("/openapi.json").await;
    let mut dice = Pcg64Mcg::seed_from_u64(23);
    let mut refused = 0;
    for _ in 0..700 {
        let paths: Vec<(&String, &Value)> =
            document["paths"].as_object().unwrap().iter().filter(|(p, o)| o.get("get").is_some() && !p.ends_with("/events")).collect();
        let (path, operations) = paths.choose(&mut dice).unwrap();
        let mut address = path.trim_start_matches("/api/v1").to_owned();
        let mut query = vec![];
        for parameter in operations["get"]["parameters"].as_array().into_iter().flatten() {
            let name = parameter["name"].as_str().unwrap();
            let value = VALUES.choose(&mut dice).unwrap();
            if parameter["in"] == "path" {
                address = address.replace(&format!("{{{name}}}"), &value.replace('/', "%2F"));
            } else if parameter["required"] == true || dice.random_bool(0.35) {
                query.push(format!("{name}={value}"));
            }
        }
        let question = format!("{address}?{}", query.join("&"));
        let response = service.ask(&question).await;
        let status = response.status().as_u16();
        let kind = response.headers().get("content-type").map(|v| v.to_str().unwrap().to_owned()).unwrap_or_default();
        assert!(status < 500, "{question}: {status} {}", response.text().await.unwrap());
        if status >= 400 {
            refused += 1;
            assert_eq!(kind, "application/problem+json", "{question}: {status}");
            let problem: Value = response.json().await.unwrap();
            assert!(problem["detail"].as_str().is_some_and(|d| d.len() > 8), "{question}: {problem}");
            assert_eq!(problem["status"].as_u64(), Some(u64::from(status)), "{question}: {problem}");
        }
    }
    assert!((100..650).contains(&refused), "questions of both kinds were asked: {refused} refused");
}

#[tokio::test(flavor = "multi_thread")]
async fn no_order_upsets_the_service_and_a_refused_one_changes_nothing() {
    let (_bench, service) = collected().await;
    let kept = async || {
        let series = service.get("/series").await;
        let bars: Vec<(Value, Value)> = series.as_array().unwrap().iter().map(|s| (s["name"].clone(), s["bars"].clone())).collect();
        (bars, service.get("/excuses").await, service.get("/runs?most=1000").await)
    };
    let before = kept().await;
    let bodies = [
        "",
        "{",
        "[]",
        "null",
        "{}",
        "7",
        "{\"collector\":7}",
        "{\"collector\":\"no-such\"}",
        "{\"collector\":\"aldx-daily\",\"from\":\"yesterday\"}",
        "{\"collector\":\"aldx-daily\",\"from\":\"2025-04-09\",\"to\":\"2025-04-01\"}",
        "{\"collector\":\"aldx-daily\",\"symbols\":[\"NIL\"]}",
        "{\"gaps\":[\"x\"]}",
        "{\"gaps\":[\"KBF/1d/harbour@noon\"]}",
        "{\"gaps\":[\"NIL/1d/harbour@2025-04-09\"],\"by\":\"mere\",\"note\":\"x\"}",
        "{\"gap\":\"KBF/1d/harbour@2025-04-09\",\"by\":\"\",\"note\":\"\"}",
        "{\"take\":\"perhaps\"}",
        "{\"source\":\"no-such\",\"instrument\":\"KBF\"}",
        "{\"unheard_of\":true}",
    ];
    for path in [
        "/runs",
        "/repairs",
        "/excuses",
        "/audits",
        "/tries",
        "/quarantine/999/decision",
        "/runs/999/resume",
        "/runs/999/cancel",
        "/lists/no/such",
    ] {
        for body in bodies {
            let sent = client().post(format!("{}/api/v1{path}", service.url)).header("content-type", "application/json").body(body);
            let response = sent.send().await.unwrap();
            let status = response.status().as_u16();
            let text = response.text().await.unwrap();
            assert!((400..500).contains(&status), "{path} {body}: {status} {text}");
            let problem: Value = serde_json::from_str(&text).unwrap_or_else(|_| panic!("{path} {body}: {text}"));
            assert!(problem["detail"].as_str().is_some_and(|d| d.len() > 8), "{path} {body}: {problem}");
        }
    }
    assert_eq!(kept().await, before);
}
