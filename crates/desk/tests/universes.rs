//! Universes by lists, files and each other, on the demo's configuration.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test stops at once when something is not as it needs it")]

use mizuno_config::{Config, Texts};
use mizuno_core::{Timestamp, TradeDate, clock::ClockFace};
use mizuno_desk::{
    Setup,
    setup::Means,
    universes::{History, Told, Universe, found_by_rule},
};
use mizuno_sources::{Clock, NoDayBook, Secrets};
use mizuno_store::{configurations::KeptConfiguration, lists::ListRow};
use proptest::prelude::*;
use std::{
    collections::{BTreeMap, HashMap},
    path::Path,
    sync::{Arc, LazyLock},
};
use tokio::runtime::Runtime;

/// The demo's configuration with some files changed.
fn config(files: &[(&str, &str)]) -> Result<Config, String> {
    let (mut texts, unreadable) = Texts::read(Path::new("../../demo/config"));
    assert_eq!(unreadable, []);
    texts.0.extend(files.iter().map(|(path, text)| ((*path).to_owned(), (*text).to_owned())));
    Config::of(Arc::new(texts)).map_err(|problems| problems.to_string())
}

fn setup(files: &[(&str, &str)], told: &Told) -> Setup {
    // A source's gate begins a task of its own.
    static RUNTIME: LazyLock<Runtime> = LazyLock::new(|| Runtime::new().unwrap());
    let _within = RUNTIME.enter();
    let clock = Clock::new(ClockFace::REAL);
    let means = Means {
        clock: &clock,
        secrets: &Secrets::default(),
        book: Arc::new(NoDayBook),
        folder: Path::new("."),
        before: None,
        kept: KeptConfiguration::NONE,
        since: Timestamp::MIN,
        names: &[],
        told,
    };
    Setup::new(config(files).unwrap(), vec![], HashMap::new(), &means).unwrap()
}

fn universe(name: &str, files: &[(&str, &str)], told: &Told) -> Universe {
    setup(files, told).universe(name, told, &BTreeMap::new()).unwrap()
}

fn date(text: &str) -> TradeDate {
    text.parse().unwrap()
}

/// An instant of the morning at Aldermere, before the open.
fn morning(day: &str) -> Timestamp {
    format!("{day}T07:00:00+12:00").parse().unwrap()
}

fn row(columns: &[(&str, &str)], since: &str, until: Option<&str>) -> ListRow {
    let columns: BTreeMap<String, String> = columns.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect();
    let key = columns.values().cloned().collect::<Vec<_>>().join(" ");
    let (source, list) = ("almanack".to_owned(), "twelve".to_owned());
    ListRow { source, list, key, columns, since: morning(since), first_of: 1, until: until.map(morning), ended_by: None }
}

fn told(rows: Vec<ListRow>, collections: &[&str]) -> Told {
    let history = History { rows, collections: collections.iter().map(|day| morning(day)).collect() };
    [("almanack/aldermere-12".to_owned(), history)].into()
}

/// The stays of a universe, as text.
fn stays(universe: &Universe) -> Vec<String> {
    let of = |(symbol, stays): (&String, &Vec<_>)| {
        let one = |m: &mizuno_desk::universes::Membership| {
            format!("{symbol} {}", mizuno_desk::universes::stretch(m.stay.days.start, m.stay.days.end))
        };
        stays.iter().map(one).collect::<Vec<_>>()
    };
    universe.members.iter().flat_map(of).collect()
}

/// A universe by that list.
const BY_DATES: &str = "lists = [\"almanack/aldermere-12\"]\n[spelling]\n\"Gull Air\" = \"TRN\"\n";

/// The profile, whose list of members shows those of the day.
fn of_the_day() -> String {
    let (texts, _) = Texts::read(Path::new("../../demo/config"));
    texts.0["sources/almanack.toml"]
        .replace("columns = { name = \"Company\", from = \"Joined\", to = \"Left\" }", "columns = { symbol = \"Symbol\" }")
}

#[test]
fn a_list_with_dates_gives_a_stay_a_row_and_follows_renames() {
    let member = |name, from, to: &str| {
        let mut columns = vec![("name", name), ("from", from)];
        columns.extend((!to.is_empty()).then_some(("to", to)));
        row(&columns, "2025-04-10", None)
    };
    let rows = vec![
        member("GREBE INSURANCE", "2016-01-04", "2019-06-24"),
        member("Grebe Insurance", "2021-06-21", ""),
        member("Gull Air", "2018-06-18", "2025-02-03"),
        member("Tern Airways", "2025-02-03", ""),
        member("Kelp and Barley Foods", "2016-01-04", ""),
        member("Oxbow Railways", "2016-01-04", ""),
        member("Crake Foundry", "2022-12-19", "2016-01-04"),
        member("Wigeon Stores", "19 Dec 2022", ""),
    ];
    let told = told(rows, &["2025-04-10"]);
    let found = universe("u", &[("universes/u.toml", BY_DATES)], &told);
    assert_eq!(
        stays(&found),
        [
            "GRB from 2016-01-04 until 2019-06-24",
            "GRB from 2021-06-21",
            "KBF from 2016-01-04",
            "TRN from 2018-06-18 until 2025-02-03",
            "TRN from 2025-02-03"
        ]
    );
    // Renamed while a member, it is one membership.
    assert_eq!(found.days("TRN").len(), 1);
    assert_eq!(found.unresolved.len(), 1);
    assert!(found.unresolved[0].said == "Oxbow Railways" && found.unresolved[0].hint.contains("it may be OXB (Oxbow Rail)"));
    assert_eq!(found.unread.len(), 2, "{:?}", found.unread);
    // The last day in, where the profile says so.
    let (texts, _) = Texts::read(Path::new("../../demo/config"));
    let last_day = texts.0["sources/almanack.toml"].replacen("of = \"members\"", "of = \"members\"\nleft = \"last-day-in\"", 1);
    let found = universe("u", &[("universes/u.toml", BY_DATES), ("sources/almanack.toml", &last_day)], &told);
    assert_eq!(stays(&found)[0], "GRB from 2016-01-04 until 2019-06-25");
}

#[test]
fn a_list_of_the_day_gives_stays_by_its_collections_and_says_what_lies_between() {
    let rows = vec![
        row(&[("symbol", "KBF")], "2025-02-03", None),
        row(&[("symbol", "OXB")], "2025-02-03", Some("2025-02-12")),
        row(&[("symbol", "GUL")], "2025-01-31", Some("2025-02-03")),
        row(&[("symbol", "TRN")], "2025-02-03", None),
        row(&[("symbol", "QHC")], "2025-02-12", None),
        row(&[("symbol", "ZZZ")], "2025-02-04", None),
    ];
    // No collection on a Saturday and a Sunday, nor from the 5th to the 11th.
    let told = told(rows, &["2025-01-31", "2025-02-03", "2025-02-04", "2025-02-12"]);
    let profile = of_the_day();
    let found = universe("u", &[("universes/u.toml", "lists = [\"almanack/aldermere-12\"]"), ("sources/almanack.toml", &profile)], &told);
    assert_eq!(
        stays(&found),
        [
            "KBF from 2025-02-03",
            "OXB from 2025-02-03 until 2025-02-12",
            "QHC from 2025-02-12",
            "TRN from 2025-01-31 until 2025-02-03",
            "TRN from 2025-02-03"
        ]
    );
    assert_eq!(found.known_from, Some(date("2025-01-31")));
    let stay = |symbol: &str| &found.members[symbol][0].stay;
    assert_eq!((stay("QHC").joined_after, stay("OXB").left_after), (Some(date("2025-02-04")), Some(date("2025-02-04"))));
    // From a Friday to the Monday after it there is no session between.
    assert_eq!((stay("KBF").joined_after, stay("TRN").left_after), (None, None));
    assert_eq!(found.unresolved.iter().map(|u| u.said.as_str()).collect::<Vec<_>>(), ["ZZZ"]);
}

#[test]
fn a_symbol_that_another_takes_on_the_day_it_is_given_up_means_who_carried_it_on_each_date() {
    let aldx = include_str!("../../../demo/config/instruments/aldx.csv");
    let aldx = format!("{aldx}GUL,Gullwing Freight,share,ALDX,NZD,0.01,,2025-02-03,,,\n");
    let wanted = ["GUL from 2025-02-03", "TRN from 2025-01-31 until 2025-02-03"];
    let with = |universe_file: &str, almanack: &str, told: &Told| {
        let files = [("instruments/aldx.csv", &*aldx), ("universes/u.toml", universe_file), ("sources/almanack.toml", almanack)];
        stays(&universe("u", &files, told))
    };
    // A list of the day.
    let rows = vec![row(&[("symbol", "GUL")], "2025-01-31", Some("2025-02-03")), row(&[("symbol", "GUL")], "2025-02-03", None)];
    let list = "lists = [\"almanack/aldermere-12\"]";
    assert_eq!(with(list, &of_the_day(), &told(rows, &["2025-01-31", "2025-02-03", "2025-02-04"])), wanted);
    // A log: on the day of both, the one leaves and the other joins.
    let log = |day: &str, joined: &str, left: &str| row(&[("date", day), ("joined", joined), ("left", left)], "2025-04-10", None);
    let (texts, _) = Texts::read(Path::new("../../demo/config"));
    let rows = vec![log("2025-01-31", "GUL", ""), log("2025-02-03", "GUL", "GUL")];
    let log = [("almanack/aldermere-12-changes".to_owned(), History { rows, collections: vec![morning("2025-04-10")] })].into();
    assert_eq!(with("lists = [\"almanack/aldermere-12-changes\"]", &texts.0["sources/almanack.toml"], &log), wanted);
    // By hand, also where only the day out is said.
    let by_hand = |first: &str| {
        format!("[[member]]\nsymbol = \"GUL\"\n{first}to = \"2025-02-03\"\n[[member]]\nsymbol = \"GUL\"\nfrom = \"2025-02-03\"\n")
    };
    assert_eq!(with(&by_hand("from = \"2025-01-31\"\n"), &texts.0["sources/almanack.toml"], &Told::new()), wanted);
    assert_eq!(with(&by_hand(""), &texts.0["sources/almanack.toml"], &Told::new()), ["GUL from 2025-02-03", "TRN until 2025-02-03"]);
}

#[test]
fn what_two_lists_say_otherwise_is_told_and_the_first_counts() {
    let log = |day: &str, joined: &str, left: &str| row(&[("date", day), ("joined", joined), ("left", left)], "2025-04-10", None);
    let mut all = told(
        vec![
            row(&[("name", "Redshank Bank"), ("from", "2016-01-04"), ("to", "2025-03-14")], "2025-04-10", None),
            row(&[("name", "Fenwick Robotics"), ("from", "2025-03-17")], "2025-04-10", None),
            row(&[("name", "Oxbow Rail"), ("from", "2016-01-04")], "2025-04-10", None),
        ],
        &["2025-04-10"],
    );
    let moves = vec![log("2025-03-17", "FNR", "RSB"), log("2025-03-18", "FNR", "SME"), log("soon", "KBF", "")];
    all.insert("almanack/aldermere-12-changes".to_owned(), History { rows: moves, collections: vec![morning("2025-04-10")] });
    let both = "lists = [\"almanack/aldermere-12\", \"almanack/aldermere-12-changes\"]";
    let found = universe("u", &[("universes/u.toml", both)], &all);
    assert_eq!(stays(&found), ["FNR from 2025-03-17", "OXB from 2016-01-04", "RSB from 2016-01-04 until 2025-03-14"]);
    // Since the log begins: it does not know OXB, which never moved, and RSB had left before.
    let sme = "SME: no member by almanack/aldermere-12, a member from 2025-03-17 until 2025-03-18 by almanack/aldermere-12-changes; \
               what almanack/aldermere-12 says counts";
    assert_eq!(found.conflicts, [sme]);
    assert!(found.unread.iter().any(|u| u.contains("joined on 2025-03-18, and was a member since 2025-03-17")), "{:?}", found.unread);
    assert!(found.unread.iter().any(|u| u.contains("soon")), "{:?}", found.unread);
    // A list that was never collected leaves its place to the next.
    all.remove("almanack/aldermere-12");
    let found = universe("u", &[("universes/u.toml", both)], &all);
    assert_eq!(stays(&found), ["FNR from 2025-03-17", "RSB until 2025-03-17", "SME until 2025-03-18"]);
}

#[test]
fn universes_are_joined_met_and_taken_from_each_other() {
    let a = "[[member]]\nsymbol = \"KBF\"\nfrom = \"2020-01-06\"\nto = \"2022-01-03\"\nwhy = \"picked\"\n[[member]]\nsymbol = \"OXB\"\n[[member]]\nsymbol = \"NOPE\"\n";
    let b = "[[member]]\nsymbol = \"KBF\"\nfrom = \"2021-01-04\"\nto = \"2023-01-02\"\n";
    let files = [
        ("universes/a.toml", a),
        ("universes/b.toml", b),
        ("universes/any.toml", "any_of = [\"a\", \"b\"]"),
        ("universes/all.toml", "all_of = [\"a\", \"b\"]\nalways = [\"AL12\"]"),
        ("universes/less.toml", "any_of = [\"a\"]\nexcept = [\"b\"]"),
    ];
    let of = |name: &str| universe(name, &files, &Told::new());
    assert_eq!(stays(&of("any")), ["KBF from 2020-01-06 until 2023-01-02", "OXB always"]);
    assert_eq!(stays(&of("all")), ["AL12 always", "KBF from 2021-01-04 until 2022-01-03"]);
    assert_eq!(stays(&of("less")), ["KBF from 2020-01-06 until 2021-01-04", "OXB always"]);
    let unresolved = of("any").unresolved;
    assert!(unresolved.len() == 1 && unresolved[0].said == "NOPE", "{unresolved:?}");
    assert_eq!(of("a").members["KBF"][0].joined.as_deref(), Some("picked"));
    let changes = of("any").changes();
    assert_eq!((changes[0].date, changes[0].members, changes[1].members), (date("2020-01-06"), 2, 1));
}

#[test]
fn what_is_wrong_with_a_universe_is_told_by_file() {
    let wrong = |text: &str| config(&[("universes/u.toml", text)]).unwrap_err();
    for (text, told) in [
        ("title = \"U\"", "say who belongs in one way: lists, [[member]], any_of, all_of, or [rule]"),
        ("any_of = [\"u\"]", "it is made of itself"),
        ("any_of = [\"nope\"]", "there is no universe nope"),
        ("lists = [\"almanack/splits\"]", "almanack/splits is a list of splits, and one of members or member-changes is wanted"),
        ("lists = [\"almanack\"]", "there is no list almanack; write SOURCE/LIST"),
        ("[[member]]\nsymbol = \"KBF\"\nfrom = \"2020-01-06\"\nto = \"2020-01-06\"", "2020-01-06 does not come after 2020-01-06"),
        ("[rule]\nvenue = \"NOPE\"\nsince = \"2020-01-06\"\nreview = \"monthly\"", "there is no venue NOPE"),
        ("[rule]\nvenue = \"ALDX\"\nsince = \"2020-01-06\"\nreview = \"yearly\"", "`yearly` is no review; it is daily, weekly or monthly"),
        ("[[member]]\nsymbol = \"KBF\"\n[spelling]\nA = \"KBF\"", "spelling: only lists spell names"),
    ] {
        let said = wrong(text);
        assert!(said.contains("universes/u.toml") && said.contains(told), "{text}: {said}");
    }
}

#[test]
fn a_collector_takes_whoever_belongs_or_ever_belonged() {
    let collector = "name = \"c\"\nsource = \"harbour\"\nvenue = \"ALDX\"\ninterval = \"1d\"\nsince = \"2016-01-04\"\nuniverse = \"u\"";
    let files = [("universes/u.toml", BY_DATES), ("collectors/c.toml", collector)];
    let takes = |told: &Told| {
        let setup = setup(&files, told);
        setup.config.instruments_of(&setup.config.collectors["c"]).map(|i| i.symbol.clone()).collect::<Vec<_>>()
    };
    assert!(takes(&Told::new()).is_empty());
    let rows = vec![
        row(&[("name", "Redshank Bank"), ("from", "2016-01-04"), ("to", "2025-03-17")], "2025-04-10", None),
        row(&[("name", "Gull Air"), ("from", "2018-06-18")], "2025-04-10", None),
    ];
    assert_eq!(takes(&told(rows, &["2025-04-10"])), ["TRN", "RSB"]);
}

proptest! {
    /// Whatever a list of the day shows day by day: on each day the members are those it showed, and what it says later of later days
    /// changes nothing of the days before.
    #[test]
    fn members_of_each_day_are_those_the_list_showed(shown in prop::collection::vec(prop::collection::btree_set(0usize..6, 0..6), 2..12)) {
        const SYMBOLS: [&str; 6] = ["KBF", "OXB", "QHC", "SME", "PLV", "GRB"];
        // Sessions of March 2025 at Aldermere.
        let days: Vec<String> = (3..32).filter(|d| !matches!(date(&format!("2025-03-{d:02}")).to_civil().weekday().to_monday_one_offset(), 6 | 7)).map(|d| format!("2025-03-{d:02}")).collect();
        // What lists say changes nothing of the setup, as no collector follows the universe.
        static SETUP: LazyLock<Setup> = LazyLock::new(|| {
            let files = [("universes/u.toml", "lists = [\"almanack/aldermere-12\"]"), ("sources/almanack.toml", &of_the_day())];
            setup(&files, &Told::new())
        });
        let known = |upto: usize| {
            let mut rows = vec![];
            for (at, symbol) in SYMBOLS.iter().enumerate() {
                let mut since = None;
                for day in 0..upto {
                    match (since, shown[day].contains(&at)) {
                        (None, true) => since = Some(day),
                        (Some(first), false) => {
                            rows.push(row(&[("symbol", symbol)], &days[first], Some(&days[day])));
                            since = None;
                        }
                        _ => {}
                    }
                }
                rows.extend(since.map(|first: usize| row(&[("symbol", symbol)], &days[first], None)));
            }
            let collections: Vec<&str> = days[..upto].iter().map(String::as_str).collect();
            SETUP.universe("u", &told(rows, &collections), &BTreeMap::new()).unwrap()
        };
        let whole = known(shown.len());
        for (day, members) in shown.iter().enumerate() {
            let mut wanted: Vec<&str> = members.iter().map(|at| SYMBOLS[*at]).collect();
            wanted.sort_unstable();
            prop_assert_eq!(whole.on(date(&days[day])), wanted.clone());
            let then = known(day + 1);
            prop_assert_eq!(then.on(date(&days[day])), wanted);
        }
    }
}

#[test]
fn whom_a_rule_has_found_is_followed_by_the_rule_that_found_it_and_as_of_when_it_did() {
    let rule =
        |price: &str| format!("[rule]\nvenue = \"ALDX\"\nsince = \"2025-01-02\"\nreview = \"monthly\"\nprice_at_least = \"{price}\"\n");
    let collector =
        "name = \"ours\"\nsource = \"harbour\"\nvenue = \"ALDX\"\ninterval = \"1m\"\nsince = \"2025-03-10\"\nuniverse = \"u\"\n";
    let files = |price: &str| [("universes/u.toml".to_owned(), rule(price)), ("collectors/ours.toml".to_owned(), collector.to_owned())];
    let with = |price: &str, told: &Told| {
        let files = files(price);
        let files: Vec<(&str, &str)> = files.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect();
        let setup = setup(&files, told);
        let taken = |symbol: &str| setup.config.takes(&setup.config.collectors["ours"], setup.instrument(symbol).unwrap());
        ["KBF", "OXB", "TRN"].into_iter().filter(|symbol| taken(symbol)).map(str::to_owned).collect::<Vec<_>>()
    };
    let kept = files("3.00");
    let kept: Vec<(&str, &str)> = kept.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect();
    let (source, list) = found_by_rule(&config(&kept).unwrap(), "u");
    let found = |symbols: &[&str]| -> Told {
        let row = |symbol: &&str| ListRow { key: (*symbol).to_owned(), ..row(&[], "2025-04-10", None) };
        [(format!("{source}/{list}"), History { rows: symbols.iter().map(row).collect(), collections: vec![] })].into()
    };
    assert_eq!(with("3.00", &found(&["KBF", "GUL"])), ["KBF", "TRN"], "by a symbol that was given up, too");
    assert_eq!(with("3.00", &Told::new()), Vec::<String>::new(), "before anybody was found");
    assert_eq!(with("4.00", &found(&["KBF"])), Vec::<String>::new(), "found by another rule");
    // A rule that needs daily bars needs somebody who keeps them.
    let days = "name = \"days\"\nsource = \"harbour\"\nvenue = \"ALDX\"\ninterval = \"1d\"\nsince = \"2025-03-10\"\nuniverse = \"u\"\n";
    let alone = ["aldx-daily", "lodestar-daily", "lodestar-adjusted-daily"]
        .map(|name| (format!("collectors/{name}.toml"), days.replace("days", name)));
    let all: Vec<(&str, &str)> = kept.iter().copied().chain(alone.iter().map(|(path, text)| (path.as_str(), text.as_str()))).collect();
    let told = config(&all).unwrap_err();
    assert!(told.contains("the universe u follows from a rule over daily bars of ALDX; let another collector keep"), "{told}");
    // By kind and listing alone it needs none.
    let by_kind = rule("3.00").replace("price_at_least = \"3.00\"", "kinds = [\"share\"]");
    let others = all.iter().map(|(path, text)| if path.starts_with("universes/u") { (*path, by_kind.as_str()) } else { (*path, *text) });
    assert!(config(&others.collect::<Vec<_>>()).is_ok());
}
