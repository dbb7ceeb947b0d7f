//! Answers as files: every digit as it is held, every instant with the offset of its day, every source by its name.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test stops at once when something is not as it needs it")]

use mizuno_core::{Decimal, Timestamp, bar::Digits};
use mizuno_research::{
    answer::batch::{Batch, Cells, Heading, Kind},
    encode::{Style, encoder},
    question::{File, Format, zone::Clock},
};
use proptest::prelude::*;

fn written(file: File, clock: &str, columns: Vec<(&str, Kind, Cells)>) -> String {
    String::from_utf8(bytes(file, clock, columns).unwrap()).unwrap()
}

/// The file, or why it is refused.
fn bytes(file: File, clock: &str, columns: Vec<(&str, Kind, Cells)>) -> Result<Vec<u8>, String> {
    let rows = match &columns[0].2 {
        Cells::Moments(cells) => cells.len(),
        Cells::Dates(cells) => cells.len(),
        _ => panic!("the first column says when"),
    };
    let heading = |(name, kind, _): &(&str, Kind, Cells)| Heading { name: (*name).to_owned(), kind: kind.clone(), optional: true };
    let headings = columns.iter().map(heading).collect();
    let about = vec![("mizuno.as_of".to_owned(), "2025-04-10T02:30:00Z".to_owned())];
    let style = Style { file, clock: clock.parse::<Clock>().unwrap(), stamp: Default::default(), about };
    let mut encoder = encoder(headings, style).unwrap();
    let mut out = vec![];
    encoder.begin(&mut out).unwrap();
    let batch = Batch { rows, columns: columns.into_iter().map(|(.., cells)| cells).collect() };
    encoder.rows(&batch, &mut out).map_err(|e| e.to_string())?;
    encoder.finish(&mut out).unwrap();
    Ok(out)
}

fn of(format: Format) -> File {
    File { format, ..File::default() }
}

fn dates() -> (&'static str, Kind, Cells) {
    ("date", Kind::Date, Cells::Dates(vec![20_188, 20_189]))
}

#[test]
fn instants_print_with_the_offset_of_their_day() {
    let moments = ["2025-04-05T13:30:00Z", "2025-04-05T14:30:00Z", "2025-04-09T22:00:00Z", "1969-12-31T23:59:59Z"];
    let moments: Vec<i64> = moments.iter().map(|text| text.parse::<Timestamp>().unwrap().0).collect();
    let times = |zone| {
        let csv = written(File::default(), zone, vec![("time", Kind::Moment, Cells::Moments(moments.clone()))]);
        csv.lines().skip(1).map(str::to_owned).collect::<Vec<_>>()
    };
    let auckland = ["2025-04-06T02:30:00+13:00", "2025-04-06T02:30:00+12:00", "2025-04-10T10:00:00+12:00", "1970-01-01T11:59:59+12:00"];
    assert_eq!(times("Pacific/Auckland"), auckland);
    assert_eq!(times("UTC")[3], "1969-12-31T23:59:59Z");
    assert_eq!(times("-03:30")[2], "2025-04-09T18:30:00-03:30");
}

#[test]
fn each_bar_names_its_source_where_there_are_several() {
    let close = Cells::Numbers([Some("1.05".parse().unwrap()), None].into_iter().collect());
    let words = Kind::Words(["harbour".to_owned(), "cellar".to_owned()].into());
    let columns = || {
        let source = ("source", words.clone(), Cells::Words(vec![Some(1), None]));
        vec![dates(), ("close", Kind::Number(Digits::default()), close.clone()), source]
    };
    assert_eq!(written(File::default(), "UTC", columns()), "date,close,source\r\n2025-04-10,1.05,cellar\r\n2025-04-11,,\r\n");
    let json: serde_json::Value = serde_json::from_str(&written(of(Format::Json), "UTC", columns())).unwrap();
    assert_eq!((json[0]["source"].as_str(), json[1]["close"].is_null()), (Some("cellar"), true));
}

#[test]
fn text_from_outside_cannot_run_as_a_formula_and_numbers_never_change() {
    let words = Kind::Words(["=1+1".to_owned(), "@SUM(A1)".to_owned(), "a,\"b\"".to_owned()].into());
    let cells = |places| Cells::Words(places);
    let csv = written(File::default(), "UTC", vec![dates(), ("word", words.clone(), cells(vec![Some(0), Some(2)]))]);
    assert_eq!(csv, "date,word\r\n2025-04-10,\"'=1+1\"\r\n2025-04-11,\"a,\"\"b\"\"\"\r\n");
    let numbers = Cells::Numbers([Some("-7.50".parse().unwrap()), Some("12".parse().unwrap())].into_iter().collect());
    let comma = File { separator: b';', decimal_comma: true, header: false, ..File::default() };
    let csv = written(comma, "UTC", vec![dates(), ("close", Kind::Number(Digits::default()), numbers)]);
    assert_eq!(csv, "2025-04-10;-7,50\r\n2025-04-11;12\r\n");
}

/// The text of one part of a workbook.
fn part(workbook: Vec<u8>, name: &str) -> String {
    let mut archive = zip::ZipArchive::new(std::io::Cursor::new(workbook)).unwrap();
    std::io::read_to_string(archive.by_name(name).unwrap()).unwrap()
}

#[test]
fn a_workbook_has_typed_dates_on_the_clock_and_numbers_as_they_are_or_none_at_all() {
    let moments = Cells::Moments(vec!["2025-04-09T22:00:00Z".parse::<Timestamp>().unwrap().0]);
    let number = |text: &str| {
        ("close", Kind::Number(Digits { whole: 3, scale: 2 }), Cells::Numbers([Some(text.parse().unwrap())].into_iter().collect()))
    };
    let columns = |text: &str| vec![("time", Kind::Moment, moments.clone()), number(text)];
    let book = bytes(of(Format::Workbook), "Pacific/Auckland", columns("7.50")).unwrap();
    let sheet = part(book.clone(), "xl/worksheets/sheet2.xml");
    let values: Vec<f64> = sheet.split("<v>").skip(1).filter_map(|v| v.split("</v>").next()?.parse().ok()).collect();
    // 10 April 2025 is day 45757; at 10 in the morning in Auckland it is ten twenty-fourths old.
    assert!(values.contains(&7.5) && values.iter().any(|v| (v - (45_757.0 + 10.0 / 24.0)).abs() < 1e-6), "{sheet}");
    assert!(sheet.contains("time (Pacific/Auckland)") && sheet.contains("state=\"frozen\""), "{sheet}");
    assert!(part(book, "docProps/core.xml").contains("2025-04-10T02:30:00Z"), "its date is the answer's instant");
    let long = "123456789012345.678";
    let refused = bytes(of(Format::Workbook), "UTC", columns(long)).unwrap_err();
    assert!(refused.contains(long) && refused.contains("numbers=floats"), "{refused}");
    assert!(bytes(File { floats: true, ..of(Format::Workbook) }, "UTC", columns(long)).is_ok());
}

proptest! {
    /// One instant after another prints as a calendar of its own says it, across hours, days and changes of the clock.
    #[test]
    fn instants_print_as_the_clock_shows_them(
        zone in proptest::sample::select(vec!["UTC", "Pacific/Auckland", "America/New_York", "Asia/Kathmandu", "Australia/Lord_Howe"]),
        first in -1_500_000_000i64..4_000_000_000,
        steps in prop::collection::vec(prop_oneof![0i64..120, 0i64..7_200, 0i64..40_000_000], 1..200),
    ) {
        let mut at = first;
        let seconds: Vec<i64> = steps.into_iter().map(|step| { at += step; at }).collect();
        let moments = seconds.iter().map(|at| at * 1_000_000).collect();
        let csv = written(File::default(), zone, vec![("time", Kind::Moment, Cells::Moments(moments))]);
        for (at, shown) in seconds.iter().zip(csv.lines().skip(1)) {
            let zoned = jiff::Timestamp::from_second(*at).unwrap().in_tz(zone).unwrap();
            let form = if zone == "UTC" { "%Y-%m-%dT%H:%M:%SZ" } else { "%Y-%m-%dT%H:%M:%S%:z" };
            prop_assert_eq!(shown, zoned.strftime(form).to_string());
        }
    }

    /// Numbers print every digit they hold, as the decimals they are, in every text format.
    #[test]
    fn numbers_print_every_digit_they_hold(
        mantissa in -999_999_999_999_999_999i64..1_000_000_000_000_000_000,
        scale in 0u8..=18,
    ) {
        let number = Decimal { mantissa, scale };
        let columns = || {
            let cells = Cells::Numbers([Some(number), None].into_iter().collect());
            vec![dates(), ("close", Kind::Number(Digits::default()), cells)]
        };
        let csv = written(File::default(), "UTC", columns());
        let line = format!("2025-04-10,{number}");
        prop_assert_eq!(csv.lines().nth(1), Some(line.as_str()));
        prop_assert_eq!(csv.lines().nth(2), Some("2025-04-11,"));
        let ndjson = written(of(Format::Ndjson), "UTC", columns());
        let told = format!("{{\"date\":\"2025-04-10\",\"close\":{number}}}\n{{\"date\":\"2025-04-11\",\"close\":null}}\n");
        prop_assert_eq!(ndjson, told);
    }
}
