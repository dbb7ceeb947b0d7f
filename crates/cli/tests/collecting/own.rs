//! Sources of one's own through the whole service: a body posted, a token obtained and renewed, symbols of their time;
//! and what the configuration says of ranks, checks, budgets and audits, taken up without a restart.

use crate::common::Bench;
use mizuno_sim::faults::Faults;
use std::sync::{
    Arc, Mutex,
    atomic::{AtomicU32, Ordering},
};

const WORD: &str = "barley-before-breakfast";

fn profile(base: &str, more: &str, request: &str) -> String {
    format!(
        "name = \"own\"\ntitle = \"Own\"\nbase = \"{base}\"\n[limits]\ncalls_per_minute = 600\nburst = 20\nattempts = 2\n{more}\n[[series]]\ninterval = \"1d\"\nvenues = [\"ALDX\"]\nadjusted = \"no\"\ndelay = \"10m\"\nspan_days = 60\n[[series.request]]\n{request}\nstamps = \"%Y-%m-%d\"\nto_included = true\n[series.answer]\nform = \"delimited\"\ncolumns = {{ time = \"date\", open = \"o\", high = \"h\", low = \"l\", close = \"c\", volume = \"v\" }}\nstamp = \"%Y-%m-%d\"\n"
    )
}

fn collector(bench: &Bench, since: &str, symbol: &str, more: &str) {
    let text = format!(
        "name = \"own\"\nsource = \"own\"\nvenue = \"ALDX\"\ninterval = \"1d\"\nsince = \"{since}\"\ninstruments = [\"{symbol}\"]\n{more}\n"
    );
    bench.write("collectors/own.toml", &text);
}

/// A bar for each session between two dates.
fn bars(bench_sessions: &[String], from: &str, to: &str) -> String {
    let within = bench_sessions.iter().filter(|d| from <= d.as_str() && d.as_str() <= to);
    "date,o,h,l,c,v\n".to_owned() + &within.map(|d| format!("{d},10.00,11.00,9.00,10.50,100\n")).collect::<String>()
}

fn sessions(bench: &Bench) -> Vec<String> {
    let until = "2025-04-10".parse().unwrap();
    bench.world.market.calendar().between("2024-12-02".parse().unwrap()..until).iter().map(|s| s.date.to_string()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_under_way_goes_on_with_the_profile_that_was_corrected() {
    let bench = Bench::new(Faults::default());
    // It takes calls, and never answers one.
    let silent = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let dead = format!("http://{}", silent.local_addr().unwrap());
    let dates = sessions(&bench);
    let base = bench.talking(move |path, _, _| {
        let date = |name: &str| path.split(['?', '&']).find_map(|p| p.strip_prefix(name)).unwrap_or_default().to_owned();
        (200, bars(&dates, &date("from="), &date("to=")))
    });
    let request = "get = \"/{symbol}{?from,to}\"";
    bench.write("sources/own.toml", &profile(&dead, "", request));
    collector(&bench, "2025-02-03", "KBF", "");
    let service = bench.serve();
    let first = service.post("/runs", &serde_json::json!({ "collector": "own" })).await.1["id"].clone();
    service.run_when(&first, |run| run["windows"].as_u64() > Some(0)).await;
    // What has nothing to do with its source leaves it alone.
    bench.write("questions/closes.toml", "instruments = [\"KBF\"]\n");
    assert!(!service.cli(&["reload"]).out.contains("stopped"));
    assert_eq!(service.get(&format!("/runs/{first}")).await["state"], "running");

    bench.write("sources/own.toml", &profile(&base, "", request));
    let said = service.cli(&["reload"]);
    assert!(said.out.contains(&format!("run {first} of own: stopped, and taken up again with the profile that own has now")), "{said:?}");
    let ended = service.run_when(&first, |run| run["state"] != "running").await;
    assert_eq!(ended["state"], "interrupted", "{ended}");
    service.settled().await;
    let newest = service.get("/runs?collector=own").await[0].clone();
    assert_eq!((&newest["state"], &newest["reason"]), (&"complete".into(), &"recovery".into()), "{newest}");
    let held = service.text("/bars?series=KBF/1d/own").await;
    assert_eq!(held.lines().count() - 1, sessions(&bench).iter().filter(|d| d.as_str() >= "2025-02-03").count());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_posted_question_with_a_token_that_expires_and_no_secret_anywhere() {
    let bench = Bench::new(Faults::default());
    let (dates, logins) = (sessions(&bench), Arc::new(AtomicU32::new(0)));
    let count = logins.clone();
    let base = bench.talking(move |path, body, key| {
        if path == "/login" {
            let right = body.contains(WORD) && body.contains("mere");
            let n = count.fetch_add(1, Ordering::SeqCst) + 1;
            return if right { (200, format!("{{\"pass\":\"pass-{n}\"}}")) } else { (403, "who?".to_owned()) };
        }
        // The first pass is good for nothing by the time it is used.
        if key != "Bearer pass-2" {
            return (401, format!("{key} has expired"));
        }
        let asked: serde_json::Value = serde_json::from_str(body).unwrap_or_default();
        let date = |name: &str| asked["span"][name].as_str().unwrap_or_default().to_owned();
        (200, bars(&dates, &date("first"), &date("last")))
    });
    let key = "[key]\nenv = \"OWN_WORD\"\nuser_env = \"OWN_USER\"\nheader = \"Authorization\"\nprefix = \"Bearer \"\nlogin = { post = \"/login\", body = { name = \"{user}\", word = \"{key}\" }, token = \"/pass\" }";
    let request = "post = \"/bars\"\nbody = { what = \"{symbol}\", span = { first = \"{from}\", last = \"{to}\" } }";
    bench.write("sources/own.toml", &profile(&base, key, request));
    bench.write(".env", &format!("OWN_WORD={WORD}\nOWN_USER=mere\n"));
    collector(&bench, "2025-02-03", "KBF", "");
    let service = bench.serve();
    let said = service.cli(&["collect", "own"]);
    assert_eq!(said.code, 0, "{said:?}");
    let held = service.text("/bars?series=KBF/1d/own").await;
    assert_eq!(held.lines().count() - 1, sessions(&bench).iter().filter(|d| d.as_str() >= "2025-02-03").count());
    assert!(logins.load(Ordering::SeqCst) <= 3, "a pass that was refused is renewed once, not at every call");
    let mut seen = vec![said.out, said.err];
    for path in ["/fetches", "/runs", "/status", "/lineage?series=KBF/1d/own&at=2025-04-09", "/openapi.json"] {
        seen.push(service.text(path).await);
    }
    seen.push(service.cli(&["try", "own", "KBF"]).out);
    for text in &seen {
        assert!(!text.contains(WORD) && !text.contains("pass-2"), "{text}");
    }
    let database = std::fs::read(bench.data().join("mizuno.db")).unwrap();
    assert!(!database.windows(WORD.len()).any(|w| w == WORD.as_bytes()), "nor in what is kept");

    bench.write(".env", "OWN_WORD=wrong\nOWN_USER=mere\n");
    assert!(service.cli(&["reload"]).out.contains("key of own"), "another key is another source");
    let refused = service.cli(&["collect", "own", "--again", "--from", "2025-04-01"]);
    assert!(refused.code == 3 && refused.out.contains("denied"), "{refused:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_source_that_knows_only_the_name_of_the_time_is_asked_by_it() {
    let bench = Bench::new(Faults::default());
    let (dates, asked) = (sessions(&bench), Arc::new(Mutex::new(vec![])));
    let told = asked.clone();
    let base = bench.talking(move |path, _, _| {
        let (symbol, query) = path.trim_start_matches('/').split_once('?').unwrap();
        let date = |name: &str| query.split('&').find_map(|p| p.strip_prefix(name)).unwrap().to_owned();
        let (from, to) = (date("from="), date("to="));
        told.lock().unwrap().push((symbol.to_owned(), from.clone(), to.clone()));
        let renamed = "2025-02-03";
        match symbol {
            "GUL" if to.as_str() < renamed => (200, bars(&dates, &from, &to)),
            "TRN" if from.as_str() >= renamed => (200, bars(&dates, &from, &to)),
            other => (404, format!("there is no {other} then")),
        }
    });
    let request = "get = \"/{symbol}{?from,to}\"";
    bench.write("sources/own.toml", &profile(&base, "[symbols]\ndated = true", request));
    collector(&bench, "2025-01-06", "TRN", "");
    let service = bench.serve();
    let said = service.cli(&["collect", "own"]);
    assert_eq!(said.code, 0, "{said:?}");
    let asked = asked.lock().unwrap().clone();
    assert!(asked.iter().any(|(s, ..)| s == "GUL") && asked.iter().any(|(s, ..)| s == "TRN"), "{asked:?}");
    assert!(service.cli(&["gaps", "--source", "own"]).err.contains("no gaps"), "one series under two names");
    let line = service.cli(&["lineage", "TRN/1d/own@2025-01-31"]);
    assert!(line.out.contains("/GUL?") && line.out.contains("2025-01-31,10.00"), "{}", line.out);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_large_answer_is_kept_before_what_it_says_and_understood_again_after_a_kill() {
    let bench = Bench::new(Faults::default());
    // With a remark of a kilobyte on each row: more than a megabyte an answer.
    let values = format!("10.00,11.00,9.00,10.50,100,{}", "n".repeat(1_000));
    let asked = bench.own_minutes("2025-04-01", "time,o,h,l,c,v,remark", move |_, at| format!("{at},{values}\n"));
    let service = bench.serve();
    let said = service.cli(&["collect", "own"]);
    assert_eq!(said.code, 0, "{said:?}");
    let fetches = service.get("/fetches").await;
    let fetch = fetches.as_array().unwrap().iter().max_by_key(|f| f["payload_bytes"].as_u64()).unwrap().clone();
    assert!(fetch["state"] == "stored" && fetch["payload_bytes"].as_u64() > Some(1 << 20), "{fetch}");
    let before = service.text("/bars?series=KBF/1m/own").await;
    assert!(before.lines().count() > 1_500, "{}", before.lines().count());
    let line = service.cli(&["lineage", "KBF/1m/own@2025-04-08T03:00:00Z"]);
    assert!(line.out.contains("2025-04-08T03:00:00Z,10.00,11.00"), "{}", line.out);
    assert_eq!(service.stop(), Some(0));

    bench.forget_bars().await;
    let calls = asked.load(Ordering::SeqCst);
    let service = bench.serve();
    assert_eq!(service.text("/bars?series=KBF/1m/own").await, before);
    assert_eq!(asked.load(Ordering::SeqCst), calls, "the network was not needed");
}

#[tokio::test(flavor = "multi_thread")]
async fn ranks_and_checks_are_taken_up_without_a_restart() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 60.0, Faults::of_the_demo(), false);
    let service = bench.serve();
    for collector in ["lodestar-minutes", "cellar-minutes"] {
        service.cli(&["collect", collector, "-i", "WIG", "--from", "2025-04-08", "--to", "2025-04-08"]);
    }
    let source = || {
        let csv = service.cli(&["bars", "WIG", "--interval", "1m", "--columns", "source", "--from", "2025-04-08", "--to", "2025-04-08"]);
        csv.out.lines().nth(1).unwrap_or_default().to_owned()
    };
    assert_eq!((source().as_str(), service.cli(&["findings"]).code), ("lodestar", 3));
    bench.write("ranking.toml", "[[rank]]\nsources = [\"cellar\"]\n");
    bench.write("checks.toml", "[[check]]\nname = \"spike\"\noff = true\n");
    let said = service.cli(&["reload"]);
    assert!(said.out.contains("ranking.toml: changed") && said.out.contains("checks.toml: changed"), "{said:?}");
    assert_eq!((source().as_str(), service.cli(&["findings"]).code), ("cellar", 0), "the check is off, the other source first");
    bench.write("checks.toml", "[[check]]\nname = \"spikes\"\n");
    let broken = service.cli(&["reload"]);
    assert!(broken.code == 1 && broken.err.contains("checks.toml:2: `spikes` is not a check"), "{broken:?}");
    assert_eq!(source(), "cellar", "the sound one goes on");
    let unknown = service.cli(&["findings", "--check", "spikes"]);
    assert!(unknown.code == 1 && unknown.err.contains("`spikes` is not a check; there is spike"), "{}", unknown.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn repairs_keep_to_their_budget_and_audits_to_their_times() {
    // An hour a second, from the evening on.
    let bench = Bench::at("2025-04-09T06:00:00Z", 3600.0, Faults::default());
    let calls = Arc::new(Mutex::new(vec![]));
    let (dates, told) = (sessions(&bench), calls.clone());
    let base = bench.talking(move |path, _, _| {
        let date = |name: &str| path.split(['?', '&']).find_map(|p| p.strip_prefix(name)).unwrap().to_owned();
        let (from, to) = (date("from="), date("to="));
        told.lock().unwrap().push((from.clone(), to.clone()));
        // March and before are never there.
        let own: Vec<String> = dates.iter().filter(|d| d.as_str() >= "2025-04-01").cloned().collect();
        (200, bars(&own, &from, &to))
    });
    bench.write("sources/own.toml", &profile(&base, "", "get = \"/{symbol}{?from,to}\"").replace("span_days = 60", "span_days = 1"));
    let more = "second_look = { sessions = 1 }\nschedule = { cron = \"0 * * * *\" }\nrepair = { windows_a_run = 2 }\naudit = { windows = 1, cron = \"30 */6 * * *\" }";
    collector(&bench, "2025-03-24", "KBF", more);
    let service = bench.serve();
    // The first run asks for everything; half a day later the holes have rested, and two are asked for a run.
    let mut runs = vec![];
    for _ in 0..120 {
        tokio::time::sleep(std::time::Duration::from_millis(250)).await;
        runs = service.get("/runs?most=200").await.as_array().unwrap().clone();
        let audits = runs.iter().filter(|r| r["reason"] == "audit" && r["state"] == "complete").count();
        if audits >= 2 && runs.len() >= 20 {
            break;
        }
    }
    let scheduled: Vec<u64> = runs.iter().rev().filter(|r| r["reason"] == "schedule").filter_map(|r| r["windows"].as_u64()).collect();
    assert!(scheduled[0] > 5, "{scheduled:?}");
    assert!(scheduled[1..].iter().all(|n| *n <= 4), "two repairs, the second look and what is new: {scheduled:?}");
    let audits: Vec<_> = runs.iter().filter(|r| r["reason"] == "audit").collect();
    assert!(audits.len() >= 2 && audits.iter().all(|r| r["windows"].as_u64() <= Some(1)), "{audits:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_source_of_which_nothing_is_true_fills_the_quarantine_and_nothing_else() {
    let bench = Bench::new(Faults::default());
    // A quarter, and the high is below the low in every row.
    bench.own_minutes("2025-01-02", "time,o,h,l,c,v", |_, at| format!("{at},10.00,9.00,11.00,10.50,100\n"));
    let service = bench.serve();
    let said = service.cli(&["collect", "own"]);
    let fetches = service.get("/fetches").await;
    let largest = fetches.as_array().unwrap().iter().max_by_key(|f| f["rows"].as_u64()).unwrap().clone();
    let number = |name: &str| largest[name].as_u64().unwrap();
    assert!(number("refused") > 20_000 && number("refused") + number("unfinished") == number("rows"), "{said:?} {largest}");
    assert_eq!(service.text("/bars?series=KBF/1m/own").await.lines().count(), 1, "a header and no bar");
    let aside = service.get("/quarantine?most=100000").await;
    let aside = aside.as_array().unwrap();
    // Thousands of rows with one flaw are one, with some of them as examples.
    let of_largest = aside.iter().filter(|q| q["fetch"] == largest["id"]).map(|q| q["rows"].as_u64().unwrap()).sum::<u64>();
    assert_eq!(of_largest, number("refused"));
    assert!(aside.len() < 20, "{}", aside.len());
    // It tells of the rest of today already.
    let flaws = ["high-below-low", "from-the-future"];
    let expected = |q: &serde_json::Value| {
        flaws.contains(&q["flaw"].as_str().unwrap())
            && q["text"].as_str().unwrap().ends_with("Z,10.00,9.00,11.00,10.50,100")
            && q["text"].as_str().unwrap().matches(" | ").count() <= 2
    };
    let odd = aside.iter().find(|q| !expected(q));
    assert!(odd.is_none(), "{odd:?}");
    let gaps = service.get("/gaps?cause=quarantined").await;
    let missing: u64 = gaps.as_array().unwrap().iter().map(|g| g["slots"].as_u64().unwrap()).sum();
    assert!(missing > 20_000, "and what is in quarantine is missing, not quiet: {missing}");
    assert_eq!(service.cli(&["status"]).code, 3);
}
