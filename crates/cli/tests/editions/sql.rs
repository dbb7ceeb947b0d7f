//! Bars of an edition as a table for SQL engines, and questions as queries over it. That engines give the same rows is shown by `make check-sql`.

use crate::common::{
    self, Bench, Service,
    parquet::{of_parquet, types},
};
use mizuno_sim::faults::Faults;
use serde_json::json;
use std::{collections::BTreeSet, path::PathBuf};

const SPEC: &str = "venue = \"ALDX\"\n[table]\nintervals = [\"1d\", \"1m\"]\ninstruments = [\"KBF\", \"OXB\", \"SME\", \"RSB\"]\n\
    universes = [\"aldermere-12\"]\nprice_decimals = 4\n";

/// A desk with some shares, their actions and the members of an index, and the first edition of their table.
async fn made() -> (Bench, Service) {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 1.0, Faults::default(), false);
    bench.write("editions/desk.toml", SPEC);
    let service = bench.serve();
    for list in ["almanack/splits", "almanack/dividends", "almanack/aldermere-12"] {
        assert_eq!(service.cli(&["lists", list]).code, 0, "{list}");
    }
    let shares = ["-i", "KBF", "-i", "OXB", "-i", "SME", "-i", "RSB", "-i", "QHC"];
    assert_eq!(service.cli(&[&["collect", "aldx-daily"][..], &shares].concat()).code, 0);
    assert_eq!(service.cli(&["collect", "aldx-minutes", "-i", "KBF", "-i", "OXB", "--from", "2025-03-31"]).code, 0);
    let said = service.cli(&["editions", "desk", "--make", "--by", "mere"]);
    assert_eq!(said.code, 0, "{said:?}");
    (bench, service)
}

fn file(bench: &Bench, number: u32, path: &str) -> Vec<u8> {
    let path: PathBuf = bench.data().join(format!("editions/desk/{number}/{path}"));
    std::fs::read(&path).unwrap_or_else(|e| panic!("{}: {e}", path.display()))
}

fn columns(names: &str) -> Vec<String> {
    names.split(',').map(str::to_owned).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_table_has_one_schema_and_what_makes_its_bars_usable_lies_beside_it() {
    let (bench, service) = made().await;
    let day = types(file(&bench, 1, "bars/interval=1d/venue=ALDX/month=2025-03/bars.parquet"));
    let minute = types(file(&bench, 1, "bars/interval=1m/venue=ALDX/month=2025-04/bars.parquet"));
    for (name, of_day) in &day {
        assert_eq!(minute.get(name), Some(of_day), "{name} is of one type");
    }
    assert_eq!(minute.len(), day.len() + 1, "minutes have a time besides");
    assert!(day["close"].contains("scale: 4") && day["close"].contains("precision: 18") && day["volume"].contains("scale: 0"), "{day:?}");

    // Every bar of the table, multiplied by the factor of its day, is the adjusted one.
    let factors = of_parquet(
        &columns("interval,instrument,adjust,anchor,from_date,to_date,price_factor"),
        file(&bench, 1, "bars_factors/factors.parquet"),
    );
    for interval in ["1d", "1m"] {
        for (adjust, anchor) in [("splits", "newest"), ("splits", "oldest"), ("all", "newest"), ("all", "oldest")] {
            let asked = format!("instruments=KBF,OXB,SME,RSB&interval={interval}&adjust={adjust}&anchor={anchor}");
            let given = service.text(&format!("/bars?{asked}&columns=instrument,trade_date,close,raw_close")).await;
            let (mut multiplied, mut seen) = (0, 0);
            for line in given.lines().skip(1) {
                let [symbol, date, close, raw] = line.split(',').collect::<Vec<_>>()[..] else { panic!("{line}") };
                // Dates in this form stand in the order of their texts.
                let is = |row: &&Vec<String>| {
                    row[..4] == [interval, symbol, adjust, anchor] && row[4].as_str() <= date && date < row[5].as_str()
                };
                let mine: Vec<&Vec<String>> = factors.iter().filter(is).collect();
                assert!(mine.len() <= 1, "{mine:?}");
                let factor = mine.first().map_or(1.0, |row| row[6].parse::<f64>().unwrap());
                let (close, raw): (f64, f64) = (close.parse().unwrap(), raw.parse().unwrap());
                assert!((raw * factor - close).abs() <= 0.51e-6, "{line}: {raw} × {factor}");
                multiplied += usize::from(factor != 1.0);
                seen += 1;
            }
            assert!(seen > 500 && (interval == "1m" || multiplied > 500), "{asked}: {multiplied} of {seen}");
        }
    }

    // Stays are those that the universe tells, and sessions those of the venue.
    let members = of_parquet(&columns("universe,instrument,from_date,to_date"), file(&bench, 1, "bars_members/members.parquet"));
    let told = service.get("/universes/aldermere-12?on=2025-03-10").await;
    let there: BTreeSet<&str> =
        members.iter().filter(|m| m[2].as_str() <= "2025-03-10" && "2025-03-10" < m[3].as_str()).map(|m| m[1].as_str()).collect();
    let wanted: BTreeSet<&str> = told["members"].as_array().unwrap().iter().map(|m| m.as_str().unwrap()).collect();
    assert!(there == wanted && there.len() > 8, "{there:?} {told}");
    let sessions = of_parquet(&columns("venue,trade_date,opens,closes"), file(&bench, 1, "bars_sessions/sessions.parquet"));
    let of_a_day: Vec<&Vec<String>> = sessions.iter().filter(|s| s[1] == "2025-04-10").collect();
    assert_eq!(of_a_day.len(), 2, "a stretch before the break and one after it: {of_a_day:?}");
    assert!(sessions.last().unwrap()[1].as_str() > "2025-12-20", "to the end of the year, so that every week knows its last session");

    // The next one with nothing new is made of the same files.
    assert_eq!(service.cli(&["editions", "desk", "--make", "--by", "mere"]).code, 0);
    let second = service.get("/editions/desk/2").await;
    let files = second["content"].as_array().unwrap();
    // What changed is told anew.
    let is_table = |path: &str| path.ends_with(".parquet") && !path.starts_with("about/");
    let tables = files.iter().filter(|f| is_table(f["path"].as_str().unwrap()));
    assert!(tables.clone().count() > 100 && tables.clone().all(|f| f["linked"] == true), "all tables are those of the edition before");
    let package: serde_json::Value = serde_json::from_slice(&file(&bench, 1, "datapackage.json")).unwrap();
    let resource = package["resources"].as_array().unwrap().iter().find(|r| r["path"] == "bars_factors/factors.parquet").unwrap();
    assert_eq!(resource["schema"]["fields"][6]["decimal"], json!({ "precision": 38, "scale": 18 }));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_question_is_a_query_over_the_table_and_what_it_cannot_say_is_refused_by_name() {
    let (bench, service) = made().await;
    let said = service.cli(&["bars", "KBF", "--from", "2025-03-03", "--adjust", "all", "--sql"]);
    assert_eq!(said.code, 0, "{said:?}");
    for part in [
        "FROM bars b",
        "b.interval = '1d'",
        "b.month >= '2025-03'",
        "b.trade_date >= DATE '2025-03-03'",
        "b.instrument IN ('KBF')",
        "LEFT JOIN bars_factors f",
        "f.anchor = 'newest'",
        "ORDER BY instrument, trade_date;",
    ] {
        assert!(said.out.contains(part), "{part}: {}", said.out);
    }
    assert!(said.err.contains("mizuno editions desk/1 --tables"), "{said:?}");
    // Twice the same, in every way it can be asked.
    let short = service.text("/translation?instruments=KBF&from=2025-03-03&adjust=all").await;
    let (long, file) = (json!({ "instruments": ["KBF"], "from": "2025-03-03", "adjust": "all" }), bench.config().join("asked.toml"));
    let posted = common::client().post(format!("{}/api/v1/translation?edition=desk/1", service.url)).json(&long).send().await.unwrap();
    assert_eq!(
        (posted.headers()["Mizuno-Edition"].to_str().unwrap(), posted.headers()["content-type"].to_str().unwrap()),
        ("desk/1", "application/sql")
    );
    let posted = posted.text().await.unwrap();
    std::fs::write(&file, "instruments = [\"KBF\"]\nfrom = 2025-03-03\nadjust = \"all\"\n").unwrap();
    let by_file = service.cli(&["bars", "--question", file.to_str().unwrap(), "--sql=desk"]);
    assert!(short == posted && short == said.out && short == by_file.out, "{short}\n{posted}\n{}", by_file.out);

    let refused = |asked: &str, words: &[&str]| {
        let asked = asked.to_owned();
        let words: Vec<String> = words.iter().map(|w| (*w).to_owned()).collect();
        let service = &service;
        async move {
            let response = service.ask(&format!("/translation?{asked}")).await;
            let (status, told) = (response.status().as_u16(), response.text().await.unwrap());
            assert!(status == 400 || status == 404, "{asked}: {status} {told}");
            assert!(words.iter().all(|word| told.contains(word)), "{asked}: {told}");
        }
    };
    refused(
        "instruments=KBF&layout=wide&zone=Pacific/Auckland&columns=date,return",
        &["layout: ", "zone: ", "columns: return is not translated"],
    )
    .await;
    refused("instruments=KBF&where=close crosses above open&keep_last=3", &["looks at the row before", "keep_first, keep_last"]).await;
    refused("instruments=QHC", &["QHC at 1d are not in the table of desk/1"]).await;
    refused("instruments=KBF&interval=1m&source=harbour&as_of=2025-04-01T00:00:00Z", &["source: ", "as_of: the table stands for"]).await;
    refused("universe=traded-shares&instruments=KBF", &["memberships of aldermere-12"]).await;
    refused("instruments=KBF&engine=oracle", &["`oracle` is none of datafusion, duckdb, spark"]).await;
    refused("instruments=KBF&edition=monthly", &["monthly"]).await;
    refused("instruments=KBX", &["KBX"]).await;
    refused("instruments=KBF&columns=date,open_interest", &["open_interest: the table has none; write open_interest = true"]).await;
    refused("instruments=KBF&where=open_interest > 5", &["open_interest: the table has none"]).await;

    // Names that somebody gives, and what somebody types, stay names and texts.
    let asked = "instruments=KBF&names=close:Close \"x\"; DROP TABLE bars&columns=date,close&engine=spark";
    let named = service.text(&format!("/translation?{}", asked.replace(' ', "%20").replace('"', "%22").replace(';', "%3B"))).await;
    assert!(named.contains("close AS `Close \"x\"; DROP TABLE bars`"), "{named}");

    // The statements name every file's folder, each engine in its own words.
    for (engine, word) in
        [("datafusion", "CREATE EXTERNAL TABLE bars ("), ("duckdb", "hive_partitioning = true"), ("spark", "USING parquet")]
    {
        let said = service.cli(&["editions", "desk/1", "--tables", engine, "--place", "s3://tarn-street/desk/1/"]);
        assert!(said.code == 0 && said.out.contains(word), "{said:?}");
        for table in ["bars", "bars_factors", "bars_members", "bars_sessions"] {
            assert!(said.out.contains(&format!("s3://tarn-street/desk/1/{table}/")), "{table}: {}", said.out);
        }
    }
    let said = service.cli(&["editions", "monthly", "--tables"]);
    assert!(said.code != 0, "{said:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn numbers_of_a_table_that_have_no_room_stop_it_by_name() {
    let (bench, service) = made().await;
    bench.write("editions/desk.toml", &SPEC.replace("price_decimals = 4", "price_decimals = 1"));
    assert_eq!(service.cli(&["reload"]).code, 0);
    let said = service.cli(&["editions", "desk", "--make", "--by", "mere"]);
    assert!(said.code != 0 && said.err.contains("has no room in 18 digits with 1 after the point"), "{said:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_table_has_open_interest_where_its_spec_says_so() {
    let bench = Bench::at(mizuno_sim::DEMO_START, 1.0, Faults::default());
    let rows = bench.own_source("");
    bench.change("sources/own.toml", "adjusted = \"splits\"", "adjusted = \"no\"");
    bench.change("sources/own.toml", "volume = \"v\"", "volume = \"v\", open_interest = \"i\"");
    rows.lock().unwrap().extend([
        ("2025-03-03".to_owned(), "2.00,2.00,2.00,2.00,10,500".to_owned()),
        ("2025-03-04".to_owned(), "2.10,2.10,2.10,2.10,20,".to_owned()),
    ]);
    bench.write("editions/held.toml", "venue = \"ALDX\"\n[table]\nintervals = [\"1d\"]\ninstruments = [\"KBF\"]\nopen_interest = true\n");
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "own", "--to", "2025-03-04"]).code, 0);
    let said = service.cli(&["editions", "held", "--make", "--by", "mere"]);
    assert_eq!(said.code, 0, "{said:?}");
    let path = bench.data().join("editions/held/1/bars/interval=1d/venue=ALDX/month=2025-03/bars.parquet");
    let bytes = std::fs::read(path).unwrap();
    let told = types(bytes.clone());
    assert!(told["open_interest"].contains("scale: 6") && told["open_interest"].contains("precision: 18"), "{told:?}");
    let held = of_parquet(&columns("trade_date,close,open_interest"), bytes);
    let held: Vec<&str> = held.iter().map(|row| row[2].as_str()).collect();
    assert_eq!(held, ["500.000000", ""]);
    let statements = service.cli(&["editions", "held/1", "--tables"]).out;
    assert!(statements.contains("open_interest DECIMAL(18, 6),\n  source"), "{statements}");
    let sql = service.cli(&["bars", "KBF", "--columns", "date,open_interest", "--where", "open_interest > 5", "--interval", "1w", "--sql"]);
    assert!(sql.out.contains("CASE WHEN from_last = 1 THEN open_interest END"), "{sql:?}");
}
