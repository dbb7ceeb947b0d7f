//! Every shape of answer that a profile can describe.

use crate::common::{self, CSV, read, series, shown, venue};
use mizuno_core::Side;
use mizuno_sources::{Class, Page, decode};
use proptest::prelude::*;
use std::io::Write;
use zip::{ZipWriter, write::SimpleFileOptions};

const BAR: &str = "2025-04-09 1.25 2.50 1.00 1.75 300";
const KEYS: &str =
    "columns = { time = \"d\", open = \"o\", high = \"h\", low = \"l\", close = \"c\", volume = \"v\" }\nstamp = \"%Y-%m-%d\"\n";

#[test]
fn delimited_text_with_junk_above_and_below_comments_and_many_spellings_of_nothing() {
    let answer = CSV.replace(
        "form = \"delimited\"",
        "form = \"delimited\"\nskip_lines = 1\nskip_last_lines = 2\ncomment = \"#\"\nseparator = \"\\t\"\nmissing = [\"n/a\", \"--\"]",
    );
    let body = b"The Quay\nv\tdate\to\th\tl\tc\n# noon\n300\t2025-04-09\t1.25\t2.50\t1.00\t1.75\nn/a\t2025-04-08\t1\t1\t1\t1\n5\t2025-04-07\t--\t1\t1\t1\n2 rows in all\nfair winds\n";
    let read = read(&answer, body).unwrap();
    assert_eq!(shown(&read), [BAR, "2025-04-08 1 1 1 1 -"]);
    assert_eq!((read.refused[0].place.row, read.refused[0].reason.as_str()), (6, "o: is absent"));
}

#[test]
fn delimited_text_without_a_header_and_with_the_time_of_day_apart() {
    let answer = "form = \"delimited\"\nheader = false\ncolumns = { time = \"1\", clock = \"2\", open = \"3\", high = \"4\", low = \"5\", close = \"6\" }\nstamp = \"%Y%m%d %H:%M\"\n";
    let profile = series("http://127.0.0.1:1", "", "interval = \"1m\"", common::PLAIN, answer);
    let page = Page { part: None, media_type: None, body: b"20250410,10:00,1,2,1,2\n20250410,10:01,2,2,1,1\n" };
    let read = decode::decode(&profile.series[0], &venue(), "KBF", 1 << 20, &[page]).unwrap();
    assert_eq!(shown(&read), ["2025-04-09T22:00:00Z 1 2 1 2 -", "2025-04-09T22:01:00Z 2 2 1 1 -"]);
    assert_eq!(read.places[1].row, 2);
}

#[test]
fn json_rows_as_objects_as_arrays_and_with_parts_deep_inside() {
    let answer = format!("form = \"json-rows\"\nrows = \"/data/0/bars\"\n{KEYS}");
    let body = br#"{"ok":true,"data":[{"bars":[{"d":"2025-04-09","v":300,"o":1.25,"h":2.50,"l":1.00,"c":"1.75","x":[1,{}]},{"d":"2025-04-08","o":null,"h":1,"l":1,"c":1},7]}]}"#;
    let found = read(&answer, body).unwrap();
    assert_eq!(shown(&found), [BAR], "2.50 keeps its nought");
    let reasons: Vec<_> = found.refused.iter().map(|r| (r.place.row, r.reason.as_str())).collect();
    assert_eq!(reasons, [(2, "o: is absent"), (3, "`7` is neither an object nor an array")]);

    let arrays = "form = \"json-rows\"\ncolumns = { time = \"0\", open = \"1\", high = \"2\", low = \"3\", close = \"4\", volume = \"5\" }\nstamp = \"epoch-seconds\"\nzone = \"UTC\"\n";
    assert_eq!(shown(&read(arrays, b"[[1744156800, 1.25, 2.50, 1.00, 1.75, 300]]").unwrap()), [BAR]);

    let deep = "form = \"json-rows\"\ncolumns = { time = \"/at/day\", open = \"/p/0\", high = \"/p/1\", low = \"/p/2\", close = \"/p/3\" }\nstamp = \"%Y-%m-%d\"\n";
    assert_eq!(
        shown(&read(deep, br#"[{"at":{"day":"2025-04-09"},"p":[1.25,2.50,1.00,1.75]}]"#).unwrap()),
        ["2025-04-09 1.25 2.50 1.00 1.75 -"]
    );
}

#[test]
fn json_with_an_array_a_column_a_row_a_line_and_a_row_under_a_key() {
    let columns = "form = \"json-columns\"\nrows = \"/bars\"\ncolumns = { time = \"/t\", open = \"/q/o\", high = \"/h\", low = \"/l\", close = \"/c\", volume = \"/v\" }\nstamp = \"%Y-%m-%d\"\n";
    let body = br#"{"bars":{"t":["2025-04-09","2025-04-08"],"q":{"o":[1.25,1]},"h":[2.50,1],"l":[1.00,1],"c":[1.75,1],"v":[300,null]}}"#;
    assert_eq!(shown(&read(columns, body).unwrap()), [BAR, "2025-04-08 1 1 1 1 -"]);
    let short = read(columns, &String::from_utf8_lossy(body).replace("[1.75,1]", "[1.75]").into_bytes()).unwrap_err();
    assert!(short.class == Class::Unreadable && short.message.contains("`/c` has 1 values where another has 2"), "{short}");

    let lines = format!("form = \"json-lines\"\n{KEYS}");
    let body = b"{\"d\":\"2025-04-09\",\"o\":1.25,\"h\":2.50,\"l\":1.00,\"c\":1.75,\"v\":300}\n\nnonsense\n";
    let found = read(&lines, body).unwrap();
    assert_eq!(shown(&found), [BAR]);
    assert!(found.refused[0].place.row == 3 && found.refused[0].reason.contains("is not JSON (column"), "{:?}", found.refused);
    assert_eq!(read(&lines, b"{\"d\":\"2025-04-09\",\"o\":1.2").unwrap_err().class, Class::CutShort);

    let map = "form = \"json-map\"\nrows = \"/days\"\ncolumns = { time = \"(key)\", open = \"1. open\", high = \"2. high\", low = \"3. low\", close = \"4. close\", volume = \"5. volume\" }\nstamp = \"%Y-%m-%d\"\n";
    let body = br#"{"days":{"2025-04-09":{"1. open":"1.25","2. high":"2.50","3. low":"1.00","4. close":"1.75","5. volume":"300"}}}"#;
    assert_eq!(shown(&read(map, body).unwrap()), [BAR]);
}

#[test]
fn broken_json_is_named_by_line_and_column_and_a_cut_one_as_cut() {
    let answer = format!("form = \"json-rows\"\n{KEYS}");
    let bad = read(&answer, b"[\n {\"d\": \"2025-04-09\", \"o\": 1.2.5}\n]").unwrap_err();
    assert!(bad.class == Class::Unreadable && bad.message.contains("line 2, column"), "{bad}");
    let cut = read(&answer, b"[{\"d\":\"2025-04-09\",\"o\":1.25").unwrap_err();
    assert!(cut.class == Class::CutShort && cut.message.contains("ends before its end"), "{cut}");
    let nowhere = read(&format!("form = \"json-rows\"\nrows = \"/data\"\n{KEYS}"), b"{\"date\":[]}").unwrap_err();
    assert!(nowhere.message.contains("nothing at `/data`"), "{nowhere}");
    let said =
        read(&format!("form = \"json-rows\"\nrows = \"/data\"\nerror = \"/error\"\n{KEYS}"), b"{\"error\":\"no such plan\"}").unwrap_err();
    assert!(said.class == Class::Refused && said.message.contains("no such plan"), "{said}");
}

#[test]
fn tables_of_web_pages_are_read_by_header_with_entities_and_tags_inside() {
    let answer = "form = \"html-table\"\ntable = 2\ncolumns = { time = \"Day\", open = \"First\", high = \"High\", low = \"Low\", close = \"Last\", volume = \"Sold & bought\" }\nstamp = \"%Y-%m-%d\"\n";
    let body = b"<!doctype html><table><tr><td>menu</td></tr></table><table><thead><tr><th>Day<th>First</th><th>High</th><th>Low</th><th>Last</th><th>Sold &amp; bought</th></tr></thead>\
        <tr><td><b>2025-04-09</b></td><td> 1.25 </td><td>2.50</td><td>1.00</td><td>1.75</td><td><i>300</i></td></tr><tr><td>no trades</td></tr></table>";
    let found = read(answer, body).unwrap();
    assert_eq!(shown(&found), [BAR]);
    assert_eq!(found.refused[0].reason, "has 1 cells where the header has 6");
    let other = read(answer, b"<html><p>Nothing today</p></html>").unwrap_err();
    assert!(other.message.contains("no table 2"), "{other}");
    assert_eq!(decode::links(b"<a href='/a.zip'>a</a> <A HREF=\"b.zip?x=1\">b</A>"), ["/a.zip", "b.zip?x=1"]);
}

fn zipped(files: &[(&str, &[u8])]) -> Vec<u8> {
    let mut zip = ZipWriter::new(std::io::Cursor::new(vec![]));
    for (name, body) in files {
        zip.start_file(*name, SimpleFileOptions::default()).unwrap();
        zip.write_all(body).unwrap();
    }
    zip.finish().unwrap().into_inner()
}

fn gzipped(body: &[u8]) -> Vec<u8> {
    let mut gz = flate2::write::GzEncoder::new(vec![], flate2::Compression::best());
    gz.write_all(body).unwrap();
    gz.finish().unwrap()
}

const FILE: &[u8] = b"date,o,h,l,c,v\n2025-04-09,1.25,2.50,1.00,1.75,300\n";

#[test]
fn zipped_and_gzipped_files_of_one_member_or_many() {
    let gzip = format!("packed = \"gzip\"\n{CSV}");
    assert_eq!(shown(&read(&gzip, &gzipped(FILE)).unwrap()), [BAR]);
    assert_eq!(read(&gzip, &gzipped(FILE)[..30]).unwrap_err().class, Class::CutShort);
    assert_eq!(read(&gzip, b"plain text").unwrap_err().class, Class::Unreadable);

    let whole = format!("packed = \"zip\"\n{CSV}");
    let second = b"date,o,h,l,c,v\n2025-04-08,1,1,1,1,1\n";
    assert_eq!(read(&whole, &zipped(&[("a.csv", FILE), ("b.csv", second)])).unwrap().rows, 2, "all members");
    let one = format!("packed = \"zip\"\nmember = \"{{symbol}}.csv\"\n{CSV}");
    let archive = zipped(&[("OXB.csv", second), ("KBF.csv", FILE)]);
    assert_eq!(shown(&read(&one, &archive).unwrap()), [BAR]);
    assert_eq!(read(&one, &zipped(&[("OXB.csv", second)])).unwrap().rows, 0, "a file that is not there has nothing to say");
    assert_eq!(read(&one, &archive[..archive.len() - 30]).unwrap_err().class, Class::CutShort);
}

#[test]
fn a_bomb_is_refused_before_it_goes_off() {
    let bomb = vec![b'0'; 64 << 20];
    for (answer, body) in [("packed = \"gzip\"", gzipped(&bomb)), ("packed = \"zip\"", zipped(&[("a", &bomb[..])]))] {
        assert!(body.len() < 200_000);
        let refused = read(&format!("{answer}\n{CSV}"), &body).unwrap_err();
        assert!(refused.class == Class::UnpacksTooLarge && refused.message.contains("more than 1 MiB"), "{refused}");
    }
}

#[test]
fn bid_and_ask_apart_are_joined_on_time_into_mids() {
    let request = "[[series.request]]\npart = \"bid\"\nget = \"/b\"\n[[series.request]]\npart = \"ask\"\nget = \"/a\"\n";
    let profile = series("http://127.0.0.1:1", "", "interval = \"1d\"\nside = \"mid\"", request, &CSV.replace(", volume = \"v\"", ""));
    let bid =
        Page { part: Some("bid"), media_type: None, body: b"date,o,h,l,c\n2025-04-08,1.0,1.0,1.0,1.0\n2025-04-09,1.10,1.30,1.00,1.20\n" };
    let ask = Page { part: Some("ask"), media_type: None, body: b"date,o,h,l,c\n2025-04-09,1.2,1.4,1.1,1.25\n2025-04-10,2,2,2,2\n" };
    let read = decode::decode(&profile.series[0], &venue(), "KBF", 1 << 20, &[ask, bid]).unwrap();
    assert_eq!(shown(&read), ["2025-04-09 1.150 1.350 1.050 1.225 -"], "a day that one side lacks has no mid");
    assert_eq!(profile.series[0].side, Side::Mid);
}

#[test]
fn an_answer_that_says_it_has_nothing_has_nothing() {
    let answer = format!("nothing = \"no data for\"\n{CSV}");
    assert_eq!(read(&answer, b"no data for KBF in this range\n").unwrap().rows, 0);
}

/// A file of Apache Parquet: rows of two instruments, prices in hundredths, one volume absent.
fn parquet_file(snappy: bool) -> Vec<u8> {
    use parquet::{
        basic::Compression,
        data_type::{ByteArray, ByteArrayType, Int32Type, Int64Type},
        file::{properties::WriterProperties, writer::SerializedFileWriter},
        schema::parser::parse_message_type,
    };
    let price = |name: &str| format!("required int64 {name} (DECIMAL(18,2));");
    let prices: String = ["O", "h", "l", "c"].map(price).concat();
    let schema = format!("message bars {{ required binary whose (UTF8); required int32 d (DATE); {prices} optional int64 v; }}");
    let compression = if snappy { Compression::SNAPPY } else { Compression::UNCOMPRESSED };
    let properties = WriterProperties::builder().set_compression(compression).build();
    let mut file = SerializedFileWriter::new(vec![], parse_message_type(&schema).unwrap().into(), properties.into()).unwrap();
    let mut group = file.next_row_group().unwrap();
    let names = ["KBF", "OXB", "KBF"].map(|n| ByteArray::from(n.as_bytes().to_vec()));
    let mut column = group.next_column().unwrap().unwrap();
    column.typed::<ByteArrayType>().write_batch(&names, None, None).unwrap();
    column.close().unwrap();
    let mut column = group.next_column().unwrap().unwrap();
    column.typed::<Int32Type>().write_batch(&[20_187, 20_187, 20_186], None, None).unwrap();
    column.close().unwrap();
    for cells in [[125, 900, 100], [250, 900, 100], [100, 900, 100], [175, 900, -100]] {
        let mut column = group.next_column().unwrap().unwrap();
        column.typed::<Int64Type>().write_batch(&cells, None, None).unwrap();
        column.close().unwrap();
    }
    let mut column = group.next_column().unwrap().unwrap();
    column.typed::<Int64Type>().write_batch(&[300, 9], Some(&[1, 1, 0]), None).unwrap();
    column.close().unwrap();
    group.close().unwrap();
    file.into_inner().unwrap()
}

#[test]
fn parquet_files_are_read_exactly_and_of_many_instruments_only_the_one() {
    let answer = format!("form = \"parquet\"\nsymbol_in = \"whose\"\n{KEYS}");
    for snappy in [false, true] {
        let found = read(&answer, &parquet_file(snappy)).unwrap();
        assert_eq!(shown(&found), [BAR, "2025-04-08 1.00 1.00 1.00 -1.00 -"]);
        assert_eq!((found.rows, found.places[1].row), (2, 3), "rows are numbered as they stand in the file");
    }
    let everybody = read(&answer.replace("symbol_in = \"whose\"\n", ""), &parquet_file(true)).unwrap();
    assert_eq!(everybody.rows, 3);
    let refused = |body: &[u8], answer: &str| read(answer, body).unwrap_err();
    let whole = parquet_file(true);
    assert_eq!(refused(&whole[..whole.len() - 9], &answer).class, Class::CutShort);
    assert_eq!(refused(b"date,o,h,l,c,v\n", &answer).class, Class::Unreadable);
    assert_eq!(refused(b"<html>busy</html>", &answer).class, Class::WrongContent);
    let told = refused(&whole, &answer.replace("time = \"d\"", "time = \"moment\"")).to_string();
    assert!(told.contains("moment") && told.contains("whose,d,O,h,l,c,v"), "{told}");
    // What a row says stands in quarantine.
    let profile = common::profile("http://127.0.0.1:1", "", common::PLAIN, &answer);
    let place = mizuno_sources::decode::Place { page: 0, row: 3 };
    let page = Page { part: None, media_type: None, body: &whole };
    let texts = decode::texts_of(&profile.series[0].answer, "KBF", 1 << 20, &[page], &[place].into());
    assert_eq!(texts[&place], "whose=KBF, d=2025-04-08, O=1.00, h=1.00, l=1.00, c=-1.00, v=");
}

#[test]
fn rows_of_others_are_passed_over_in_any_form() {
    let answer = format!("symbol_in = \"who\"\n{CSV}");
    let body = b"who,date,o,h,l,c,v\nOXB,2025-04-09,9,9,9,9,9\nKBF,2025-04-09,1.25,2.50,1.00,1.75,300\n";
    assert_eq!(shown(&read(&answer, body).unwrap()), [BAR]);
    let json = format!("form = \"json-lines\"\nsymbol_in = \"s\"\n{KEYS}");
    let lines = b"{\"s\":\"KBF\",\"d\":\"2025-04-09\",\"o\":1.25,\"h\":2.50,\"l\":1.00,\"c\":1.75,\"v\":300}\n{\"s\":\"OXB\",\"d\":\"2025-04-09\"}\n";
    assert_eq!(shown(&read(&json, lines).unwrap()), [BAR]);
}

const FORMS: [&str; 9] = [
    "form = \"delimited\"\nskip_lines = 1\nskip_last_lines = 1",
    "form = \"json-rows\"\nrows = \"/a\"",
    "form = \"json-columns\"",
    "form = \"json-lines\"",
    "form = \"json-map\"",
    "form = \"html-table\"",
    "form = \"delimited\"\npacked = \"zip\"",
    "form = \"delimited\"\npacked = \"gzip\"",
    "form = \"parquet\"",
];

fn checked(form: &str, body: &[u8]) -> Result<(), TestCaseError> {
    let columns = "columns = { time = \"/t\", open = \"/o\", high = \"/h\", low = \"/l\", close = \"/c\" }\nstamp = \"%Y-%m-%d\"\n";
    if let Ok(read) = read(&format!("{form}\n{columns}"), body) {
        prop_assert_eq!(read.bars.rows.len(), read.places.len());
        prop_assert_eq!(read.rows as usize, read.places.len() + read.refused.len());
    }
    Ok(())
}

/// How many cases of each fuzzing test; `make fuzz` asks for many more.
fn cases() -> ProptestConfig {
    let cases = std::env::var("MIZUNO_FUZZ").ok().and_then(|n| n.parse().ok()).unwrap_or(256);
    ProptestConfig { cases, ..ProptestConfig::default() }
}

proptest! {
    #![proptest_config(cases())]

    /// Whatever bytes come, every decoder ends, and every row is a bar with its place or refused.
    #[test]
    fn no_bytes_upset_a_decoder(form in prop::sample::select(&FORMS[..]), body in prop::collection::vec(any::<u8>(), 0..600)) {
        checked(form, &body)?;
    }

    /// The same for bytes that nearly are what the decoder wants.
    #[test]
    fn no_near_miss_upsets_a_decoder(
        form in prop::sample::select(&FORMS[..]),
        pieces in prop::collection::vec(prop::sample::select(&["{", "}", "[", "]", ",", ":", "\"/t\"", "\"t\"", "\"a\"", "2025-04-09", "1.5", "-1e400", "null", "\n", "\"", "\\u00", "<table>", "<tr>", "<td>", "</table>", "&amp;", "\u{fffd}", "9999999999999999999"][..]), 0..120),
    ) {
        checked(form, pieces.concat().as_bytes())?;
    }

    /// The same of a Parquet file.
    #[test]
    fn no_flipped_byte_upsets_a_parquet_file(at in any::<prop::sample::Index>(), to in any::<u8>(), snappy in any::<bool>()) {
        let mut body = parquet_file(snappy);
        let at = at.index(body.len());
        body[at] = to;
        let columns = "columns = { time = \"d\", open = \"o\", high = \"h\", low = \"l\", close = \"c\" }\nstamp = \"%Y-%m-%d\"\n";
        if let Ok(read) = read(&format!("form = \"parquet\"\n{columns}"), &body) {
            prop_assert_eq!(read.rows as usize, read.places.len() + read.refused.len());
        }
    }

    /// A good archive with one byte changed is read, or refused, and nothing worse.
    #[test]
    fn no_flipped_byte_upsets_an_archive(at in 0usize..400, to in any::<u8>(), gz in any::<bool>()) {
        let (form, mut body) = if gz { (FORMS[7], gzipped(FILE)) } else { (FORMS[6], zipped(&[("a.csv", FILE), ("b.csv", FILE)])) };
        let at = at % body.len();
        body[at] = to;
        checked(form, &body)?;
    }
}
