//! A copy kept elsewhere, brought up to date by what changed since: to the byte what a fresh file says.

use crate::common::{self, Bench, Service};
use mizuno_core::TradeDate;
use mizuno_sim::faults::Faults;
use std::collections::{BTreeMap, BTreeSet};

/// A copy of an answer, kept by somebody else: rows by instrument and moment.
struct Copy {
    question: &'static str,
    /// The instruments in the order of the question.
    instruments: Vec<&'static str>,
    /// The columns of the copy.
    columns: Vec<String>,
    wide: bool,
    as_of: String,
    rows: BTreeMap<(usize, String), Vec<String>>,
}

fn fields(line: &str) -> Vec<String> {
    line.split(',').map(str::to_owned).collect()
}

impl Copy {
    fn new(question: &'static str, instruments: &[&'static str], columns: &str, wide: bool) -> Copy {
        Copy { question, instruments: instruments.to_vec(), columns: fields(columns), wide, as_of: String::new(), rows: BTreeMap::new() }
    }

    /// Takes a fresh file as the copy.
    async fn begin(&mut self, service: &Service) {
        let answer = service.ask(&format!("/bars?{}", self.question)).await;
        self.as_of = answer.headers()["mizuno-as-of"].to_str().unwrap().to_owned();
        let text = answer.text().await.unwrap();
        for line in text.lines().skip(1).map(fields) {
            let several = self.columns[0] == "instrument";
            let moment = line[usize::from(several)].clone();
            if self.wide {
                let cells = line[1..].iter().enumerate().filter(|(_, cell)| !cell.is_empty());
                self.rows.extend(cells.map(|(at, cell)| ((at, moment.clone()), vec![moment.clone(), cell.clone()])));
            } else {
                let at = self.instruments.iter().position(|i| several && *i == line[0]).unwrap_or(0);
                self.rows.insert((at, moment), line);
            }
        }
        assert_eq!(self.text(), text, "{}", self.question);
    }

    /// Takes in what changed since the copy was last brought up to date; returns the causes.
    async fn catch_up(&mut self, service: &Service) -> Vec<String> {
        let answer = service.ask(&format!("/bars?{}&since={}", self.question, self.as_of)).await;
        assert_eq!(answer.status(), 200, "{}", answer.text().await.unwrap());
        self.as_of = answer.headers()["mizuno-as-of"].to_str().unwrap().to_owned();
        let text = answer.text().await.unwrap();
        let mut lines = text.lines().map(fields);
        let header = lines.next().unwrap();
        let place = |name: &str| header.iter().position(|h| h == name).unwrap_or_else(|| panic!("no {name} in {header:?}"));
        let moment = if header.contains(&"date".to_owned()) { "date" } else { "time" };
        let values: Vec<usize> = self.columns.iter().map(|c| place(c)).collect();
        let mut causes = vec![];
        for line in lines {
            let instrument = self.instruments.iter().position(|i| *i == line[place("instrument")]).unwrap();
            let key = (instrument, line[place(moment)].clone());
            causes.push(line[place("cause")].clone());
            let said = |prefix: &str| -> Vec<String> {
                let old = |c: &String| header.iter().position(|h| *h == format!("{prefix}{c}")).map(|at| line[at].clone());
                self.columns.iter().filter_map(old).collect()
            };
            let kept: Option<Vec<String>> = self.rows.get(&key).cloned();
            // The old values are those that the copy has.
            let had = |row: &Vec<String>| -> Vec<String> {
                let valued = |c: &&String| header.contains(&format!("old_{c}"));
                self.columns.iter().zip(row).filter(|(c, _)| valued(c)).map(|(_, v)| v.clone()).collect()
            };
            match line[place("change")].as_str() {
                "new" => {
                    assert!(kept.is_none(), "{line:?} stands in the copy already");
                    self.rows.insert(key, values.iter().map(|at| line[*at].clone()).collect());
                }
                "changed" => {
                    assert_eq!(kept.as_ref().map(had), Some(said("old_")), "{line:?}");
                    self.rows.insert(key, values.iter().map(|at| line[*at].clone()).collect());
                }
                "gone" => {
                    assert_eq!(kept.as_ref().map(had), Some(said("old_")), "{line:?} at {}", self.as_of);
                    self.rows.remove(&key);
                }
                other => panic!("{other}"),
            }
        }
        causes
    }

    /// The copy as a file.
    fn text(&self) -> String {
        let mut out = String::new();
        if self.wide {
            let close = self.columns.iter().position(|c| c == "close").unwrap();
            out += &format!("date,{}\r\n", self.instruments.join(","));
            for date in self.rows.keys().map(|(_, date)| date).collect::<BTreeSet<_>>() {
                let cell = |at: usize| self.rows.get(&(at, date.clone())).map_or("", |row| row[close].as_str());
                let cells: Vec<&str> = (0..self.instruments.len()).map(cell).collect();
                out += &format!("{date},{}\r\n", cells.join(","));
            }
            return out;
        }
        out += &format!("{}\r\n", self.columns.join(","));
        self.rows.values().for_each(|row| out += &format!("{}\r\n", row.join(",")));
        out
    }
}

/// The line of a made-up bar.
fn bar(date: TradeDate, by: f64) -> String {
    let n = f64::from(date.0 % 7) * 0.1;
    let [o, h, l, c] = [20.0 + n, 20.6 + n, 19.5 + n, 20.2 + n].map(|p| p * by);
    format!("{o:.2},{h:.2},{l:.2},{c:.2},{}", 1000 + date.0 % 50)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_copy_brought_up_to_date_by_differences_equals_a_fresh_file_to_the_byte() {
    // A day in two seconds, and twelve of them.
    let bench = Bench::at("2025-03-24T06:00:00Z", 43_200.0, Faults::default());
    let own = bench.own_source("");
    bench.change("sources/own.toml", "adjusted = \"splits\"", "adjusted = \"no\"");
    bench.change("collectors/own.toml", "since = \"2025-03-03\"", "since = \"2024-06-03\"");
    let calendar = bench.world.market.calendar().clone();
    for session in calendar.between("2024-06-03".parse().unwrap().."2025-04-20".parse().unwrap()) {
        own.lock().unwrap().insert(session.date.to_string(), bar(session.date, 1.0));
    }
    let ranking = |first: &str, then: &str| format!("[[rank]]\nvenue = \"ALDX\"\ninterval = \"1d\"\nsources = [\"{first}\", \"{then}\"]\n");
    bench.write("ranking.toml", &ranking("own", "harbour"));
    let service = bench.serve();
    let mut copies = [
        Copy::new("instruments=KBF,OXB", &["KBF", "OXB"], "instrument,date,open,high,low,close,volume,source", false),
        Copy::new("instruments=KBF&last=8&columns=date,close,source,doubted", &["KBF"], "date,close,source,doubted", false),
        Copy::new("series=KBF/1d/own&round=1&columns=date,low,close", &["KBF"], "date,low,close", false),
        Copy::new("instruments=KB*,OXB&layout=wide&from=2025-03-03", &["KBF", "OXB"], "date,close", true),
        Copy::new(
            "instruments=KBF&interval=1m&last=2&missing=rows&columns=time,close,source,completeness",
            &["KBF"],
            "time,close,source,completeness",
            false,
        ),
    ];
    let mut seen: BTreeSet<String> = BTreeSet::new();
    let mut sessions = 0;
    for step in 0..12 {
        let day = bench.now().date_in(&jiff::tz::TimeZone::UTC);
        let date = |back: usize| calendar.between(TradeDate(0)..day).iter().rev().nth(back).unwrap().date;
        match step {
            2 => drop(own.lock().unwrap().insert(date(1).to_string(), bar(date(1), 1.01))),
            3 => bench.write("ranking.toml", &ranking("harbour", "own")),
            5 => bench.write("ranking.toml", &ranking("own", "harbour")),
            // A bad print, which a check doubts, and which somebody accepts later, and takes that back.
            6 => drop(own.lock().unwrap().insert(date(1).to_string(), bar(date(1), 9.0))),
            7 => {
                let findings = service.get("/findings?series=KBF/1d/own").await;
                let id = findings
                    .as_array()
                    .unwrap()
                    .iter()
                    .find(|f| f["severity"] == "doubt")
                    .unwrap_or_else(|| panic!("the bad print is doubted: {findings}"))["id"]
                    .clone();
                let accepted = service.cli(&["excuse", id.as_str().unwrap(), "--by", "mere", "--note", "so it was"]);
                assert_eq!(accepted.code, 0, "{accepted:?}");
            }
            9 => assert_eq!(service.cli(&["excuses", "--revoke", "1"]).code, 0),
            _ => {}
        }
        if [3, 5].contains(&step) {
            assert_eq!(service.cli(&["reload"]).code, 0);
        }
        for collector in [
            &["own", "-i", "KBF"][..],
            &["daily", "-i", "KBF", "-i", "OXB", "--from", "2025-03-03"],
            &["minutes", "-i", "KBF", "--from", "2025-03-19"],
        ] {
            let said = service.cli(&[&["collect"], collector].concat());
            assert!([0, 3].contains(&said.code), "{said:?}");
        }
        if [2, 6].contains(&step) {
            let restated = service.cli(&["restatements", "--days", "1"]);
            assert!(restated.out.contains("KBF/1d/own"), "step {step}: {restated:?}");
        }
        for copy in &mut copies {
            if step == 0 {
                copy.begin(&service).await;
                continue;
            }
            let causes = copy.catch_up(&service).await;
            let fresh = service.text(&format!("/bars?{}&as_of={}", copy.question, copy.as_of)).await;
            assert_eq!(copy.text(), fresh, "step {step}, {}: {causes:?}", copy.question);
            seen.extend(causes);
            if step == 3 && copy.question.starts_with("instruments=KBF,OXB") {
                assert!(seen.contains("ranking"), "{seen:?}");
            }
        }
        // On to the evening of the next session.
        let next = calendar.at_or_after(bench.now()).unwrap();
        let over = next.close().plus(3600 * mizuno_core::time::SECOND);
        while bench.now() < over {
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        sessions += 1;
    }
    assert!(sessions >= 10);
    assert_eq!(seen, ["bar", "finding", "range", "ranking"].map(str::to_owned).into(), "each cause was there");
}

#[tokio::test(flavor = "multi_thread")]
async fn changes_are_told_in_every_format_and_a_wrong_instant_with_the_way_out() {
    let bench = Bench::new(Faults::default());
    let rows = bench.own_source("");
    let calendar = bench.world.market.calendar().clone();
    for session in calendar.between("2025-03-03".parse().unwrap().."2025-04-10".parse().unwrap()) {
        rows.lock().unwrap().insert(session.date.to_string(), bar(session.date, 1.0));
    }
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "own"]).code, 0);
    let then = service.ask("/bars?series=KBF/1d/own").await.headers()["mizuno-as-of"].to_str().unwrap().to_owned();
    let question = format!("/bars?series=KBF/1d/own&columns=date,close,volume&since={then}");
    assert_eq!(service.text(&question).await, "change,cause,instrument,date,close,volume,old_close,old_volume\r\n", "nothing has changed");
    rows.lock().unwrap().insert("2025-04-08".to_owned(), "20.00,30.00,19.00,21.000,".to_owned());
    assert_eq!(service.cli(&["collect", "own", "--from", "2025-04-07", "--again"]).code, 0);
    let csv = service.text(&question).await;
    let line = csv.lines().nth(1).unwrap().to_owned();
    assert!(line.starts_with("changed,bar,KBF,2025-04-08,21.000,,2") && csv.lines().count() == 2, "{csv}");
    let json = service.get(&format!("{question}&format=json")).await;
    assert_eq!((&json[0]["change"], &json[0]["volume"]), (&"changed".into(), &serde_json::Value::Null), "{json}");
    let arrays = service.get(&format!("{question}&format=json&arrays=columns")).await;
    assert_eq!(arrays["cause"], serde_json::json!(["bar"]));
    let parquet = service.ask(&format!("{question}&format=parquet")).await;
    assert_eq!(parquet.status(), 200);
    let file = parquet::file::reader::SerializedFileReader::new(parquet.bytes().await.unwrap()).unwrap();
    let row = parquet::file::reader::FileReader::get_row_iter(&file, None).unwrap().next().unwrap().unwrap().to_string();
    assert!(row.contains("old_close"), "{row}");
    // Nothing has changed again since, and the validator says so.
    let answer = service.ask(&question).await;
    let tag = answer.headers()["etag"].clone();
    let again = common::client().get(format!("{}/api/v1{question}", service.url)).header("If-None-Match", tag).send().await.unwrap();
    assert_eq!(again.status(), 304);
    let cli = service.cli(&["bars", "KBF/1d/own", "--since", &then]);
    assert!(cli.code == 0 && cli.err.contains("next time: --since 2025-04-10T"), "{cli:?}");
    for (more, told) in [
        ("since=now", "give the instant of the answer that you have"),
        ("since=2025-04-08", "is a day"),
        ("since=2035-01-01T00:00:00Z", "still to come"),
        ("since=2025-04-10T02:00:00Z&as_of=2025-04-10T01:00:00Z", "changes go forward in time"),
        ("since=2025-04-08T00:00:00Z&layout=wide&missing=carried", "a carried close is no change"),
    ] {
        let refused = service.ask(&format!("/bars?instruments=KBF&{more}")).await;
        let problem = refused.text().await.unwrap();
        assert!(problem.contains(told), "{more}: {problem}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_bar_that_makes_its_week_more_complete_and_not_otherwise_is_told_as_a_bar() {
    let bench = Bench::new(Faults::default());
    let rows = bench.own_source("");
    let wednesday = "2025-04-02".to_owned();
    let days = ["2025-03-31", "2025-04-01", "2025-04-02", "2025-04-03", "2025-04-04"];
    rows.lock().unwrap().extend(days.map(|day| (day.to_owned(), "20.00,21.00,19.00,20.50,".to_owned())));
    let late = rows.lock().unwrap().remove(&wednesday).unwrap();
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "own", "--from", "2025-03-31", "--to", "2025-04-04"]).code, 0);
    let week = "/bars?instruments=KBF&source=own&interval=1w&from=2025-03-31&to=2025-04-04&columns=date,close,held,completeness";
    let then = service.ask(week).await.headers()["mizuno-as-of"].to_str().unwrap().to_owned();
    rows.lock().unwrap().insert(wednesday, late);
    assert_eq!(service.cli(&["collect", "own", "--from", "2025-04-02", "--to", "2025-04-02"]).code, 0);
    let told = service.text(&format!("{week}&since={then}")).await;
    let row = told.lines().nth(1).unwrap_or_else(|| panic!("the week is changed: {told}"));
    assert_eq!(row, "changed,bar,KBF,2025-03-31,20.50,5,100.00,20.50,4,80.00", "{told}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_instrument_that_a_pattern_finds_later_is_new_by_membership() {
    let bench = Bench::new(Faults::default());
    let all = std::fs::read_to_string(bench.config().join("instruments/aldx.csv")).unwrap();
    let without: Vec<&str> = all.lines().filter(|l| !l.starts_with("OXB,")).collect();
    bench.write("instruments/aldx.csv", &(without.join("\n") + "\n"));
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "daily", "-i", "KBF", "--from", "2025-04-01"]).code, 0);
    let question = "/bars?instruments=O*,KBF&columns=instrument,date,close&from=2025-04-01";
    let before = service.ask(question).await;
    let as_of = before.headers()["mizuno-as-of"].to_str().unwrap().to_owned();
    bench.write("instruments/aldx.csv", &all);
    assert_eq!(service.cli(&["reload"]).code, 0);
    assert_eq!(service.cli(&["collect", "daily", "-i", "OXB", "--from", "2025-04-01"]).code, 0);
    let changes = service.text(&format!("{question}&since={as_of}")).await;
    let rows: Vec<&str> = changes.lines().skip(1).collect();
    assert!(!rows.is_empty() && rows.iter().all(|r| r.starts_with("new,membership,OXB,")), "{changes}");
}
