//! Every format tells the same rows: texts exactly, workbooks within what a 64-bit float holds.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test stops at once when something is not as it needs it")]

use mizuno_core::{Decimal, Timestamp, bar::Digits};
use mizuno_research::{
    answer::batch::{Batch, Cells, Heading, Kind},
    encode::{Style, encoder},
    question::{File, Format, zone::Clock},
};
use parquet::{
    file::reader::{FileReader, SerializedFileReader},
    record::Field,
};
use proptest::prelude::*;
use serde_json::value::RawValue;
use std::collections::BTreeMap;

const WORDS: [&str; 3] = ["harbour", "lode, star", "the \"cellar\""];
/// Columns: a date, an instant, a number, a whole number, a word, a flag.
const NAMES: [&str; 6] = ["date", "time", "close", "epoch", "source", "doubted"];

/// One row: everything but the moments may be absent.
type Row = (i32, i64, Option<Decimal>, i64, Option<u32>, Option<bool>);

prop_compose! {
    /// Numbers of up to fifteen digits, which a float holds.
    fn number()(mantissa in -999_999_999_999_999i64..1_000_000_000_000_000, scale in 0u8..=6) -> Decimal {
        Decimal { mantissa, scale }
    }
}

prop_compose! {
    fn row()(
        date in 10_000i32..30_000,
        second in 1_000_000_000i64..2_000_000_000,
        number in prop::option::of(number()),
        whole in -1_000_000_000i64..1_000_000_000,
        word in prop::option::of(0u32..3),
        flag in prop::option::of(any::<bool>()),
    ) -> Row {
        (date, second * 1_000_000, number, whole, word, flag)
    }
}

fn batch(rows: &[Row]) -> Batch {
    let columns = vec![
        Cells::Dates(rows.iter().map(|r| r.0).collect()),
        Cells::Moments(rows.iter().map(|r| r.1).collect()),
        Cells::Numbers(rows.iter().map(|r| r.2).collect()),
        Cells::Whole(rows.iter().map(|r| r.3).collect()),
        Cells::Words(rows.iter().map(|r| r.4).collect()),
        Cells::Flags(rows.iter().map(|r| r.5).collect()),
    ];
    Batch { rows: rows.len(), columns }
}

/// The file of some rows, handed on in two batches.
fn written(file: File, rows: &[Row]) -> Vec<u8> {
    let kinds = [
        Kind::Date,
        Kind::Moment,
        Kind::Number(Digits { whole: 15, scale: 6 }),
        Kind::Whole,
        Kind::Words(WORDS.map(str::to_owned).into()),
        Kind::Flag,
    ];
    // A row has its moment always.
    let heading = |(name, kind): (&&str, Kind)| {
        let optional = !matches!(kind, Kind::Date | Kind::Moment | Kind::Whole);
        Heading { name: (*name).to_owned(), kind, optional }
    };
    let style = Style { file, clock: Clock::Utc, stamp: Default::default(), about: vec![] };
    let mut encoder = encoder(NAMES.iter().zip(kinds).map(heading).collect(), style).unwrap();
    let mut out = vec![];
    encoder.begin(&mut out).unwrap();
    let (first, second) = rows.split_at(rows.len() / 2);
    for part in [first, second] {
        encoder.rows(&batch(part), &mut out).unwrap();
    }
    encoder.finish(&mut out).unwrap();
    out
}

/// The rows as the texts that every format should give back.
fn told(rows: &[Row]) -> Vec<Vec<String>> {
    let row = |r: &Row| {
        vec![
            mizuno_core::TradeDate(r.0).to_string(),
            Timestamp(r.1).to_string(),
            r.2.map(|n| n.to_string()).unwrap_or_default(),
            r.3.to_string(),
            r.4.map(|w| WORDS[w as usize].to_owned()).unwrap_or_default(),
            r.5.map(|f| f.to_string()).unwrap_or_default(),
        ]
    };
    rows.iter().map(row).collect()
}

fn of_csv(text: &[u8]) -> Vec<Vec<String>> {
    let mut reader = csv::Reader::from_reader(text);
    assert_eq!(reader.headers().unwrap(), &NAMES[..]);
    reader.records().map(|r| r.unwrap().iter().map(str::to_owned).collect()).collect()
}

/// The text of a JSON value: a number with the digits it was written with.
fn json(value: &RawValue) -> String {
    match serde_json::from_str::<serde_json::Value>(value.get()).unwrap() {
        serde_json::Value::String(text) => text,
        serde_json::Value::Null => String::new(),
        _ => value.get().to_owned(),
    }
}

fn of_object(text: &str) -> Vec<String> {
    let object: BTreeMap<String, Box<RawValue>> = serde_json::from_str(text).unwrap();
    NAMES.iter().map(|name| json(&object[*name])).collect()
}

fn of_columns(text: &[u8], rows: usize) -> Vec<Vec<String>> {
    let object: BTreeMap<String, Vec<Box<RawValue>>> = serde_json::from_slice(text).unwrap();
    (0..rows).map(|at| NAMES.iter().map(|name| json(&object[*name][at])).collect()).collect()
}

/// Numbers of a Parquet file have the scale of their column, so they are compared by value.
fn of_parquet(body: Vec<u8>) -> Vec<Vec<String>> {
    let file = SerializedFileReader::new(bytes::Bytes::from(body)).unwrap();
    let field = |field: &Field| match field {
        Field::Date(day) => mizuno_core::TradeDate(*day).to_string(),
        Field::TimestampMicros(at) => Timestamp(*at).to_string(),
        Field::Decimal(d) => {
            let units = d.data().iter().skip(1).fold(i128::from(d.data()[0] as i8), |m, b| (m << 8) | i128::from(*b));
            Decimal { mantissa: (units / 1_000_000) as i64, scale: 0 }.to_string() + &format!(" {}", units % 1_000_000)
        }
        Field::Long(n) => n.to_string(),
        Field::Str(text) => text.clone(),
        Field::Bool(flag) => flag.to_string(),
        Field::Null => String::new(),
        other => panic!("{other:?}"),
    };
    let rows = file.get_row_iter(None).unwrap().map(|r| r.unwrap());
    rows.map(|row| row.get_column_iter().map(|(_, f)| field(f)).collect()).collect()
}

/// The cells of the sheet with the bars, by their names (`B2`); a flag as `1` or `0`.
fn of_workbook(book: Vec<u8>) -> BTreeMap<String, String> {
    let mut archive = zip::ZipArchive::new(std::io::Cursor::new(book)).unwrap();
    let sheet = std::io::read_to_string(archive.by_name("xl/worksheets/sheet2.xml").unwrap()).unwrap();
    let unescaped = |text: &str| text.replace("&quot;", "\"").replace("&lt;", "<").replace("&gt;", ">").replace("&amp;", "&");
    let cell = |part: &str| {
        let place = part.split('"').next()?.to_owned();
        let text = ["<v>", "<t>"].iter().find_map(|tag| part.split(tag).nth(1))?.split("</").next()?;
        Some((place, unescaped(text)))
    };
    sheet.split("<c r=\"").skip(1).filter_map(cell).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]

    #[test]
    fn every_format_tells_the_same(rows in prop::collection::vec(row(), 0..40)) {
        let wanted = told(&rows);
        let of = |format| File { format, ..File::default() };
        for separator in [b',', b';', b'\t'] {
            for quoted_texts in [false, true] {
                let text = written(File { separator, quoted_texts, ..File::default() }, &rows);
                let mut reader = csv::ReaderBuilder::new();
                let records = reader.delimiter(separator).from_reader(&text[..]).records().map(|r| r.unwrap().iter().map(str::to_owned).collect()).collect::<Vec<Vec<String>>>();
                prop_assert_eq!(&records, &wanted);
                if quoted_texts {
                    let line = String::from_utf8(text).unwrap();
                    prop_assert!(line.starts_with("\"date\""), "{}", line);
                }
            }
        }
        prop_assert_eq!(&of_csv(&written(File::default(), &rows)), &wanted);
        let lines = String::from_utf8(written(of(Format::Ndjson), &rows)).unwrap();
        prop_assert_eq!(&lines.lines().map(of_object).collect::<Vec<_>>(), &wanted);
        let array: Vec<Box<RawValue>> = serde_json::from_slice(&written(of(Format::Json), &rows)).unwrap();
        prop_assert_eq!(&array.iter().map(|o| of_object(o.get())).collect::<Vec<_>>(), &wanted);
        let by_column = written(File { by_column: true, ..of(Format::Json) }, &rows);
        prop_assert_eq!(&of_columns(&by_column, rows.len()), &wanted);
        for (found, (row, wanted)) in of_parquet(written(of(Format::Parquet), &rows)).iter().zip(rows.iter().zip(&wanted)) {
            for at in [0, 1, 3, 4, 5] {
                prop_assert_eq!(&found[at], &wanted[at]);
            }
            let units = row.2.map(|n| n.units(6));
            prop_assert_eq!(&found[2], &units.map(|u| format!("{} {}", u / 1_000_000, u % 1_000_000)).unwrap_or_default());
        }
        let cells = of_workbook(written(of(Format::Workbook), &rows));
        for (at, row) in rows.iter().enumerate() {
            let cell = |column: char| cells.get(&format!("{column}{}", at + 2)).map(String::as_str);
            let number = |column: char| cell(column).map(|text| text.parse::<f64>().unwrap());
            // 1970-01-01 is day 25,569 of a workbook.
            prop_assert_eq!(number('A'), Some(25_569.0 + f64::from(row.0)));
            let days = number('B').unwrap();
            prop_assert!((days - 25_569.0 - row.1 as f64 / 86_400e6).abs() * 86_400.0 < 0.001, "{}", days);
            prop_assert_eq!(number('C'), row.2.map(|n| n.to_string().parse::<f64>().unwrap()));
            prop_assert_eq!(number('D'), Some(row.3 as f64));
            prop_assert_eq!(cell('E').unwrap_or_default(), &wanted[at][4]);
            prop_assert_eq!(number('F'), row.5.map(|f| f64::from(u8::from(f))));
        }
    }
}
