//! Universes through the program: masked files against a calculation of the test's own, rules, instants, collectors.

use crate::common::{self, Bench, Service};
use mizuno_core::TradeDate;
use mizuno_sim::faults::Faults;
use serde_json::Value;
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::{Arc, Mutex},
};

const SYMBOLS: [&str; 6] = ["ALP", "FNR", "GRB", "RSB", "TEA", "TRN"];

/// The answer key of the Aldermere 12 for these, as its page says on the day the demo begins: from, and the first day out.
const STAYS: [(&str, &str, &str); 7] = [
    ("ALP", "2016-01-04", "2018-06-18"),
    ("FNR", "2025-03-14", "9999-12-31"),
    ("GRB", "2016-01-04", "2019-06-24"),
    ("GRB", "2021-06-21", "9999-12-31"),
    ("RSB", "2016-01-04", "2025-03-14"),
    ("TEA", "2019-06-24", "2021-06-21"),
    ("TRN", "2018-06-18", "9999-12-31"),
];

fn is_member(symbol: &str, date: &str) -> bool {
    STAYS.iter().any(|(who, from, to)| *who == symbol && *from <= date && date < *to)
}

async fn collected() -> (Bench, Service) {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 1.0, Faults::default(), false);
    let service = bench.serve();
    for list in ["almanack/aldermere-12", "almanack/aldermere-12-changes", "almanack/splits"] {
        assert_eq!(service.cli(&["lists", list]).code, 0, "{list}");
    }
    let said = service.cli(&[&["collect", "aldx-daily"][..], &SYMBOLS.map(|s| ["-i", s]).concat()].concat());
    assert_eq!(said.code, 0, "{said:?}");
    (bench, service)
}

/// The cells of a CSV file by their headings, row by row.
fn table(csv: &str) -> Vec<BTreeMap<String, String>> {
    let mut reader = csv::Reader::from_reader(csv.as_bytes());
    reader.deserialize().map(|row| row.unwrap()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_universe_gives_exactly_the_cells_of_its_members_days() {
    let (_bench, service) = collected().await;
    // The cells by a calculation of the test's own, from each series alone.
    let mut wanted: BTreeMap<String, BTreeMap<String, String>> = BTreeMap::new();
    let mut returns: BTreeMap<(String, String), String> = BTreeMap::new();
    for symbol in SYMBOLS {
        for row in table(&service.text(&format!("/bars?instrument={symbol}&columns=date,close,return")).await) {
            if is_member(symbol, &row["date"]) {
                wanted.entry(row["date"].clone()).or_default().insert(symbol.to_owned(), row["close"].clone());
                returns.insert((row["date"].clone(), symbol.to_owned()), row["return"].clone());
            }
        }
    }
    let file = service.text("/bars?universe=aldermere-12&layout=wide&columns=date,close").await;
    assert!(file.starts_with("date,ALP,CRK,DNL,FNR,GRB,HTH,KBF,LNT.A,OSP,OXB,PLV,QHC,RSB,SME,TEA,TRN,WIG"), "a column for every member");
    let found: BTreeMap<String, BTreeMap<String, String>> = table(&file)
        .into_iter()
        .map(|mut row| (row.remove("date").unwrap(), row.into_iter().filter(|(_, cell)| !cell.is_empty()).collect()))
        .collect();
    assert!(found.len() > 2000);
    assert_eq!(found, wanted);

    // Long, a row a cell; a member's first day has the return on the close before it joined.
    let long = table(&service.text("/bars?universe=aldermere-12&columns=date,instrument,return").await);
    let long: BTreeMap<(String, String), String> =
        long.into_iter().map(|r| ((r["date"].clone(), r["instrument"].clone()), r["return"].clone())).collect();
    assert_eq!(long, returns);
    assert!(!long[&("2021-06-21".to_owned(), "GRB".to_owned())].is_empty());

    // Weeks are made of a member's days; a carried close ends with the stay; expected rows are those of members.
    let week = table(
        &service.text("/bars?universe=aldermere-12&interval=1w&columns=date,instrument,close,held&from=2019-06-17&to=2019-06-28").await,
    );
    let cells: Vec<[&str; 3]> = week.iter().map(|r| [r["date"].as_str(), r["instrument"].as_str(), r["held"].as_str()]).collect();
    assert!(cells.contains(&["2019-06-17", "GRB", "5"]) && !cells.iter().any(|c| c[0] == "2019-06-24" && c[1] == "GRB"), "{cells:?}");
    let carried = table(
        &service.text("/bars?universe=aldermere-12&layout=wide&columns=date,close&missing=carried&from=2025-03-10&to=2025-03-20").await,
    );
    assert!(carried.iter().all(|r| r["date"].as_str() < "2025-03-14" || r["RSB"].is_empty()), "{carried:?}");
    let rows =
        table(&service.text("/bars?universe=aldermere-12&columns=date,instrument,close&missing=rows&from=2019-06-17&to=2019-06-28").await);
    let mine: Vec<_> = rows.iter().filter(|r| SYMBOLS.contains(&r["instrument"].as_str())).collect();
    assert!(mine.len() > 20 && mine.iter().all(|r| is_member(&r["instrument"], &r["date"])));

    // Whole histories of those that belonged in the range; the newest bars are of today's members; what is named beside is not masked.
    let whole =
        service.text("/bars?universe=aldermere-12&members=whole&layout=wide&columns=date,close&from=2025-03-10&to=2025-03-20").await;
    assert!(!whole.lines().next().unwrap().contains("ALP"), "it did not belong in the range");
    assert!(table(&whole).iter().all(|r| !r["FNR"].is_empty() && (r["date"].as_str() > "2025-03-14" || !r["RSB"].is_empty())));
    let latest = table(&service.text("/bars?universe=aldermere-12&layout=latest&columns=instrument,date").await);
    assert_eq!(latest.iter().map(|r| r["instrument"].as_str()).collect::<Vec<_>>(), ["FNR", "GRB", "TRN"]);
    let beside = table(
        &service.text("/bars?instruments=ALP&universe=aldermere-12&layout=wide&columns=date,close&from=2025-03-10&to=2025-03-12").await,
    );
    assert!(beside.iter().all(|r| !r["ALP"].is_empty() && !r.contains_key("FNR")), "{beside:?}");

    // Members without bars are told, each with the reason, and how complete it is counts a member's days only.
    let told = service.get("/explanation?universe=aldermere-12&from=2025-03-10").await;
    let without: Vec<&str> = told["without"].as_array().unwrap().iter().map(|w| w["instrument"].as_str().unwrap()).collect();
    assert_eq!(without, ["DNL", "KBF", "LNT.A", "OSP", "OXB", "PLV", "QHC", "SME", "WIG"]);
    assert!(told["without"][0]["why"].as_str().unwrap().contains("never-asked at harbour"), "{}", told["without"][0]);
    let rsb = told["series"].as_array().unwrap().iter().find(|s| s["series"] == "RSB/1d/golden").unwrap();
    assert_eq!((&rsb["completeness"]["expected"], &rsb["completeness"]["held"]), (&Value::from(4), &Value::from(4)));

    // Through the command line the same bytes, and the lists' quarrel is told.
    let said = service.cli(&["bars", "--universe", "aldermere-12", "--layout", "wide", "--columns", "date,close"]);
    assert_eq!(said.out.replace("\r\n", "\n"), file.replace("\r\n", "\n"));
    let said = service.cli(&["universe", "aldermere-12", "--on", "2020-01-06"]);
    assert!(said.out.contains("12 members on 2020-01-06: CRK, HTH, KBF, LNT.A, OSP, OXB, PLV, QHC, RSB, SME, TEA, TRN"), "{}", said.out);
    assert!(said.out.contains("RSB: a member from 2019-06-24 until 2025-03-14 by almanack/aldermere-12"), "{}", said.out);
    let said = service.cli(&["bars", "--universe", "aldermere-21"]);
    assert!(said.code != 0 && said.err.contains("there is no universe `aldermere-21`; did you mean aldermere-12"), "{}", said.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rule_finds_the_members_that_a_calculation_of_ones_own_finds() {
    let (bench, service) = collected().await;
    let rule = "[rule]\nvenue = \"ALDX\"\nsince = \"2018-01-03\"\nreview = \"monthly\"\nkinds = [\"share\"]\nprice_at_least = \"3.00\"\n\
                turnover_at_least = \"1500000\"\nturnover_sessions = 40\nlisted_sessions = 30\n";
    bench.write("universes/checked.toml", rule);
    assert_eq!(service.cli(&["reload"]).code, 0);
    // The sessions are those in which any of them traded.
    let mut bars: BTreeMap<&str, BTreeMap<String, (f64, f64)>> = BTreeMap::new();
    let mut sessions: BTreeSet<String> = BTreeSet::new();
    for symbol in SYMBOLS {
        for row in table(&service.text(&format!("/bars?instrument={symbol}&columns=date,high,low,close,volume")).await) {
            let n = |column: &str| row[column].parse::<f64>().unwrap();
            let turnover = (n("high") + n("low") + n("close")) / 3.0 * n("volume");
            bars.entry(symbol).or_default().insert(row["date"].clone(), (n("close"), turnover));
            sessions.insert(row["date"].clone());
        }
    }
    let sessions: Vec<String> = sessions.into_iter().collect();
    let mut wanted: BTreeSet<(String, &str)> = BTreeSet::new();
    let (mut reviewed, mut members): (usize, Vec<&str>) = (0, vec![]);
    for (at, date) in sessions.iter().enumerate() {
        let before = at.checked_sub(1).map(|at| &sessions[at]);
        let begins = before.is_some_and(|b| b.as_str() < "2018-01-03" && date.as_str() >= "2018-01-03");
        if date.as_str() >= "2018-01-03" && (begins || before.is_some_and(|b| b[..7] != date[..7])) {
            reviewed += 1;
            let window: Vec<&String> = sessions[at - 40..at].iter().collect();
            let fits = |symbol: &str| {
                let lately: Vec<(f64, f64)> = window.iter().filter_map(|d| bars[symbol].get(*d).copied()).collect();
                // Fenwick was listed on 20 January 2025; the last session that Redshank traded in was 14 March.
                let listed = symbol != "FNR" || sessions[..at].iter().filter(|d| d.as_str() >= "2025-01-20").count() >= 30;
                let trades = symbol != "RSB" || before.is_some_and(|b| b.as_str() <= "2025-03-14");
                let mean = lately.iter().map(|b| b.1).sum::<f64>() / 40.0;
                listed && trades && lately.last().is_some_and(|b| b.0 >= 3.0) && mean >= 1_500_000.0
            };
            members = SYMBOLS.into_iter().filter(|s| fits(s)).collect();
        }
        wanted.extend(members.iter().filter(|m| bars[**m].contains_key(date)).map(|m| (date.clone(), *m)));
    }
    assert!(reviewed > 80, "{reviewed}");
    let rows = table(&service.text("/bars?universe=checked&columns=date,instrument,close").await);
    let found: BTreeSet<(String, &str)> =
        rows.iter().map(|r| (r["date"].clone(), SYMBOLS.into_iter().find(|s| *s == r["instrument"]).unwrap())).collect();
    let of = |symbol: &str| found.iter().filter(|(_, s)| *s == symbol).count();
    assert!(SYMBOLS.iter().any(|s| of(s) > 0 && of(s) < bars[s].len()), "the rule must let some in and some out");
    assert_eq!(found, wanted);
    let stays = service.cli(&["universe", "checked", "--stays"]);
    assert!(stays.out.contains("reviewed on ") && stays.out.contains("mean turnover "), "{}", stays.out);
    // Funds that multiply are left out by request; who has neither price nor turnover to reach needs no bars.
    for (more, wanted) in [("", vec!["AL12", "AL2X"]), ("without_leverage = true\n", vec!["AL12"])] {
        let rule = "[rule]\nvenue = \"ALDX\"\nsince = \"2018-01-03\"\nreview = \"monthly\"\nkinds = [\"fund\"]\n";
        bench.write("universes/funds.toml", &format!("{rule}{more}"));
        assert_eq!(service.cli(&["reload"]).code, 0);
        let found = service.get("/universes/funds").await;
        let symbols: Vec<&str> = found["memberships"].as_array().unwrap().iter().map(|m| m["instrument"].as_str().unwrap()).collect();
        assert_eq!(symbols, wanted, "{found}");
    }
    // Judged by what was learned by then alone, history that was loaded at once is no reason.
    bench.write("universes/checked.toml", &format!("{rule}strict = true\n"));
    assert_eq!(service.cli(&["reload"]).code, 0);
    assert_eq!(service.get("/universes/checked").await["memberships"], Value::Array(vec![]));
}

#[tokio::test(flavor = "multi_thread")]
async fn as_of_two_instants_a_universe_differs_as_its_list_did() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 1.0, Faults::default(), false);
    let page = Arc::new(Mutex::new("KBF,2016-01-04,\nOXB,2016-01-04,2025-03-17\n".to_owned()));
    let told = page.clone();
    let base = bench.talking(move |_, _, _| (200, format!("symbol,from,to\n{}", told.lock().unwrap())));
    let list = "[[list]]\nname = \"ours\"\nof = \"members\"\nvenue = \"ALDX\"\ndaily_at = \"07:00\"\nrequest = { get = \"/ours\" }\n\
                columns = { symbol = \"symbol\", from = \"from\", to = \"to\" }\nanswer = { form = \"delimited\" }\n";
    bench.write(
        "sources/own.toml",
        &format!("name = \"own\"\ntitle = \"Own\"\nbase = \"{base}\"\n\n[limits]\ncalls_per_minute = 60\n\n{list}"),
    );
    bench.write("universes/ours.toml", "lists = [\"own/ours\"]\n");
    bench.change("collectors/aldx-daily.toml", "since = \"2016-01-04\"", "since = \"2025-03-03\"\nuniverse = \"ours\"");
    let service = bench.serve();
    assert_eq!(service.cli(&["lists", "own/ours"]).code, 0);
    // The collector takes whoever belongs or belonged.
    let said = service.cli(&["collect", "aldx-daily"]);
    assert_eq!(said.code, 0, "{said:?}");
    let path = "/bars?universe=ours&layout=wide&columns=date,close&from=2025-03-12&to=2025-03-21";
    let before = service.ask(path).await;
    let instant = before.headers()["Mizuno-As-Of"].to_str().unwrap().to_owned();
    let before = before.text().await.unwrap();
    assert_eq!(before.lines().next().unwrap().trim_end(), "date,KBF,OXB");
    let told = async |as_of: &str| service.get(&format!("/universes/ours?as_of={as_of}")).await;
    let universe = told(&instant).await;

    // A configuration that is taken up again unchanged is told as unchanged, though its collector knows its members by now.
    let said = service.cli(&["reload"]);
    assert!(said.code == 0 && !format!("{}{}", said.out, said.err).contains("aldx-daily"), "{said:?}");

    // A day of OXB less, and a new member, whom the collector takes without a word.
    *page.lock().unwrap() = "KBF,2016-01-04,\nOXB,2016-01-04,2025-03-14\nQHC,2025-03-18,\n".to_owned();
    assert_eq!(service.cli(&["lists", "own/ours"]).code, 0);
    let said = service.cli(&["collect", "aldx-daily"]);
    assert_eq!(said.code, 0, "{said:?}");
    let after = table(&service.text(path).await);
    let filled = |symbol: &str| after.iter().filter(|r| !r[symbol].is_empty()).map(|r| r["date"].as_str()).collect::<Vec<_>>();
    assert_eq!(filled("OXB"), ["2025-03-12", "2025-03-13"]);
    assert_eq!(filled("QHC"), ["2025-03-18", "2025-03-19", "2025-03-20", "2025-03-21"]);

    // The file of then is the same file, and so is the universe; what changed is told with its cause.
    assert_eq!(service.text(&format!("{path}&as_of={instant}")).await, before);
    assert_eq!(told(&instant).await, universe);
    let changes = table(&service.text(&format!("/bars?universe=ours&from=2025-03-12&to=2025-03-21&since={instant}")).await);
    let what = |r: &BTreeMap<String, String>| format!("{} {} {} {}", r["change"], r["cause"], r["instrument"], r["date"]);
    let mut lines: Vec<String> = changes.iter().map(what).collect();
    lines.sort();
    assert_eq!(lines[0], "gone membership OXB 2025-03-14");
    assert!(lines.iter().skip(1).all(|l| l.contains(" QHC ") && l.starts_with("new ")) && lines.len() == 5, "{lines:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn many_who_ask_at_once_while_a_collector_writes_get_what_one_gets() {
    let (bench, service) = collected().await;
    bench.files(&["chains/tdp-front.toml"]);
    assert_eq!(service.cli(&["reload"]).code, 0);
    assert_eq!(service.cli(&["collect", "corf-daily"]).code, 0);
    let instant = service.get("/explanation?instruments=ALP").await["as_of"].as_str().unwrap().to_owned();
    let paths = [
        format!("/bars?universe=study&layout=wide&columns=date,close&as_of={instant}"),
        format!("/bars?instruments=tdp-front&rolls=ratio&columns=date,close,contract&as_of={instant}"),
        format!("/universes/traded-shares?as_of={instant}"),
        format!("/chains/tdp-front?as_of={instant}"),
    ];
    let mut alone = vec![];
    for path in &paths {
        alone.push(service.text(path).await);
    }
    let (status, run) = service.post("/runs", &serde_json::json!({ "collector": "aldx-daily" })).await;
    assert!(status < 300, "{run}");
    let client = common::client();
    let asked = (0..64).map(|n| (n % 4, client.get(format!("{}/api/v1{}", service.url, paths[n % 4]))));
    let tasks: Vec<_> =
        asked.map(|(at, request)| (at, tokio::spawn(async move { request.send().await.unwrap().text().await.unwrap() }))).collect();
    for (at, task) in tasks {
        let text = tokio::time::timeout(std::time::Duration::from_secs(120), task).await.expect("all are answered").unwrap();
        assert_eq!(text, alone[at], "{}", paths[at]);
    }
    service.settled().await;
    assert_eq!(service.text(&paths[0]).await, alone[0], "and the same after all that was learned since");
}

#[tokio::test(flavor = "multi_thread")]
async fn every_spelling_of_what_one_may_ask_of_a_universe() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 1.0, Faults::default(), false);
    let service = bench.serve();
    assert_eq!(service.cli(&["lists", "almanack/aldermere-12"]).code, 0);
    let refused = async |path: &str, told: &str| {
        let answer = service.ask(path).await;
        assert!(answer.status().is_client_error(), "{path}: {}", answer.status());
        let text = answer.text().await.unwrap();
        assert!(text.contains(told), "{path}: {text}");
    };
    refused("/universes/nope", "there is no universe `nope`").await;
    refused("/universes/aldermere-12?on=17.3.2025", "on: ").await;
    refused("/universes/aldermere-12?as_of=2025-04-10", "as_of").await;
    refused("/universes/aldermere-12?at=2025-04-10", "at").await;
    refused("/bars?universe=aldermere-12&universe=study", "universe").await;
    refused("/bars?universe=aldermere-12&members=some", "members: `some`").await;
    refused("/bars?members=whole&instruments=KBF", "members: only a universe has some").await;
    refused("/bars?universe=aldermere-12&series=KBF/1d/golden", "leave one of the two out").await;
    refused("/bars?universe=aldermere-12&from=2010-01-01&to=2011-01-01", "universe: aldermere-12 has no members in the range").await;
    let told = service.get("/universes/aldermere-12?on=").await;
    let today: TradeDate = told["on"].as_str().unwrap().parse().unwrap();
    assert!(today >= "2025-04-09".parse().unwrap());
    // A broken file is refused by its name, and the old ones go on.
    bench.write("universes/bad.toml", "lists = [\"almanack/nope\"]\n");
    let said = service.cli(&["reload"]);
    assert!(said.code != 0 && said.err.contains("universes/bad.toml: there is no list almanack/nope"), "{}", said.err);
    assert_eq!(service.get("/universes").await.as_array().unwrap().len(), 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_collector_follows_whom_a_rule_has_found() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 60.0, Faults::default(), false);
    bench.write(
        "universes/ours.toml",
        "[rule]\nvenue = \"ALDX\"\nsince = \"2025-01-02\"\nreview = \"monthly\"\nkinds = [\"share\"]\nprice_at_least = \"3.00\"\n",
    );
    bench.change("collectors/aldx-minutes.toml", "interval = \"1m\"", "interval = \"1m\"\nuniverse = \"ours\"");
    let minutes = std::fs::read_to_string(bench.config().join("collectors/aldx-minutes.toml")).unwrap();
    let minutes: Vec<&str> = minutes.lines().filter(|l| !l.starts_with("except") && !l.starts_with("instruments")).collect();
    bench.write("collectors/aldx-minutes.toml", &(minutes.join("\n") + "\n"));
    let mut service = bench.serve();
    let followed = async |service: &Service| -> Vec<String> {
        let rows = service.get("/lists/changes").await;
        let mine = rows.as_array().unwrap().iter().filter(|r| r["source"] == "by rule");
        mine.map(|r| r["key"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(followed(&service).await, Vec::<String>::new(), "nobody is known before there are bars");
    assert_eq!(service.cli(&["collect", "aldx-daily", "-i", "KBF", "-i", "OXB", "-i", "SME", "-i", "GRB", "--from", "2024-11-01"]).code, 0);
    let until = std::time::Instant::now() + std::time::Duration::from_secs(60);
    while followed(&service).await.is_empty() {
        assert!(std::time::Instant::now() < until, "{}", service.get("/universes/ours").await);
        tokio::time::sleep(std::time::Duration::from_millis(200)).await;
    }
    let universe = service.get("/universes/ours").await;
    let mut members: Vec<String> =
        universe["memberships"].as_array().unwrap().iter().map(|m| m["instrument"].as_str().unwrap().to_owned()).collect();
    members.sort_unstable();
    members.dedup();
    let mut found = followed(&service).await;
    found.sort_unstable();
    assert!(found == members && (1..4).contains(&found.len()), "{found:?} {members:?}");

    // It is they who are collected, after a restart too, and nobody else.
    service.kill();
    service = bench.serve();
    assert_eq!(service.cli(&["collect", "aldx-minutes", "--from", "2025-04-08", "--to", "2025-04-09"]).code, 0);
    let series = service.get("/series").await;
    let names = series.as_array().unwrap().iter().filter_map(|s| s["name"].as_str()?.strip_suffix("/1m/harbour"));
    let mut collected: Vec<String> = names.map(str::to_owned).collect();
    collected.sort_unstable();
    assert_eq!(collected, found);
    // Another rule is another list: whom the first one found is not followed by it.
    bench.change("universes/ours.toml", "3.00", "900.00");
    assert_eq!(service.cli(&["reload"]).code, 0);
    let said = service.cli(&["collect", "aldx-minutes", "--from", "2025-04-07", "--to", "2025-04-07"]);
    assert!(service.get("/runs?most=1").await[0]["done"] == 0, "{said:?}");
    // Without daily bars of all, the rule would never find anybody.
    bench.change("collectors/aldx-daily.toml", "interval = \"1d\"", "interval = \"1d\"\nuniverse = \"ours\"");
    for other in ["lodestar-daily", "lodestar-adjusted-daily"] {
        std::fs::remove_file(bench.config().join(format!("collectors/{other}.toml"))).unwrap();
    }
    let said = service.cli(&["reload"]);
    let told = "the universe ours follows from a rule over daily bars of ALDX; let another collector keep those of all its instruments";
    assert!(said.code != 0 && said.err.contains(told), "{said:?}");
}
