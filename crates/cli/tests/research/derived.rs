//! Numbers worked out of bars, conditions, newest bars and series side by side, against calculations of the test's own.

use crate::common::{Bench, Service};
use mizuno_core::derived::{FUNCTIONS, QUANTITIES};
use mizuno_sim::faults::Faults;
use serde_json::json;

fn collected() -> (Bench, Service) {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 1.0, Faults::default(), false);
    let service = bench.serve();
    for list in ["almanack/splits", "almanack/dividends", "almanack/events"] {
        assert_eq!(service.cli(&["lists", list]).code, 0);
    }
    for (collector, from) in [("aldx-daily", "2024-01-08"), ("lodestar-daily", "2024-01-08"), ("aldx-minutes", "2025-04-01")] {
        let said = service.cli(&["collect", collector, "--from", from, "-i", "KBF", "-i", "QHC", "-i", "SME", "-i", "OXB"]);
        assert!(said.code == 0 || said.code == 3, "{said:?}");
    }
    (bench, service)
}

fn table(csv: &str) -> Vec<Vec<String>> {
    csv.lines().skip(1).map(|line| line.split(',').map(str::to_owned).collect()).collect()
}

/// A cell as a float; `NAN` where it is empty.
fn real(cell: &str) -> f64 {
    if cell.is_empty() { f64::NAN } else { cell.parse().unwrap() }
}

fn near(a: f64, b: f64, scale: f64) -> bool {
    (a.is_nan() && b.is_nan()) || (a - b).abs() <= 1e-12 * scale
}

#[tokio::test(flavor = "multi_thread")]
async fn numbers_are_those_of_their_formulas_wherever_the_range_begins() {
    let (_bench, service) = collected();
    let columns = "columns=date,high,low,close,volume,change,return,mean_20,deviation_20_of_return,lowest_10_of_low,rises,sum_5_of_volume,drawdown_50";
    let all = table(&service.text(&format!("/bars?instrument=KBF&across_gaps=bridged&{columns}")).await);
    assert!(all.len() > 300);
    let number = |at: usize, column: usize| real(&all[at][column]);
    let mut run = 0;
    for at in 0..all.len() {
        let close = |at: usize| number(at, 3);
        let window = |n: usize| at + 1 - n..at + 1;
        if at == 0 {
            assert_eq!(all[0][5..7], ["", ""], "nothing comes before the first bar");
            continue;
        }
        let returns = |at: usize| (close(at) - close(at - 1)) / close(at - 1);
        run = if close(at) > close(at - 1) { run + 1 } else { 0 };
        assert!((number(at, 5) - (close(at) - close(at - 1))).abs() < 1e-9 && near(number(at, 6), returns(at), 1.0), "{:?}", all[at]);
        assert_eq!(all[at][10], run.to_string(), "{:?}", all[at]);
        if at >= 20 {
            let mean = window(20).map(close).sum::<f64>() / 20.0;
            let (r, n) = (window(20).map(returns).sum::<f64>() / 20.0, 19.0);
            let deviation = (window(20).map(|at| (returns(at) - r).powi(2)).sum::<f64>() / n).sqrt();
            assert!(near(number(at, 7), mean, close(at)) && near(number(at, 8), deviation, 1.0), "{:?}", all[at]);
            let lowest = window(10).map(|at| number(at, 2)).fold(f64::MAX, f64::min);
            assert!(near(number(at, 9), lowest, 1.0) && near(number(at, 11), window(5).map(|at| number(at, 4)).sum(), 1e12));
        }
        if at >= 50 {
            let highest = window(50).map(close).fold(f64::MIN, f64::max);
            assert!(near(number(at, 12), close(at) / highest - 1.0, 1.0));
        }
    }
    // A range that begins later reads what the first of its rows needs.
    for (from, missing) in [("2025-03-03", ""), ("2024-06-03", "&layout=wide")] {
        let part = table(&service.text(&format!("/bars?instrument=KBF&across_gaps=bridged&from={from}&{columns}{missing}")).await);
        assert_eq!(part, all[all.len() - part.len()..], "from {from}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn no_return_crosses_a_gap_unless_it_is_asked_to() {
    let bench = Bench::new(Faults::default());
    let rows = bench.own_source("");
    for (date, close) in [("2025-04-01", "7.50"), ("2025-04-02", "7.65"), ("2025-04-04", "7.70"), ("2025-04-07", "7.60")] {
        rows.lock().unwrap().insert(date.to_owned(), format!("{close},{close},{close},{close},100"));
    }
    let service = bench.serve();
    let said = service.cli(&["collect", "own", "--from", "2025-04-01", "--to", "2025-04-07"]);
    assert!(said.code == 0 || said.code == 3, "{said:?}");
    let ask = async |more: &str| {
        let csv = service.text(&format!("/bars?series=KBF/1d/own&to=2025-04-07&columns=date,change,rises{more}")).await;
        csv.lines().skip(1).collect::<Vec<_>>().join(" ")
    };
    assert_eq!(ask("").await, "2025-04-01,, 2025-04-02,0.15,1 2025-04-04,, 2025-04-07,-0.10,0");
    assert_eq!(ask("&across_gaps=bridged").await, "2025-04-01,, 2025-04-02,0.15,1 2025-04-04,0.05,2 2025-04-07,-0.10,0");
    // A person who accepts the absence lets the change cross it, and the answer is another one.
    let tag = |response: &reqwest::Response| response.headers()["etag"].to_str().unwrap().to_owned();
    let path = "/bars?series=KBF/1d/own&to=2025-04-07&columns=date,change";
    let before = tag(&service.ask(path).await);
    let said = service.cli(&["excuse", "KBF/1d/own@2025-04-03", "--by", "mere", "--note", "no auction"]);
    assert_eq!(said.code, 0, "{said:?}");
    assert_ne!(tag(&service.ask(path).await), before);
    assert_eq!(ask("").await, "2025-04-01,, 2025-04-02,0.15,1 2025-04-04,0.05,2 2025-04-07,-0.10,0");
}

#[tokio::test(flavor = "multi_thread")]
async fn rows_are_picked_by_conditions_and_newest_bars_are_sorted() {
    let (_bench, service) = collected();
    let all = table(&service.text("/bars?instrument=OXB&columns=date,close,mean_50").await);
    let above = |row: &Vec<String>| real(&row[1]) > real(&row[2]);
    let held: Vec<_> = all.iter().filter(|row| above(row)).cloned().collect();
    let ask = async |more: &str| {
        table(&service.text(&format!("/bars?instrument=OXB&columns=date,close,mean_50&where=close+%3E+mean_50{more}")).await)
    };
    assert!(held.len() > 20 && held.len() < all.len());
    assert_eq!(ask("").await, held);
    assert_eq!(ask("&keep_first=3").await, held[..3]);
    assert_eq!(ask("&keep_last=3").await, held[held.len() - 3..]);
    assert_eq!(ask("&from=2025-01-06").await, held.iter().filter(|row| *row[0] >= *"2025-01-06").cloned().collect::<Vec<_>>());
    // Without a condition, too.
    let plain = table(&service.text("/bars?instrument=OXB&columns=date,close").await);
    for (keep, wanted) in [("keep_first=3", &plain[..3]), ("keep_last=3", &plain[plain.len() - 3..]), ("keep_last=100000", &plain[..])] {
        assert_eq!(table(&service.text(&format!("/bars?instrument=OXB&columns=date,close&{keep}")).await), wanted, "{keep}");
    }
    let crossed: Vec<_> = all.windows(2).filter(|w| above(&w[1]) && real(&w[0][1]) <= real(&w[0][2])).map(|w| w[1].clone()).collect();
    let crosses = service.text("/bars?instrument=OXB&columns=date,close,mean_50&where=close+crosses+above+mean_50").await;
    assert!(crossed.len() > 2, "{crossed:?}");
    assert_eq!(table(&crosses), crossed);
    // In a wide file what does not hold is an empty cell.
    let wide =
        table(&service.text("/bars?instruments=OXB,KBF&layout=wide&columns=date,close&where=close+%3E+mean_50&from=2025-01-06").await);
    let cells: Vec<_> = wide.iter().filter(|row| !row[1].is_empty()).map(|row| (row[0].clone(), row[1].clone())).collect();
    assert_eq!(cells, ask("&from=2025-01-06").await.iter().map(|row| (row[0].clone(), row[1].clone())).collect::<Vec<_>>());

    // A window of one bar is one all the same: no block may be passed over for it.
    let closes = service.text("/bars?instrument=OXB&columns=date,close&where=drawdown_1+%3C+5").await;
    assert_eq!(table(&closes).len(), all.len());
    // A session is gone over from its first bar on, wherever the range begins.
    let session = async |more: &str| {
        let path = format!("/bars?instrument=QHC&interval=1m&columns=time,volume,sum_1_sessions_of_volume&to=2025-04-03{more}");
        table(&service.text(&path).await)
    };
    let whole = session("&from=2025-04-02").await;
    let (mut day, mut sum) = (String::new(), 0);
    for row in &whole {
        // The sessions of Aldermere begin at 21:00 or 22:00 in UTC: half a day on, they have one date.
        let own: jiff::Timestamp = row[0].parse().unwrap();
        let date = (own + jiff::SignedDuration::from_hours(12)).to_string()[..10].to_owned();
        sum = if date == day { sum } else { 0 } + row[1].parse::<i64>().unwrap();
        day = date;
        assert_eq!(row[2], sum.to_string(), "{row:?}");
    }
    let part = session("&from=2025-04-03T00:00:00Z").await;
    assert!(part.len() > 50 && part[..] == whole[whole.len() - part.len()..], "{:?} {:?}", part.first(), whole.last());
    let above = session("&from=2025-04-02&where=sum_1_sessions_of_volume+%3E+20000").await;
    let held: Vec<_> = whole.iter().filter(|row| row[2].parse::<i64>().unwrap() > 20_000).cloned().collect();
    assert!(!held.is_empty() && above == held);
    // What stands in blocks that are not opened would not have held.
    let minutes = table(&service.text("/bars?instrument=QHC&interval=1m&columns=time,close,volume").await);
    let mut volumes: Vec<i64> = minutes.iter().map(|row| row[2].parse().unwrap()).collect();
    volumes.sort_unstable();
    for rank in [0, volumes.len() / 2, volumes.len() - 3] {
        let most = volumes[rank];
        let held: Vec<_> = minutes.iter().filter(|row| row[2].parse::<i64>().unwrap() > most).cloned().collect();
        let asked = service.text(&format!("/bars?instrument=QHC&interval=1m&columns=time,close,volume&where=volume+%3E+{most}")).await;
        assert_eq!(table(&asked), held, "above {most}");
    }

    let latest = "/bars?instruments=KBF,QHC,SME,OXB&layout=latest&columns=instrument,date,close,mean_20,volume";
    let rows = table(&service.text(latest).await);
    assert_eq!(rows.iter().map(|r| r[0].as_str()).collect::<Vec<_>>(), ["KBF", "QHC", "SME", "OXB"]);
    for row in &rows {
        let last = table(&service.text(&format!("/bars?instrument={}&columns=instrument,date,close,mean_20,volume", row[0])).await);
        assert_eq!(Some(row), last.last());
    }
    let plain = table(&service.text("/bars?instruments=KBF,QHC,SME,OXB&layout=latest&columns=instrument,date,close").await);
    assert_eq!(plain, rows.iter().map(|row| row[..3].to_vec()).collect::<Vec<_>>());
    let mut by_volume = rows.clone();
    by_volume.sort_by_key(|row| std::cmp::Reverse(row[4].parse::<i64>().unwrap()));
    assert_eq!(table(&service.text(&format!("{latest}&sort=-volume&limit=2")).await), by_volume[..2]);
    let below: Vec<_> = rows.iter().filter(|row| real(&row[2]) < real(&row[3])).cloned().collect();
    assert_eq!(table(&service.text(&format!("{latest}&where=close+%3C+mean_20")).await), below);
    // Every door gives the same.
    let said = service.cli(&["bars", "KBF", "QHC", "SME", "OXB", "--layout", "latest", "--columns", "instrument,close", "--sort=-close"]);
    let (code, posted) = service.post("/bars", &json!({"instruments": ["KBF", "QHC", "SME", "OXB"], "layout": "latest", "columns": ["instrument", "close"], "sort": "-close", "format": "json"})).await;
    let names: Vec<&str> = posted.as_array().unwrap().iter().map(|row| row["instrument"].as_str().unwrap()).collect();
    assert_eq!(
        (code, table(&said.out).iter().map(|r| r[0].clone()).collect::<Vec<_>>()),
        (200, names.iter().map(|n| (*n).to_owned()).collect())
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn the_total_return_is_the_same_however_prices_are_adjusted() {
    let (_bench, service) = collected();
    let ask = async |adjust: &str| {
        table(
            &service
                .text(&format!("/bars?instrument=KBF&from=2025-03-20&to=2025-03-26&columns=date,close,return,total_return{adjust}"))
                .await,
        )
    };
    let (raw, all) = (ask("").await, ask("&adjust=all").await);
    let total = |rows: &[Vec<String>]| rows.iter().map(|row| row[3].clone()).collect::<Vec<_>>();
    assert_eq!(total(&raw), total(&all));
    assert_eq!(total(&raw), total(&ask("&adjust=splits&anchor=oldest").await));
    // The ex-date: 1.97 and 0.12 for 2.08 (docs/adjustment.md).
    let ex = raw.iter().position(|row| row[0] == "2025-03-24").unwrap();
    assert!(near(real(&raw[ex][3]), (1.97 + 0.12) / 2.08 - 1.0, 1.0), "{raw:?}");
    assert!(near(real(&raw[ex][2]), 1.97 / 2.08 - 1.0, 1.0) && near(real(&all[ex][2]), 1.97 / 1.96 - 1.0, 1.0), "{all:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn sources_stand_side_by_side_and_are_held_against_the_first() {
    let (_bench, service) = collected();
    let csv = service.text("/bars?instrument=KBF&source=harbour,lodestar,golden&layout=wide&against=difference&last=20").await;
    assert_eq!(csv.lines().next().unwrap(), "date,KBF harbour,KBF lodestar,KBF lodestar difference,KBF golden,KBF golden difference");
    let one = async |source: &str| table(&service.text(&format!("/bars?instrument=KBF&source={source}&last=20&columns=date,close")).await);
    let (harbour, lodestar) = (one("harbour").await, one("lodestar").await);
    assert!(harbour.len() == 20 && lodestar.len() > 10, "{csv}");
    let cents = |cell: &str| (real(cell) * 100.0).round();
    for row in table(&csv) {
        let of = |rows: &[Vec<String>]| rows.iter().find(|r| r[0] == row[0]).map_or(String::new(), |r| r[1].clone());
        assert_eq!((&row[1], &row[2]), (&of(&harbour), &of(&lodestar)));
        let both = !row[1].is_empty() && !row[2].is_empty();
        assert!(if both { cents(&row[3]) == cents(&row[2]) - cents(&row[1]) } else { row[3].is_empty() }, "{row:?}");
    }
    // Bars that one source has by the day and another only by the minute meet on the day.
    let mixed = service.text("/bars?instruments=KBF&source=lodestar,harbour&layout=long&columns=series,date,close&last=3").await;
    let series: Vec<_> = table(&mixed).iter().map(|r| r[0].clone()).collect();
    assert_eq!(series[..1], ["KBF/1d/lodestar"]);
    assert_eq!(series.last().unwrap(), "KBF/1d/harbour");
    let (_, refused) = service.post("/bars", &json!({"instruments": ["KBF"], "layout": "wide", "against": "ratio"})).await;
    assert!(refused["detail"].as_str().unwrap().contains("stands alone"), "{refused}");
}

/// docs/derived.md has every name with its formula and unit, and its example is what the demo answers.
#[tokio::test(flavor = "multi_thread")]
async fn the_docs_tell_every_number_and_their_example_is_answered_so() {
    let docs = include_str!("../../../../docs/derived.md");
    for (_, word, unit, formula) in QUANTITIES.into_iter().skip(5) {
        assert!(docs.contains(&format!("| `{word}` | {formula} | {unit} |")), "{word}: {formula}, {unit}");
    }
    for (_, word, formula) in FUNCTIONS {
        assert!(docs.contains(&format!("| `{word}_N` | {formula} |")), "{word}: {formula}");
    }
    let (_bench, service) = collected();
    let command = docs.lines().find(|line| line.ends_with("--columns date,close,change,return,total_return,mean_5")).unwrap();
    let said = service.cli(&command.split(' ').skip(1).collect::<Vec<_>>());
    assert!(docs.contains(&said.out.replace("\r\n", "\n")), "the docs do not have\n{}", said.out);
}
