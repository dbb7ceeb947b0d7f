//! Editions: made, made again, taken from the one before, verified, served, and told of.

use crate::common::{self, Bench, Service, client, parquet::of_parquet};
use mizuno_sim::faults::Faults;
use serde_json::{Value, json};
use std::{
    collections::BTreeMap,
    os::unix::fs::MetadataExt,
    path::{Path, PathBuf},
    process::Command,
    time::{Duration, Instant},
};

const SHARES: [&str; 4] = ["KBF", "OXB", "SME", "RSB"];

const SPEC: &str = "title = \"Study\"\nvenue = \"ALDX\"\n\
    [[file]]\nname = \"closes/{month}.csv\"\nquestion = \"study-closes\"\ncut = [\"month\"]\n\
    [[file]]\nname = \"adjusted/{instrument}.csv\"\nquestion = \"study-adjusted\"\ncut = [\"instrument\"]\n\
    [[file]]\nname = \"minutes/{venue}/{date}.parquet\"\nquestion = \"study-minutes\"\ncut = [\"venue\", \"date\"]\nprice_decimals = 4\n\
    [[file]]\nname = \"closes.xlsx\"\nquestion = \"study-closes\"\nformat = \"xlsx\"\n";

/// A desk with some shares collected and an edition `study` of them.
async fn collected() -> (Bench, Service) {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 1.0, Faults::default(), false);
    let shares = SHARES.map(|s| format!("\"{s}\"")).join(", ");
    bench.write("questions/study-closes.toml", &format!("instruments = [{shares}]\nlayout = \"wide\"\ncolumns = [\"date\", \"close\"]\n"));
    let adjusted =
        format!("instruments = [{shares}]\ncolumns = [\"date\", \"close\", \"volume\", \"mean_20\", \"source\"]\nadjust = \"all\"\n");
    bench.write("questions/study-adjusted.toml", &format!("{adjusted}anchor = \"2025-01-31\"\n"));
    bench.write(
        "questions/study-minutes.toml",
        "instruments = [\"KBF\", \"OXB\"]\ninterval = \"1m\"\nformat = \"parquet\"\nfrom = \"2025-04-07\"\n",
    );
    bench.write("editions/study.toml", SPEC);
    let service = bench.serve();
    for list in ["almanack/splits", "almanack/dividends"] {
        assert_eq!(service.cli(&["lists", list]).code, 0, "{list}");
    }
    let named: Vec<&str> = SHARES.iter().flat_map(|s| ["-i", s]).collect();
    for collector in ["aldx-daily", "lodestar-daily"] {
        assert_eq!(service.cli(&[&["collect", collector][..], &named].concat()).code, 0, "{collector}");
    }
    assert_eq!(service.cli(&["collect", "aldx-minutes", "-i", "KBF", "-i", "OXB", "--from", "2025-04-07"]).code, 0);
    (bench, service)
}

fn folder(bench: &Bench, number: u32) -> PathBuf {
    bench.data().join(format!("editions/study/{number}"))
}

/// Whether `sha256sum` finds every file of a folder as its list says, and no file beside.
fn is_whole(folder: &Path) -> bool {
    let said = Command::new("sha256sum").args(["--strict", "--quiet", "-c", "SHA256SUMS"]).current_dir(folder).output().unwrap();
    let listed = std::fs::read_to_string(folder.join("SHA256SUMS")).unwrap_or_default().lines().count();
    said.status.success() && files(folder).len() == listed + 1
}

/// The files of a folder by their paths.
fn files(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    let (mut out, mut folders) = (BTreeMap::new(), vec![folder.to_owned()]);
    while let Some(at) = folders.pop() {
        for entry in std::fs::read_dir(&at).into_iter().flatten().flatten() {
            match entry.path().is_dir() {
                true => folders.push(entry.path()),
                false => {
                    let name = entry.path().strip_prefix(folder).unwrap().display().to_string();
                    out.insert(name, std::fs::read(entry.path()).unwrap());
                }
            }
        }
    }
    out
}

fn make(service: &Service) -> Value {
    let said = service.cli(&["editions", "study", "--make", "--by", "mere", "--json"]);
    assert_eq!(said.code, 0, "{said:?}");
    said.json()
}

fn sums(bench: &Bench, number: u32) -> String {
    std::fs::read_to_string(folder(bench, number).join("SHA256SUMS")).unwrap()
}

/// Everything that can be changed about what was answered then.
async fn change_everything(bench: &Bench, service: &Service) {
    // Prices learned anew, a source more, another ranking, an action by hand, an absence and a finding accepted.
    let kinds = json!({ "actions": [{ "instrument": "KBF", "kind": "split", "terms": { "ex_date": "2024-06-03", "new": "2", "old": "1" } }], "by": "mere", "reason": "letter" });
    let (status, told) = service.post("/actions", &kinds).await;
    assert_eq!(status, 201, "{told}");
    bench.write("ranking.toml", "[[rank]]\nsources = [\"lodestar\", \"harbour\"]\n");
    bench.write(
        "collectors/more.toml",
        "name = \"more\"\nsource = \"lodestar\"\nvenue = \"ALDX\"\ninterval = \"1m\"\nsince = \"2025-04-07\"\n",
    );
    bench.write("questions/study-closes.toml", "instruments = [\"KBF\"]\n");
    let said = service.cli(&["reload"]);
    assert_eq!(said.code, 0, "{said:?}");
    assert_eq!(service.cli(&["collect", "more", "-i", "KBF", "-i", "OXB"]).code, 0);
    let excused = service.cli(&[
        "excuse",
        "--series",
        "RSB/1d/harbour",
        "--from",
        "2025-01-01",
        "--to",
        "2025-12-31",
        "--by",
        "mere",
        "--note",
        "failed",
    ]);
    assert!(excused.code == 0 || excused.code == 2, "{excused:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_edition_is_made_again_to_the_last_byte_whatever_has_changed_since() {
    let (bench, service) = collected().await;
    let first = make(&service);
    assert_eq!((first["state"].as_str(), first["number"].as_i64(), first["label"].as_str()), (Some("made"), Some(1), Some("2025-04-09")));
    assert!(is_whole(&folder(&bench, 1)));
    let before = files(&folder(&bench, 1));
    for path in
        ["closes/2024-06.csv", "adjusted/SME.csv", "minutes/ALDX/2025-04-09.parquet", "closes.xlsx", "index.html", "about/coverage.csv"]
    {
        assert!(before.contains_key(path), "{path} of {:?}", before.keys());
    }
    // A file is the answer to its question, to the last byte.
    let as_of = first["as_of"].as_str().unwrap();
    let asked = |rest: &str| format!("/bars?instruments=KBF,OXB,SME,RSB&layout=wide&columns=date,close&as_of={as_of}{rest}");
    let month = service.text(&asked("&from=2024-06-01&to=2024-06-30")).await;
    assert_eq!(String::from_utf8_lossy(&before["closes/2024-06.csv"]), month);

    change_everything(&bench, &service).await;
    assert_ne!(service.text("/bars?instrument=KBF&adjust=all&to=2024-06-01").await.lines().last(), None);
    let said = service.cli(&["editions", "study/1", "--verify", "--again"]);
    assert!(said.code == 0 && said.out.contains("made again they are the same"), "{said:?}");

    // In a copy of the data directory too, after all was sealed and packed, on one core.
    let kept = sums(&bench, 1);
    assert_eq!(service.stop(), Some(0));
    {
        let data = bench.data();
        let now = bench.now();
        let store = mizuno_store::Store::open(&data, std::sync::Arc::new(move || now)).await.unwrap();
        store.seal_all().await.unwrap();
        store.close().await;
    }
    sqlx::query("VACUUM").execute(&mut bench.database().await).await.unwrap();
    let mut command = Command::new("taskset");
    let serving = bench.command();
    command.args(["-c", "0"]).arg(serving.get_program()).args(serving.get_args());
    command.envs(serving.get_envs().filter_map(|(key, value)| Some((key, value?))));
    let service = Service::start(command);
    let said = service.cli(&["editions", "study/1", "--verify", "--again"]);
    assert!(said.code == 0 && said.out.contains("made again they are the same"), "{said:?}");
    assert_eq!(sums(&bench, 1), kept);
    // What somebody changed is found, by name.
    let damaged = folder(&bench, 1).join("closes/2024-06.csv");
    std::fs::write(&damaged, "date,KBF\n").unwrap();
    std::fs::write(folder(&bench, 1).join("stray.txt"), "x").unwrap();
    let said = service.cli(&["editions", "study/1", "--verify"]);
    assert!(
        said.code == 3 && said.out.contains("closes/2024-06.csv: it has 9 bytes") && said.out.contains("stray.txt: nobody made it"),
        "{said:?}"
    );
}

/// Writes other bytes into a file of edition 1, as if it had been made so.
async fn made_otherwise(bench: &Bench, path: &str, change: impl Fn(Vec<u8>) -> Vec<u8>) {
    let file = folder(bench, 1).join(path);
    let was = std::fs::read(&file).unwrap();
    let is = change(was.clone());
    assert_ne!(was, is, "{path} is another");
    // Not into the bytes that another edition shares.
    std::fs::remove_file(&file).unwrap();
    std::fs::write(&file, &is).unwrap();
    let done = sqlx::query("UPDATE edition_file SET digest = ?, bytes = ? WHERE path = ?")
        .bind(mizuno_store::payloads::digest(&is))
        .bind(is.len() as i64)
        .bind(path)
        .execute(&mut bench.database().await)
        .await
        .unwrap();
    assert_eq!(done.rows_affected(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_another_version_wrote_in_other_bytes_is_shown_to_say_the_same() {
    let (bench, service) = collected().await;
    make(&service);
    assert_eq!(service.stop(), Some(0));
    let replaced = |bytes: Vec<u8>, from: &[u8], to: &[u8]| {
        let at = bytes.windows(from.len()).rposition(|w| w == from).unwrap();
        [&bytes[..at], to, &bytes[at + from.len()..]].concat()
    };
    sqlx::query("UPDATE edition SET program = '0.0.9'").execute(&mut bench.database().await).await.unwrap();
    // The footer of a Parquet file ends in the name of who made it.
    let minutes = "minutes/ALDX/2025-04-09.parquet";
    made_otherwise(&bench, minutes, |bytes| replaced(bytes, b"mizuno", b"onuzim")).await;
    let program = format!("\"program\": \"{}\"", env!("CARGO_PKG_VERSION"));
    made_otherwise(&bench, "datapackage.json", |bytes| replaced(bytes, program.as_bytes(), b"\"program\": \"0.0.9\"")).await;
    let service = bench.serve();
    let said = service.cli(&["editions", "study/1", "--verify", "--again"]);
    for told in [
        "minutes/ALDX/2025-04-09.parquet: made again it has other bytes and the same contents",
        "datapackage.json: made again it has other bytes and the same contents",
        "version 0.0.9 made it, and this is",
        "made again they say the same",
    ] {
        assert!(said.code == 0 && said.out.contains(told), "{told}: {said:?}");
    }
    // Other contents are no matter of the version.
    assert_eq!(service.stop(), Some(0));
    made_otherwise(&bench, "closes/2024-06.csv", |bytes| replaced(bytes, b".", b",")).await;
    let service = bench.serve();
    let said = service.cli(&["editions", "study/1", "--verify", "--again", "--json"]);
    let found = said.json();
    assert_eq!((said.code, &found["sound"], &found["other_program"]), (3, &false.into(), &"0.0.9".into()), "{found}");
    let only_bytes: Vec<&Value> =
        found["differ"].as_array().unwrap().iter().filter(|path| !found["same_contents"].as_array().unwrap().contains(path)).collect();
    assert_eq!(only_bytes, ["closes/2024-06.csv"]);
    assert!(found["damaged"].as_object().unwrap().is_empty(), "{found}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_has_not_changed_is_the_same_file_and_what_has_is_told_with_its_cause() {
    let (bench, service) = collected().await;
    make(&service);
    // One close of one day is another, by a list that a person corrects: a dividend of SME.
    let action = json!({ "actions": [{ "instrument": "SME", "kind": "split", "terms": { "ex_date": "2024-09-02", "new": "2", "old": "1" } }], "by": "mere", "reason": "letter" });
    assert_eq!(service.post("/actions", &action).await.0, 201);
    let second = make(&service);
    let linked: Vec<&str> =
        second["content"].as_array().unwrap().iter().filter(|f| f["linked"] == true).map(|f| f["path"].as_str().unwrap()).collect();
    assert!(
        linked.contains(&"adjusted/KBF.csv")
            && linked.contains(&"closes/2024-06.csv")
            && linked.contains(&"minutes/ALDX/2025-04-09.parquet"),
        "{linked:?}"
    );
    assert!(!linked.contains(&"adjusted/SME.csv"));
    for path in linked {
        let [a, b] = [1, 2].map(|n| std::fs::metadata(folder(&bench, n).join(path)).unwrap());
        assert_eq!(a.ino(), b.ino(), "{path} is one file with two names");
    }
    let found = service.get("/editions/study/2/difference").await;
    let changed: Vec<&str> = found["changed"].as_array().unwrap().iter().map(|f| f["path"].as_str().unwrap()).collect();
    assert!(changed.contains(&"adjusted/SME.csv") && !changed.contains(&"adjusted/KBF.csv"), "{changed:?}");
    let rows = found["rows"].as_array().unwrap();
    assert!(!rows.is_empty() && rows.iter().all(|r| r["question"] == "study-adjusted" && r["cause"] == "action"), "{rows:?}");
    // The file of changes has exactly the rows in which the two files differ.
    let [old, new] = [1, 2].map(|n| std::fs::read_to_string(folder(&bench, n).join("adjusted/SME.csv")).unwrap());
    let differ = old.lines().zip(new.lines()).filter(|(a, b)| a != b).count();
    let told = std::fs::read_to_string(folder(&bench, 2).join("about/changes-study-adjusted.csv")).unwrap();
    assert_eq!((told.lines().count() - 1, rows.iter().map(|r| r["rows"].as_u64().unwrap()).sum::<u64>()), (differ, differ as u64));
    assert!(differ > 1000 && is_whole(&folder(&bench, 2)));
    // Made from nothing it is the same.
    let said = service.cli(&["editions", "study/2", "--verify", "--again"]);
    assert!(said.code == 0, "{said:?}");
    // Nothing more has changed but the time: all data is linked.
    let third = make(&service);
    let new: Vec<&str> =
        third["content"].as_array().unwrap().iter().filter(|f| f["linked"] == false).map(|f| f["path"].as_str().unwrap()).collect();
    assert!(
        new.iter().all(|path| path.starts_with("about/") || ["SHA256SUMS", "datapackage.json", "index.html"].contains(path)),
        "{new:?}"
    );
    let said = service.cli(&["editions", "study/3", "--diff", "1"]);
    assert!(said.code == 3 && said.out.contains("study-adjusted") && said.out.contains("action"), "{said:?}");
}

/// What is asked with the rows of a file as texts, and the names of its columns.
fn of_csv(text: &str) -> (Vec<String>, Vec<Vec<String>>) {
    let cells = |line: &str| line.split(',').map(str::to_owned).collect();
    let mut lines = text.lines();
    (cells(lines.next().unwrap()), lines.map(cells).collect())
}

#[tokio::test(flavor = "multi_thread")]
async fn changes_are_told_in_the_form_of_the_files_series_by_series() {
    let (bench, service) = collected().await;
    assert_eq!(service.cli(&["collect", "aldx-minutes", "-i", "KBF", "-i", "OXB", "--from", "2025-03-03"]).code, 0);
    let since = make(&service)["as_of"].as_str().unwrap().to_owned();
    // Another source goes first, so that all bars that it has come from there.
    bench.write("ranking.toml", "[[rank]]\nsources = [\"lodestar\", \"harbour\"]\n");
    let more = "name = \"more\"\nsource = \"lodestar\"\nvenue = \"ALDX\"\ninterval = \"1m\"\nsince = \"2025-04-07\"\n";
    bench.write("collectors/more.toml", more);
    assert_eq!(service.cli(&["reload"]).code, 0);
    assert_eq!(service.cli(&["collect", "more", "-i", "KBF", "-i", "OXB"]).code, 0);
    let as_of = make(&service)["as_of"].as_str().unwrap().to_owned();

    let asked = format!("/bars?instruments=KBF,OXB&interval=1m&from=2025-04-07&as_of={as_of}&since={since}");
    let (columns, expected) = of_csv(&service.text(&asked).await);
    let told = files(&folder(&bench, 2)).remove("about/changes-study-minutes.parquet").unwrap();
    // Numbers of one column have as many decimals in a Parquet file.
    let plain = |rows: Vec<Vec<String>>| -> Vec<Vec<String>> {
        let cell = |cell: String| match cell.split_once('.') {
            Some((whole, decimals)) if whole.parse::<i64>().is_ok() => format!("{whole}.{decimals:0<4}"),
            _ => cell,
        };
        rows.into_iter().map(|row| row.into_iter().map(cell).collect()).collect()
    };
    let told = plain(of_parquet(&columns, told));
    assert!(told.len() > 500 && columns.contains(&"old_close".to_owned()), "{} rows of {columns:?}", told.len());
    assert_eq!(told, plain(expected));

    // Of so many rows two series are looked at side by side; they are those in which the two answers differ, in the order of these.
    let minutes = "/bars?instruments=KBF,OXB&interval=1m&from=2025-03-03";
    let answer = async |at: &str| of_csv(&service.text(&format!("{minutes}&as_of={at}")).await).1;
    let (then, now) = (answer(&since).await, answer(&as_of).await);
    assert!(then.len() + now.len() > 20_000, "{} and {} rows", then.len(), now.len());
    let then: BTreeMap<&[String], &[String]> = then.iter().map(|row| row.split_at(2)).collect();
    let changed: Vec<Vec<String>> = now.iter().filter(|row| then.get(&row[..2]).is_some_and(|old| **old != row[2..])).cloned().collect();
    let (columns, told) = of_csv(&service.text(&format!("{minutes}&as_of={as_of}&since={since}")).await);
    let is_changed = told.iter().filter(|row| row[0] == "changed");
    let values = (columns.len() - 4) / 2;
    let told: Vec<Vec<String>> = is_changed.map(|row| row[2..4 + values].to_vec()).collect();
    assert!(changed.len() > 2_000, "{} rows have changed", changed.len());
    assert_eq!(told.len(), changed.len());
    assert!(told == changed, "the first that is another: {:?}", told.iter().zip(&changed).find(|(a, b)| a != b));

    // Of files in CSV they are CSV, series by series.
    let text = std::fs::read_to_string(folder(&bench, 2).join("about/changes-study-adjusted.csv")).unwrap();
    let (columns, rows) = of_csv(&text);
    let at = |name: &str| columns.iter().position(|column| column == name).unwrap();
    let keys: Vec<(&str, &str)> = rows.iter().map(|row| (row[at("instrument")].as_str(), row[at("date")].as_str())).collect();
    assert!(keys.len() > 3_000, "{}", keys.len());
    let place = |key: &(&str, &str)| (SHARES.iter().position(|share| *share == key.0), key.1.to_owned());
    assert!(keys.is_sorted_by_key(place), "series by series, each in the order of time");

    // Both are told of by the package, with their columns.
    let package: Value = serde_json::from_slice(&files(&folder(&bench, 2))["datapackage.json"]).unwrap();
    for (path, format) in [("about/changes-study-minutes.parquet", "parquet"), ("about/changes-study-adjusted.csv", "csv")] {
        let resource = package["resources"].as_array().unwrap().iter().find(|resource| resource["path"] == path).unwrap();
        let fields: Vec<&str> = resource["schema"]["fields"].as_array().unwrap().iter().map(|f| f["name"].as_str().unwrap()).collect();
        assert!(resource["format"] == format && fields.contains(&"old_close") && fields[0] == "change", "{resource}");
    }
    let said = service.cli(&["editions", "study/2", "--verify", "--again"]);
    assert!(said.code == 0 && said.out.contains("made again they are the same"), "{said:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn files_are_served_in_parts_and_a_withdrawn_edition_tells_why() {
    let (bench, service) = collected().await;
    make(&service);
    let url = |rest: &str| format!("{}/api/v1/editions/study/{rest}", service.url);
    let whole = client().get(url("1/files/closes/2024-06.csv")).send().await.unwrap();
    assert_eq!((whole.status().as_u16(), whole.headers()["cache-control"].to_str().unwrap()), (200, "public, max-age=31536000, immutable"));
    let tag = whole.headers()["etag"].to_str().unwrap().to_owned();
    let text = whole.text().await.unwrap();
    assert_eq!(text.as_bytes(), std::fs::read(folder(&bench, 1).join("closes/2024-06.csv")).unwrap());
    let part = |range: &str, rest: &[(&str, &str)]| {
        let request = client().get(url("1/files/closes/2024-06.csv")).header("Range", range);
        rest.iter().fold(request, |request, (name, value)| request.header(*name, *value)).send()
    };
    for (range, bytes) in
        [("bytes=0-3", &text[..4]), ("bytes=5-", &text[5..]), ("bytes=-7", &text[text.len() - 7..]), ("bytes=2-999999", &text[2..])]
    {
        let answer = part(range, &[("If-Range", tag.as_str()), ("Accept-Encoding", "gzip")]).await.unwrap();
        assert_eq!(answer.status(), 206, "{range}");
        assert_eq!(answer.text().await.unwrap(), bytes, "{range}");
    }
    assert_eq!(part("bytes=0-3", &[("If-Range", "\"other\"")]).await.unwrap().text().await.unwrap(), text);
    let behind = part("bytes=999999-", &[]).await.unwrap();
    assert_eq!((behind.status().as_u16(), behind.headers()["content-range"].to_str().unwrap()), (416, &*format!("bytes */{}", text.len())));
    assert_eq!(part("lines=1-2", &[]).await.unwrap().status(), 200);
    let seen = client().get(url("latest/files/closes/2024-06.csv")).header("If-None-Match", &tag).send().await.unwrap();
    assert_eq!((seen.status().as_u16(), seen.headers()["cache-control"].to_str().unwrap()), (304, "no-cache"));
    for path in [
        "1/files/../../../../mizuno.db",
        "1/files/%2e%2e/%2e%2e/%2e%2e/mizuno.db",
        "1/files//etc/passwd",
        "1/files/closes",
        "9/files/closes.xlsx",
        "never/files/a",
    ] {
        let status = client().get(url(path)).send().await.unwrap().status();
        assert_eq!(status, 404, "{path}");
    }
    // A hundred at once are all answered, whole.
    let mut asked = tokio::task::JoinSet::new();
    for _ in 0..100 {
        asked.spawn(client().get(url("1/files/closes.xlsx")).send());
    }
    let wanted = std::fs::read(folder(&bench, 1).join("closes.xlsx")).unwrap();
    while let Some(answer) = asked.join_next().await {
        assert!(answer.unwrap().unwrap().bytes().await.unwrap() == wanted);
    }

    make(&service);
    let (status, told) = service.post("/editions/study/2/decision", &json!({ "to": "withdraw", "by": "mere", "why": "" })).await;
    assert!(status == 400 && told["detail"].as_str().unwrap().contains("reason"), "{told}");
    let said = service.cli(&["editions", "study/2", "--withdraw", "the dividend of KBF is wrong", "--by", "mere"]);
    assert_eq!(said.code, 0, "{said:?}");
    let gone = client().get(url("2/files/closes.xlsx")).send().await.unwrap();
    assert_eq!(gone.status(), 410);
    assert!(gone.text().await.unwrap().contains("withdrawn by mere"));
    // `latest` and the label are now the one before.
    assert_eq!(service.get("/editions/study/latest").await["number"], 1);
    assert_eq!(service.get("/editions/study/2025-04-09").await["number"], 1);
    let said = service.cli(&["editions", "study/2", "--copy", bench.dir.path().join("copy").to_str().unwrap()]);
    assert!(said.code == 1 && said.err.contains("the dividend of KBF is wrong"), "{said:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn old_editions_expire_by_policy_but_for_those_that_are_pinned() {
    let (bench, service) = collected().await;
    bench.write("editions/study.toml", &format!("keep = 2\n{SPEC}"));
    assert_eq!(service.cli(&["reload"]).code, 0);
    make(&service);
    assert_eq!(service.cli(&["editions", "study/1", "--pin", "the paper stands on it", "--by", "mere"]).code, 0);
    for _ in 2..=4 {
        make(&service);
    }
    let states = async || -> Vec<(i64, String)> {
        let all = service.get("/editions/study").await;
        all.as_array().unwrap().iter().map(|e| (e["number"].as_i64().unwrap(), e["state"].as_str().unwrap().to_owned())).collect()
    };
    let until = Instant::now() + Duration::from_secs(10);
    while states().await[2].1 != "expired" && Instant::now() < until {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let wanted = [(4, "made"), (3, "made"), (2, "expired"), (1, "made")].map(|(n, s)| (n, s.to_owned()));
    assert_eq!(states().await, wanted);
    assert!(!folder(&bench, 2).exists() && is_whole(&folder(&bench, 1)) && is_whole(&folder(&bench, 3)));
    // The record outlives the files, and they can be made again.
    let told = service.get("/editions/study/2").await;
    assert!(told["content"].as_array().unwrap().len() > 10);
    let said = service.cli(&["editions", "study/2", "--verify", "--again"]);
    assert_eq!(said.code, 0, "{said:?}");
    let said = service.cli(&["editions", "study/1", "--unpin", "--by", "mere"]);
    assert_eq!(said.code, 0, "{said:?}");
    let said = service.cli(&["editions", "study", "--expire", "--preview"]);
    assert!(said.out.contains("study/1") && said.out.contains("would be taken away") && folder(&bench, 1).exists(), "{said:?}");
    assert_eq!(service.cli(&["editions", "study", "--expire"]).code, 0);
    assert!(!folder(&bench, 1).exists());
    // Killed before the files were gone, or while an edition was made again to verify it: the next start takes away what is left.
    service.kill();
    let again = bench.data().join("editions/.making/study-3-again");
    for left in [folder(&bench, 1), again.clone()] {
        std::fs::create_dir_all(&left).unwrap();
        std::fs::write(left.join("closes.csv"), "date\n").unwrap();
    }
    let service = bench.serve();
    let until = Instant::now() + Duration::from_secs(10);
    while (again.exists() || folder(&bench, 1).exists()) && Instant::now() < until {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert!(!again.exists() && !folder(&bench, 1).exists() && is_whole(&folder(&bench, 3)));
    assert_eq!(service.cli(&["editions", "study/3", "--verify", "--again"]).code, 0);
    // One that is being verified does not hold up the end of the service, and leaves nothing.
    let asked = client().post(format!("{}/api/v1/editions/study/3/verify", service.url)).json(&json!({ "again": true })).send();
    let asked = tokio::spawn(asked);
    tokio::time::sleep(Duration::from_millis(100)).await;
    assert_eq!(service.stop(), Some(0));
    drop(asked);
    assert!(leftovers(&bench).is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn two_makings_never_meet_and_one_can_be_cancelled() {
    let (bench, service) = collected().await;
    let mut asked = tokio::task::JoinSet::new();
    for n in 0..16 {
        asked.spawn(client().post(format!("{}/api/v1/editions/study", service.url)).json(&json!({ "by": format!("mere {n}") })).send());
    }
    let mut granted = 0;
    while let Some(answer) = asked.join_next().await {
        let answer = answer.unwrap().unwrap();
        assert!([202, 409].contains(&answer.status().as_u16()), "{}", answer.status());
        granted += u32::from(answer.status() == 202);
    }
    assert!(granted >= 1);
    settled(&service).await;
    for n in 1..=granted {
        assert!(is_whole(&folder(&bench, n)), "{n}");
    }
    let (status, told) = service.post("/editions/study", &json!({ "by": "mere" })).await;
    assert_eq!(status, 202, "{told}");
    let number = told["number"].as_u64().unwrap() as u32;
    let (status, _) = service.post(&format!("/editions/study/{number}/decision"), &json!({ "to": "cancel", "by": "mere" })).await;
    assert!([200, 409].contains(&status));
    settled(&service).await;
    let state = service.get(&format!("/editions/study/{number}")).await["state"].clone();
    match state.as_str() {
        Some("cancelled") => assert!(!folder(&bench, number).exists() && leftovers(&bench).is_empty()),
        state => assert!(state == Some("made") && is_whole(&folder(&bench, number)), "{state:?}"),
    }
    // What cannot be made says why, and leaves nothing.
    bench.write("editions/study.toml", &SPEC.replace("price_decimals = 4", "price_decimals = 0"));
    assert_eq!(service.cli(&["reload"]).code, 0);
    let said = service.cli(&["editions", "study", "--make", "--by", "mere"]);
    assert!(said.code == 1 && said.err.contains("has no room in 18 digits with 0 after the point"), "{said:?}");
    assert!(leftovers(&bench).is_empty());
    let status = service.cli(&["status"]);
    assert!(status.out.contains("could not be made"), "{status:?}");
}

async fn settled(service: &Service) {
    let until = Instant::now() + Duration::from_secs(60);
    while service.get("/editions/study").await.as_array().unwrap().iter().any(|e| e["state"] == "making") {
        assert!(Instant::now() < until, "an edition is still being made");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

fn leftovers(bench: &Bench) -> Vec<String> {
    files(&bench.data().join("editions/.making")).into_keys().collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_killed_making_is_finished_by_itself_and_nobody_sees_half_of_it() {
    let (bench, mut service) = collected().await;
    let kills = common::kills(12);
    let (mut cut_short, mut takes) = (0, Duration::from_millis(400));
    let shares = SHARES.map(|s| format!("\"{s}\"")).join(", ");
    for kill in 0..kills {
        // There is something to make anew each time.
        let column = ["close", "open", "high", "low"][kill as usize % 4];
        let question = format!("instruments = [{shares}]\nlayout = \"wide\"\ncolumns = [\"date\", \"{column}\"]\n");
        bench.write("questions/study-closes.toml", &question);
        assert_eq!(service.cli(&["reload"]).code, 0);
        let begun = Instant::now();
        let (status, _) = service.post("/editions/study", &json!({ "by": "mere" })).await;
        assert!([202, 409].contains(&status));
        // How long the first one takes, and one that takes over what it can.
        if kill < 2 {
            settled(&service).await;
            takes = begun.elapsed();
            continue;
        }
        tokio::time::sleep(takes.mul_f64(rand::random::<f64>())).await;
        service.kill();
        for entry in std::fs::read_dir(bench.data().join("editions/study")).unwrap().flatten() {
            assert!(is_whole(&entry.path()), "{} is seen and not whole", entry.path().display());
        }
        service = bench.serve();
        let all = service.get("/editions/study").await;
        cut_short += u32::from(all.as_array().unwrap().iter().any(|e| e["state"] == "making"));
    }
    assert!(cut_short > 0, "no kill hit a making");
    settled(&service).await;
    let all = service.get("/editions/study").await;
    for edition in all.as_array().unwrap() {
        assert_eq!(edition["state"], "made", "{edition}");
        assert!(is_whole(&folder(&bench, edition["number"].as_u64().unwrap() as u32)));
    }
    assert!(leftovers(&bench).is_empty());
    let said = service.cli(&["editions", "study/latest", "--verify", "--again"]);
    assert_eq!(said.code, 0, "{said:?}");
    println!("{cut_short} of {kills} kills hit a making");
}

/// When each file was last written that the ledger has of an edition under way.
async fn kept_of(bench: &Bench, number: u32) -> BTreeMap<String, std::time::SystemTime> {
    let at = bench.data().join(format!("editions/.making/study-{number}"));
    let of = "SELECT path FROM edition_file JOIN edition AS e ON e.id = edition WHERE number = ?";
    let kept: Vec<String> = sqlx::query_scalar(of).bind(number).fetch_all(&mut bench.database().await).await.unwrap();
    kept.into_iter().map(|path| (path.clone(), std::fs::metadata(at.join(&path)).unwrap().modified().unwrap())).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_that_is_stopped_goes_on_with_an_edition_where_it_was() {
    let (bench, mut service) = collected().await;
    // Something that takes long enough to be met while it is made, of many files.
    assert_eq!(service.cli(&["collect", "aldx-minutes", "-i", "KBF", "-i", "OXB", "--from", "2025-03-03"]).code, 0);
    let shares = SHARES.map(|s| format!("\"{s}\"")).join(", ");
    bench.write("questions/study-minutes.toml", "instruments = [\"KBF\", \"OXB\"]\ninterval = \"1m\"\nformat = \"parquet\"\n");
    let mut met = 0;
    for attempt in 1..=8 {
        let column = ["close", "open", "high", "low"][attempt as usize % 4];
        let question = format!("instruments = [{shares}]\nlayout = \"wide\"\ncolumns = [\"date\", \"{column}\"]\n");
        bench.write("questions/study-closes.toml", &question);
        assert_eq!(service.cli(&["reload"]).code, 0);
        assert_eq!(service.post("/editions/study", &json!({ "by": "mere" })).await.0, 202);
        // As soon as it has files.
        while service.get(&format!("/editions/study/{attempt}")).await["progress"]["done"].as_u64() == Some(0) {}
        assert_eq!(service.stop(), Some(0));
        let kept = match bench.data().join(format!("editions/study/{attempt}")).exists() {
            true => BTreeMap::new(),
            false => kept_of(&bench, attempt).await,
        };
        met += u32::from(!kept.is_empty());
        service = bench.serve();
        settled(&service).await;
        let made = service.get(&format!("/editions/study/{attempt}")).await;
        assert_eq!((made["state"].as_str(), is_whole(&folder(&bench, attempt))), (Some("made"), true), "{made}");
        // Small tables are written anew.
        for (path, written) in kept.into_iter().filter(|(path, _)| !path.starts_with("about/") || path.starts_with("about/changes-")) {
            let now = std::fs::metadata(folder(&bench, attempt).join(&path)).unwrap().modified().unwrap();
            assert_eq!(now, written, "{path} was made a second time");
        }
        if met > 1 {
            break;
        }
    }
    assert!(met > 0, "none was stopped while it was made");
    assert!(leftovers(&bench).is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn ten_sessions_of_restatements_change_no_edition_before_them_nor_those_of_a_backup() {
    let bench = Bench::at("2025-04-09T06:00:00Z", 1.0, Faults::default());
    let rows = bench.own_source("");
    bench.change("sources/own.toml", "adjusted = \"splits\"", "adjusted = \"no\"");
    let dates: Vec<String> = {
        let (from, to) = ("2025-03-03".parse().unwrap(), "2025-04-09".parse().unwrap());
        bench.world.market.calendar().between(from..to).iter().map(|s| s.date.to_string()).collect()
    };
    let row = |round: usize, at: usize| {
        let price = 200 + (at * 7 + round * 13) % 90;
        let cents = |price: usize| format!("{}.{:02}", price / 100, price % 100);
        format!("{},{},{},{},{}", cents(price), cents(price + 4), cents(price - 3), cents(price + 1), 1_000 + round * 10 + at)
    };
    for (at, date) in dates.iter().enumerate() {
        rows.lock().unwrap().insert(date.clone(), row(0, at));
    }
    bench.write("questions/days.toml", "instruments = [\"KBF\"]\ncolumns = [\"date\", \"close\", \"volume\", \"mean_5\", \"source\"]\n");
    bench.write(
        "editions/study.toml",
        "venue = \"ALDX\"\n[table]\nintervals = [\"1d\"]\ninstruments = [\"KBF\"]\nprice_decimals = 2\n\
         [[file]]\nname = \"days/{month}.csv\"\nquestion = \"days\"\ncut = [\"month\"]\n",
    );
    let service = bench.serve();
    assert_eq!(service.cli(&["collect", "own"]).code, 0);
    let mut sums: Vec<String> = vec![];
    for round in 1..=10 {
        let said = service.cli(&["editions", "study", "--make", "--by", "mere"]);
        assert_eq!(said.code, 0, "{said:?}");
        sums.push(std::fs::read_to_string(folder(&bench, round as u32).join("SHA256SUMS")).unwrap());
        // Some days are told otherwise: each round others, and some of them again.
        for at in (0..dates.len()).filter(|at| (at + round) % 4 == 0) {
            rows.lock().unwrap().insert(dates[at].clone(), row(round, at));
        }
        let said = service.cli(&["collect", "own", "--from", &dates[0], "--again"]);
        assert!(said.code == 0 && said.out.contains("restated"), "{said:?}");
    }
    let different: std::collections::BTreeSet<&String> = sums.iter().collect();
    assert_eq!(different.len(), 10, "each of them stands for other bars");
    let again = |service: &Service| {
        for number in 1..=10 {
            let said = service.cli(&["editions", &format!("study/{number}"), "--verify", "--again"]);
            assert_eq!(said.code, 0, "{said:?}");
        }
    };
    again(&service);
    let told = service.get("/editions/study/10/difference?from=9").await;
    assert!(told.to_string().contains("\"bar\""), "a source changed bars: {told}");

    // Two directories from one backup: the second makes them from its records alone, with no file of theirs.
    assert_eq!(service.stop(), Some(0));
    let backup = bench.dir.path().join("restored");
    std::fs::create_dir(&backup).unwrap();
    for entry in std::fs::read_dir(bench.data()).unwrap().flatten().filter(|e| e.file_type().unwrap().is_file()) {
        std::fs::copy(entry.path(), backup.join(entry.file_name())).unwrap();
    }
    let mut command = common::mizuno();
    command.arg("serve").arg("--config").arg(bench.config()).arg("--data").arg(&backup);
    command.args(["--listen", "127.0.0.1:0", "--clock", &bench.clock.to_string()]);
    let restored = Service::start(command);
    for number in 1..=10 {
        let (status, verdict) = restored.post(&format!("/editions/study/{number}/verify"), &json!({ "again": true })).await;
        assert_eq!((status, &verdict["again"], verdict["differ"].as_array().map(Vec::len)), (200, &json!(true), Some(0)), "{verdict}");
        assert!(verdict["damaged"].as_object().unwrap().len() > 8, "its files are gone: {verdict}");
    }
}
