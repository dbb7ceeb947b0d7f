//! Who may ask, how it may be said, and what comes back: hosts, pages, pasted profiles, spellings, methods and validators.

use crate::common::{self, Bench, client, mizuno};
use mizuno_sim::faults::Faults;
use reqwest::Method;
use serde_json::json;
use std::{fs, process::Stdio};

#[tokio::test(flavor = "multi_thread")]
async fn only_the_connections_own_host_counts_and_only_our_own_pages_change_something() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    let status = format!("{}/api/v1/status", service.url);
    for (name, value) in [("X-Forwarded-Host", "localhost"), ("Forwarded", "host=localhost"), ("X-Forwarded-For", "127.0.0.1")] {
        let sent = client().get(&status).header("Host", "evil.example").header(name, value).send().await.unwrap();
        assert_eq!(sent.status(), 403, "{name}: {value}");
    }
    let host = service.url.trim_start_matches("http://").to_owned();
    for (method, path) in [
        (Method::POST, "/reload"),
        (Method::POST, "/runs/1/cancel"),
        (Method::POST, "/runs"),
        (Method::POST, "/excuses"),
        (Method::DELETE, "/excuses/1"),
        (Method::POST, "/tries"),
        (Method::POST, "/lists/almanack/splits"),
    ] {
        let send = |origin: String, site: &'static str| {
            let request = client().request(method.clone(), format!("{}/api/v1{path}", service.url)).json(&json!({}));
            request.header("Origin", origin).header("Sec-Fetch-Site", site).send()
        };
        for (origin, site) in
            [("http://evil.example".to_owned(), "cross-site"), ("null".to_owned(), "none"), (format!("http://{host}"), "same-site")]
        {
            let said = send(origin.clone(), site).await.unwrap();
            assert_eq!(said.status(), 403, "{method} {path} from {origin}, {site}");
        }
        assert_ne!(send(format!("http://{host}"), "same-origin").await.unwrap().status(), 403, "{path} from the console");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pasted_profile_reads_no_file_no_variable_and_asks_nobody_new() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    let secret = bench.dir.path().join("secret.csv");
    fs::write(&secret, "date,o,h,l,c,v\n2025-04-09,1,1,1,1,1\nTOP-SECRET\n").unwrap();
    let text = fs::read_to_string(bench.config().join("sources/harbour.toml")).unwrap();
    let base = text.lines().find(|l| l.starts_with("base")).unwrap().to_owned();
    let folder = format!("base = \"folder:{}\"", bench.dir.path().display());
    let with_key = format!("{base}\n[key]\nenv = \"MIZUNO_TEST_SECRET\"\nquery = \"k\"");
    for (profile, why) in [
        (text.replace(&base, &folder), "reads files of this machine"),
        (text.replace(&base, &with_key), "uses the environment variable MIZUNO_TEST_SECRET"),
        (text.replace(&base, "base = \"http://127.0.0.1:9\""), "asks http://127.0.0.1:9, which no source of the configuration does"),
    ] {
        let (status, said) = service.post("/tries", &json!({ "profile": profile, "instrument": "KBF" })).await;
        assert_eq!(status, 403, "{why}: {said}");
        assert!(said["detail"].as_str().unwrap().contains(why) && !said.to_string().contains("TOP-SECRET"), "{said}");
    }
    let (status, said) = service.post("/tries", &json!({ "profile": text, "instrument": "KBF" })).await;
    assert_eq!((status, said["rows"].as_u64() > Some(0)), (200, true), "the address of a source at work may be tried: {said}");
    assert_eq!(service.stop(), Some(0));

    // Started so, it may do all of that.
    let mut command = bench.command();
    command.arg("--pasted-profiles").env("MIZUNO_TEST_SECRET", "s3cret-value");
    let service = common::Service::start(command);
    let asked = service.post("/tries", &json!({ "profile": text.replace(&base, &with_key), "instrument": "KBF" })).await;
    assert!(asked.0 == 200 && !asked.1.to_string().contains("s3cret-value"), "{}", asked.1);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_source_sends_never_reaches_a_terminal_as_a_command() {
    let bench = Bench::new(Faults::default());
    let base = bench.talking(|_, _, _| (404, "\u{1b}[2J\u{1b}[31mall is well\u{7}".to_owned()));
    let port = fs::read_to_string(bench.config().join("sources/harbour.toml")).unwrap();
    let old = port.lines().find_map(|l| l.strip_prefix("base = \"")).unwrap().trim_end_matches('"').to_owned();
    bench.change("sources/harbour.toml", &old, &base);
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "daily", "-i", "KBF", "--from", "2025-03-01"]).code, 3);
    for args in [&["fetches"][..], &["fetches", "1"], &["gaps"], &["gaps", "--cause", "any"], &["status"], &["quarantine"]] {
        let said = service.cli(args);
        assert!(!said.out.contains('\u{1b}') && !said.err.contains('\u{1b}'), "{args:?}: {said:?}");
    }
    let whole = service.cli(&["fetches", "1", "--json"]).out;
    let fetch: serde_json::Value = serde_json::from_str(&whole).unwrap();
    assert!(fetch["first_lines"][0].as_str().unwrap().contains("\u{1b}[2J"), "a program gets it whole: {whole}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_instant_means_the_same_in_every_spelling_and_nothing_is_cut_off() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "minutes", "-i", "KBF", "--from", "2025-04-08"]).code, 0);
    let rows = async |range: &str| service.text(&format!("/bars?series=KBF/1m/harbour&{range}")).await.lines().count() - 1;
    let five = rows("from=2025-04-08T22:00:00Z&to=2025-04-08T22:05:00Z").await;
    assert_eq!(five, 5);
    for range in [
        "from=2025-04-09T10:00:00%2B12:00&to=2025-04-09T10:05:00%2B12:00",
        "from=2025-04-08T22:00:00.000000%2B00:00&to=2025-04-08T22:05:00.5Z",
        "from=2025-04-08T22:00:00Z&to=2025-04-09T10:05:00%2B12:00",
    ] {
        assert!((5..=6).contains(&rows(range).await), "{range}");
    }
    for (range, words) in [
        ("from=2025-04-09T10:00:00", "from: `2025-04-09T10:00:00` has no zone; write Z behind it"),
        ("from=2025-04-09+10:00", "has no zone"),
        ("as_of=2025-04-09", "is a day, and what was known changes in the course of one"),
        ("as_of=2025-04-09T10:00", "has no zone"),
        ("from=2025-04-09&from=2025-04-08", "given twice"),
        ("from=", "neither a trade date"),
    ] {
        let refused = service.ask(&format!("/bars?series=KBF/1m/harbour&{range}")).await;
        assert_eq!(refused.status(), 400, "{range}");
        let detail = refused.json::<serde_json::Value>().await.unwrap()["detail"].as_str().unwrap().to_owned();
        assert!(detail.contains(words), "{range}: {detail}");
    }
    let excuse = [
        "excuse",
        "KBF/1m/harbour",
        "--since",
        "2025-04-09T10:00:00+12:00",
        "--until",
        "2025-04-09T10:05:00+12:00",
        "--by",
        "mere",
        "--note",
        "a halt",
    ];
    let said = service.cli(&excuse);
    assert!(
        said.code == 0 && said.out.contains("from 2025-04-08T22:00:00Z to 2025-04-08T22:05:00Z"),
        "five minutes, not a session: {said:?}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn what_contradicts_itself_or_is_unknown_is_refused_with_its_name() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "daily", "-i", "KBF", "--from", "2025-03-01"]).code, 0);
    for (path, status, words) in [
        ("/bars?series=KBF/1d/harbour&source=lodestar", 400, "source: lodestar contradicts the series KBF/1d/harbour"),
        ("/bars?series=KBF/1d/harbour&interval=1m", 400, "interval: 1m contradicts"),
        ("/bars?series=KBF/1d/harbour&instrument=OXB", 400, "instrument: OXB contradicts"),
        ("/bars?series=KBF/1d/harbour&columns=close,close", 400, "columns: `close` is named twice"),
        ("/gaps?source=nope", 404, "no source `nope`"),
        ("/gaps?series=KBF/1d/nope", 404, "no series `KBF/1d/nope`"),
        ("/holes?interval=fortnight", 400, "interval: "),
        ("/findings?source=nope", 404, "no source `nope`"),
        ("/restatements?source=nope", 404, "no source `nope`"),
        ("/fetches?state=nope", 400, "state: `nope` is none"),
        ("/fetches?run=99", 404, "no run 99"),
        ("/fetches?run=x", 400, "run: `x` cannot be taken"),
        ("/status?colour=red", 400, "colour: "),
        ("/checks?x=1", 400, "x: "),
    ] {
        let response = service.ask(path).await;
        assert_eq!(response.status(), status, "{path}");
        let problem: serde_json::Value = response.json().await.unwrap();
        let detail = problem["detail"].as_str().unwrap();
        assert!(detail.contains(words) && !detail.contains("mizuno "), "{path}: {detail}");
    }
    let file = bench.dir.path().join("x.doc");
    let said = service.cli(&["bars", "KBF", "-o", file.to_str().unwrap()]);
    assert!(said.code == 2 && said.err.contains("no format is called by the ending .doc") && !file.exists(), "{said:?}");
    let said = service.cli(&["bars", "ZZZ", "--json"]);
    let error: serde_json::Value = serde_json::from_str(&said.err).unwrap();
    assert!(error["exit_code"] == 1 && error["error"].as_str().unwrap().contains("no instrument `ZZZ`"), "{said:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn answers_are_as_their_standard_says() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "daily", "-i", "KBF"]).code, 0);
    let url = |path: &str| format!("{}/api/v1{path}", service.url);
    let head = client().head(url("/bars?series=KBF/1d/harbour")).send().await.unwrap();
    assert!(head.status() == 200 && head.headers().contains_key("etag") && head.headers().contains_key("mizuno-as-of"));
    assert!(head.bytes().await.unwrap().is_empty());
    for (method, path, allow) in
        [(Method::DELETE, "/status", "GET, HEAD"), (Method::PUT, "/runs/7", "GET, HEAD"), (Method::GET, "/reload", "POST")]
    {
        let refused = client().request(method.clone(), url(path)).send().await.unwrap();
        assert_eq!((refused.status().as_u16(), refused.headers()["allow"].to_str().unwrap()), (405, allow), "{method} {path}");
    }
    assert_eq!(client().get(url("/nowhere")).send().await.unwrap().status(), 404);
    assert_eq!(service.post("/runs/1/cancel", &json!(null)).await.0, 409, "what is over cannot be cancelled");

    // One validator a coding, and one for every listing.
    let plain = reqwest::Client::builder().no_proxy().no_gzip().no_zstd().build().unwrap();
    for path in ["/bars?series=KBF/1d/harbour", "/runs", "/series", "/excuses", "/instruments", "/fetches"] {
        let get = |coding: Option<&'static str>, tag: Option<String>| {
            let mut request = plain.get(url(path));
            if let Some(coding) = coding {
                request = request.header("Accept-Encoding", coding);
            }
            tag.map_or(request.try_clone().unwrap(), |tag| request.header("If-None-Match", tag)).send()
        };
        let tag = |r: &reqwest::Response| r.headers()["etag"].to_str().unwrap().to_owned();
        let (whole, packed) = (get(None, None).await.unwrap(), get(Some("gzip"), None).await.unwrap());
        let coded = packed.headers().contains_key("content-encoding");
        assert_eq!(tag(&whole) != tag(&packed), coded, "{path}: {} {}", tag(&whole), tag(&packed));
        for (coding, tag) in [(None, tag(&whole)), (Some("gzip"), tag(&packed))] {
            let again = get(coding, Some(tag.clone())).await.unwrap();
            assert_eq!((again.status().as_u16(), again.headers()["etag"].to_str().unwrap()), (304, tag.as_str()), "{path} {coding:?}");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_output_is_an_error() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "daily", "-i", "KBF", "--from", "2025-03-01"]).code, 0);
    for args in [&["series"][..], &["runs"], &["bars", "KBF"], &["status", "--json"]] {
        let full = fs::OpenOptions::new().write(true).open("/dev/full").unwrap();
        let ended = mizuno().args(args).args(["--service", &service.url]).stdout(full).stderr(Stdio::piped()).output().unwrap();
        let said = String::from_utf8_lossy(&ended.stderr).into_owned();
        assert!(ended.status.code() == Some(1) && said.contains("cannot write"), "{args:?}: {:?} {said}", ended.status);
    }
}
