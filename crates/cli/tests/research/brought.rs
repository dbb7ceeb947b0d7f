//! Prices adjusted for dividends, brought back to those that were traded: as far back as the actions account for them, and no further.

use crate::common::{self, Bench, Service};
use mizuno_sim::faults::Faults;

const FIRST: &str = "[[rank]]\nsources = [\"lodestar-adjusted\", \"harbour\"]\n";

/// A demo in which the source that adjusts for dividends goes first.
fn collected(symbols: &[&str], collectors: &[&str]) -> (Bench, Service) {
    collected_at(mizuno_sim::DEMO_START, symbols, collectors)
}

fn collected_at(start: &str, symbols: &[&str], collectors: &[&str]) -> (Bench, Service) {
    let bench = Bench::whole_demo(start, 1.0, Faults::default(), false);
    bench.write("ranking.toml", FIRST);
    let service = bench.serve();
    for list in ["almanack/splits", "almanack/dividends", "almanack/events", "lodestar-adjusted/instruments"] {
        assert_eq!(service.cli(&["lists", list]).code, 0, "{list}");
    }
    let of: Vec<&str> = symbols.iter().flat_map(|s| ["-i", *s]).collect();
    for collector in collectors {
        let said = service.cli(&[&["collect", collector], &of[..]].concat());
        assert_eq!(said.code, 0, "{said:?}");
    }
    (bench, service)
}

/// The rows of a golden file: the date and four prices, and the source.
fn rows(service: &Service, args: &[&str]) -> Vec<(String, String)> {
    let said = service.cli(&[&["bars"], args].concat());
    assert_eq!(said.code, 0, "{said:?}");
    let row = |line: &str| {
        let fields: Vec<&str> = line.split(',').collect();
        // A source writes as many decimals as it likes.
        let prices: Vec<String> = fields[1..5].iter().map(|p| format!("{:.2}", p.parse::<f64>().unwrap())).collect();
        (format!("{},{}", fields[0], prices.join(",")), fields[fields.len() - 1].to_owned())
    };
    said.out.lines().skip(1).map(row).collect()
}

fn truth(bench: &Bench, symbol: &str) -> Vec<String> {
    common::true_days(bench, symbol).lines().skip(1).map(|line| line.rsplit_once(',').unwrap().0.to_owned()).collect()
}

/// Holds a golden series against what was traded: bars from `from` on are of the adjusted source but for a few, and those before `last` were
/// brought back.
fn holds(bench: &Bench, service: &Service, symbol: &str, (from, last): (&str, &str)) {
    let found = rows(service, &[symbol]);
    let bars: Vec<&String> = found.iter().map(|(bar, _)| bar).collect();
    assert_eq!(bars, truth(bench, symbol).iter().collect::<Vec<_>>(), "{symbol}");
    for (bar, source) in &found {
        let date = &bar[..10];
        let wanted = match () {
            () if date < from => "harbour",
            () if date < last => "lodestar-adjusted (brought back)",
            () => "lodestar-adjusted",
        };
        // One bar of many may be told by several prices.
        assert!(source == wanted || source == "harbour", "{symbol} {bar} {source}, and not {wanted}");
    }
    let mine = found.iter().filter(|(bar, source)| source != "harbour" && &bar[..10] >= from).count();
    let there = found.iter().filter(|(bar, _)| &bar[..10] >= from).count();
    assert!(mine * 10 >= there * 9, "{symbol}: {mine} of {there}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_actions_account_for_is_what_was_traded() {
    let (bench, service) = collected(&["KBF", "SME", "HTH"], &["aldx-daily", "lodestar-adjusted-daily"]);
    // A dividend that the list tells wrong, and a bonus issue that it lacks, cut off what is older.
    holds(&bench, &service, "KBF", ("2024-12-09", "2025-03-24"));
    holds(&bench, &service, "HTH", ("2024-08-05", "2024-08-05"));
    let lineup = service.cli(&["lineup", "KBF"]).out;
    assert!(lineup.contains("brought back from 2024-12-09 on; no known action accounts for its older prices"), "{lineup}");
    // A split that it tells a day late leaves out that day alone, and is told.
    holds(&bench, &service, "SME", ("2020-01-06", "2025-03-18"));
    let that_day = rows(&service, &["SME", "--from", "2025-03-17", "--to", "2025-03-17"]);
    assert_eq!(that_day[0].1, "harbour");
    let late = "2025-03-17: lodestar-adjusted takes out split 4 for 1 from 2025-03-17 on, and here it counts from 2025-03-18 on; one of the two \
                dates is wrong";
    let actions = service.cli(&["actions", "SME"]).out;
    assert!(actions.contains(late), "{actions}");
    let findings = service.get("/findings?instrument=SME").await;
    let step = findings.as_array().unwrap().iter().find(|f| f["check"] == "unexplained-step").unwrap();
    assert!(late.ends_with(step["detail"].as_str().unwrap()) && step["from"] == "2025-03-17", "{findings}");
    // Once the list is corrected, they account for all.
    let (bench, service) = collected_at("2025-04-14T08:00:00Z", &["KBF", "SME"], &["aldx-daily", "lodestar-adjusted-daily"]);
    holds(&bench, &service, "KBF", ("2020-01-06", "2025-03-24"));
    holds(&bench, &service, "SME", ("2020-01-06", "2025-03-17"));
    let lineup = service.cli(&["lineup", "SME"]).out;
    assert!(
        lineup.contains("adjusted for splits and dividends, brought back by the known actions") && !lineup.contains("older prices"),
        "{lineup}"
    );
    assert!(!service.cli(&["actions", "SME"]).out.contains("wrong"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_bonus_issue_that_no_list_has_makes_no_golden_bar_wrong() {
    let (bench, service) = collected(&["HTH"], &["aldx-daily", "lodestar-daily"]);
    // The source takes the bonus issue out of its prices, and nobody knows of it: before it, its prices are not those that were traded.
    bench.write("ranking.toml", "[[rank]]\nsources = [\"lodestar\", \"harbour\"]\n");
    assert_eq!(service.cli(&["reload"]).code, 0);
    let found = rows(&service, &["HTH", "--from", "2020-01-06"]);
    assert_eq!(
        found.iter().map(|(bar, _)| bar.clone()).collect::<Vec<_>>(),
        truth(&bench, "HTH")[truth(&bench, "HTH").len() - found.len()..]
    );
    assert!(found.iter().all(|(bar, source)| (source == "lodestar") == (bar[..10] >= *"2024-08-05")), "{found:?}");
    let lineup = service.cli(&["lineup", "HTH"]).out;
    assert!(
        lineup.contains("adjusted for splits, brought back from 2024-08-05 on; no known action accounts for its older prices"),
        "{lineup}"
    );
    // Alone, its bars before that are missing where traded prices are asked for, and stand as the source tells them where they are not.
    let alone = service.cli(&["bars", "HTH", "--source", "lodestar", "--from", "2024-07-29", "--to", "2024-08-05", "--adjust", "splits"]);
    assert!(alone.out.lines().count() == 2 && alone.err.contains("expected=6, held=1, excused=0, missing=5"), "{alone:?}");
    let told = service.cli(&["bars", "HTH", "--source", "lodestar", "--from", "2024-07-29", "--to", "2024-08-05"]);
    assert_eq!(told.out.lines().count(), 7, "{told:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_action_that_a_person_enters_lets_a_source_take_part_from_then_on() {
    let (bench, service) = collected(&["HTH"], &["aldx-daily", "lodestar-adjusted-daily"]);
    let before = rows(&service, &["HTH"]);
    let instant = bench.now().to_string();
    let bonus = "bonus ex_date=2024-08-05 new=1 old=10";
    let said = service.cli(&["actions", "HTH", "--enter", bonus, "--by", "mere", "--reason", "the registrar, by letter"]);
    assert_eq!(said.code, 0, "{said:?}");
    let after = rows(&service, &["HTH"]);
    assert!(after.iter().all(|(bar, source)| bar[..10] < *"2020-01-06" || source.starts_with("lodestar-adjusted")), "{:?}", after.first());
    let bars = |rows: &[(String, String)]| rows.iter().map(|(bar, _)| bar.clone()).collect::<Vec<_>>();
    assert_eq!(bars(&after), truth(&bench, "HTH"), "whoever tells a bar, it is what was traded");
    assert_eq!(rows(&service, &["HTH", "--as-of", &instant]), before, "as of then nobody knew of it");
    let changes = service.text(&format!("/bars?instrument=HTH&since={instant}&to=2024-08-02&from=2024-08-01")).await;
    assert!(changes.lines().count() == 3 && changes.contains("lodestar-adjusted (brought back)"), "{changes}");
    // Withdrawn, it is as before.
    let withdrawn = service.cli(&["actions", "--withdraw", "1", "--by", "mere", "--reason", "another company's"]);
    assert_eq!((withdrawn.code, rows(&service, &["HTH"]) == before), (0, true), "{withdrawn:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn alone_it_is_brought_back_as_far_as_it_can_be() {
    let (_bench, service) = collected(&["KBF"], &["lodestar-adjusted-daily"]);
    // Nobody tells what was paid.
    let refused = service.cli(&["bars", "KBF", "--source", "lodestar-adjusted", "--adjust", "all"]);
    assert!(refused.code == 1 && refused.err.contains("no other source that is ranked tells daily prices as traded"), "{refused:?}");
    let golden = service.cli(&["bars", "KBF"]);
    assert!(golden.code == 1 && golden.err.contains("lodestar-adjusted: its prices are adjusted for dividends"), "{golden:?}");
    assert!(service.cli(&["lineup", "KBF"]).out.contains("lodestar-adjusted left out: its prices are adjusted for dividends"));

    assert_eq!(service.cli(&["collect", "aldx-daily", "-i", "KBF"]).code, 0);
    let args = ["bars", "KBF", "--source", "lodestar-adjusted", "--from", "2024-12-02"];
    let adjusted = service.cli(&[&args[..], &["--adjust", "all"]].concat());
    // What cannot be brought back is missing, and not another number.
    assert!(adjusted.out.lines().nth(1).is_some_and(|line| line.starts_with("2024-12-09,")), "{}", adjusted.out);
    assert!(adjusted.err.contains("missing=5"), "{}", adjusted.err);
    let explained = service.cli(&[&args[..], &["--adjust", "all", "--explain"]].concat());
    let why = "lodestar-adjusted is adjusted for splits and dividends, brought back from 2024-12-09 on; no known action";
    assert!(explained.out.contains(why), "{}", explained.out);
    let golden = service.cli(&["bars", "KBF", "--from", "2024-12-09", "--adjust", "all"]);
    let prices = |csv: &str| csv.lines().skip(1).map(|l| l.split(',').take(5).collect::<Vec<_>>().join(",")).collect::<Vec<_>>();
    assert_eq!(prices(&adjusted.out), prices(&golden.out), "adjusted by the same closes");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_nobody_can_hold_against_anything_closes_no_golden_gap() {
    let (bench, service) = collected(&["KBF"], &["lodestar-adjusted-daily"]);
    bench.write("ranking.toml", "[[rank]]\nsources = [\"lodestar-adjusted\", \"lodestar\"]\n");
    assert_eq!(service.cli(&["reload"]).code, 0);
    assert_eq!(service.cli(&["collect", "lodestar-daily", "-i", "KBF", "--from", "2025-03-03"]).code, 0);
    // Before that only the one has bars whose prices nobody else tells as traded: they are no golden ones.
    let gaps = service.get("/gaps?golden=true&instrument=KBF&interval=1d").await;
    let missing: u64 = gaps.as_array().unwrap().iter().map(|gap| gap["slots"].as_u64().unwrap()).sum();
    assert!(missing > 1_000, "{gaps}");
    let golden = service.cli(&["bars", "KBF", "--columns", "date,source"]);
    assert_eq!(golden.out.lines().nth(1).map(str::trim_end), Some("2025-03-03,lodestar"), "{golden:?}");
}
