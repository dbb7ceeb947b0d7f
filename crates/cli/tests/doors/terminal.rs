//! The command line as shells and people use it: closed pipes, Ctrl-C, files that cannot be written, addresses from the
//! environment; and nothing but text where there is no terminal.

use crate::common::{self, Bench, Said, Service, mizuno};
use mizuno_sim::faults::{Fault, Faults};
use std::{
    fs,
    io::{BufRead, BufReader},
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

fn started(service: &Service, args: &[&str]) -> Child {
    mizuno().args(args).args(["--service", &service.url]).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
}

fn interrupted(child: Child) -> Said {
    Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
    Said::of(child.wait_with_output().unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_reads_may_leave_at_any_line() {
    let bench = Bench::new(Faults::of_the_demo());
    let service = bench.serve();
    service.cli(&["collect", "daily"]);
    for args in
        [&["bars", "KBF"][..], &["fetches", "--most", "1000"], &["series"], &["gaps", "--cause", "any"], &["series", "--json"], &["status"]]
    {
        let before = service.cli(args);
        let mut child = started(&service, args);
        let mut first = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut first).unwrap();
        let said = Said::of(child.wait_with_output().unwrap());
        let after = service.cli(args);
        let lines = [&before, &after].map(|whole| whole.out.lines().next().unwrap().trim_end());
        assert!(lines.contains(&first.trim_end()), "{args:?}: the first line, before or after the minute changed: {first:?} of {lines:?}");
        assert!([0, 3].contains(&said.code) && !said.err.contains("panicked"), "{args:?}: {said:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn ctrl_c_ends_a_run_in_good_order_and_what_was_under_way_is_kept() {
    let bench = Bench::new(Faults::only(vec![Fault::Slow { millis: 150 }]));
    let service = bench.serve();
    let child = started(&service, &["collect", "daily"]);
    let began = Instant::now();
    while service.get("/runs?most=1").await[0]["done"].as_u64() < Some(3) {
        assert!(began.elapsed() < Duration::from_secs(30), "the run makes no progress");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    let said = interrupted(child);
    assert_eq!(said.code, 130, "{said:?}");
    assert!(said.err.contains("stopping run 1: what is under way is finished and kept") && said.out.contains("cancelled"), "{said:?}");
    assert!(!said.err.contains(['\r', '\u{1b}']), "nothing is drawn where there is no terminal: {:?}", said.err);
    let run = service.get("/runs/1").await;
    let (done, windows) = (run["done"].as_u64().unwrap(), run["windows"].as_u64().unwrap());
    assert!(run["state"] == "cancelled" && 3 <= done && done < windows, "{run}");
    let again = service.cli(&["collect", "daily"]);
    assert_eq!(again.code, 0, "{again:?}");
    let run = service.get("/runs/2").await;
    assert_eq!(run["windows"].as_u64(), Some(windows - done), "only what was left is asked for");

    let watching = started(&service, &["watch"]);
    tokio::time::sleep(Duration::from_millis(300)).await;
    assert_eq!(interrupted(watching).code, 130, "Ctrl-C is 130 everywhere");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_appears_whole_under_its_name_or_not_at_all() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    service.cli(&["collect", "daily", "-i", "KBF"]);
    let file = bench.dir.path().join("kbf.csv");
    let name = file.to_str().unwrap();
    fs::write(&file, "an older file").unwrap();
    let refused = service.cli(&["bars", "KBF", "--from", "2025-04-09", "--to", "2025-04-01", "-o", name]);
    assert_eq!((refused.code, fs::read_to_string(&file).unwrap().as_str()), (1, "an older file"), "{refused:?}");
    let written = service.cli(&["bars", "KBF", "--source", "harbour", "-o", name]);
    assert!(written.code == 0 && written.out.is_empty() && written.err.contains("wrote "), "{written:?}");
    assert_eq!(fs::read_to_string(&file).unwrap(), common::true_days(&bench, "KBF"));
    let nowhere = bench.dir.path().join("no/such/place.csv");
    let failed = service.cli(&["bars", "KBF", "-o", nowhere.to_str().unwrap()]);
    assert!(failed.code == 1 && failed.err.contains("cannot write") && failed.err.contains("no/such/place.csv"), "{failed:?}");
    let parts = fs::read_dir(bench.dir.path()).unwrap().flatten().filter(|f| f.file_name().to_string_lossy().ends_with(".part"));
    assert_eq!(parts.count(), 0, "and nothing half is left lying about");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_address_comes_from_the_option_or_else_the_environment() {
    let bench = Bench::new(Faults::default());
    let service = bench.serve();
    let asked = |args: &[&str], environment: &str| Said::of(mizuno().args(args).env("MIZUNO_SERVICE", environment).output().unwrap());
    assert_eq!(asked(&["runs"], &service.url).code, 0);
    let nobody = "http://127.0.0.1:9";
    let lost = asked(&["runs"], nobody);
    assert!(lost.code == 4 && lost.err.contains(nobody) && lost.err.contains("mizuno serve"), "{lost:?}");
    assert_eq!(asked(&["runs", "--service", &service.url], nobody).code, 0, "the option goes first");
    let no_address = asked(&["runs"], "harbour");
    assert!(no_address.code != 0 && no_address.err.contains("harbour"), "{no_address:?}");
    let wrong = asked(&["colect"], &service.url);
    assert!(wrong.code == 2 && wrong.err.contains("collect"), "a slip of the finger is met with the nearest command: {wrong:?}");
}
