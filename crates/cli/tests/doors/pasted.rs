//! Every command that an output suggests works when it is pasted, and so does every example of the help: on the first
//! morning of the demo, in a terminal of 80 columns.

use crate::common::{Bench, Said, Service};
use mizuno_sim::faults::Faults;
use std::{
    collections::BTreeSet,
    path::Path,
    process::{Command, Stdio},
};

/// A shell in which `mizuno` is the program and the service is the one of the test.
fn pasted(line: &str, service: &Service, dir: &Path) -> Said {
    let program = Path::new(env!("CARGO_BIN_EXE_mizuno")).parent().unwrap();
    let path = format!("{}:{}", program.display(), std::env::var("PATH").unwrap_or_default());
    let mut shell = Command::new("sh");
    shell.args(["-c", line]).current_dir(dir).env("PATH", path).env("MIZUNO_SERVICE", &service.url).env("COLUMNS", "80");
    Said::of(shell.env("MIZUNO_LOG", "warn").stdin(Stdio::null()).output().unwrap())
}

/// The commands a text suggests: from `mizuno` to the end of the line, or of the brackets or quotes it stands in.
fn suggested(text: &str) -> BTreeSet<String> {
    let mut out = BTreeSet::new();
    for line in text.lines() {
        for (at, _) in line.match_indices("mizuno ") {
            let before = line[..at].chars().next_back();
            if before.is_some_and(|c| c.is_alphanumeric() || c == '/') {
                continue;
            }
            let end = match before {
                Some('(') => line[at..].find(')'),
                Some('`') => line[at..].find('`'),
                _ => line[at..].find("   (").or_else(|| line[at..].find(", or ")),
            };
            out.insert(line[at..end.map_or(line.len(), |end| at + end)].trim().to_owned());
        }
    }
    out
}

/// What a person fills in.
fn filled_in(line: &str, finding: &str, gap: &str) -> String {
    let line =
        line.replace("FINDING", &format!("'{finding}'")).replace("GAP", gap).replace("NUMBER", "1").replace("--take|--refuse", "--take");
    line.replace("NAME", "mere").replace("WHY", "'seen on the phone'")
}

#[tokio::test(flavor = "multi_thread")]
async fn every_hint_of_the_first_morning_works_when_it_is_pasted() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 60.0, Faults::of_the_demo(), false);
    let service = bench.serve();
    let dir = bench.dir.path();
    let mut said = String::new();
    for collector in ["aldx-daily", "aldx-minutes", "cellar-minutes", "lodestar-daily", "lodestar-minutes", "corf-daily"] {
        let run = service.cli(&["collect", collector]);
        said += &(run.out + &run.err);
    }
    for list in ["almanack/splits", "packhorse/contracts"] {
        assert_eq!(service.cli(&["lists", list]).code, 0);
    }
    // What one looks at in the morning, and the slips one makes.
    for line in [
        "status",
        "gaps",
        "gaps --cause any",
        "gaps --golden",
        "gaps --each",
        "fetches",
        "fetches --failed",
        "findings",
        "quarantine",
        "runs",
        "runs 1",
        "schedule",
        "lists",
        "series",
        "restatements",
        "lineup KBF",
        "excuses",
        "coverage 1d",
        "instruments kelp",
        "compare KBF/1d/harbour KBF/1d/lodestar",
        "lineage KBF/1d/harbour@2025-04-09",
        "fetches 1",
        "bars KBX",
        "bars KBF/1d/harbor",
        "bars KBF --interval 7m",
        "gaps --source nope",
        "runs 99999",
        "fetches 99999",
        "collect nope",
        "resume 99999",
        "cancel 1",
        "lineup NOPE",
        "findings --check nope",
        "lists nope",
        "settle KBF/1d/lodestar --by mere",
        "excuse KBF/1d/harbour@2016-01-05 --by mere --note x",
        "repair KBF/1d/harbour@2016-01-05",
        "decide 99999 --take --by mere",
        "coverage 7m",
        "bars KBF/1d/harbour --as-of 2025-04-10",
        "gaps --from 2025-13-01",
        "bars KBF -o x.doc",
    ] {
        let told = pasted(&format!("mizuno {line}"), &service, dir);
        assert_ne!(told.code, 101, "{line}: {told:?}");
        // A suggestion never stands on a line of its own wrapping: it is printed whole at 80 columns.
        said += &(told.out + "\n" + &told.err + "\n");
    }
    // A golden series is compared like any other: here all of it is harbour's, and half of lodestar's is adjusted.
    let same = service.cli(&["compare", "KBF/1d/harbour", "KBF/1d/golden"]);
    assert!(same.code == 0 && same.out.contains(" 0 differ"), "{same:?}");
    let differing = service.cli(&["compare", "KBF/1d/golden", "KBF/1d/lodestar"]);
    assert!(differing.code == 3 && differing.out.contains("steps by 2 on 2020-06-15"), "{differing:?}");
    let finding = service.get("/findings").await[0]["id"].as_str().unwrap().to_owned();
    let gap = service.get("/gaps?cause=left-out").await[0]["id"].as_str().unwrap().to_owned();
    let hints = suggested(&said);
    assert!(hints.len() >= 12, "{hints:#?}");
    // Those that change something come last.
    let changes = |line: &str| {
        ["excuse ", "repair", "collect", "resume", "decide", "settle", "serve", "demo"]
            .iter()
            .any(|w| line.starts_with(&format!("mizuno {w}")))
    };
    let (last, first): (Vec<&String>, Vec<&String>) = hints.iter().partition(|line| changes(line));
    let mut wrong = vec![];
    for hint in first.into_iter().chain(last) {
        if ["mizuno serve", "mizuno demo"].contains(&hint.as_str()) {
            continue;
        }
        let told = pasted(&filled_in(hint, &finding, &gap), &service, dir);
        // Nothing is held back, and nothing was excused before: these have nothing to work on here, and say so.
        let nothing_there = hint.contains("NUMBER") && told.code == 1 && told.err.contains(" 1");
        if ![0, 3].contains(&told.code) && !nothing_there {
            wrong.push(format!("{hint}: {told:?}"));
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
    println!("{} hints pasted", hints.len());
}

#[tokio::test(flavor = "multi_thread")]
async fn every_example_of_the_help_is_understood() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    let dir = bench.dir.path();
    service.cli(&["collect", "daily", "-i", "KBF"]);
    let overview = pasted("mizuno --help", &service, dir).out;
    let commands: Vec<&str> = overview
        .lines()
        .skip_while(|l| !l.starts_with("Set up:"))
        .take_while(|l| !l.starts_with("Help for one command"))
        .filter_map(|l| l.strip_prefix("  "))
        .filter(|l| !l.starts_with(' '))
        .filter_map(|l| l.split_whitespace().next())
        .filter(|c| *c != "help")
        .collect();
    assert!(commands.len() > 20, "{commands:?}");
    let mut examples = BTreeSet::new();
    for command in &commands {
        let help = pasted(&format!("mizuno {command} --help"), &service, dir);
        assert_eq!(help.code, 0, "{command}");
        let text: Vec<&str> = help.out.lines().skip_while(|l| !l.starts_with("Example")).collect();
        let text = text.join("\n");
        let of_this = suggested(&text);
        assert!(!of_this.is_empty(), "{command} has no example: {}", help.out);
        examples.extend(of_this);
    }
    // The files that examples read, as they stand in docs/questions.md and docs/adjustment.md.
    std::fs::write(dir.join("actions.csv"), "instrument,kind,ex_date,amount\nKBF,dividend,2024-12-09,0.06\n").unwrap();
    std::fs::write(dir.join("closes.toml"), "instruments = [\"KBF\"]\n").unwrap();
    let waits = ["mizuno serve", "mizuno demo", "mizuno watch"];
    let mut wrong = vec![];
    for example in examples.iter().filter(|e| !waits.iter().any(|w| e.starts_with(w))) {
        let told = pasted(example, &service, dir);
        // Not every run, gap or file of an example is there; each is understood, and what is not there is named.
        if told.code == 2 || told.code > 4 || (told.code == 1 && told.err.trim().is_empty()) {
            wrong.push(format!("{example}: {told:?}"));
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
    println!("{} examples of {} commands", examples.len(), commands.len());
}
