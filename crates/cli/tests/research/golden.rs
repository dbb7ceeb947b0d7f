//! The golden series: the best of several sources, each bar with its source, on one basis.

use crate::common::{self, Bench, Service};
use mizuno_sim::faults::Faults;
use parquet::{
    file::reader::{FileReader, SerializedFileReader},
    record::RowAccessor,
};

fn demo() -> Bench {
    Bench::whole_demo(mizuno_sim::DEMO_START, 60.0, Faults::of_the_demo(), false)
}

fn collect(service: &Service, collectors: &[&str], symbols: &[&str], from: &str) {
    let symbols: Vec<&str> = symbols.iter().flat_map(|s| ["-i", *s]).collect();
    for collector in collectors {
        let said = service.cli(&[&["collect", collector, "--from", from], &symbols[..]].concat());
        assert!(said.code == 0 || said.code == 3, "{said:?}");
    }
}

/// The rows of a CSV file as (moment, rest of the line without the source, source).
fn rows(csv: &str) -> Vec<(String, String, String)> {
    csv.lines()
        .skip(1)
        .map(|l| {
            let (time, rest) = l.split_once(',').unwrap();
            let (bar, source) = rest.rsplit_once(',').unwrap();
            (time.to_owned(), bar.to_owned(), source.to_owned())
        })
        .collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn what_the_first_source_lacks_comes_from_the_next_with_its_name() {
    let bench = demo();
    let service = bench.serve();
    collect(&service, &["lists", "aldx-minutes", "cellar-minutes"][1..], &["OXB"], "2025-04-04");
    let csv = service.cli(&["bars", "OXB", "--interval", "1m", "--from", "2025-04-04", "--to", "2025-04-04"]);
    assert!(csv.out.starts_with("time,open,high,low,close,volume,source\r\n"), "{}", csv.out);
    let found = rows(&csv.out);
    let truth = common::true_minutes(&bench, "OXB", "2025-04-04", "2025-04-04");
    assert_eq!(found.len(), 345);
    for ((time, bar, source), true_line) in found.iter().zip(truth.lines().skip(1)) {
        assert_eq!(format!("{time},{bar}"), true_line);
        let afternoon = time.as_str() >= "2025-04-04T00:30:00Z";
        assert_eq!(source, if afternoon { "cellar" } else { "harbour" }, "{time}");
    }
    assert!(csv.err.contains("missing=0"), "{}", csv.err);
    let hole = ["--instrument", "OXB", "--interval", "1m", "--from", "2025-04-04", "--to", "2025-04-04"];
    assert!(service.cli(&[&["gaps", "--golden"], &hole[..]].concat()).err.contains("no gaps"), "nothing is missing in the best of both");
    assert!(service.cli(&[&["gaps"], &hole[..]].concat()).out.contains("cellar has it"));

    // How complete the day is, stands beside each bar: 150 of 345 at the one source, all in the best of both.
    for (series, bars, share) in [("OXB/1m/harbour", 150, "43.47"), ("OXB/1m/golden", 345, "100.00")] {
        let csv = service.text(&format!("/bars?series={series}&from=2025-04-04&to=2025-04-04&columns=time,completeness")).await;
        let shares: Vec<&str> = csv.lines().skip(1).map(|l| l.split_once(',').unwrap().1).collect();
        assert_eq!(shares, vec![share; bars], "{series}");
    }
    let wide = service
        .text("/bars?instruments=OXB&source=harbour&interval=1m&from=2025-04-04&to=2025-04-04&layout=wide&columns=time,close,completeness")
        .await;
    assert!(wide.starts_with("time,OXB close,OXB completeness\r\n") && wide.lines().nth(1).unwrap().ends_with(",43.47"), "{wide}");

    // Each bar is traced to the source it is taken from, and on to its line.
    for (at, source) in [("2025-04-03T22:15:00Z", "harbour"), ("2025-04-04T03:15:00Z", "cellar")] {
        let traced = service.cli(&["lineage", &format!("OXB/1m/golden@{at}")]);
        assert!(traced.out.contains(&format!("is taken from OXB/1m/{source}")) && traced.out.contains("line "), "{traced:?}");
    }
    let nowhere = service.cli(&["lineage", "OXB/1m/golden@2025-04-05T00:15:00Z"]);
    assert!(nowhere.code == 1 && nowhere.err.contains("there is no bar"), "{nowhere:?}");

    let path = bench.dir.path().join("oxb.parquet");
    let range = ["--interval", "1m", "--from", "2025-04-04", "--to", "2025-04-04", "-o", path.to_str().unwrap()];
    assert_eq!(service.cli(&[&["bars", "OXB"], &range[..]].concat()).code, 0);
    let file = SerializedFileReader::new(std::fs::File::open(&path).unwrap()).unwrap();
    let sources: Vec<String> = file.get_row_iter(None).unwrap().map(|r| r.unwrap().get_string(6).unwrap().clone()).collect();
    assert_eq!(sources, found.iter().map(|(.., source)| source.clone()).collect::<Vec<_>>());
    let json = service.get("/bars?instrument=OXB&interval=1m&from=2025-04-04&to=2025-04-04&format=json&columns=time,source").await;
    assert_eq!(json[344], serde_json::json!({ "time": "2025-04-04T03:44:00Z", "source": "cellar" }));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_doubted_bar_gives_way_until_a_person_accepts_it() {
    let bench = demo();
    bench.write(
        "ranking.toml",
        "[[rank]]\nsources = [\"cellar\", \"lodestar\"]\n[[rank]]\nsources = [\"lodestar\", \"cellar\"]\nfrom = \"2025-04-08\"\n",
    );
    let service = bench.serve();
    collect(&service, &["aldx-minutes", "lodestar-minutes", "cellar-minutes"], &["WIG"], "2025-04-07");
    let id = "WIG/1m/lodestar@2025-04-08T00:15:00Z#spike";
    let found = service.cli(&["findings", "--instrument", "WIG"]);
    assert_eq!(found.code, 3);
    assert!(found.out.contains(id) && found.out.contains("cellar and harbour say otherwise"), "{}", found.out);
    assert_eq!(service.get("/findings").await.as_array().unwrap().len(), 1, "the one bad print, and nothing invented");
    let status = service.cli(&["status"]);
    assert!(status.out.contains("SUSPICIOUS") && status.out.contains("1 doubt and 0 notices in 1 series"), "{}", status.out);

    let sources = || {
        let csv = service.cli(&["bars", "WIG", "--interval", "1m", "--from", "2025-04-07", "--to", "2025-04-08"]);
        rows(&csv.out)
    };
    let before = sources();
    assert_eq!(before.len(), 690);
    for (time, _, source) in &before {
        let cellar = time == "2025-04-08T00:15:00Z" || time.as_str() < "2025-04-07T21:00:00Z";
        assert_eq!(
            source,
            if cellar { "cellar" } else { "lodestar" },
            "{time}: by rank, which changes on the 8th, but for the doubted bar"
        );
    }
    let lineup = service.cli(&["lineup", "WIG", "--interval", "1m"]);
    assert!(
        lineup.out.contains("cellar, then lodestar") && lineup.out.contains("from 2025-04-08 on: lodestar, then cellar"),
        "{}",
        lineup.out
    );
    assert!(
        lineup.out.contains("1 bar doubted") && lineup.out.contains("harbour  left out: ranking.toml does not rank it"),
        "{}",
        lineup.out
    );

    assert!(
        service.cli(&["excuse", "WIG/1m/lodestar@2025-04-08T00:16:00Z#spike", "--by", "mere", "--note", "x"]).err.contains("no finding")
    );
    let accepted = service.cli(&["excuse", id, "--by", "mere", "--note", "a real trade, says the exchange"]);
    assert!(accepted.code == 0 && accepted.out.contains("spike of WIG/1m/lodestar"), "{accepted:?}");
    assert!(sources().iter().any(|(time, _, source)| time == "2025-04-08T00:15:00Z" && source == "lodestar"));
    assert_eq!(service.cli(&["findings"]).code, 0);
    assert!(service.cli(&["findings", "--accepted"]).out.contains("doubt, accepted"));
    assert!(service.cli(&["gaps", "--golden"]).code == 0, "an accepted finding is no accepted absence");
    assert_eq!(service.cli(&["excuses", "--revoke", "1"]).code, 0);
    assert_eq!(sources(), before);
}

#[tokio::test(flavor = "multi_thread")]
async fn adjusted_prices_are_brought_back_or_left_out() {
    let without = demo();
    std::fs::remove_file(without.config().join("sources/almanack.toml")).unwrap();
    std::fs::remove_dir_all(without.config().join("universes")).unwrap();
    let service = without.serve();
    collect(&service, &["lodestar-daily", "aldx-daily"], &["SME"], "2025-03-03");
    let harbour = service.cli(&["bars", "SME", "--columns", "date,source"]);
    assert!(harbour.code == 0 && !harbour.out.contains("lodestar"), "{}", harbour.err);
    let lineup = service.cli(&["lineup", "SME"]);
    assert!(lineup.out.contains("lodestar left out: its prices are adjusted for splits, and no list of splits of ALDX"), "{}", lineup.out);

    // The list of splits is right from 11 April on.
    let bench = Bench::whole_demo("2025-04-11T08:00:00Z", 60.0, Faults::of_the_demo(), false);
    bench.write("ranking.toml", "[[rank]]\nsources = [\"lodestar\"]\n");
    let service = bench.serve();
    collect(&service, &["lodestar-daily"], &["SME", "KBF"], "2020-01-06");
    assert_eq!(service.cli(&["lists", "almanack/splits"]).code, 0);
    for symbol in ["SME", "KBF"] {
        let csv = service.cli(&["bars", symbol, "--to", "2025-04-09"]);
        let prices = |line: &str| line.split(',').take(5).collect::<Vec<_>>().join(",");
        let true_days = common::true_days(&bench, symbol);
        let truth: Vec<String> = true_days.lines().skip(1).map(prices).filter(|day| day.as_str() < "2025-04-10").collect();
        let found: Vec<String> = csv.out.lines().skip(1).map(prices).collect();
        // The source rounds to two decimals: of what is brought back from there, each of several prices may have been paid. So there is no
        // such bar, and what is told of completeness does not count any; every other bar is what was traded.
        assert_eq!(found, truth[truth.len() - found.len()..], "{symbol}");
        let split = if symbol == "SME" { "2025-03-17" } else { "2020-06-15" };
        assert!(!found.is_empty() && found.iter().all(|f| f.as_str() >= split), "{symbol}: {found:?}");
        assert!(csv.err.contains(&format!("expected={0}, held={0}", found.len())), "{}", csv.err);
        let lineup = service.cli(&["lineup", symbol]);
        assert!(lineup.out.contains("bars left out: several prices, or none, fit what it told"), "{}", lineup.out);
    }
    let findings = service.get("/findings?instrument=SME").await;
    assert_eq!(findings, serde_json::json!([]), "adjusted for the split, and the split is known");
    assert!(service.cli(&["lineup", "SME"]).out.contains("brought back by the known splits"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_hole_in_the_best_of_all_is_repaired_at_its_sources() {
    let bench = demo();
    let service = bench.serve();
    let range = ["--from", "2025-04-02", "--to", "2025-04-04"];
    service.cli(&[&["collect", "aldx-minutes", "-i", "QHC", "-i", "OXB"], &range[..]].concat());
    let holes = service.cli(&[&["gaps", "--golden", "--interval", "1m"], &range[..]].concat());
    let (qhc, oxb) = ("QHC/1m/golden@2025-04-02T00:30:00Z", "OXB/1m/golden@2025-04-04T00:30:00Z");
    assert!(holes.out.contains(qhc) && holes.out.contains(oxb) && holes.out.contains("harbour: left-out"), "{}", holes.out);
    let brought = service.cli(&["repair", qhc]);
    assert!(brought.code == 0 && brought.err.contains("1 of 1 gaps closed"), "{brought:?}");
    let in_vain = service.cli(&["repair", oxb]);
    assert!(in_vain.code == 3 && in_vain.err.contains(&format!("still missing: {oxb}")), "{in_vain:?}");
    // Excused, it is excused at each of its sources; withdrawn, it is back.
    let excused = service.cli(&["excuse", oxb, "--by", "mere", "--note", "nobody has it"]);
    assert_eq!(excused.code, 0, "{excused:?}");
    let holes = &[&["gaps", "--golden", "--interval", "1m"], &range[..]].concat();
    assert!(!service.cli(holes).out.contains(oxb), "an excused gap is none");
    let excuses = service.cli(&["excuses", "--json"]).json();
    for excuse in excuses.as_array().unwrap() {
        assert_eq!(service.cli(&["excuses", "--revoke", &excuse["id"].to_string()]).code, 0, "{excuse}");
    }
    assert!(service.cli(holes).out.contains(oxb));
    // Another source closes it for the best of all, not for the one that lost it.
    service.cli(&[&["collect", "cellar-minutes", "-i", "OXB"], &range[..]].concat());
    let of_oxb = ["--instrument", "OXB", "--interval", "1m"];
    assert!(service.cli(&[&["gaps", "--golden"], &of_oxb[..], &range[..]].concat()).err.contains("no gaps"));
    let own = service.cli(&[&["gaps", "--source", "harbour", "--json"], &of_oxb[..], &range[..]].concat()).json();
    assert_eq!((own[0]["suggestion"].as_str(), own.as_array().unwrap().len()), (Some("fill"), 1), "{own}");
    assert!(own[0]["evidence"].as_str().unwrap().contains("the golden series takes it from cellar"), "{own}");
}

#[test]
fn the_checks_are_measured_by_a_command_that_needs_no_service() {
    let said =
        common::Said::of(common::mizuno().args(["checks", "--measure", "--specimens", "60", "--seed", "11", "--json"]).output().unwrap());
    assert_eq!(said.code, 0, "every check is as precise as it is to be: {}", said.out);
    let told = said.json();
    let checks = told["checks"].as_array().unwrap();
    assert_eq!(checks.len(), 11);
    for check in checks {
        assert_eq!(check["planted"], 60);
        assert!(check["precision"].as_f64() >= Some(0.98) && check["recall"].as_f64() >= Some(0.95), "{check}");
    }
    assert!(told["clean_bars"].as_u64() > Some(100_000) && told["false_alarms"].as_u64() <= Some(2), "{told}");
    let bases = &told["bases"];
    assert_eq!((bases["changed"].as_u64(), bases["corrected"].as_u64()), (Some(1200), Some(1200)), "{bases}");
    assert!(bases["found"].as_u64() >= Some(1176) && bases["mistaken"].as_u64() <= Some(2), "{bases}");
    let table = common::Said::of(common::mizuno().args(["checks", "--measure", "--specimens", "2"]).output().unwrap());
    assert!(table.out.contains("CHECK") && table.out.contains("bars without a fault"), "{}", table.out);
    let alone = common::Said::of(common::mizuno().args(["checks", "--seed", "3"]).output().unwrap());
    assert_eq!(alone.code, 2, "a seed is for a measurement: {}", alone.err);
}
