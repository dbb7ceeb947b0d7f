//! The network interface as its own document describes it, and events as they happen.

use crate::common::{Bench, client, mizuno};
use futures_util::StreamExt;
use mizuno_sim::faults::Faults;
use serde_json::Value;
use std::{collections::BTreeSet, fs, path::Path, time::Duration};

#[tokio::test(flavor = "multi_thread")]
async fn the_committed_document_is_the_one_the_service_serves() {
    let printed = String::from_utf8(mizuno().arg("openapi").output().unwrap().stdout).unwrap();
    let committed = fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/openapi.json")).unwrap();
    assert!(printed == committed, "docs/openapi.json is not what `mizuno openapi` prints; run `make openapi`");
    let service = Bench::new(Faults::default());
    let service = service.serve();
    let served = service.get("/openapi.json").await;
    assert_eq!(served, serde_json::from_str::<Value>(&committed).unwrap());
    assert!(served["openapi"].as_str().unwrap().starts_with("3.1"));
}

#[tokio::test(flavor = "multi_thread")]
async fn every_reading_call_answers_as_described_on_an_empty_service_and_on_a_full_one() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 60.0, Faults::of_the_demo(), false);
    let service = bench.serve();
    let document = service.get("/openapi.json").await;
    let paths = document["paths"].as_object().unwrap();
    let known: BTreeSet<&str> = paths.keys().map(String::as_str).collect();
    for path in
        ["/api/v1/status", "/api/v1/bars", "/api/v1/tries", "/api/v1/lists/{source}/{list}", "/api/v1/lineage", "/api/v1/runs/{id}/resume"]
    {
        assert!(known.contains(path), "{path} is described: {known:?}");
    }
    for full in [false, true] {
        if full {
            service.cli(&["collect", "aldx-daily", "-i", "KBF", "-i", "CRK", "--from", "2025-03-24"]);
            service.cli(&["lists", "almanack/splits"]);
        }
        for (path, operations) in paths.iter().filter(|(p, o)| {
            o.get("get").is_some() && !p.contains('{') && !["/events", "/picture", "/translation"].iter().any(|end| p.ends_with(end))
        }) {
            let get = &operations["get"];
            let needs = |name: &str| get["parameters"].as_array().into_iter().flatten().any(|p| p["name"] == name && p["required"] == true);
            let mut query = vec![];
            for (name, value) in [
                ("instrument", "KBF"),
                ("interval", "1d"),
                ("series", "KBF/1d/harbour"),
                ("at", "2025-04-09"),
                ("here", "KBF/1d/harbour"),
                ("there", "CRK/1d/harbour"),
            ] {
                if needs(name) {
                    query.push(format!("{name}={value}"));
                }
            }
            if path.ends_with("/bars") || path.ends_with("/explanation") {
                query.push("instrument=KBF&format=json".to_owned());
            }
            let response = service.ask(&format!("{}?{}", path.trim_start_matches("/api/v1"), query.join("&"))).await;
            let (status, kind) = (response.status().as_u16(), response.headers()["content-type"].to_str().unwrap().to_owned());
            let body: Value = response.json().await.unwrap_or_else(|e| panic!("{path}: {e}"));
            // Without bars there is nothing to compare, trace or serve; that is a problem with words, not a crash.
            let may_lack = ["/bars", "/explanation", "/comparison", "/lineage"].iter().any(|p| path.ends_with(p));
            if !full && may_lack {
                assert_eq!((status, kind.as_str()), (404, "application/problem+json"), "{path}: {body}");
                assert!(body["detail"].as_str().unwrap().len() > 10);
            } else {
                assert_eq!((status, kind.as_str()), (200, "application/json"), "{path}: {body}");
            }
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn events_tell_of_runs_and_fetches_while_they_happen() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    let response = client().get(format!("{}/api/v1/events", service.url)).send().await.unwrap();
    assert!(response.headers()["content-type"].to_str().unwrap().starts_with("text/event-stream"));
    let mut stream = response.bytes_stream();
    let listening = tokio::spawn(async move {
        let mut text = String::new();
        while let Ok(Some(Ok(piece))) = tokio::time::timeout(Duration::from_secs(20), stream.next()).await {
            text += &String::from_utf8_lossy(&piece);
            if text.contains("\"state\":\"complete\"") {
                break;
            }
        }
        text
    });
    assert_eq!(service.cli(&["collect", "daily", "-i", "KBF", "--from", "2025-04-01"]).code, 0);
    let text = listening.await.unwrap();
    let events: Vec<Value> =
        text.lines().filter_map(|l| l.strip_prefix("data:")).map(|d| serde_json::from_str(d.trim()).unwrap()).collect();
    let kinds: Vec<&str> = events.iter().map(|e| e["event"].as_str().unwrap()).collect();
    assert!(kinds.first() == Some(&"run") && kinds.contains(&"fetch") && kinds.last() == Some(&"run"), "{kinds:?}");
    let fetch = events.iter().find(|e| e["event"] == "fetch").unwrap();
    assert_eq!((fetch["fetch"]["series"].as_str(), fetch["fetch"]["failure"].is_null()), (Some("KBF/1d/harbour"), true));
}

#[tokio::test(flavor = "multi_thread")]
async fn tables_are_for_people_and_json_for_programs_on_every_command() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 60.0, Faults::of_the_demo(), false);
    let service = bench.serve();
    service.cli(&["collect", "aldx-daily", "-i", "KBF", "-i", "CRK", "--from", "2025-03-24"]);
    service.cli(&["lists", "almanack/splits"]);
    for command in [
        &["status"][..],
        &["instruments", "kelp"],
        &["series"],
        &["coverage", "1d"],
        &["gaps", "--cause", "any"],
        &["runs"],
        &["fetches"],
        &["quarantine"],
        &["excuses"],
        &["lists"],
        &["lists", "--changes"],
        &["schedule"],
        &["restatements"],
        &["lineage", "KBF/1d/harbour@2025-04-09"],
        &["compare", "KBF/1d/harbour", "CRK/1d/harbour"],
        &["reload"],
    ] {
        let people = service.cli(command);
        assert!([0, 3].contains(&people.code), "{command:?}: {people:?}");
        assert!(!people.out.starts_with(['{', '[']), "{command:?}: {}", people.out);
        assert!(!people.out.contains('\u{1b}'), "no colours in a pipe: {command:?}");
        let programs = service.cli(&[command, &["--json"]].concat());
        assert!(programs.json().is_object() || programs.json().is_array(), "{command:?}");
        let help = mizuno().args(&command[..1]).arg("--help").output().unwrap();
        let help = String::from_utf8_lossy(&help.stdout).into_owned();
        assert!(help.contains("Example"), "`mizuno {} --help` has an example: {help}", command[0]);
    }
}

/// What a stranger sends for a parameter.
const ODD: [&str; 14] = [
    "",
    "x",
    "-1",
    "0",
    "1",
    "99999999999999999999",
    "KBF",
    "KBF/1d/harbour",
    "2025-04-09",
    "2025-04-09T10:00:00",
    "2025-04-09T10:00:00%2B12:00",
    "%00",
    "%F0%9F%A6%80",
    "a%2Fb%3Fc%26d",
];

#[tokio::test(flavor = "multi_thread")]
async fn whatever_is_sent_gets_an_answer_that_the_document_names() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    service.cli(&["collect", "daily", "-i", "KBF", "--from", "2025-03-24"]);
    let document = service.get("/openapi.json").await;
    let http = client();
    let (mut asked, mut statuses) = (0, BTreeSet::new());
    for (path, operations) in document["paths"].as_object().unwrap().iter().filter(|(p, _)| !p.ends_with("/events")) {
        for (method, operation) in operations.as_object().unwrap() {
            let described: BTreeSet<u16> = operation["responses"].as_object().unwrap().keys().map(|k| k.parse().unwrap()).collect();
            let parameters: Vec<&Value> = operation["parameters"].as_array().into_iter().flatten().collect();
            let of = |place: &str| {
                parameters.iter().filter(|p| p["in"] == place).map(|p| p["name"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
            };
            let mut queries = vec![String::new(), "?nope=1".to_owned()];
            for name in of("query") {
                queries.extend(ODD.iter().map(|odd| format!("?{name}={odd}")));
                queries.push(format!("?{name}=1&{name}=2"));
            }
            for value in ["1", "0", "99999", "x", "harbour", "%00"] {
                let filled = of("path").iter().fold(path.clone(), |path, name| path.replace(&format!("{{{name}}}"), value));
                for query in &queries {
                    let url = format!("{}{filled}{query}", service.url);
                    let verb = reqwest::Method::from_bytes(method.to_uppercase().as_bytes()).unwrap();
                    let bodies = if method == "post" {
                        &["", "{", "{}", "[]", "{\"nope\":1}", "{\"collector\":7}", "{\"gaps\":[\"x\"],\"by\":\"\",\"note\":\"\"}"][..]
                    } else {
                        &[""]
                    };
                    for body in bodies {
                        let request = http.request(verb.clone(), &url).header("content-type", "application/json").body(*body);
                        let response = request.send().await.unwrap();
                        let status = response.status().as_u16();
                        asked += 1;
                        statuses.insert(status);
                        assert!(
                            described.contains(&status),
                            "{method} {filled}{query} {body}: {status} is not described: {}",
                            response.text().await.unwrap()
                        );
                        assert!(status < 500, "{method} {filled}{query} {body}: {status}");
                        if status >= 400 {
                            assert_eq!(response.headers()["content-type"], "application/problem+json", "{method} {filled}{query} {body}");
                            let problem: Value = response.json().await.unwrap();
                            assert!(problem["detail"].as_str().is_some_and(|d| !d.is_empty()), "{method} {filled}{query}: {problem}");
                        }
                    }
                }
                if of("path").is_empty() {
                    break;
                }
            }
        }
    }
    println!("{asked} requests, answered with {statuses:?}");
    assert!(asked > 800);
}
