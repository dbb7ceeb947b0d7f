//! Lists that lie, and instruments that take another name.

use crate::common::{Bench, Service, browser::Browser};
use mizuno_sim::faults::Faults;
use std::sync::{Arc, Mutex};

type Text = Arc<Mutex<String>>;

const HEAD: &str = "of = \"splits\"\nvenue = \"ALDX\"\ndaily_at = \"07:00\"\ncolumns = { symbol = \"symbol\", ex_date = \"ex\", new = \"new\", old = \"old\" }\nanswer = { form = \"delimited\" }\n";

/// A source that keeps lists of splits under these names, which a test may change at will.
fn splits(bench: &Bench, names: &[&str]) -> Vec<Text> {
    let texts: Vec<Text> = names.iter().map(|_| Text::default()).collect();
    let told: Vec<(String, Text)> = names.iter().map(|n| format!("/{n}")).zip(texts.iter().cloned()).collect();
    let base = bench.talking(move |path, _, _| match told.iter().find(|(name, _)| name == path) {
        Some((_, text)) => (200, format!("symbol,ex,new,old\n{}", text.lock().unwrap())),
        None => (404, "there is no such list".to_owned()),
    });
    let lists = names.iter().map(|n| format!("[[list]]\nname = \"{n}\"\nrequest = {{ get = \"/{n}\" }}\n{HEAD}"));
    let limits = "[limits]\ncalls_per_minute = 600\nburst = 20\nattempts = 1\n";
    bench.write(
        "sources/town.toml",
        &format!("name = \"town\"\ntitle = \"Town crier\"\nbase = \"{base}\"\n{limits}{}", lists.collect::<String>()),
    );
    texts
}

/// A source of daily bars that lists plants with these columns, and its collector of all of them.
fn plants(bench: &Bench, base: &str, columns: &str) {
    bench.own_profile(base, "");
    let list = format!(
        "[[list]]\nname = \"instruments\"\nof = \"instruments\"\nvenue = \"ALDX\"\ndaily_at = \"07:00\"\nadds = true\nrequest = {{ get = \"/instruments\" }}\ncolumns = {{ {columns} }}\nconstants = {{ kind = \"plant\", currency = \"NZD\" }}\nanswer = {{ form = \"delimited\" }}\n[[series]]"
    );
    bench.change("sources/own.toml", "[[series]]", &list);
    bench.change("collectors/own.toml", "instruments = [\"KBF\"]", "kinds = [\"plant\"]");
}

/// A bar of each session asked for that is there.
fn days(calendar: &mizuno_core::Calendar, path: &str, is_there: impl Fn(&str) -> bool) -> String {
    let date = |name: &str| path.split(['?', '&']).find_map(|p| p.strip_prefix(name)).unwrap().parse::<mizuno_core::TradeDate>().unwrap();
    let sessions = calendar.between(date("from=")..date("to=").plus(1));
    let dates = sessions.iter().map(|s| s.date.to_string()).filter(|d| is_there(d));
    "date,o,h,l,c,v\n".to_owned() + &dates.map(|d| format!("{d},10.00,11.00,9.00,10.50,100\n")).collect::<String>()
}

async fn concern(service: &Service, kind: &str) -> Option<String> {
    let status = service.get("/status").await;
    let found = status["concerns"].as_array().unwrap().iter().find(|c| c["kind"] == kind).cloned();
    found.map(|c| c["what"].as_str().unwrap().to_owned())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_that_waits_for_a_list_ends_when_it_is_told_to() {
    let bench = Bench::new(Faults::default());
    // It takes calls, and never answers one.
    let silent = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    plants(&bench, &format!("http://{}", silent.local_addr().unwrap()), "symbol = \"symbol\", name = \"name\"");
    let service = bench.serve();
    let (code, run) = service.post("/runs", &serde_json::json!({ "collector": "own" })).await;
    assert_eq!(code, 202, "{run}");
    let cancelled = service.cli(&["cancel", &run["id"].to_string()]);
    assert!(cancelled.out.contains("cancelled"), "{cancelled:?}");
    assert_eq!(service.post("/runs", &serde_json::json!({ "collector": "own" })).await.0, 202);
    let stopped = tokio::task::spawn_blocking(move || service.stop());
    let stopped = tokio::time::timeout(std::time::Duration::from_secs(20), stopped).await;
    assert_eq!(stopped.expect("it ends though the list does not come").unwrap(), Some(0));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_source_that_does_not_answer_keeps_only_its_own_runs_waiting() {
    let bench = Bench::new(Faults::default());
    let silent = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let dead = format!("http://{}", silent.local_addr().unwrap());
    plants(&bench, &dead, "symbol = \"symbol\", name = \"name\"");
    let service = bench.serve();
    let own = service.post("/runs", &serde_json::json!({ "collector": "own" })).await.1["id"].clone();
    let waits = "the instrument list of own";
    service.run_when(&own, |run| run["waits_for"] == waits).await;
    assert!(service.cli(&["runs"]).out.contains(&format!("run {own} waits for {waits}")));
    // Whoever runs from another source meanwhile has nothing to wait for.
    let other = service.post("/runs", &serde_json::json!({ "collector": "minutes", "instruments": ["KBF"] })).await.1["id"].clone();
    let ended = service.run_when(&other, |run| run["state"] != "running").await;
    assert_eq!(ended["state"], "complete", "{ended}");
    assert_eq!(service.get(&format!("/runs/{own}")).await["waits_for"], waits);
    // The operator mends the address, and the run that waited goes on from there.
    let calendar = bench.world.market.calendar().clone();
    let base = bench.talking(move |path, _, _| match path {
        "/instruments" => (200, "symbol,name\nMOSS,Moss & Daughters\n".to_owned()),
        _ => (200, days(&calendar, path, |_| true)),
    });
    bench.change("sources/own.toml", &dead, &base);
    assert_eq!(service.cli(&["reload"]).code, 0);
    let ended = service.run_when(&own, |run| run["state"] != "running").await;
    assert_eq!(ended["state"], "complete", "{ended}");
    assert!(ended["waits_for"].is_null() && ended["bars_new"].as_i64() > Some(20), "{ended}");
}

/// Gives the source of [`splits`] another address; the one it had.
fn moved(bench: &Bench, to: &str) -> String {
    let town = std::fs::read_to_string(bench.config().join("sources/town.toml")).unwrap();
    let base = town.lines().find_map(|line| line.strip_prefix("base = ")).unwrap().trim_matches('"').to_owned();
    bench.change("sources/town.toml", &base, to);
    base
}

/// When the newest collection of the list was asked for, once it went well or did not.
async fn list_when(service: &Service, well: bool) -> mizuno_core::Timestamp {
    let until = std::time::Instant::now() + std::time::Duration::from_secs(60);
    loop {
        let lists = service.get("/lists").await;
        let list = lists.as_array().unwrap().iter().find(|l| l["list"] == "first").unwrap().clone();
        if let Some(at) = list["last"].as_str().filter(|_| list["failure"].is_null() == well) {
            return at.parse().unwrap();
        }
        assert!(std::time::Instant::now() < until, "{list}");
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_list_that_could_not_be_collected_is_asked_for_again_soon_and_at_once_where_its_profile_was_corrected() {
    // A quarter of an hour is over in six seconds, and the next day does not come.
    let bench = Bench::at(mizuno_sim::DEMO_START, 150.0, Faults::default());
    let texts = splits(&bench, &["first"]);
    let asked = Arc::new(Mutex::new(0));
    let (count, text) = (asked.clone(), texts[0].clone());
    let base = bench.talking(move |_, _, _| {
        *count.lock().unwrap() += 1;
        if *count.lock().unwrap() == 1 { (503, "later".to_owned()) } else { (200, format!("symbol,ex,new,old\n{}", text.lock().unwrap())) }
    });
    moved(&bench, &base);
    let service = bench.serve();
    let failed = list_when(&service, false).await;
    let next: mizuno_core::Timestamp = service.get("/lists").await[0]["next"].as_str().unwrap().parse().unwrap();
    assert!(next >= failed.plus(900_000_000) && next < failed.plus(10 * 3_600_000_000), "{failed} and then {next}");
    let well = list_when(&service, true).await;
    assert!(well >= failed.plus(900_000_000) && well < failed.plus(10 * 3_600_000_000), "{failed} and then {well}");
    assert_eq!(*asked.lock().unwrap(), 2, "and not again before the next day");
    service.kill();

    let bench = Bench::new(Faults::default());
    splits(&bench, &["first"]);
    let alive = moved(&bench, "http://127.0.0.1:1");
    let service = bench.serve();
    let failed = list_when(&service, false).await;
    moved(&bench, &alive);
    assert_eq!(service.cli(&["reload"]).code, 0);
    let well = list_when(&service, true).await;
    assert!(well < failed.plus(900_000_000), "{failed} and then {well}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_list_that_shrinks_waits_for_a_person() {
    let bench = Bench::new(Faults::default());
    let texts = splits(&bench, &["splits"]);
    let all = "KBF,2016-05-02,2,1\nOXB,2017-05-02,3,2\nQHC,2018-05-02,2,1\nSME,2019-05-02,2,1\nTRN,2020-05-04,5,1\n";
    all.clone_into(&mut texts[0].lock().unwrap());
    let service = bench.serve();
    assert_eq!(service.cli(&["lists", "town/splits"]).code, 0);
    "KBF,2016-05-02,2,1\n".clone_into(&mut texts[0].lock().unwrap());
    let held = service.cli(&["lists", "town/splits"]);
    let flat = held.out.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(flat.contains("HELD BACK: 1 row, which would end 4: OXB"), "{held:?}");
    assert!(concern(&service, "list-held-back").await.is_some_and(|w| w.contains("town/splits")));
    let changes = service.cli(&["lists", "--changes"]);
    assert!(!changes.out.contains("gone"), "nothing has ended: {}", changes.out);
    // The console shows what would end, and takes the decision too.
    let browser = Browser::open().await;
    browser.page.goto(&service.url).await.unwrap();
    browser.press("//li//a[contains(., 'town/splits')]").await;
    browser.sees("held back: it would end 4 entries: OXB 2017-05-02").await;
    browser.press("//button[contains(., 'Refuse…')]").await;
    browser.decides("mere", "Refuse it").await;
    browser.press("//button[contains(., 'Collect now')]").await;
    browser.sees("held back").await;
    assert!(concern(&service, "list-held-back").await.is_some(), "it came so again");
    browser.close().await;
    let refused = service.cli(&["lists", "town/splits", "--refuse", "--by", "mere"]);
    assert_eq!(refused.code, 0, "{refused:?}");
    assert_eq!(concern(&service, "list-held-back").await, None);
    // An empty one is no other; taken, it ends what it lacks.
    String::new().clone_into(&mut texts[0].lock().unwrap());
    service.cli(&["lists", "town/splits"]);
    assert!(concern(&service, "list-held-back").await.is_some() || concern(&service, "failed").await.is_some());
    "KBF,2016-05-02,2,1\n".clone_into(&mut texts[0].lock().unwrap());
    service.cli(&["lists", "town/splits"]);
    assert_eq!(service.cli(&["lists", "town/splits", "--take", "--by", "mere"]).code, 0);
    let changes = service.cli(&["lists", "--changes"]);
    assert_eq!(changes.out.matches("gone").count(), 4, "{}", changes.out);
    let twice = service.cli(&["lists", "town/splits", "--take", "--by", "mere"]);
    assert!(twice.code == 1 && twice.err.contains("not held back"), "{twice:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn one_split_told_twice_is_one_and_a_contradiction_is_told() {
    let bench = Bench::new(Faults::default());
    let texts = splits(&bench, &["first", "second"]);
    "KBF,2025-04-02,2,1\nOXB,2025-04-02,3,2\n".clone_into(&mut texts[0].lock().unwrap());
    "KBF,2025-04-02,4,2\nOXB,2025-04-02,1.5,1\n".clone_into(&mut texts[1].lock().unwrap());
    // A source that tells prices as of today, whatever was split since: twice as many shares from 2 April on.
    let rows = bench.own_source("");
    for session in bench.world.market.calendar().between("2025-03-24".parse().unwrap().."2025-04-10".parse().unwrap()) {
        rows.lock().unwrap().insert(session.date.to_string(), "10.000,11.000,9.000,10.500,100".to_owned());
    }
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "own", "--from", "2025-03-24"]).code, 0);
    let traded = async || {
        let text = service.text("/bars?series=KBF/1d/golden&from=2025-04-01&to=2025-04-02").await;
        text.lines().skip(1).map(|l| l.split(',').nth(4).unwrap().to_owned()).collect::<Vec<_>>()
    };
    for list in ["town/first", "town/second"] {
        assert_eq!(service.cli(&["lists", list]).code, 0);
    }
    assert_eq!(concern(&service, "conflict").await, None, "the same ratio in other words");
    assert_eq!(traded().await, ["21.000", "10.500"], "as they traded: the split is taken back once");
    let sources = service.text("/bars?instruments=KBF&from=2025-04-01&to=2025-04-02&columns=date,source").await;
    let sources: Vec<&str> = sources.lines().skip(1).collect();
    assert_eq!(sources, ["2025-04-01,own (brought back)", "2025-04-02,own"]);
    // A day apart: somebody is wrong, and it is said.
    "KBF,2025-04-03,2,1\nOXB,2025-04-02,1.5,1\n".clone_into(&mut texts[1].lock().unwrap());
    service.cli(&["lists", "town/second"]);
    let told = concern(&service, "conflict").await.expect("a split a day apart is told");
    assert!(told.contains("KBF"), "{told}");
    assert!(!traded().await.iter().any(|close| close == "42.00"), "never twice: {:?}", traded().await);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_instrument_that_takes_another_name_keeps_its_past() {
    let bench = Bench::new(Faults::default());
    let listed = Text::default();
    "17,MOSS,Moss & Daughters\n18,REED,Reed Roofing\n".clone_into(&mut listed.lock().unwrap());
    let (told, asked) = (listed.clone(), Arc::new(Mutex::new(vec![])));
    let calls = asked.clone();
    let calendar = bench.world.market.calendar().clone();
    let base = bench.talking(move |path, _, _| {
        if path == "/instruments" {
            return (200, format!("id,symbol,name\n{}", told.lock().unwrap()));
        }
        calls.lock().unwrap().push(path.to_owned());
        // One session is lacking.
        (200, days(&calendar, path, |date| date != "2025-03-12"))
    });
    plants(&bench, &base, "id = \"id\", symbol = \"symbol\", name = \"name\"");
    let service = bench.serve();
    assert_eq!(service.cli(&["lists", "own/instruments"]).code, 0);
    let first = service.cli(&["collect", "own"]);
    assert_eq!(first.code, 0, "{first:?}");
    let before = service.text("/bars?series=MOSS/1d/own").await;
    assert!(before.lines().count() > 20, "{before}");
    let gap = "MOSS/1d/own@2025-03-12";
    assert!(service.cli(&["gaps", "--source", "own"]).out.contains(gap));
    assert_eq!(service.cli(&["excuse", gap, "--by", "mere", "--note", "the moss was wet"]).code, 0);

    "17,FERN,Fern & Daughters\n18,REED,Reed Roofing\n".clone_into(&mut listed.lock().unwrap());
    assert_eq!(service.cli(&["lists", "own/instruments"]).code, 0);
    assert!(service.cli(&["lists", "--changes"]).out.contains("renamed"));
    let asked_before = asked.lock().unwrap().len();
    let after = service.cli(&["collect", "own", "--json"]).json();
    assert_eq!(after[0]["bars_new"], 0, "nothing of it is collected anew: {after}");
    let of_past = asked.lock().unwrap()[asked_before..].iter().filter(|p| p.contains("from=2025-03")).count();
    assert_eq!(of_past, 0, "{:?}", asked.lock().unwrap());
    assert_eq!(service.text("/bars?series=FERN/1d/own").await, before, "its past goes under its name of today");
    let gaps = service.cli(&["gaps", "--source", "own"]);
    assert!(!gaps.out.contains("FERN"), "the excuse goes with it: {}", gaps.out);
    assert!(service.get("/lineage?series=FERN/1d/own&at=2025-03-11").await[0]["request"].as_str().unwrap().contains("MOSS"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_last_day_that_a_list_learns_of_ends_what_is_expected_and_not_what_was() {
    let bench = Bench::new(Faults::default());
    let listed = Text::default();
    "MOSS,Moss & Daughters,\nREED,Reed Roofing,\n".clone_into(&mut listed.lock().unwrap());
    let told = listed.clone();
    let calendar = bench.world.market.calendar().clone();
    let base = bench.talking(move |path, _, _| {
        if path == "/instruments" {
            return (200, format!("symbol,name,last\n{}KBF,Not ours to say,2025-04-01\n", told.lock().unwrap()));
        }
        // Moss has traded for the last time on 3 April.
        let date =
            |name: &str| path.split(['?', '&']).find_map(|p| p.strip_prefix(name)).unwrap().parse::<mizuno_core::TradeDate>().unwrap();
        let sessions = calendar.between(date("from=")..date("to=").plus(1));
        let days = sessions.iter().map(|s| s.date.to_string()).filter(|d| !path.contains("MOSS") || d.as_str() <= "2025-04-03");
        (200, "date,o,h,l,c,v\n".to_owned() + &days.map(|d| format!("{d},10.00,11.00,9.00,10.50,100\n")).collect::<String>())
    });
    plants(&bench, &base, "symbol = \"symbol\", name = \"name\", last_traded = \"last\"");
    let service = bench.serve();
    assert_eq!(service.cli(&["lists", "own/instruments"]).code, 0);
    service.cli(&["collect", "own"]);
    let gaps = service.cli(&["gaps", "--source", "own"]);
    assert!(gaps.out.contains("MOSS/1d/own@2025-04-04"), "{gaps:?}");
    let slots = async |as_of: &str| {
        let bars = service.text(&format!("/bars?series=MOSS/1d/own&from=2025-04-02&to=2025-04-08&missing=rows{as_of}")).await;
        bars.lines().skip(1).map(|l| l[..10].to_owned()).collect::<Vec<_>>()
    };
    let expected = slots("").await;
    assert_eq!(expected, ["2025-04-02", "2025-04-03", "2025-04-04", "2025-04-07", "2025-04-08"]);
    let then = service.get("/explanation?series=MOSS/1d/own").await["as_of"].as_str().unwrap().to_owned();

    "MOSS,Moss & Daughters,2025-04-03\nREED,Reed Roofing,\n".clone_into(&mut listed.lock().unwrap());
    assert_eq!(service.cli(&["lists", "own/instruments"]).code, 0);
    assert_eq!(service.cli(&["gaps", "--source", "own"]).out, "", "nothing is missing after its last day");
    assert_eq!(slots("").await, ["2025-04-02", "2025-04-03"]);
    assert_eq!(slots(&format!("&as_of={then}")).await, expected, "nobody knew of it then");
    let found = service.get("/instruments?q=Kelp").await;
    assert!(found.to_string().contains("Kelp & Barley Foods"), "the configuration's own is not a source's to change: {found}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_collector_that_names_a_symbol_of_before_goes_on_with_the_instrument() {
    let bench = Bench::new(Faults::default());
    let rows = bench.own_source("");
    for session in bench.world.market.calendar().between("2025-03-03".parse().unwrap().."2025-04-10".parse().unwrap()) {
        rows.lock().unwrap().insert(session.date.to_string(), "10.00,11.00,9.00,10.50,100".to_owned());
    }
    bench.write("checks.toml", "[[check]]\nname = \"flat\"\ninstruments = [\"KBF\"]\noff = true\n");
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "own", "--to", "2025-04-01"]).code, 0);
    let before = service.text("/bars?series=KBF/1d/own").await;
    let findings = service.cli(&["findings", "--source", "own"]);
    // The file of instruments says the rename; those of the collector and of the checks still say KBF.
    bench.change(
        "instruments/aldx.csv",
        "KBF,Kelp & Barley Foods,share,ALDX,NZD,0.01,,,,",
        "KBN,Kelp & Barley Foods,share,ALDX,NZD,0.01,,,,KBF until 2025-04-03",
    );
    let reloaded = service.cli(&["reload"]);
    assert_eq!(reloaded.code, 0, "{reloaded:?}");
    let run = service.cli(&["collect", "own", "--json"]).json();
    assert!(run[0]["state"] == "complete" && run[0]["bars_new"].as_u64() >= Some(5), "it goes on: {run}");
    let after = service.text("/bars?series=KBN/1d/own").await;
    assert!(after.starts_with(before.trim_end()) && after.len() > before.len(), "one series: {after}");
    assert_eq!(service.cli(&["findings", "--source", "own"]).out, findings.out, "the rule for KBF holds for KBN");
}
