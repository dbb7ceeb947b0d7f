//! Corporate actions and adjusted prices, against a calculation of the test's own.

use crate::common::{Bench, Service};
use mizuno_sim::faults::Faults;
use num_bigint::BigInt;
use num_rational::BigRational;
use num_traits::{One, ToPrimitive};

const LISTS: [&str; 3] = ["almanack/splits", "almanack/dividends", "almanack/events"];
const SYMBOLS: [&str; 8] = ["KBF", "OXB", "ALP", "PLV", "GRB", "TEA", "LNT.B", "RSB"];

async fn collected() -> (Bench, Service) {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 1.0, Faults::default(), false);
    let service = bench.serve();
    for list in LISTS {
        assert_eq!(service.cli(&["lists", list]).code, 0, "{list}");
    }
    let said = service.cli(&[&["collect", "aldx-daily"][..], &SYMBOLS.map(|s| ["-i", s]).concat()].concat());
    assert_eq!(said.code, 0, "{said:?}");
    (bench, service)
}

fn exact(text: &str) -> BigRational {
    let (whole, part) = text.split_once('.').unwrap_or((text, ""));
    BigRational::new(format!("{whole}{part}").parse().unwrap(), BigInt::from(10).pow(part.len() as u32))
}

/// Half to even, with so many decimals.
fn rounded(value: &BigRational, decimals: u32) -> String {
    let units = value * BigInt::from(10).pow(decimals);
    let floor = units.floor();
    let rest = &units - &floor;
    let half = BigRational::new(1.into(), 2.into());
    let up = rest > half || (rest == half && floor.to_integer() % BigInt::from(2) == BigInt::one());
    let units = (floor.to_integer() + i64::from(up)).to_i64().unwrap();
    match decimals {
        0 => units.to_string(),
        n => format!("{}.{:0width$}", units / 10i64.pow(n), units % 10i64.pow(n), width = n as usize),
    }
}

/// The rows of a daily CSV file: date, the four prices and the volume.
fn bars(csv: &str) -> Vec<(String, Vec<String>)> {
    let fields = |line: &str| line.split(',').map(str::to_owned).collect::<Vec<_>>();
    csv.lines().skip(1).map(fields).map(|f| (f[0].clone(), f[1..6].to_vec())).collect()
}

/// The formulas, written out once more.
fn factor(kind: &str, terms: &[&str], close: &BigRational) -> (BigRational, BigRational) {
    let n = |at: usize| exact(terms[at]);
    let one = BigRational::one();
    match kind {
        "split" => (n(1) / n(0), n(0) / n(1)),
        "dividend" => ((close - n(0)) / close, one),
        "rights" => {
            let k = n(0) / n(1);
            let ex_rights = (close + &k * n(2)) / (&one + &k);
            (if n(2) >= *close { one.clone() } else { ex_rights / close }, one)
        }
        "spin-off" => ((close - n(0) / n(1) * n(2)) / close, one),
        other => panic!("{other}"),
    }
}

/// The actions that count, as the demo's answer key has them.
fn actions(symbol: &str) -> Vec<(&'static str, &'static str, Vec<&'static str>)> {
    let dividend = |date, amount| (date, "dividend", vec![amount]);
    match symbol {
        "ALP" => vec![("2021-08-02", "split", vec!["1", "10"])],
        "PLV" => vec![dividend("2024-04-15", "0.05"), ("2024-12-02", "spin-off", vec!["1", "5", "3.40"])],
        "GRB" => vec![("2025-02-12", "rights", vec!["1", "4", "1.50"])],
        "OXB" => vec![dividend("2024-05-20", "1.20"), dividend("2025-02-10", "0.31")],
        // On a Saturday: it counts on the Monday.
        "TEA" => vec![dividend("2023-10-13", "0.14"), dividend("2024-10-14", "0.15")],
        // The rate of the later one is not told.
        "LNT.B" => vec![dividend("2024-06-03", "0.0815")],
        "RSB" => vec![dividend("2023-11-13", "0.20"), dividend("2024-05-13", "0.08")],
        _ => vec![],
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn adjusted_prices_equal_a_calculation_of_ones_own() {
    let (_bench, service) = collected().await;
    for symbol in &SYMBOLS[1..] {
        let raw = bars(&service.text(&format!("/bars?instrument={symbol}")).await);
        let adjusted = bars(&service.text(&format!("/bars?instrument={symbol}&adjust=all")).await);
        assert_eq!(raw.len(), adjusted.len());
        let (mut prices, mut volumes) = (BigRational::one(), BigRational::one());
        let mut to_come = actions(symbol);
        for at in (0..raw.len()).rev() {
            let (date, told) = &raw[at];
            while let Some((ex_date, kind, terms)) = to_come.pop_if(|a| date.as_str() < a.0) {
                let (price, volume) = factor(kind, &terms, &exact(&told[3]));
                (prices, volumes) = (prices * price, volumes * volume);
                assert!(ex_date > date.as_str());
            }
            let wanted: Vec<String> = told[..4].iter().map(|p| rounded(&(exact(p) * &prices), 6)).collect();
            assert_eq!((&adjusted[at].0, &adjusted[at].1[..4]), (date, &wanted[..]), "{symbol}");
            assert_eq!(adjusted[at].1[4], rounded(&(exact(&told[4]) * &volumes), 0), "{symbol} {date}");
        }
        assert!(to_come.is_empty(), "{symbol}: {to_come:?}");
    }

    // Wide, long and as floats they say the same; and splits alone leave dividends where they are.
    let wide = service.text("/bars?instruments=OXB,ALP&adjust=all&layout=wide&from=2024-05-16&to=2024-05-21").await;
    let long = service.text("/bars?instruments=OXB,ALP&adjust=all&from=2024-05-16&to=2024-05-21&columns=date,instrument,close").await;
    for line in wide.lines().skip(1) {
        let cells: Vec<&str> = line.split(',').collect();
        for (symbol, cell) in [("OXB", cells[1]), ("ALP", cells[2])] {
            assert!(long.contains(&format!("{},{symbol},{cell}\r\n", cells[0])), "{line}\n{long}");
        }
    }
    let splits = service.text("/bars?instrument=OXB&adjust=splits&columns=date,close,raw_close,price_factor").await;
    let same = |line: &str| line.split(',').nth(1).unwrap().trim_end_matches('0') == line.split(',').nth(2).unwrap().trim_end_matches('0');
    assert!(splits.lines().skip(1).all(|line| same(line) && line.ends_with(",1.000000000000")), "no split, no factor");

    // At the oldest session prices are as traded; an anchor of a date lets nothing later count.
    let oldest = service.text("/bars?instrument=OXB&adjust=all&anchor=oldest&columns=date,close,raw_close,price_factor").await;
    assert!(oldest.lines().nth(1).unwrap().ends_with(",1.000000000000") && !oldest.lines().last().unwrap().ends_with(",1.000000000000"));
    let dated = service.text("/bars?instrument=OXB&adjust=all&anchor=2024-12-31&columns=date,price_factor,action&from=2024-05-17").await;
    let rows: Vec<&str> = dated.lines().skip(1).collect();
    assert!(!rows[0].ends_with(",1.000000000000,") && rows[1].ends_with("1.000000000000,special 1.20"), "{rows:?}");
    assert!(rows[2..].iter().all(|r| r.contains(",1.000000000000,")), "the later dividend does not count");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_not_applied_is_told_everywhere() {
    let (_bench, service) = collected().await;
    let told = service.cli(&["actions", "LNT.B"]);
    assert!(told.code == 0 && told.out.contains("dividend 0.05 USD on 2024-12-02 is not applied: it is paid in USD"), "{told:?}");
    let answer = service.ask("/bars?instruments=LNT.B,OXB&adjust=all&last=2").await;
    assert_eq!(answer.headers()["mizuno-actions"], "applied=3, not-applied=1, not-counted=0");
    let column = service.text("/bars?instrument=LNT.B&adjust=all&columns=date,action&from=2024-12-02&to=2024-12-02").await;
    assert!(column.ends_with("2024-12-02,dividend 0.05 USD (not applied)\r\n"), "{column}");
    let explained = service.cli(&["bars", "LNT.B", "--adjust", "all", "--explain"]);
    assert!(explained.out.contains("no rate to NZD is known") && explained.out.contains("prices before it ×"), "{}", explained.out);
    assert!(explained.out.contains("prices adjusted for splits, bonus issues, dividends, rights and spin-offs"), "{}", explained.out);
    // A dividend still to come, and one whose ex-date has no session.
    let (coming, saturday) = (service.cli(&["actions", "PLV"]), service.cli(&["actions", "TEA"]));
    assert!(coming.out.contains("dividend 0.05 NZD on 2025-04-14 is still to come"), "{}", coming.out);
    assert!(saturday.out.contains("on 2024-10-12 counts on 2024-10-14"), "{}", saturday.out);
    for (wrong, told) in [
        ("anchor=oldest", "add adjust=splits or adjust=all"),
        ("adjust=dividends", "it is none, splits or all"),
        ("adjust=all&anchor=yesterday", "it is newest, oldest, or a trade date"),
        ("adjust=all&round=tick", "give a number of decimals"),
        ("columns=date,raw_close", "raw_close is there beside adjusted prices"),
    ] {
        let refused = service.ask(&format!("/bars?instrument=OXB&{wrong}")).await;
        assert_eq!(refused.status(), 400, "{wrong}");
        let text = refused.text().await.unwrap();
        assert!(text.contains(told), "{wrong}: {text}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn people_enter_and_withdraw_actions_and_the_past_stays_as_it_was() {
    let (bench, service) = collected().await;
    let question = "/bars?instruments=KBF,OXB&adjust=all&columns=instrument,date,close&from=2025-01-06";
    let as_of = |answer: &reqwest::Response| answer.headers()["mizuno-as-of"].to_str().unwrap().to_owned();
    let before = service.ask(question).await;
    let (first, tag) = (as_of(&before), before.headers()["etag"].clone());
    let before = before.text().await.unwrap();
    let by = ["--by", "mere", "--reason", "the annual report"];
    let enter = |text: &str| service.cli(&[&["actions", "KBF", "--enter", text], &by[..]].concat());
    for (text, told) in [
        ("dividend ex_date=2025-02-17", "amount: it is missing"),
        ("dividend ex_date=17.2.2025 amount=0.1", "ex_date"),
        ("dividend ex_date=2025-02-17 amount=-1", "amount: -1 is not above nought"),
        ("gift ex_date=2025-02-17", "`gift` is no kind of action; it is split, bonus"),
        ("dividend 2025-02-17", "`2025-02-17` is no term"),
    ] {
        let refused = enter(text);
        assert!(refused.code != 0 && refused.err.contains(told), "{text}: {refused:?}");
    }
    let entered = enter("dividend ex_date=2025-02-17 amount=0.10");
    assert!(entered.code == 0 && entered.err.contains("entered as action 1"), "{entered:?}");

    // The prices before it are others, the validator too, and the cause of each change is the action.
    let after = service.ask(question).await;
    assert_ne!(after.headers()["etag"], tag);
    let second = as_of(&after);
    assert_ne!(after.text().await.unwrap(), before);
    let changes = service.text(&format!("{question}&since={first}")).await;
    let rows: Vec<&str> = changes.lines().skip(1).collect();
    assert_eq!(rows.len(), before.lines().filter(|l| l.starts_with("KBF,") && l.split(',').nth(1) < Some("2025-02-17")).count());
    assert!(rows.iter().all(|r| r.starts_with("changed,action,KBF,")), "{changes}");
    assert_eq!(service.text(&format!("{question}&as_of={first}")).await, before, "nobody knew of it then");
    let weeks = service.text(&format!("{question}&interval=1w&since={first}")).await;
    assert!(weeks.lines().count() > 5 && weeks.lines().skip(1).all(|r| r.starts_with("changed,action,KBF,")), "{weeks}");

    // A file of several, all or none; what a person says goes before a list, and what the list says is told.
    let file = bench.dir.path().join("actions.csv");
    std::fs::write(&file, "instrument,kind,ex_date,amount\nKBF,dividend,2025-03-24,0.13\nNOBODY,dividend,2025-03-24,0.13\n").unwrap();
    let import = || service.cli(&[&["actions", "--import", file.to_str().unwrap()], &by[..]].concat());
    let refused = import();
    assert!(refused.code != 0 && refused.err.contains("action 2 (NOBODY)"), "{refused:?}");
    std::fs::write(&file, "instrument,kind,ex_date,amount\nKBF,dividend,2025-03-24,0.13\nOXB,special,2025-03-03,0.50\n").unwrap();
    assert_eq!(import().code, 0);
    let told = service.cli(&["actions", "KBF"]);
    assert!(
        told.out.contains("dividend 0.13 on 2025-03-24 by mere, and dividend 0.12 NZD on 2025-03-24 by almanack/dividends"),
        "{}",
        told.out
    );
    assert!(told.out.contains("entered by mere: the annual report"), "{}", told.out);

    // Withdrawn, everything is as before; as of the instant between, as it was between.
    for id in ["1", "2", "3"] {
        assert_eq!(service.cli(&[&["actions", "--withdraw", id], &by[..]].concat()).code, 0);
    }
    assert_eq!(service.text(question).await, before);
    assert_ne!(service.text(&format!("{question}&as_of={second}")).await, before);
    let again = service.cli(&[&["actions", "--withdraw", "1"], &by[..]].concat());
    assert!(again.code != 0 && again.err.contains("there is no action 1"), "{again:?}");
    let then = service.cli(&["actions", "KBF", "--as-of", &second]);
    assert!(then.out.contains("2025-02-17") && !service.cli(&["actions", "KBF"]).out.contains("2025-02-17"), "{}", then.out);
}

#[tokio::test(flavor = "multi_thread")]
async fn without_daily_bars_the_close_of_the_last_minute_counts() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 1.0, Faults::default(), false);
    let service = bench.serve();
    assert_eq!(service.cli(&["lists", "almanack/dividends"]).code, 0);
    assert_eq!(service.cli(&["collect", "aldx-minutes", "--from", "2025-03-20", "-i", "KBF"]).code, 0);
    let question = "instrument=KBF&interval=1m&adjust=all&from=2025-03-21&to=2025-03-24&columns=time,close,raw_close";
    let csv = service.text(&format!("/bars?{question}")).await;
    let rows: Vec<Vec<&str>> = csv.lines().skip(1).map(|l| l.split(',').collect()).collect();
    let (before, after) = rows.split_at(rows.iter().position(|r| r[0] >= "2025-03-23").unwrap());
    let close = exact(before.last().unwrap()[2]);
    let factor = (&close - exact("0.12")) / &close;
    assert!(before.len() > 300 && before.iter().all(|r| r[1] == rounded(&(exact(r[2]) * &factor), 6)), "{csv}");
    assert!(after.iter().all(|r| exact(r[1]) == exact(r[2])));
    let told = service.get(&format!("/explanation?{question}")).await;
    assert!(told["adjustment"].as_str().unwrap().contains("closes of minutes"), "{told}");
}

/// The example of docs/adjustment.md, as the demo answers it.
#[tokio::test(flavor = "multi_thread")]
async fn the_example_of_the_docs_is_what_the_demo_says() {
    let (_bench, service) = collected().await;
    let range = ["--from", "2025-03-20", "--to", "2025-03-25"];
    let command = ["bars", "KBF", "--adjust", "all", "--columns", "date,close,raw_close,price_factor,action"];
    let said = service.cli(&[&command[..], &range[..]].concat());
    let docs = include_str!("../../../../docs/adjustment.md");
    assert!(docs.contains(&said.out.replace("\r\n", "\n")), "the docs do not have\n{}", said.out);
}

#[tokio::test(flavor = "multi_thread")]
async fn two_like_splits_that_people_enter_are_two() {
    let (_bench, service) = collected().await;
    for date in ["2024-07-10", "2024-07-12"] {
        let said =
            service.cli(&["actions", "OXB", "--enter", &format!("split new=1 old=2 ex_date={date}"), "--by", "mere", "--reason", "letter"]);
        assert_eq!(said.code, 0, "{said:?}");
    }
    let told = service.get("/actions?instrument=OXB").await;
    let dates: Vec<&str> =
        told["actions"].as_array().unwrap().iter().filter(|a| a["id"].is_i64()).map(|a| a["ex_date"].as_str().unwrap()).collect();
    assert_eq!((dates, told["conflicts"].as_array().unwrap().len()), (vec!["2024-07-10", "2024-07-12"], 0), "{told}");
}

/// A study of returns misses what holders of a failed share lost, unless it asks for the price of the delisting.
#[tokio::test(flavor = "multi_thread")]
async fn a_delisted_share_ends_with_its_last_price_where_that_is_asked_for() {
    let (bench, service) = collected().await;
    let usual = "/bars?instruments=RSB&from=2025-03-12&columns=date,close,volume,return,source,action";
    let question = format!("{usual}&delisting=last-price");
    let (without, with) = (service.text(usual).await, service.text(&question).await);
    let rows = |csv: &str| csv.lines().skip(1).map(|l| l.split(',').map(str::to_owned).collect()).collect::<Vec<Vec<String>>>();
    let (last, ended) = (rows(&without).pop().unwrap(), rows(&with).pop().unwrap());
    assert_eq!(last[0], "2025-03-14", "{without}");
    assert_eq!(with.strip_prefix(&without).unwrap().lines().count(), 1, "one row more:\n{with}");
    let lost = exact("0.04") / exact(&last[1]) - BigRational::one();
    assert_eq!([&ended[0], &ended[1], &ended[2], &ended[4], &ended[5]], ["2025-03-17", "0.04", "", "delisting", "delisting at 0.04"]);
    assert!((ended[3].parse::<f64>().unwrap() - lost.to_f64().unwrap()).abs() < 1e-12, "{with}");

    // In every layout, adjusted, in longer bars, as the newest one, in a typed file, with a row for every session; only where it is asked.
    let asked = async |rest: &str| service.text(&format!("/bars?delisting=last-price&{rest}")).await;
    let wide = asked("instruments=RSB,KBF&layout=wide&columns=date,close&from=2025-03-14&to=2025-03-18&adjust=all&round=2").await;
    let cells: Vec<String> = rows(&wide).into_iter().map(|r| r[1].clone()).collect();
    assert_eq!(cells, [format!("{:.2}", last[1].parse::<f64>().unwrap()), "0.04".to_owned(), String::new()], "{wide}");
    let weeks = asked("instruments=RSB&interval=1w&from=2025-03-10&columns=date,open,close,held").await;
    assert_eq!(rows(&weeks)[1], ["2025-03-17", "0.04", "0.04", "1"], "{weeks}");
    assert_eq!(rows(&asked("instruments=RSB&layout=latest&columns=date,close").await), [["2025-03-17", "0.04"]]);
    assert_eq!(rows(&asked("instruments=RSB&from=2025-03-17&columns=date,close&missing=rows").await), [["2025-03-17", "0.04"]]);
    assert_eq!(rows(&asked("instruments=RSB&source=harbour&keep_last=1&columns=date,close").await), [["2025-03-17", "0.04"]]);
    let parquet = service.ask("/bars?instruments=RSB&delisting=last-price&format=parquet").await.bytes().await.unwrap();
    let parquet = parquet::file::reader::SerializedFileReader::new(parquet).unwrap();
    let rows_in_it = parquet::file::reader::FileReader::metadata(&parquet).file_metadata().num_rows();
    assert_eq!(rows_in_it as usize, rows(&asked("instruments=RSB").await).len());
    let told = service.get("/explanation?instruments=RSB&delisting=last-price").await;
    assert!(told["adjustment"].as_str().unwrap().ends_with("RSB with the price of the delisting as the last bar"), "{told}");
    assert_eq!(service.cli(&["collect", "aldx-minutes", "--from", "2025-03-13", "--to", "2025-03-14", "-i", "RSB"]).code, 0);
    for (rest, why) in [
        ("interval=1m&delisting=last-price", "a last price stands behind daily bars"),
        ("delisting=maybe", "`maybe` is not a way to end; it is left-out or last-price"),
    ] {
        let refused = service.ask(&format!("/bars?instruments=RSB&{rest}")).await;
        assert_eq!(refused.status(), 400);
        assert!(refused.text().await.unwrap().contains(why), "{rest}");
    }

    // In a universe, whoever stayed until its last day has it, and whoever left before has not.
    bench.write("universes/kept.toml", "[[member]]\nsymbol = \"RSB\"\nto = \"2025-03-15\"\n[[member]]\nsymbol = \"KBF\"\n");
    bench.write("universes/sold.toml", "[[member]]\nsymbol = \"RSB\"\nto = \"2025-03-14\"\n[[member]]\nsymbol = \"KBF\"\n");
    assert_eq!(service.cli(&["reload"]).code, 0);
    for (universe, ends) in [("kept", "2025-03-17"), ("sold", "2025-03-13")] {
        let csv = asked(&format!("universe={universe}&columns=instrument,date,close&from=2025-03-10")).await;
        let mine = rows(&csv).into_iter().rfind(|r| r[0] == "RSB").unwrap();
        assert_eq!(mine[1], ends, "{csv}");
    }

    // What a person says otherwise goes first, is told as a change by an action, and the past stays; where bars follow, trading went on.
    let as_of = service.ask(&question).await.headers()["mizuno-as-of"].to_str().unwrap().to_owned();
    let by = ["--by", "mere", "--reason", "the receiver's report"];
    assert_eq!(service.cli(&[&["actions", "RSB", "--enter", "delisting ex_date=2025-03-17 price=0"], &by[..]].concat()).code, 0);
    let after = service.text(&question).await;
    assert!(after.trim_end().ends_with("2025-03-17,0,,-1,delisting,delisting at 0"), "{after}");
    let changes = service.text(&format!("/bars?instruments=RSB&columns=date,close&delisting=last-price&since={as_of}")).await;
    assert!(changes.lines().nth(1).unwrap().starts_with("changed,action,RSB,2025-03-17,0,0.04"), "{changes}");
    assert_eq!(service.text(&format!("{question}&as_of={as_of}")).await, with);
    assert_eq!(service.cli(&[&["actions", "KBF", "--enter", "delisting ex_date=2025-03-17 price=1"], &by[..]].concat()).code, 0);
    let told = service.cli(&["actions", "KBF"]);
    assert!(told.out.contains("delisting at 1 on 2025-03-17 is not applied: bars are held of its day or later"), "{told:?}");
    let kbf = "/bars?instruments=KBF&from=2025-03-12&columns=date,close";
    assert_eq!(service.text(&format!("{kbf}&delisting=last-price")).await, service.text(kbf).await);
}

/// Money of another currency is worth what the desk's own pairs say, where nobody who tells of the dividend says it.
#[tokio::test(flavor = "multi_thread")]
async fn a_dividend_without_a_rate_has_that_of_a_pair() {
    let (bench, service) = collected().await;
    let told = service.cli(&["actions", "LNT.B"]);
    assert!(
        told.out.contains("dividend 0.05 USD on 2024-12-02 is not applied: it is paid in USD, and no rate to NZD is known"),
        "{told:?}"
    );
    let question = "/bars?instruments=LNT.B&adjust=all&round=9&columns=date,close,raw_close,total_return&from=2024-11-20&to=2024-12-06";
    let before = service.ask(question).await;
    let tag = before.headers()["etag"].clone();
    let before = before.text().await.unwrap();
    assert_eq!(service.cli(&["collect", "mfx-mid", "--from", "2024-11-18", "--to", "2025-03-28"]).code, 0);
    bench.write("rates.toml", "[[rate]]\nof = \"USD\"\ninto = \"NZD\"\npair = \"TRC-NZD\"\nover = \"TRC-XXX\"\n");
    let refused = service.cli(&["reload"]);
    assert!(refused.code != 0 && refused.err.contains("rates.toml: there is no instrument TRC-XXX"), "{refused:?}");
    bench.write("rates.toml", "[[rate]]\nof = \"USD\"\ninto = \"NZD\"\npair = \"TRC-NZD\"\nover = \"TRC-USD\"\n");
    let said = service.cli(&["reload"]);
    assert!(said.code == 0 && said.err.contains("rates.toml: changed") || said.out.contains("rates.toml: changed"), "{said:?}");

    // By the closes of Friday 29 November, over one another.
    let closes =
        service.text("/bars?instruments=TRC-NZD,TRC-USD&side=mid&layout=wide&columns=date,close&from=2024-11-29&to=2024-11-29").await;
    let cells: Vec<&str> = closes.lines().nth(1).unwrap().split(',').collect();
    let paid = exact("0.05") * exact(cells[1]) / exact(cells[2]);
    let answer = service.ask(question).await;
    assert_ne!(answer.headers()["etag"], tag, "another answer has another validator");
    let csv = answer.text().await.unwrap();
    let rows: Vec<Vec<&str>> = csv.lines().skip(1).map(|l| l.split(',').collect()).collect();
    let at = rows.iter().position(|r| r[0] >= "2024-12-02").unwrap();
    let close = exact(rows[at - 1][2]);
    assert_eq!(rows[at - 1][1], rounded(&((&close - &paid) / &close * exact(rows[at - 1][2])), 9), "{csv}");
    assert_ne!(before, csv);
    let total = ((exact(rows[at][2]) + &paid) / &close - BigRational::one()).to_f64().unwrap();
    assert!((rows[at][3].parse::<f64>().unwrap() - total).abs() < 1e-12, "{csv}");
    let told = service.cli(&["actions", "LNT.B"]);
    assert!(told.out.contains("dividend 0.05 USD on 2024-12-02 counts at the rate of 1."), "{told:?}");

    // The close of a pair is no older than a week: the rate of a holiday fortnight is not guessed.
    let by = ["--by", "mere", "--reason", "the letter"];
    assert_eq!(
        service.cli(&[&["actions", "LNT.B", "--enter", "dividend ex_date=2025-04-07 amount=0.01 currency=USD"], &by[..]].concat()).code,
        0
    );
    let told = service.cli(&["actions", "LNT.B"]);
    assert!(
        told.out.contains(
            "dividend 0.01 USD on 2025-04-07 is not applied: it is paid in USD, and no rate to NZD is known; rates.toml takes it from"
        ) && told.out.contains(", of which no close is held of the 7 days before 2025-04-07"),
        "{told:?}"
    );
}

/// A source of one's own that lists these dividends.
fn lists_as_paid(bench: &Bench, rows: &'static str) {
    let base = bench.talking(move |_, _, _| (200, format!("symbol,ex_date,amount\n{rows}")));
    let list = "[[list]]\nname = \"paid\"\nof = \"dividends\"\nvenue = \"ALDX\"\ndaily_at = \"07:00\"\nrequest = { get = \"/paid\" }\n\
                columns = { symbol = \"symbol\", ex_date = \"ex_date\", amount = \"amount\" }\nanswer = { form = \"delimited\" }\n";
    bench.write(
        "sources/own.toml",
        &format!("name = \"own\"\ntitle = \"Own\"\nbase = \"{base}\"\n\n[limits]\ncalls_per_minute = 60\n\n{list}"),
    );
}

/// Of two lists that say otherwise, that of the source counts whose daily bars rank better.
#[tokio::test(flavor = "multi_thread")]
async fn lists_of_actions_rank_as_their_sources_do() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 1.0, Faults::default(), false);
    lists_as_paid(&bench, "KBF,2025-03-24,0.11\n");
    let service = bench.serve();
    for list in ["almanack/dividends", "own/paid"] {
        assert_eq!(service.cli(&["lists", list]).code, 0, "{list}");
    }
    let counts = async |what: &str, who: &str| {
        let told = service.get("/actions?instrument=KBF").await;
        let action = told["actions"].as_array().unwrap().iter().find(|a| a["ex_date"] == "2025-03-24").unwrap().clone();
        assert_eq!((&action["terms"], &action["from"]), (&what.into(), &who.into()), "{told}");
        assert!(told["conflicts"][0].as_str().unwrap().ends_with(&format!("what {who} says counts")), "{told}");
    };
    counts("dividend 0.12 NZD", "almanack/dividends").await;
    bench.change("ranking.toml", "interval = \"1d\"\nsources = [\"harbour\"", "interval = \"1d\"\nsources = [\"own\", \"harbour\"");
    assert_eq!(service.cli(&["reload"]).code, 0);
    counts("dividend 0.11", "own/paid").await;
}

/// A symbol that another company has taken means, in what is said of a date, the company that carried it then.
#[tokio::test(flavor = "multi_thread")]
async fn actions_belong_to_whoever_carried_the_symbol_on_their_date() {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 1.0, Faults::default(), false);
    lists_as_paid(&bench, "GUL,2024-06-03,0.07\nGUL,2025-02-10,0.02\n");
    let instruments = std::fs::read_to_string(bench.config().join("instruments/aldx.csv")).unwrap();
    bench.write("instruments/aldx.csv", &format!("{instruments}GUL,Gullwing Freight,share,ALDX,NZD,0.01,,2025-02-03,,,\n"));
    let service = bench.serve();
    assert_eq!(service.cli(&["lists", "own/paid"]).code, 0);
    for terms in ["split ex_date=2023-05-01 new=2 old=1", "split ex_date=2025-03-03 new=3 old=1"] {
        let said = service.cli(&["actions", "GUL", "--enter", terms, "--by", "mere", "--reason", "letter"]);
        assert_eq!(said.code, 0, "{said:?}");
    }
    let dates = async |symbol: &str| {
        let told = service.get(&format!("/actions?instrument={symbol}")).await;
        let dates: Vec<String> = told["actions"].as_array().unwrap().iter().map(|a| a["ex_date"].as_str().unwrap().to_owned()).collect();
        dates
    };
    assert_eq!((dates("TRN").await, dates("GUL").await), (strings(&["2023-05-01", "2024-06-03"]), strings(&["2025-02-10", "2025-03-03"])));
}

fn strings(all: &[&str]) -> Vec<String> {
    all.iter().map(|text| (*text).to_owned()).collect()
}
