//! Nothing learned later leaks into an answer as of an instant: random sequences of corrections, removals, renames, actions, last days, excuses
//! and settings, each followed by the same questions; every answer is given again, to the byte, as of the instant that it stood for.

use crate::common::{Bench, Service};
use mizuno_core::TradeDate;
use mizuno_sim::faults::Faults;
use rand::{Rng, SeedableRng, seq::IndexedRandom};
use rand_pcg::Pcg64Mcg;
use std::{
    collections::{BTreeMap, BTreeSet},
    fmt::Write,
    sync::{Arc, Mutex},
};

/// What the source says, of plants by their ids.
#[derive(Default)]
struct Town {
    symbols: BTreeMap<u32, String>,
    /// Every symbol that anybody ever had.
    ever: BTreeMap<String, u32>,
    last: BTreeMap<u32, String>,
    stays: BTreeMap<u32, (String, String)>,
    splits: BTreeMap<(u32, String), (u32, u32)>,
    bars: BTreeMap<(u32, String), (i64, u32)>,
}

impl Town {
    fn add(&mut self, id: u32, symbol: String) {
        self.ever.insert(symbol.clone(), id);
        self.symbols.insert(id, symbol);
    }

    /// The answer to a path.
    fn says(&self, path: &str) -> String {
        let mut out = String::new();
        match path.split('?').next().unwrap_or_default() {
            "/plants" => {
                out += "id,symbol,name,last\n";
                for (id, symbol) in &self.symbols {
                    let _ = writeln!(out, "{id},{symbol},Plant {id},{}", self.last.get(id).map_or("", String::as_str));
                }
            }
            "/club" => {
                out += "symbol,from,to\n";
                for (id, (from, to)) in &self.stays {
                    let _ = writeln!(out, "{},{from},{to}", self.symbols[id]);
                }
            }
            "/splits" => {
                out += "symbol,ex,new,old\n";
                for ((id, ex), (new, old)) in &self.splits {
                    let _ = writeln!(out, "{},{ex},{new},{old}", self.symbols[id]);
                }
            }
            symbol => {
                out += "date,o,h,l,c,v\n";
                let of = |name: &str| path.split(['?', '&']).find_map(|p| p.strip_prefix(name)).unwrap_or_default().to_owned();
                let Some(id) = self.ever.get(symbol.trim_start_matches('/')) else { return "no such plant".to_owned() };
                for ((_, date), (close, volume)) in self.bars.range((*id, of("from="))..=(*id, of("to="))) {
                    let price = |cents: i64| format!("{}.{:02}", cents / 100, cents % 100);
                    let [low, close, high] = [*close - 7, *close, *close + 9].map(price);
                    let _ = writeln!(out, "{date},{close},{high},{low},{close},{volume}");
                }
            }
        }
        out
    }
}

fn configured(bench: &Bench, base: &str) {
    let list = |name: &str, of: &str, columns: &str| {
        format!(
            "[[list]]\nname = \"{name}\"\nof = \"{of}\"\nvenue = \"ALDX\"\ndaily_at = \"07:00\"\nrequest = {{ get = \"/{name}\" }}\n{columns}\nanswer = {{ form = \"delimited\" }}\n"
        )
    };
    let lists = [
        list(
            "plants",
            "instruments",
            "adds = true\ncolumns = { id = \"id\", symbol = \"symbol\", name = \"name\", last_traded = \"last\" }\nconstants = { kind = \"plant\", currency = \"NZD\" }",
        ),
        list("club", "members", "columns = { symbol = \"symbol\", from = \"from\", to = \"to\" }"),
        list("splits", "splits", "columns = { symbol = \"symbol\", ex_date = \"ex\", new = \"new\", old = \"old\" }"),
    ];
    let series = "[[series]]\ninterval = \"1d\"\nvenues = [\"ALDX\"]\nadjusted = \"no\"\ndelay = \"1m\"\nspan_days = 400\n[[series.request]]\nget = \"/{symbol}{?from,to}\"\nstamps = \"%Y-%m-%d\"\nto_included = true\n\
        [series.answer]\nform = \"delimited\"\ncolumns = { time = \"date\", open = \"o\", high = \"h\", low = \"l\", close = \"c\", volume = \"v\" }\nstamp = \"%Y-%m-%d\"\n";
    let limits = "[limits]\ncalls_per_minute = 60000\nburst = 1000\nattempts = 1\n";
    bench.write("sources/town.toml", &format!("name = \"town\"\ntitle = \"Town\"\nbase = \"{base}\"\n{limits}{}{series}", lists.concat()));
    bench.write(
        "collectors/town.toml",
        "name = \"town\"\nsource = \"town\"\nvenue = \"ALDX\"\ninterval = \"1d\"\nsince = \"2025-03-03\"\nkinds = [\"plant\"]\n",
    );
    bench.write("universes/club.toml", "lists = [\"town/club\"]\n");
    bench.write("universes/dear.toml", DEAR);
}

const DEAR: &str =
    "[rule]\nvenue = \"ALDX\"\nsince = \"2025-03-10\"\nreview = \"weekly\"\nkinds = [\"plant\"]\nprice_at_least = \"10.00\"\n";

const QUESTIONS: [&str; 7] = [
    "/bars?universe=club&columns=date,instrument,close,volume,source",
    "/bars?universe=club&layout=wide&columns=date,close&adjust=splits&anchor=oldest",
    "/bars?instruments=P*&columns=date,instrument,close,raw_close,price_factor,action,completeness,doubted&adjust=splits",
    "/bars?instruments=P*&layout=wide&columns=date,close&missing=rows",
    "/bars?instruments=P*&layout=latest&columns=instrument,date,close,mean_5,return&sort=-return",
    "/bars?universe=dear&columns=date,instrument,close",
    "/bars?universe=club&interval=1w&columns=date,instrument,open,high,low,close,volume,held,expected",
];

/// One thing that the source, or somebody, says otherwise from now on, and the commands that bring it to the service.
fn change(dice: &mut Pcg64Mcg, town: &mut Town, bench: &Bench, service: &Service, dates: &[String]) -> &'static [&'static str] {
    let ids: Vec<u32> = town.symbols.keys().copied().collect();
    let id = *ids.choose(dice).unwrap();
    let date = dates.choose(dice).unwrap().clone();
    match dice.random_range(0..10) {
        0 | 1 => {
            let cents = dice.random_range(600..1800);
            town.bars.insert((id, date), (cents, dice.random_range(1..900)));
            &["collect", "town", "--from", "2025-03-03"]
        }
        2 => {
            let symbol = format!("P{}R{}", id, dice.random_range(0..1000));
            town.add(id, symbol);
            &["lists", "town/plants"]
        }
        3 => {
            match town.last.remove(&id) {
                Some(_) => {}
                None => drop(town.last.insert(id, date)),
            }
            &["lists", "town/plants"]
        }
        4 => {
            match town.stays.len() > 3 && dice.random_bool(0.4) {
                true => drop(town.stays.remove(&id)),
                false => drop(town.stays.insert(id, (date, "2025-04-09".to_owned()))),
            }
            &["lists", "town/club"]
        }
        5 => {
            match town.splits.keys().next().cloned().filter(|_| dice.random_bool(0.4)) {
                Some(first) => drop(town.splits.remove(&first)),
                None => drop(town.splits.insert((id, date), (dice.random_range(2..5), 1))),
            }
            &["lists", "town/splits"]
        }
        6 => {
            let id = ids.len() as u32 + 1;
            town.add(id, format!("P{id}"));
            for date in dates {
                town.bars.insert((id, date.clone()), (dice.random_range(800..1300), 100));
            }
            &["lists", "town/plants"]
        }
        7 => {
            let price = dice.random_range(8..13);
            bench.write("universes/dear.toml", &DEAR.replace("10.00", &format!("{price}.00")));
            &["reload"]
        }
        8 => {
            let off = if dice.random_bool(0.5) { "[[check]]\nname = \"spike\"\noff = true\n" } else { "" };
            bench.write("checks.toml", off);
            &["reload"]
        }
        _ => {
            let found = service.cli(&["findings", "--source", "town", "--json"]).json();
            let gaps = service.cli(&["gaps", "--source", "town", "--json"]).json();
            let name = |all: &serde_json::Value, key: &str| all[0][key].as_str().map(str::to_owned);
            if let Some(what) = name(&found, "id").or_else(|| name(&gaps, "id")) {
                let said = service.cli(&["excuse", &what, "--by", "mere", "--note", "it is so"]);
                assert_eq!(said.code, 0, "{said:?}");
            }
            &["collect", "town"]
        }
    }
}

/// Each question's answer now, with the instant that it stands for.
async fn asked(service: &Service) -> Vec<(&'static str, String, String)> {
    let mut out = vec![];
    for question in QUESTIONS {
        let answer = service.ask(question).await;
        let (status, instant) = (answer.status(), answer.headers().get("mizuno-as-of").map(|v| v.to_str().unwrap().to_owned()));
        let text = answer.text().await.unwrap();
        // A universe may have no member with a bar.
        let Some(instant) = instant else {
            assert!(status.is_client_error(), "{question}: {status} {text}");
            continue;
        };
        out.push((question, instant, text));
    }
    out
}

async fn sequence(seed: u64, steps: usize) {
    let mut dice = Pcg64Mcg::seed_from_u64(seed);
    let bench = Bench::new(Faults::default());
    let sessions = bench.world.market.calendar().between("2025-03-03".parse().unwrap().."2025-04-10".parse::<TradeDate>().unwrap());
    let dates: Vec<String> = sessions.iter().map(|s| s.date.to_string()).collect();
    let town = Arc::new(Mutex::new(Town::default()));
    {
        let mut town = town.lock().unwrap();
        for id in 1..=8 {
            town.add(id, format!("P{id}"));
            let mut cents = dice.random_range(800..1400);
            for date in &dates {
                cents += dice.random_range(-40..=40);
                // Some bars are not there at first.
                if dice.random_bool(0.96) {
                    town.bars.insert((id, date.clone()), (cents, dice.random_range(1..900)));
                }
            }
            if id < 7 {
                town.stays.insert(id, (dates[0].clone(), String::new()));
            }
        }
    }
    let told = town.clone();
    let base = bench.talking(move |path, _, _| (200, told.lock().unwrap().says(path)));
    configured(&bench, &base);
    let service = bench.serve();
    for list in ["town/plants", "town/club", "town/splits"] {
        service.cli(&["lists", list]);
    }
    assert_eq!(service.cli(&["collect", "town"]).code, 0);
    let mut answers = asked(&service).await;
    let mut kinds = BTreeSet::new();
    for _ in 0..steps {
        let command = change(&mut dice, &mut town.lock().unwrap(), &bench, &service, &dates);
        kinds.insert(command[0]);
        service.cli(command);
        if command[0] == "lists" {
            service.cli(&["collect", "town"]);
        }
        answers.extend(asked(&service).await);
    }
    let mut differ = BTreeMap::new();
    for (question, instant, before) in &answers {
        let again = service.text(&format!("{question}&as_of={}", instant.replace(':', "%3A"))).await;
        assert_eq!(again, *before, "{question} as of {instant}, seed {seed}");
        differ.entry(question).or_insert_with(BTreeSet::new).insert(before.clone());
    }
    assert!(kinds.len() > 2, "many things changed: {kinds:?}");
    // Some sequences leave the week or the rule as it was.
    let changed = differ.values().filter(|answers| answers.len() > 2).count();
    assert!(changed >= 5, "what came later changed {changed} of {} answers, seed {seed}", differ.len());
}

#[tokio::test(flavor = "multi_thread")]
async fn an_answer_as_of_an_instant_is_the_one_that_was_given_then() {
    let (seeds, steps) = (std::env::var("MIZUNO_SEEDS").ok().and_then(|n| n.parse().ok()).unwrap_or(2), 24);
    for seed in 1..=seeds {
        sequence(seed, steps).await;
    }
}
