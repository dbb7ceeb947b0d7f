//! Chains and continuous series through the program; `make check-chains` works many more of them out once more.

use crate::common::{Bench, Service, parquet::of_parquet};
use mizuno_sim::faults::Faults;
use std::collections::BTreeMap;

async fn collected(more: &[(&str, &str)]) -> (Bench, Service) {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 1.0, Faults::default(), false);
    bench.files(&["chains/bly-front.toml", "chains/bly-second.toml", "chains/bly-held.toml", "chains/tdp-front.toml"]);
    more.iter().for_each(|(file, text)| bench.write(file, text));
    let service = bench.serve();
    let said = service.cli(&["collect", "corf-daily"]);
    assert_eq!(said.code, 0, "{said:?}");
    (bench, service)
}

fn table(csv: &str) -> Vec<BTreeMap<String, String>> {
    let mut reader = csv::Reader::from_reader(csv.as_bytes());
    reader.deserialize().map(|row| row.unwrap()).collect()
}

fn cents(text: &str) -> i64 {
    (text.parse::<f64>().unwrap() * 100.0).round() as i64
}

#[tokio::test(flavor = "multi_thread")]
async fn the_front_contract_rolls_by_volume_and_each_bar_is_of_its_contract() {
    let (_bench, service) = collected(&[]).await;
    let told = service.get("/chains/bly-front").await;
    let rolls: Vec<(&str, &str, &str)> = told["rolled"]
        .as_array()
        .unwrap()
        .iter()
        .map(|r| (r["decided"].as_str().unwrap(), r["old"].as_str().unwrap(), r["new"].as_str().unwrap()))
        .collect();
    assert!(rolls.iter().any(|(on, old, new)| on.starts_with("2025-02") && (*old, *new) == ("BLY-2025-03", "BLY-2025-05")), "{rolls:?}");
    // Two sessions running the next contract had the larger volume, and the session before those it had not.
    let roll = &told["rolled"][told["rolled"].as_array().unwrap().len() - 1];
    let decided = roll["decided"].as_str().unwrap();
    let volumes = async |symbol: &str| {
        let rows = table(&service.text(&format!("/bars?instrument={symbol}&columns=date,close,volume&to={decided}")).await);
        rows.into_iter().rev().take(3).map(|r| (r["volume"].parse::<i64>().unwrap(), r["close"].clone())).collect::<Vec<_>>()
    };
    let (old, new) = (volumes(roll["old"].as_str().unwrap()).await, volumes(roll["new"].as_str().unwrap()).await);
    assert!(new[0].0 > old[0].0 && new[1].0 > old[1].0 && new[2].0 <= old[2].0, "{old:?} {new:?}");
    assert_eq!(
        (&roll["old_close"], &roll["new_close"]),
        (&old[0].1.clone().into(), &new[0].1.clone().into()),
        "both closes of that session"
    );

    // Each row is the bar of the contract it names; the second is the one behind the first.
    let rows = table(&service.text("/bars?instruments=bly-front&columns=date,contract,open,high,low,close,volume,source").await);
    assert!(rows.len() > 200);
    for contract in ["BLY-2025-03", "BLY-2025-05"] {
        let own = table(&service.text(&format!("/bars?instruments={contract}&columns=date,open,high,low,close,volume,source")).await);
        let own: BTreeMap<String, BTreeMap<String, String>> = own.into_iter().map(|r| (r["date"].clone(), r)).collect();
        for row in rows.iter().filter(|r| r["contract"] == contract) {
            let mut row = row.clone();
            row.remove("contract");
            assert_eq!(Some(&row), own.get(&row["date"]));
        }
    }
    // Closes asked for alone are those of the same bars.
    for more in ["", "&from=2025-02-20&to=2025-03-07", "&last=3", "&rolls=difference", "&rolls=ratio", "&interval=1w"] {
        let question =
            |columns: &str| format!("/bars?instruments=bly-front,bly-second&columns=instrument,date,contract,close,{columns}{more}");
        let mut whole = table(&service.text(&question("source,doubted,open")).await);
        whole.iter_mut().for_each(|row| drop(row.remove("open").unwrap()));
        assert_eq!(table(&service.text(&question("source,doubted")).await), whole, "{more}");
        assert!(whole.len() >= 6, "{more}");
    }
    let wide = table(&service.text("/bars?instruments=bly-front,bly-second&layout=wide&columns=date,contract,close&last=5").await);
    assert!(wide.iter().all(|r| r["bly-front contract"] < r["bly-second contract"]), "{wide:?}");
    // Through the command line, in Parquet, coarser and by name of the series.
    let said = service.cli(&["bars", "bly-front", "--columns", "date,contract,close", "--last", "3"]);
    assert!(said.out.contains("BLY-2025-05"), "{}", said.out);
    let parquet = service.ask("/bars?instruments=bly-front&rolls=difference&format=parquet&columns=date,close,contract").await;
    assert_eq!(parquet.status(), 200);
    let months = table(&service.text("/bars?instruments=bly-front&interval=1mo&columns=date,close,contract,held&from=2025-01-01").await);
    assert_eq!((months[0]["date"].as_str(), months[1]["contract"].as_str()), ("2025-01-02", "BLY-2025-05"), "{months:?}");
    let series = service.text("/bars?series=bly-front/1d/golden&columns=date,close&last=3").await;
    assert_eq!(series, service.text("/bars?instruments=bly-front&columns=date,close&last=3").await);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_chain_rolls_by_the_open_interest_that_was_out_and_bars_carry_it() {
    let (_bench, service) = collected(&[]).await;
    let told = service.get("/chains/bly-held").await;
    let silent = told["notes"].as_array().unwrap().iter().any(|n| n.as_str().unwrap().contains("no source tells"));
    assert!(!silent, "{told}");
    let held = async |symbol: &str| {
        let rows = table(&service.text(&format!("/bars?instrument={symbol}&columns=date,open_interest&to=2025-04-09")).await);
        rows.into_iter().map(|r| (r["date"].clone(), r["open_interest"].parse::<i64>().unwrap())).collect::<BTreeMap<_, _>>()
    };
    let mut confirmed = 0;
    for roll in told["rolled"].as_array().unwrap().iter().filter(|r| r["at_the_latest"] == false) {
        let (old, new) = (held(roll["old"].as_str().unwrap()).await, held(roll["new"].as_str().unwrap()).await);
        let decided = roll["decided"].as_str().unwrap();
        // That of the session itself is out in the next one only.
        let before: Vec<bool> = old.range(..decided.to_owned()).rev().take(3).map(|(date, n)| new[date] > *n).collect();
        assert_eq!(before, [true, true, false], "{roll}");
        assert!(roll["why"].as_str().unwrap().contains("open interest"), "{roll}");
        confirmed += 1;
    }
    assert!(confirmed > 0, "{told}");
    let by_volume = service.get("/chains/bly-front").await;
    assert!(told["rolled"][0]["decided"].as_str() > by_volume["rolled"][0]["decided"].as_str(), "positions move after the trading");

    // Like any number of a bar: in windows, conditions, coarser bars and Parquet, and empty where nobody tells it.
    let days = held("BLY-2025-05").await;
    let newest = days.last_key_value().unwrap();
    let rows = table(&service.text("/bars?instrument=BLY-2025-05&columns=date,open_interest,lowest_2_of_open_interest&last=1").await);
    assert_eq!((&rows[0]["date"], rows[0]["open_interest"].parse::<i64>().unwrap()), (newest.0, *newest.1));
    let two: Vec<i64> = days.values().rev().take(2).copied().collect();
    assert_eq!(rows[0]["lowest_2_of_open_interest"].parse::<i64>().unwrap(), two[0].min(two[1]));
    let most = days.values().max().unwrap();
    let above = table(&service.text(&format!("/bars?instrument=BLY-2025-05&columns=date&where=open_interest%20%3E%3D%20{most}")).await);
    assert_eq!(above.len(), 1, "{above:?}");
    let weeks = table(&service.text("/bars?instrument=BLY-2025-05&interval=1w&columns=date,open_interest&last=3").await);
    assert_eq!(weeks.last().unwrap()["open_interest"].parse::<i64>().unwrap(), *newest.1, "the last one of the week");
    let parquet = service.ask("/bars?instrument=BLY-2025-05&columns=date,open_interest&format=parquet").await.bytes().await.unwrap();
    let read = of_parquet(&["date".to_owned(), "open_interest".to_owned()], parquet.to_vec());
    assert_eq!(read.len(), days.len());
    assert!(read.iter().all(|r| r[1] == format!("{}.000000", days[&r[0]])), "{:?}", read.first());
    let series = async |more: &str| service.text(&format!("/bars?instruments=bly-held&columns=date,open_interest{more}")).await;
    let kept = series("").await;
    assert!(kept.lines().skip(1).all(|line| !line.ends_with(',')), "{kept}");
    for join in ["ratio", "difference", "difference&anchor=oldest"] {
        assert_eq!(series(&format!("&rolls={join}")).await, kept, "{join} leaves it");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_open_interest_that_is_told_later_completes_the_bar_and_a_corrected_one_restates_it() {
    let bench = Bench::new(Faults::default());
    let rows = bench.own_source("");
    bench.change("sources/own.toml", "volume = \"v\" }", "volume = \"v\", open_interest = \"i\" }");
    let say = |date: &str, row: &str| rows.lock().unwrap().insert(date.to_owned(), row.to_owned());
    for session in bench.world.market.calendar().between("2025-03-31".parse().unwrap().."2025-04-10".parse().unwrap()) {
        say(&session.date.to_string(), "10.00,11.00,9.00,10.50,100,5000");
    }
    say("2025-04-08", "10.00,11.00,9.00,10.50,100,");
    say("2025-04-09", "10.00,11.00,9.00,10.50,100,-3");
    let service = bench.serve();
    let run = service.cli(&["collect", "own", "--from", "2025-03-31", "--json"]).json();
    assert_eq!((&run[0]["bars_new"], &run[0]["refused"]), (&7.into(), &1.into()), "{run}");
    assert!(service.cli(&["quarantine"]).out.contains("negative-interest: the open interest is negative"));
    let then = service.get("/explanation?series=KBF/1d/own").await["as_of"].as_str().unwrap().to_owned();
    let of = async |as_of: &str| {
        service.text(&format!("/bars?series=KBF/1d/own&columns=open_interest&from=2025-04-07&to=2025-04-08{as_of}")).await
    };
    assert_eq!(of("").await.lines().skip(1).collect::<Vec<_>>(), ["5000", ""]);

    say("2025-04-08", "10.0,11.0,9.0,10.5,100,5120.0");
    say("2025-04-07", "10.00,11.00,9.00,10.50,100,5001");
    let run = service.cli(&["collect", "own", "--from", "2025-04-07", "--json"]).json();
    assert_eq!((&run[0]["bars_new"], &run[0]["restated"]), (&1.into(), &1.into()), "{run}");
    assert_eq!(of("").await.lines().skip(1).collect::<Vec<_>>(), ["5001", "5120.0"]);
    assert_eq!(of(&format!("&as_of={then}")).await.lines().skip(1).collect::<Vec<_>>(), ["5000", ""], "what nobody had told");
    let restated = service.cli(&["restatements"]);
    assert!(restated.out.contains("open interest 5000 → 5001") && !restated.out.contains("5120"), "{restated:?}");
    let story = service.cli(&["lineage", "KBF/1d/own@2025-04-08"]);
    assert!(story.out.contains("open, high, low, close, volume, open interest: 10.0, 11.0, 9.0, 10.5, 100, 5120.0"), "{story:?}");
    let differs = service.text(&format!("/bars?series=KBF/1d/own&columns=date,open_interest&since={then}")).await;
    assert!(differs.contains("5120.0") && differs.contains("5001"), "{differs}");
}

#[tokio::test(flavor = "multi_thread")]
async fn joined_series_keep_differences_or_returns_and_meet_at_the_roll() {
    let (_bench, service) = collected(&[]).await;
    let ask = async |more: &str| {
        let rows = table(&service.text(&format!("/bars?instruments=tdp-front&columns=date,contract,close&from=2025-02-03{more}")).await);
        rows.into_iter().map(|r| (r["date"].clone(), r["contract"].clone(), r["close"].clone())).collect::<Vec<_>>()
    };
    let (kept, shifted, oldest) = (ask("").await, ask("&rolls=difference").await, ask("&rolls=difference&anchor=oldest").await);
    let ratio = ask("&rolls=ratio").await;
    let told = service.get("/chains/tdp-front").await;
    let rolls = told["rolled"].as_array().unwrap();
    assert_eq!(rolls.len(), 2);
    let difference: i64 = rolls.iter().map(|r| cents(r["difference"].as_str().unwrap())).sum();
    let newest = told["contract"].as_str().unwrap();
    for (at, (date, contract, close)) in kept.iter().enumerate() {
        let same = at > 0 && kept[at - 1].1 == *contract;
        if same {
            let step = |rows: &[(String, String, String)]| cents(&rows[at].2) - cents(&rows[at - 1].2);
            assert_eq!((step(&shifted), step(&oldest)), (step(&kept), step(&kept)), "{date}");
            let by = |rows: &[(String, String, String)]| rows[at].2.parse::<f64>().unwrap() / rows[at - 1].2.parse::<f64>().unwrap();
            // Six decimals of a price near nought leave fewer of a ratio.
            assert!((by(&ratio) - by(&kept)).abs() < 1e-6 * by(&kept).abs().max(1.0), "{date}");
        }
        if contract == newest {
            assert_eq!((&shifted[at].2, cents(&ratio[at].2)), (close, cents(close)));
        }
    }
    assert_eq!(cents(&shifted[0].2) - cents(&kept[0].2), difference, "the oldest contract is shifted by all rolls");
    assert_eq!((&oldest[0].2, &kept[0].2), (&kept[0].2, &kept[0].2));
    let explained = service.get("/explanation?instruments=tdp-front&rolls=ratio").await;
    assert!(explained["adjustment"].as_str().unwrap().contains("joined by the ratios of their closes"), "{}", explained["adjustment"]);
    assert_eq!(explained["series"][0]["completeness"]["missing"], 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn minutes_begin_with_the_evening_before_and_what_cannot_be_is_refused() {
    let table_given = "venue = \"CORF\"\nproduct = \"TDP\"\nroll = { by = \"table\", table = [{ from = \"2025-03-03\", contract = \"TDP-2025-04\" }, \
                       { from = \"2025-04-08\", contract = \"TDP-2025-05\" }] }\n";
    let (bench, service) = collected(&[("chains/given.toml", table_given)]).await;
    assert_eq!(
        service
            .cli(&["collect", "corf-minutes", "-i", "TDP-2025-04", "-i", "TDP-2025-05", "--from", "2025-04-07", "--to", "2025-04-08"])
            .code,
        0
    );
    let rows = table(&service.text("/bars?instruments=given&interval=1m&columns=time,trade_date,contract,close&zone=America/Halifax&stamp=wall&from=2025-04-07&to=2025-04-08").await);
    let first = rows.iter().find(|r| r["contract"] == "TDP-2025-05").unwrap();
    assert_eq!((first["time"].as_str(), first["trade_date"].as_str()), ("2025-04-07T18:00:00", "2025-04-08"));
    assert!(rows.iter().all(|r| (r["trade_date"].as_str() < "2025-04-08") == (r["contract"] == "TDP-2025-04")));

    let refused = async |path: &str, told: &str| {
        let answer = service.ask(path).await;
        assert!(answer.status().is_client_error(), "{path}: {}", answer.status());
        let text = answer.text().await.unwrap();
        assert!(text.contains(told), "{path}: {text}");
    };
    refused("/bars?instruments=given&rolls=sum", "rolls: `sum`").await;
    refused("/bars?instruments=given&rolls=ratio&anchor=2025-04-01", "2025-04-01 is neither").await;
    refused("/bars?instruments=given&rolls=ratio&round=tick", "round: ").await;
    refused("/bars?instruments=given&columns=date,spread", "a continuous series has one side").await;
    refused("/bars?instruments=givne", "did you mean").await;
    refused("/chains/nope", "there is no chain `nope`").await;
    refused("/chains/given?as_of=yesterday", "as_of").await;
    for (text, told) in [
        ("venue = \"CORF\"\nproduct = \"TDP\"\nroll = { by = \"moon\" }", "a roll is one of"),
        ("venue = \"CORF\"\nproduct = \"TDP\"\nroll = { by = \"volume\", sessions = 0 }", "sessions are counted from 1 to 250"),
        ("venue = \"CORF\"\nproduct = \"TDP\"\nnth = 0\nroll = { by = \"volume\" }", "nth: 0 is not from 1"),
        ("venue = \"MARS\"\nproduct = \"TDP\"\nroll = { by = \"volume\" }", "there is no venue MARS"),
    ] {
        bench.write("chains/bad.toml", text);
        let said = service.cli(&["reload"]);
        assert!(said.code != 0 && said.err.contains("chains/bad.toml") && said.err.contains(told), "{text}: {}", said.err);
    }
    bench.write("chains/bad.toml", "venue = \"CORF\"\nproduct = \"OIL\"\nroll = { by = \"volume\" }");
    assert_eq!(service.cli(&["reload"]).code, 0);
    refused("/bars?instruments=bad", "bad has no contracts: it is contract 1 of OIL").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_table_makes_one_history_of_any_instruments() {
    let thread = "venue = \"ALDX\"\nroll = { by = \"table\", table = [{ from = \"2016-01-04\", contract = \"CRK\" }, { from = \"2023-01-04\", \
                  contract = \"WIG\" }, { from = \"2024-01-04\", contract = \"NOPE\" }] }\n";
    let (bench, service) = collected(&[("chains/crake.toml", thread)]).await;
    assert_eq!(service.cli(&["collect", "aldx-daily", "-i", "CRK", "-i", "WIG", "--from", "2022-12-01", "--to", "2023-02-01"]).code, 0);
    let rows = table(&service.text("/bars?instruments=crake&rolls=ratio&columns=date,contract,close,return").await);
    assert!(rows.iter().all(|r| (r["date"].as_str() < "2023-01-04") == (r["contract"] == "CRK")), "{rows:?}");
    // On the first day of the second the return is its own.
    let first = rows.iter().position(|r| r["contract"] == "WIG").unwrap();
    let own = table(&service.text("/bars?instruments=WIG&columns=date,close,return").await);
    let own = own.iter().find(|r| r["date"] == rows[first]["date"]).unwrap();
    let near = |a: &str, b: &str| (a.parse::<f64>().unwrap() - b.parse::<f64>().unwrap()).abs() < 1e-6;
    assert!(near(&rows[first]["return"], &own["return"]), "{:?} {own:?}", rows[first]);
    let said = service.cli(&["chain", "crake"]);
    assert!(said.out.contains("by the table") && said.out.contains("NOPE, which the table names from 2024-01-04 on"), "{}", said.out);

    // One share became three quarters of another: the closes of the day no longer count.
    bench.change("chains/crake.toml", "contract = \"WIG\"", "contract = \"WIG\", for_one = \"0.75\"");
    assert_eq!(service.cli(&["reload"]).code, 0);
    let exchanged = table(&service.text("/bars?instruments=crake&rolls=ratio&columns=date,contract,close&round=4").await);
    let traded = table(&service.text("/bars?instruments=CRK&columns=date,close&to=2023-01-03").await);
    let old: Vec<_> = exchanged.iter().filter(|r| r["contract"] == "CRK").collect();
    assert!(old.len() == traded.len() && !old.is_empty());
    for (row, raw) in old.iter().zip(&traded) {
        let [became, was] = [&row["close"], &raw["close"]].map(|text| text.parse::<f64>().unwrap());
        assert!((became - was / 0.75).abs() <= 0.000_051, "{row:?} {raw:?}");
    }
    assert!(service.cli(&["chain", "crake"]).out.contains("by the table, 0.75 for one"));
    bench.change("chains/crake.toml", "\"0.75\"", "\"0\"");
    let said = service.cli(&["reload"]);
    assert!(said.code != 0 && said.err.contains("for_one: 0 is not above nought"), "{said:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn as_of_an_instant_the_rolls_are_those_that_were_known() {
    let (_bench, service) = collected(&[]).await;
    let path = "/bars?instruments=tdp-front&rolls=difference&columns=date,contract,close&from=2025-03-03";
    let answer = service.ask(path).await;
    let instant = answer.headers()["Mizuno-As-Of"].to_str().unwrap().to_owned();
    let (before, chain) = (answer.text().await.unwrap(), service.get(&format!("/chains/tdp-front?as_of={instant}")).await);
    // A contract is taken out of the chain, so that it rolls otherwise; the answer of then is as it was.
    _bench.change("instruments/corf.csv", ",2025-04-11,TDP,", ",2025-04-11,,");
    assert_eq!(service.cli(&["reload"]).code, 0);
    let now = table(&service.text(path).await);
    assert!(now.iter().all(|r| r["contract"] != "TDP-2025-04"), "{now:?}");
    assert_eq!(service.text(&format!("{path}&as_of={instant}")).await, before);
    assert_eq!(service.get(&format!("/chains/tdp-front?as_of={instant}")).await, chain);
    let changes = table(&service.text(&format!("{path}&since={instant}")).await);
    assert!(!changes.is_empty() && changes.iter().all(|r| r["cause"] == "membership"), "{changes:?}");
}
