//! One question, whichever door it comes through: many instruments, long and wide, and what is said of the answer beforehand.

use crate::common::{Bench, Service, client};
use mizuno_sim::faults::Faults;
use rand::{Rng, SeedableRng, seq::IndexedRandom};
use rand_pcg::Pcg64Mcg;
use std::collections::{BTreeMap, BTreeSet};

async fn collected() -> (Bench, Service) {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 60.0, Faults::of_the_demo(), false);
    let service = bench.serve();
    assert_eq!(service.cli(&["lists", "almanack/splits"]).code, 0);
    for collector in ["aldx-daily", "lodestar-daily"] {
        service.cli(&["collect", collector]);
    }
    service.cli(&["collect", "aldx-minutes", "-i", "KBF", "-i", "OXB", "-i", "MHN", "--from", "2025-04-03"]);
    service.cli(&["collect", "lodestar-minutes", "-i", "KBF", "-i", "OXB", "--from", "2025-04-03"]);
    (bench, service)
}

/// Lines of cells; nothing here is quoted.
fn cells(csv: &str) -> Vec<Vec<String>> {
    csv.lines().map(|line| line.split(',').map(str::to_owned).collect()).collect()
}

/// The join of long files, worked out the plain way: moments, and of each instrument the cells of these columns.
fn joined(long: &[(String, Vec<Vec<String>>)], columns: usize, inner: bool) -> Vec<Vec<String>> {
    let by_moment: Vec<BTreeMap<&String, &[String]>> =
        long.iter().map(|(_, rows)| rows[1..].iter().map(|row| (&row[0], &row[1..])).collect()).collect();
    let all: BTreeSet<&String> = by_moment.iter().flat_map(|rows| rows.keys().copied()).collect();
    let wanted = |moment: &&&String| !inner || by_moment.iter().all(|rows| rows.contains_key(**moment));
    let row = |moment: &&String| {
        let of_one = |rows: &BTreeMap<&String, &[String]>| rows.get(*moment).map_or(vec![String::new(); columns], |c| c.to_vec());
        [(*moment).clone()].into_iter().chain(by_moment.iter().flat_map(of_one)).collect()
    };
    all.iter().filter(wanted).map(row).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wide_file_is_exactly_the_join_of_the_long_ones() {
    let (_bench, service) = collected().await;
    let as_of = service.ask("/bars?instrument=KBF").await.headers()["mizuno-as-of"].to_str().unwrap().to_owned();
    let mut rng = Pcg64Mcg::seed_from_u64(20250410);
    let days: Vec<&str> = ["KBF", "OXB", "FNR", "KNT", "SME", "CRK", "AL12", "MHN", "WIG"].to_vec();
    for round in 0..40 {
        let intraday = round % 3 == 0;
        let all: Vec<&str> = if intraday { vec!["KBF", "OXB", "MHN"] } else { days.clone() };
        let several = rng.random_range(1..=all.len().min(5));
        let chosen: Vec<String> = all.choose_multiple(&mut rng, several).map(|s| (*s).to_owned()).collect();
        let values = *["close", "open,volume", "high,low,close,source", "close,doubted"].choose(&mut rng).unwrap();
        let inner = rng.random_bool(0.4);
        let range = match (intraday, rng.random_range(0..3)) {
            (true, 0) => "&last=2",
            (true, 1) => "&from=2025-04-04&to=2025-04-09T00:00:00Z&hours=10:30-15:00",
            (true, _) => "&from=2025-04-03&last_minutes=45",
            (false, 0) => "&last=40",
            (false, 1) => "&from=2019-06-01&to=2024-02-29",
            (false, _) => "",
        };
        let interval = if intraday { "1m" } else { "1d" };
        let source = if rng.random_bool(0.3) { "&source=harbour" } else { "" };
        let rest = format!("&interval={interval}{source}{range}&as_of={as_of}&columns=time,{values}");
        let mut long = vec![];
        for symbol in &chosen {
            long.push((symbol.clone(), cells(&service.text(&format!("/bars?instrument={symbol}{rest}")).await)));
        }
        let columns = values.split(',').count();
        let join = if inner { "inner" } else { "outer" };
        let wide = cells(&service.text(&format!("/bars?instruments={}&layout=wide&join={join}{rest}", chosen.join(","))).await);
        let name = |symbol: &String| -> Vec<String> {
            values.split(',').map(|c| if columns == 1 { symbol.clone() } else { format!("{symbol} {c}") }).collect()
        };
        let moment = if intraday { "time" } else { "date" };
        let head: Vec<String> = [moment.to_owned()].into_iter().chain(chosen.iter().flat_map(name)).collect();
        assert_eq!(wide[0], head, "{chosen:?} {rest}");
        let expected = joined(&long, columns, inner);
        assert_eq!(wide.len() - 1, expected.len(), "{chosen:?} {join} {rest}");
        for (line, wanted) in wide[1..].iter().zip(&expected) {
            assert_eq!(line, wanted, "{chosen:?} {join} {rest}");
        }
        // And a long file of all is the long files one after another, each row with its instrument.
        let together = cells(&service.text(&format!("/bars?instruments={}{rest},instrument", chosen.join(","))).await);
        let apart: Vec<Vec<String>> = long
            .iter()
            .flat_map(|(symbol, rows)| rows[1..].iter().map(move |row| [&row[..], std::slice::from_ref(symbol)].concat()))
            .collect();
        assert!(together[1..] == apart[..], "{chosen:?} {rest}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_same_question_gives_the_same_bytes_through_every_door() {
    let (bench, service) = collected().await;
    let question = "instruments = [\"KBF\", \"AL*\"]\nfrom = \"2025-03-03\"\nlayout = \"wide\"\ncolumns = [\"date\", \"close\", \"volume\"]\n\
                    names = { close = \"Close\" }\nstamp = \"%d.%m.%Y\"\nseparator = \"semicolon\"\ndecimal_sign = \"comma\"\n";
    let json = serde_json::json!({
        "columns": ["date", "close", "volume"], "from": "2025-03-03", "instruments": ["KBF", "AL*"], "layout": "wide",
        "names": { "close": "Close" }, "separator": "semicolon", "decimal_sign": "comma", "stamp": "%d.%m.%Y",
    });
    let url = format!("{}/api/v1", service.url);
    let post = async |path: &str, kind: &str, body: String| {
        let answer = client().post(format!("{url}{path}")).header("Content-Type", kind).body(body).send().await.unwrap();
        assert_eq!(answer.status(), 200);
        let digest = answer.headers().get("mizuno-question").map(|v| v.to_str().unwrap().to_owned());
        (digest, answer.text().await.unwrap())
    };
    let (digest, as_toml) = post("/bars", "application/toml", question.to_owned()).await;
    let (again, as_json) = post("/bars", "application/json", json.to_string()).await;
    assert!(as_toml.starts_with("date;KBF Close;KBF volume;AL12 Close;"), "{}", &as_toml[..60]);
    assert!(as_toml.lines().nth(1).unwrap().starts_with("03.03.2025;"), "{as_toml}");
    assert_eq!((&digest, &as_toml), (&again, &as_json));

    let file = bench.dir.path().join("question.toml");
    std::fs::write(&file, question).unwrap();
    let by_file = service.cli(&["bars", "--question", file.to_str().unwrap()]);
    assert_eq!(by_file.out, as_toml, "{}", by_file.err);
    let wrong = bench.dir.path().join("bars.parquet");
    let refused = service.cli(&["bars", "--question", file.to_str().unwrap(), "-o", wrong.to_str().unwrap()]);
    assert!(refused.code == 2 && refused.err.contains("the question asks for csv") && !wrong.exists(), "{refused:?}");

    // What is shown back says the same: the command, the address, and the canonical text.
    let (_, explained) = post("/explanation", "application/toml", question.to_owned()).await;
    let explained: serde_json::Value = serde_json::from_str(&explained).unwrap();
    let form = |name: &str| explained["forms"][name].as_str().unwrap().to_owned();
    assert_eq!(service.text(form("address").strip_prefix("/api/v1").unwrap()).await, as_toml);
    assert_eq!(post("/bars", "application/toml", form("toml")).await.1, as_toml);
    assert_eq!(post("/bars", "application/json", form("json")).await.1, as_toml);
    let mizuno = env!("CARGO_BIN_EXE_mizuno");
    let command = form("command").replacen("mizuno", &format!("{mizuno} --service {}", service.url), 1);
    let run = std::process::Command::new("sh").args(["-c", &command]).output().unwrap();
    assert_eq!(String::from_utf8_lossy(&run.stdout), as_toml, "{command}");
    assert_eq!(explained["question"].as_str(), digest.as_deref());
    let symbols: Vec<&str> = explained["series"].as_array().unwrap().iter().map(|s| s["series"].as_str().unwrap()).collect();
    assert_eq!(symbols, ["KBF/1d/golden", "AL12/1d/golden", "AL2X/1d/golden", "ALP/1d/golden"]);
    let sources = explained["series"][0]["sources"].as_array().unwrap().len();
    assert!(sources == 2 && explained["blocks"].as_u64().unwrap() >= 4 && explained["bytes"].as_u64().unwrap() > 10_000, "{explained}");
    let said = service.cli(&["bars", "--question", file.to_str().unwrap(), "--explain"]);
    assert!(said.code == 0 && said.out.contains("AL2X/1d/golden") && said.out.contains("  instruments = [\"KBF\", \"AL*\"]"), "{said:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn empty_places_are_told_as_asked_and_never_silently() {
    let (_bench, service) = collected().await;
    // FNR was listed in January 2025: before that its cells are empty, and no close is carried from nowhere.
    let base = "/bars?instruments=KBF,FNR&layout=wide&from=2025-01-13&to=2025-01-31";
    let absent = cells(&service.text(base).await);
    assert_eq!(absent[1][2], "", "{absent:?}");
    let carried = cells(&service.text(&format!("{base}&missing=carried")).await);
    assert_eq!(carried[0], ["date", "KBF", "KBF carried", "FNR", "FNR carried"]);
    for (a, c) in absent[1..].iter().zip(&carried[1..]) {
        match a[2].as_str() {
            "" if c[3].is_empty() => assert_eq!(c[4], "", "nothing was there to carry: {c:?}"),
            "" => assert_eq!(c[4], "true"),
            close => assert_eq!((close, "false"), (c[3].as_str(), c[4].as_str())),
        }
    }
    // MHN trades six times a day: a row for each expected minute, and the bars where they are.
    let rows = cells(&service.text("/bars?instrument=MHN&interval=1m&last=1&missing=rows&columns=time,trade_date,close").await);
    let bars = cells(&service.text("/bars?instrument=MHN&interval=1m&last=1&columns=time,trade_date,close").await);
    let with_bar: Vec<_> = rows.iter().filter(|r| !r[2].is_empty()).cloned().collect();
    assert!(rows.len() > bars.len() * 5, "{} and {}", rows.len(), bars.len());
    assert_eq!(with_bar, bars);
    assert!(rows[1..].iter().all(|r| r[1] == "2025-04-10"), "the trade date of each is that of its session: {:?}", rows[1]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_question_as_of_a_past_instant_keeps_its_validator_when_later_bars_arrive() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "daily", "-i", "KBF", "-i", "OXB", "--to", "2025-03-31"]).code, 0);
    let tag = async |path: &str| {
        let answer = service.ask(path).await;
        (answer.headers()["etag"].to_str().unwrap().to_owned(), answer.headers()["mizuno-as-of"].to_str().unwrap().to_owned())
    };
    let path = "/bars?instruments=KBF,OXB&layout=wide";
    let (newest, as_of) = tag(path).await;
    let (then, _) = tag(&format!("{path}&as_of={as_of}")).await;
    let before = service.text(&format!("{path}&as_of={as_of}")).await;
    assert_eq!(service.cli(&["collect", "daily", "-i", "KBF", "-i", "OXB"]).code, 0);
    assert_ne!(tag(path).await.0, newest, "the newest answer is another");
    assert_eq!(tag(&format!("{path}&as_of={as_of}")).await.0, then);
    assert_eq!(service.text(&format!("{path}&as_of={as_of}")).await, before);
    let url = format!("{}/api/v1{path}&as_of={as_of}", service.url);
    let again = client().get(url).header("If-None-Match", then).send().await.unwrap();
    assert_eq!(again.status(), 304);
}

#[tokio::test(flavor = "multi_thread")]
async fn many_mistakes_are_told_at_once_and_what_is_not_known_by_its_name() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "daily", "-i", "KBF"]).code, 0);
    let problem = async |path: &str| {
        let answer = service.ask(path).await;
        let status = answer.status().as_u16();
        let body: serde_json::Value = answer.json().await.unwrap();
        (status, body["detail"].as_str().unwrap().to_owned())
    };
    let (status, told) = problem("/bars?instruments=KBF,NIX,NUX&last=5").await;
    assert!(status == 400 && told.contains("NIX") && told.contains("NUX"), "{told}");
    assert_eq!(problem("/bars?instruments=NIX").await.0, 404);
    let (_, told) = problem("/bars?instruments=Q*Q").await;
    assert!(told.contains("no symbol fits the pattern `Q*Q`"), "{told}");
    assert_eq!(service.cli(&["collect", "minutes", "-i", "KBF", "--from", "2025-04-09"]).code, 0);
    let ends = service.ask("/bars?instruments=KBF,OXB&interval=1m&layout=wide&stamp_at=end&columns=time,trade_date,close").await;
    assert_eq!(ends.status(), 200, "of one venue a moment has one trade date and one end");
    let (_, told) = problem("/bars?instruments=KBF&layuot=wide&stamp=iso&round=x").await;
    assert!(told.contains("did you mean layout?") && told.contains("stamp: `iso`") && told.contains("round: `x`"), "{told}");
    let (status, told) = problem("/bars?instruments=KBF&instruments=OXB").await;
    assert!(status == 400 && told.contains("instruments: it is given twice"), "{told}");
    // A pattern passes over what has no such series, and says so beforehand.
    service.cli(&["collect", "minutes", "-i", "KBF", "--from", "2025-04-09"]);
    let explained = service.get("/explanation?instruments=*&interval=1m").await;
    assert!(explained["series"].as_array().unwrap().len() > 10, "{explained}");
    let without = explained["without"].as_array().unwrap();
    assert!(
        without.contains(&serde_json::json!({ "instrument": "MHN", "why": "no collector asks for it; name it in one of ALDX" })),
        "{without:?}"
    );
    assert!(without.contains(&serde_json::json!({ "instrument": "ALP", "why": "never-asked at harbour" })), "{without:?}");
    assert!(without.iter().all(|w| w["instrument"] != "KBF"), "it has some: {without:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_question_is_saved_under_a_name_asked_again_and_changed_with_its_history() {
    let bench = Bench::new(Faults::default());
    bench.write("questions/mornings.toml", "instruments = [\"KBF\"]\nlast = 3\ncolumns = [\"date\", \"close\"]\n");
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "daily", "-i", "KBF", "-i", "OXB", "--from", "2025-03-03"]).code, 0);
    let file = bench.dir.path().join("q.toml");
    let save = |text: &str, name: &str, by: &str| {
        std::fs::write(&file, text).unwrap();
        service.cli(&["questions", name, "--save", file.to_str().unwrap(), "--by", by])
    };
    // The operator's, a file of the configuration, is there and is nobody else's.
    let mornings = service.cli(&["bars", "--saved", "mornings"]);
    assert!(mornings.code == 0 && mornings.out.lines().count() == 4 && mornings.out.starts_with("date,close"), "{mornings:?}");
    let taken = save("instruments = [\"OXB\"]\n", "mornings", "mere");
    assert!(taken.code == 1 && taken.err.contains("the question mornings is the operator's"), "{taken:?}");
    // A researcher's.
    assert_eq!(save("instruments = [\"KBF\", \"OXB\"]\nlayout = \"wide\"\nlast = 5\n", "pair", "mere").code, 0);
    assert_eq!(service.cli(&["bars", "--saved", "pair"]).out.lines().count(), 6);
    assert_eq!(service.cli(&["bars", "--saved", "pair", "--last", "2"]).out.lines().count(), 3, "what is given stands in its place");
    assert_eq!(service.text("/bars?saved=pair&last=2&join=inner").await.lines().count(), 3);
    assert_eq!(save("{\"instruments\": [\"OXB\"], \"last\": 1}", "pair", "tui").code, 0);
    assert!(service.cli(&["bars", "--saved", "pair"]).out.contains("open,high,low"), "it has changed");
    let history = service.get("/questions/pair").await;
    let by: Vec<&str> = history.as_array().unwrap().iter().map(|s| s["by"].as_str().unwrap()).collect();
    assert_eq!(by, ["tui", "mere"]);
    assert_eq!(history[1]["toml"], "instruments = [\"KBF\", \"OXB\"]\ninterval = \"1d\"\nlast = 5\nlayout = \"wide\"\n");
    for (text, name, by, told) in [
        ("instruments = [\"KBF\"]\nlayuot = 1\n", "x", "mere", "did you mean layout?"),
        ("instruments = [\"KBF\"]\n", "a b", "mere", "cannot be the name of a question"),
        ("instruments = [\"KBF\"]\n", "x", " ", "needs a name of who does it"),
        ("not a question", "x", "mere", "the question is not TOML"),
    ] {
        let refused = save(text, name, by);
        assert!(refused.code == 1 && refused.err.contains(told), "{refused:?}");
    }
    assert!(service.cli(&["bars", "--saved", "pear"]).err.contains("did you mean pair?"));
    // Over a restart, and taken away with its history kept.
    assert_eq!(service.stop(), Some(0));
    let service = bench.serve();
    let list = service.cli(&["questions"]).out;
    assert!(list.contains("mornings  a file of the configuration") && list.contains("by tui, 2025-04-10"), "{list}");
    assert_eq!(service.cli(&["questions", "pair", "--remove", "--by", "mere"]).code, 0);
    let gone = service.ask("/bars?saved=pair").await;
    assert_eq!(gone.status(), 409);
    assert_eq!(service.get("/questions/pair").await.as_array().unwrap().len(), 3);
    // A file of the configuration that cannot be asked is refused with its name, before it is put to work.
    bench.write("questions/wrong.toml", "instruments = [\"KBF\"]\nformat = \"xls\"\n");
    let reload = service.cli(&["reload"]);
    assert!(reload.code == 1 && reload.err.contains("questions/wrong.toml: format: `xls` is not a format"), "{reload:?}");
    let check = service.cli(&["check", bench.config().to_str().unwrap()]);
    assert!(check.code == 1 && check.err.contains("questions/wrong.toml: format:"), "{check:?}");
}

/// The examples of docs/questions.md: the first block of commands, and the file.
fn docs() -> (String, Vec<String>, String) {
    let text = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/questions.md")).unwrap();
    let block = |kind: &str| text.split(&format!("```{kind}\n")).nth(1).unwrap().split("```").next().unwrap().to_owned();
    let commands = block("sh").lines().map(|line| line.split("  #").next().unwrap().trim().to_owned()).collect();
    (text.clone(), commands, block("toml"))
}

#[tokio::test(flavor = "multi_thread")]
async fn the_docs_tell_every_key_and_their_four_ways_are_one() {
    let (text, commands, file) = docs();
    let given = service_keys();
    for key in &given {
        assert!(text.contains(&format!("`{key}`")), "docs/questions.md does not tell of {key}");
    }
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    // Every key that a question may have is told of by the interface.
    let refused = service.ask("/bars?zz=1&instruments=KBF").await.text().await.unwrap();
    let keys = refused.split_once("there is instruments, ").unwrap().1.split('"').next().unwrap();
    for key in keys.split(", ").map(|key| key.trim_end_matches('.')) {
        assert!(given.iter().any(|g| g == key), "{key} is no parameter of the interface: {refused}");
    }
    assert_eq!(service.cli(&["collect", "daily", "-i", "KBF", "-i", "OXB", "--from", "2025-03-03"]).code, 0);
    std::fs::write(bench.dir.path().join("closes.toml"), file).unwrap();
    let mut answers = vec![];
    for command in &commands {
        let command = command
            .replacen("mizuno ", &format!("{} --service {} ", env!("CARGO_BIN_EXE_mizuno"), service.url), 1)
            .replace("http://127.0.0.1:7400", &service.url)
            .replace("curl ", "curl -sS ");
        let run = std::process::Command::new("sh").args(["-c", &command]).current_dir(bench.dir.path()).output().unwrap();
        assert!(run.status.success(), "{command}: {}", String::from_utf8_lossy(&run.stderr));
        answers.push(String::from_utf8(run.stdout).unwrap());
    }
    assert_eq!(answers.len(), 4);
    assert!(answers[0].starts_with("date,KBF,OXB\r\n2025-04-01,") && answers.iter().all(|a| *a == answers[0]), "{answers:?}");
}

/// The keys that the network interface tells of.
fn service_keys() -> Vec<String> {
    let document: serde_json::Value =
        serde_json::from_str(&std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/openapi.json")).unwrap()).unwrap();
    let parameters = document["paths"]["/api/v1/bars"]["get"]["parameters"].as_array().unwrap();
    parameters.iter().map(|p| p["name"].as_str().unwrap().to_owned()).filter(|name| name != "instrument").collect()
}
