//! Bars made of finer ones, against sums of the test's own over the finer files.

use crate::common::{Bench, Service};
use jiff::civil::{Date, DateTime};
use mizuno_sim::faults::Faults;
use std::collections::BTreeMap;

fn collected() -> (Bench, Service) {
    let bench = Bench::whole_demo(mizuno_sim::DEMO_START, 1.0, Faults::of_the_demo(), false);
    let service = bench.serve();
    for list in ["almanack/splits", "almanack/dividends"] {
        assert_eq!(service.cli(&["lists", list]).code, 0);
    }
    for (collector, from) in [("aldx-minutes", "2025-03-24"), ("lodestar-minutes", "2025-03-24"), ("aldx-daily", "2020-01-06")] {
        let said = service.cli(&["collect", collector, "--from", from, "-i", "QHC", "-i", "SME", "-i", "MHN"]);
        assert!(said.code == 0 || said.code == 3, "{said:?}");
    }
    (bench, service)
}

/// A row of a file: its moment, prices in millionths, volume, source.
#[derive(Clone, Debug, PartialEq)]
struct Row {
    at: String,
    prices: [i64; 4],
    volume: i64,
    source: String,
}

fn rows(csv: &str) -> Vec<Row> {
    let millionths = |text: &str| {
        let (whole, part) = text.split_once('.').unwrap_or((text, ""));
        format!("{whole}{part:0<6}").parse::<i64>().unwrap()
    };
    let row = |line: &str| {
        let f: Vec<&str> = line.split(',').collect();
        let prices = [1, 2, 3, 4].map(|at| millionths(f[at]));
        Row { at: f[0].to_owned(), prices, volume: f[5].parse().unwrap(), source: f[6].to_owned() }
    };
    csv.lines().skip(1).map(row).collect()
}

/// The rows of each label as one.
fn together(finer: &[Row], label: impl Fn(&str) -> String) -> Vec<Row> {
    let mut out: BTreeMap<String, Row> = BTreeMap::new();
    for row in finer {
        let label = label(&row.at);
        let one = out.entry(label.clone()).or_insert_with(|| Row { at: label, volume: 0, ..row.clone() });
        one.prices[1] = one.prices[1].max(row.prices[1]);
        one.prices[2] = one.prices[2].min(row.prices[2]);
        one.prices[3] = row.prices[3];
        one.volume += row.volume;
        if one.source != row.source {
            "several".clone_into(&mut one.source);
        }
    }
    out.into_values().collect()
}

/// The opening of the piece of so many minutes in which a minute of Aldermere lies: pieces begin at 10:00 and at 13:30.
fn piece(at: &str, minutes: i64) -> String {
    let at: DateTime = at.parse().unwrap();
    let of_day = i64::from(at.hour()) * 60 + i64::from(at.minute());
    let open = if of_day < 13 * 60 { 600 } else { 810 };
    let start = open + (of_day - open) / minutes * minutes;
    format!("{}T{:02}:{:02}:00", at.date(), start / 60, start % 60)
}

#[tokio::test(flavor = "multi_thread")]
async fn minutes_become_bars_of_a_session_and_days_become_weeks() {
    let (_bench, service) = collected();
    let wall = "zone=Pacific/Auckland&stamp=wall";
    let minutes = rows(&service.text(&format!("/bars?instrument=QHC&interval=1m&{wall}")).await);
    assert!(minutes.len() > 3_500 && minutes.iter().any(|r| r.source != minutes[0].source), "of two sources");
    for n in [5, 15, 30, 60, 240] {
        let interval = if n % 60 == 0 { format!("{}h", n / 60) } else { format!("{n}m") };
        let made = rows(&service.text(&format!("/bars?instrument=QHC&interval={interval}&{wall}")).await);
        assert_eq!(made, together(&minutes, |at| piece(at, n)), "{interval}");
    }
    let days = rows(&service.text("/bars?instrument=QHC&interval=1d&made_from=1m").await);
    assert_eq!(days, together(&minutes, |at| at[..10].to_owned()));
    // On the clock, what lies before and after the break is one piece where the hour says so.
    let clock = rows(&service.text(&format!("/bars?instrument=QHC&interval=2h&align=Pacific/Auckland&{wall}")).await);
    let two_hours = |at: &str| {
        let at: DateTime = at.parse().unwrap();
        format!("{}T{:02}:00:00", at.date(), at.hour() / 2 * 2)
    };
    assert_eq!(clock, together(&minutes, two_hours));

    // Weeks, months and years of days, adjusted first: SME was split in the middle of it all.
    let days = rows(&service.text("/bars?instrument=SME&adjust=splits").await);
    assert!(days.len() > 1_200);
    let monday = |at: &str| {
        let date: Date = at.parse().unwrap();
        date.saturating_sub(jiff::Span::new().days(i64::from(date.weekday().to_monday_zero_offset()))).to_string()
    };
    let month = |at: &str| at[..7].to_owned();
    let quarter = |at: &str| format!("{} {}", &at[..4], (at[5..7].parse::<u8>().unwrap() - 1) / 3);
    for interval in ["1w", "1mo", "1q", "1y"] {
        let of = |at: &str| match interval {
            "1w" => monday(at),
            "1mo" => month(at),
            "1q" => quarter(at),
            _ => at[..4].to_owned(),
        };
        let wanted = together(&days, of);
        for label in ["first", "last"] {
            let made = rows(&service.text(&format!("/bars?instrument=SME&adjust=splits&interval={interval}&label={label}")).await);
            let relabelled: Vec<Row> = made.iter().map(|r| Row { at: of(&r.at), ..r.clone() }).collect();
            assert_eq!(relabelled, wanted, "{interval} {label}");
        }
        // Side by side they are what they are one after another.
        let wide = service.text(&format!("/bars?instruments=SME,QHC&adjust=splits&interval={interval}&layout=wide")).await;
        let long =
            service.text(&format!("/bars?instruments=SME,QHC&adjust=splits&interval={interval}&columns=date,instrument,close")).await;
        let cells: usize = wide.lines().skip(1).map(|l| l.split(',').skip(1).filter(|c| !c.is_empty()).count()).sum();
        assert_eq!(cells, long.lines().count() - 1);
        for line in wide.lines().skip(1) {
            let f: Vec<&str> = line.split(',').collect();
            for (symbol, cell) in [("SME", f[1]), ("QHC", f[2])] {
                assert!(cell.is_empty() || long.contains(&format!("{},{symbol},{cell}\r\n", f[0])), "{line}");
            }
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_not_complete_is_told_or_dropped_and_what_is_asked_wrongly_is_refused() {
    let (_bench, service) = collected();
    // Half of the afternoon of 2 April is missing at the one source: 195 minutes.
    let of_day = "/bars?series=QHC/1m/harbour&from=2025-04-02&to=2025-04-02";
    let minutes = service.text(of_day).await.lines().count() - 1;
    assert_eq!(minutes, 150);
    let day = "/bars?instrument=QHC&source=harbour&interval=1d&made_from=1m&from=2025-04-02&to=2025-04-03&columns=date,held,expected";
    assert_eq!(service.text(day).await, "date,held,expected\r\n2025-04-02,150,345\r\n2025-04-03,345,345\r\n");
    assert_eq!(service.text(&format!("{day}&incomplete=dropped")).await, "date,held,expected\r\n2025-04-03,345,345\r\n");
    // An excuse changes how complete the day is, and with it the validator.
    let share = "/bars?instrument=QHC&source=harbour&interval=1d&made_from=1m&from=2025-04-02&to=2025-04-02&columns=date,completeness";
    let (before, after) = (service.ask(share).await, {
        let excused = service.cli(&["excuse", "QHC/1m/harbour@2025-04-02T00:30:00Z", "--by", "mere", "--note", "lost"]);
        assert_eq!(excused.code, 0, "{excused:?}");
        service.ask(share).await
    });
    assert_ne!(before.headers()["etag"], after.headers()["etag"]);
    // The bar is as it was; what differs is what a person accepted.
    let since = before.headers()["mizuno-as-of"].to_str().unwrap();
    let told = service.text(&format!("{share}&since={since}")).await;
    assert_eq!(told, "change,cause,instrument,date,completeness,old_completeness\r\nchanged,finding,QHC,2025-04-02,100.00,43.47\r\n");
    // Where there was no row before, its piece is that of the new one.
    let told = service.text(&format!("{share}&since=2025-04-10T02:30:00Z")).await;
    assert_eq!(told, "change,cause,instrument,date,completeness,old_completeness\r\nnew,bar,QHC,2025-04-02,100.00,\r\n");
    assert!(before.text().await.unwrap().ends_with("2025-04-02,43.47\r\n"));
    assert!(after.text().await.unwrap().ends_with("2025-04-02,100.00\r\n"));
    // Every expected hour has a row, with or without bars.
    let hours = service
        .text("/bars?instrument=QHC&source=harbour&interval=1h&from=2025-04-02&to=2025-04-02&missing=rows&columns=time,held,close")
        .await;
    let empty = hours.lines().skip(1).filter(|l| l.ends_with(",,")).count();
    assert_eq!((hours.lines().count() - 1, empty), (7, 4), "{hours}");
    // Rare trades leave out whole pieces, and nothing is missing by that.
    let rare = service.text("/bars?instrument=MHN&interval=1h&last=3&columns=time,held,expected&incomplete=dropped").await;
    assert!(rare.lines().count() < 3 * 7, "{rare}");
    // A range that begins within a week has that week, whole; the running week says how much of it there is.
    let weeks = |from: &str| format!("/bars?instrument=QHC&interval=1w&from={from}&columns=date,open,close,held,expected");
    let (from_monday, from_friday) = (service.text(&weeks("2025-03-31")).await, service.text(&weeks("2025-04-04")).await);
    assert_eq!(from_monday, from_friday);
    assert!(from_monday.ends_with(",3,5\r\n"), "{from_monday}");
    // An action in any of its sessions is named in a bar that was made of them.
    let split = service.text("/bars?instrument=SME&interval=1mo&from=2025-03-01&to=2025-03-31&columns=date,action").await;
    assert!(split.ends_with(",split 4 for 1\r\n"), "{split}");
    for (wrong, told) in [
        ("interval=7w", "is not an interval"),
        ("interval=5m&made_from=2m", "bars of 5m cannot be made of bars of 2m"),
        ("interval=1w&align=Atlantis", "neither session nor a zone"),
        ("interval=1w&adjust=all&columns=date,raw_close", "raw_close is of one bar"),
        ("interval=1d&columns=date,held", "held is of bars that are made of finer ones, and 1d is collected"),
        ("interval=1w&label=middle", "it is first or last"),
    ] {
        let refused = service.ask(&format!("/bars?instrument=QHC&{wrong}")).await;
        assert_eq!(refused.status(), 400, "{wrong}");
        let text = refused.text().await.unwrap();
        assert!(text.contains(told), "{wrong}: {text}");
    }
    let explained = service.cli(&["bars", "QHC", "--interval", "1w", "--explain"]);
    assert!(explained.out.contains("made of bars of 1d") && explained.out.contains("--interval 1w"), "{}", explained.out);
}

#[tokio::test(flavor = "multi_thread")]
async fn numbers_and_conditions_go_over_coarser_bars_of_every_kind_from_the_first_one_on() {
    let (_bench, service) = collected();
    // Days and weeks of minutes have dates where their minutes have instants; January 2020 begins before the first bar that is held.
    for asked in ["instrument=QHC&interval=1d&made_from=1m", "instrument=QHC&interval=1w&made_from=1m", "instrument=SME&interval=1mo"] {
        let closes = service.text(&format!("/bars?{asked}&columns=date,close")).await;
        let plain: Vec<(&str, f64)> =
            closes.lines().skip(1).map(|l| l.split_once(',').unwrap()).map(|(d, c)| (d, c.parse().unwrap())).collect();
        assert!(plain.len() >= 2, "{asked}: {closes}");
        let changes = service.text(&format!("/bars?{asked}&columns=date,close,change&across_gaps=bridged")).await;
        let worked: Vec<Vec<&str>> = changes.lines().skip(1).map(|l| l.split(',').collect()).collect();
        assert_eq!(worked.len(), plain.len(), "{asked}");
        for (at, row) in worked.iter().enumerate() {
            let wanted = if at == 0 { None } else { Some(((plain[at].1 - plain[at - 1].1) * 1e6).round()) };
            let change = row[2].parse::<f64>().ok().map(|change| (change * 1e6).round());
            assert_eq!((row[0], change), (plain[at].0, wanted), "{asked}");
        }
        let all = service.text(&format!("/bars?{asked}&columns=date,close&where=close > 0")).await;
        assert_eq!(all, closes, "{asked}");
        let kept = service.text(&format!("/bars?{asked}&columns=date,close&keep_last=2")).await;
        assert_eq!(kept.lines().skip(1).collect::<Vec<_>>(), closes.lines().skip(plain.len() - 1).collect::<Vec<_>>(), "{asked}");
        let newest = service.text(&format!("/bars?{asked}&columns=date,close&layout=latest")).await;
        assert_eq!(newest.lines().last(), closes.lines().last(), "{asked}");
        let wide = service.text(&format!("/bars?{asked}&columns=date,close,change&layout=wide&across_gaps=bridged")).await;
        assert_eq!(wide.lines().skip(1).collect::<Vec<_>>(), changes.lines().skip(1).collect::<Vec<_>>(), "{asked}");
    }
}
