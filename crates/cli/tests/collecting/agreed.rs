//! Sources that publish adjusted prices: our actions held against them, and limits that two profiles share.

use crate::common::{Bench, Service};
use mizuno_core::Timestamp;
use mizuno_sim::faults::Faults;
use serde_json::Value;

/// What a price is multiplied by, from a fraction as 49/52.
fn fraction(text: &str) -> f64 {
    let (top, bottom) = text.split_once('/').unwrap_or((text, "1"));
    top.parse::<f64>().unwrap() / bottom.parse::<f64>().unwrap()
}

/// A desk that has asked a source which adjusts for dividends.
struct Held {
    service: Service,
    /// Our actions of KBF: ex-dates and factors.
    ours: Vec<(String, f64)>,
    /// When the source had not been asked yet.
    before: Timestamp,
    _bench: Bench,
}

/// KBF as traded since 2024, its actions, and a source that adjusts for dividends by these factors and ex-dates.
async fn held_against(change: impl Fn(&mut Vec<(String, f64)>)) -> Held {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 1.0, Faults::default(), false);
    let rows = bench.own_source("");
    bench.change("sources/own.toml", "adjusted = \"splits\"", "adjusted = \"splits-and-dividends\"");
    bench.change("sources/own.toml", "span_days = 20", "span_days = 4000");
    bench.change("collectors/own.toml", "2025-03-03", "2024-01-08");
    let service = bench.serve();
    for list in ["almanack/splits", "almanack/dividends"] {
        assert_eq!(service.cli(&["lists", list]).code, 0);
    }
    assert_eq!(service.cli(&["collect", "aldx-daily", "-i", "KBF", "--from", "2024-01-08"]).code, 0);
    let told = service.get("/actions?instrument=KBF").await;
    let applied = told["actions"].as_array().unwrap().iter().filter(|a| a["effect"] == "applied");
    let action = |a: &Value| (a["counts_on"].as_str().unwrap().to_owned(), fraction(a["price_factor"].as_str().unwrap()));
    let ours: Vec<(String, f64)> = applied.map(action).collect();
    let mut theirs = ours.clone();
    change(&mut theirs);
    let traded = service.text("/bars?series=KBF/1d/harbour&columns=date,close").await;
    for line in traded.lines().skip(1) {
        let (date, close) = line.split_once(',').unwrap();
        let factor: f64 = theirs.iter().filter(|(on, _)| date < on.as_str()).map(|(_, factor)| factor).product();
        let price = format!("{:.4}", close.parse::<f64>().unwrap() * factor);
        rows.lock().unwrap().insert(date.to_owned(), format!("{price},{price},{price},{price},100"));
    }
    let before = bench.now();
    let said = service.cli(&["collect", "own"]);
    assert!(said.code == 0 || said.code == 3, "{said:?}");
    Held { service, ours, before, _bench: bench }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_source_that_knows_the_same_actions_agrees_in_every_session() {
    let Held { service, ours, _bench, .. } = held_against(|_| {}).await;
    assert!(ours.len() >= 4, "{ours:?}");
    let told = service.get("/actions?instrument=KBF").await;
    let own = told["checked"].as_array().unwrap().iter().find(|c| c["source"] == "own").unwrap();
    assert!(own["sessions"].as_u64().unwrap() > 300 && own["steps"] == Value::Array(vec![]), "{own}");
    let said = service.cli(&["actions", "KBF"]);
    assert!(said.out.contains("own adjusts for splits and dividends as these actions say: "), "{}", said.out);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_action_that_one_side_lacks_is_named_with_what_would_explain_it() {
    let Held { service, ours, before, _bench } = held_against(|theirs| {
        theirs.remove(1);
        theirs[1].1 = 0.97;
        theirs.push(("2025-02-13".to_owned(), 0.5));
    })
    .await;
    let told = service.get("/actions?instrument=KBF").await;
    let own = told["checked"].as_array().unwrap().iter().find(|c| c["source"] == "own").unwrap();
    let steps: Vec<(&str, f64, f64)> = own["steps"]
        .as_array()
        .unwrap()
        .iter()
        .map(|s| (s["on"].as_str().unwrap(), s["theirs"].as_f64().unwrap(), s["ours"].as_f64().unwrap()))
        .collect();
    let wanted = [(ours[1].0.as_str(), 1.0, ours[1].1), (ours[2].0.as_str(), 0.97, ours[2].1), ("2025-02-13", 0.5, 1.0)];
    assert_eq!(steps.len(), 3, "{own}");
    for (found, wanted) in steps.iter().zip(wanted) {
        assert!(found.0 == wanted.0 && (found.1 - wanted.1).abs() < 1e-3 && (found.2 - wanted.2).abs() < 1e-9, "{found:?} {wanted:?}");
    }
    let said = service.cli(&["actions", "KBF"]).out;
    for part in [
        "own adjusts for splits and dividends, and otherwise in 3 places",
        &format!("{}: own does not take out dividend ", ours[1].0),
        &format!("{}: own multiplies the prices before by 0.97", ours[2].0),
        "2025-02-13: own multiplies the prices before by 0.",
        "no action is known here; a split of 2 for 1 would explain it",
    ] {
        assert!(said.contains(part), "{part}: {said}");
    }
    // What was known before the source was asked says nothing of it.
    let before = service.get(&format!("/actions?instrument=KBF&as_of={before}")).await;
    assert_eq!(before["checked"].as_array().unwrap().iter().filter(|c| c["steps"] != Value::Array(vec![])).count(), 0, "{before}");
}

#[tokio::test(flavor = "multi_thread")]
async fn two_profiles_of_one_provider_share_their_limits() {
    let bench = Bench::new(Faults::default());
    let rows = bench.own_source("");
    rows.lock().unwrap().insert("2025-04-01".to_owned(), "7.50,7.50,7.50,7.50,100".to_owned());
    let group = "calls_per_minute = 600\ngroup = \"provider\"\nday = { calls = 3 }";
    bench.change("sources/own.toml", "calls_per_minute = 600", group);
    let second = std::fs::read_to_string(bench.config().join("sources/own.toml")).unwrap().replace("name = \"own\"", "name = \"second\"");
    bench.write("sources/second.toml", &second);
    let collector = std::fs::read_to_string(bench.config().join("collectors/own.toml")).unwrap().replace("\"own\"", "\"second\"");
    bench.write("collectors/second.toml", &collector);
    let service = bench.serve();
    // Each asks for two windows: three calls are left to both together.
    assert_eq!(service.cli(&["collect", "own", "--from", "2025-03-03", "--to", "2025-04-01"]).code, 0);
    let begun = service.post("/runs", &serde_json::json!({"collector": "second", "from": "2025-03-03", "to": "2025-04-01"})).await;
    assert!(begun.0 < 300, "{begun:?}");
    let used_up = async || {
        for _ in 0..100 {
            let status = service.get("/status").await;
            let second = status["sources"].as_array().unwrap().iter().find(|s| s["name"] == "second").unwrap().clone();
            if second["state"] == "used-up" {
                return second;
            }
            tokio::time::sleep(std::time::Duration::from_millis(100)).await;
        }
        Value::Null
    };
    assert_eq!(used_up().await["calls_today"], 3, "of both together");
    let status = service.cli(&["status"]).out;
    assert!(status.contains("own: ") && status.contains(" of 3 today, together with second"), "{status}");
    let runs = service.get("/runs").await;
    assert_eq!((runs[0]["collector"].as_str(), runs[0]["done"].as_u64()), (Some("second"), Some(1)), "{runs}");
    // One that says other limits is refused.
    bench.change("sources/second.toml", "burst = 10", "burst = 5");
    let said = service.cli(&["check", bench.config().to_str().unwrap()]);
    assert!(
        said.err.contains("sources/second.toml") && said.err.contains("shares its limits with own by the group `provider`"),
        "{said:?}"
    );
}
