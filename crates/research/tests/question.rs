//! Questions: canonical text and question are inverses, and everything that is wrong is told at once.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test stops at once when something is not as it needs it")]

use mizuno_research::question::{Question, given::Given};
use proptest::prelude::*;

fn read(pairs: &[(&str, &str)]) -> Result<Question, Vec<String>> {
    let given = Given::from_pairs(pairs.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned()))).map_err(|e| vec![e])?;
    Question::read(given)
}

#[test]
fn all_that_is_wrong_is_told_at_once_with_what_to_write_instead() {
    let wrong = [
        ("instruments", "KBF,OXB,KBF"),
        ("interval", "1x"),
        ("layuot", "wide"),
        ("format", "xls"),
        ("from", "2025-04-31"),
        ("last", "20"),
        ("columns", "close,price"),
        ("zone", "Mars/Base"),
        ("hours", "10-12"),
        ("numbers", "floats"),
        ("zzz", "1"),
    ];
    let problems = read(&wrong).unwrap_err();
    let told = |part: &str| assert!(problems.iter().any(|p| p.contains(part)), "{part}: {problems:#?}");
    told("instruments: `KBF` is named twice");
    told("interval: ");
    told("layuot: there is no such key; did you mean layout?");
    told("format: `xls` is not a format; it is csv, ndjson, json, parquet or xlsx");
    told("from: `2025-04-31`");
    told("columns: `price` is not a column; there is ");
    told("zone: `Mars/Base` is not an IANA time zone");
    told("hours: `10-12` is no time of the day; write it like 10:00-12:00");
    told("numbers: the numbers of a text file are exact");
    told("zzz: there is no such key; there is instruments");
    assert!(problems.len() >= 10, "{problems:#?}");
}

#[test]
fn what_cannot_be_had_together_is_refused() {
    for (pairs, told) in [
        (&[("join", "inner")][..], "join: only a wide file joins"),
        (&[("from", "2025-01-06"), ("last", "5")], "three ways to say the range"),
        (&[("layout", "wide"), ("columns", "time")], "needs at least one column beside the moment"),
        (&[("layout", "wide"), ("columns", "instrument,close")], "leave instrument out"),
        (&[("missing", "carried")], "only a wide file carries"),
        (&[("layout", "wide"), ("missing", "carried"), ("columns", "open")], "add close to the columns"),
        (&[("first_minutes", "30")], "daily bars have no time of the day"),
        (&[("decimal_sign", "comma")], "add separator=semicolon"),
        (&[("separator", "tab"), ("format", "json")], "only a CSV file has it"),
        (&[("stamp", "wall"), ("format", "parquet")], "stamps in a Parquet file"),
        (&[("source", "harbour"), ("series", "KBF/1d/lodestar")], "contradicts the series"),
        (&[("source", "harbour,golden,harbour")], "source: `harbour` is named twice"),
        (&[("against", "ratio")], "against: only a wide file has series side by side"),
        (&[("sort", "-rises")], "sort: only newest bars are sorted and counted; add layout=latest"),
        (&[("layout", "latest"), ("limit", "0")], "limit: `0` is not a whole number from 1"),
        (&[("layout", "latest"), ("keep_last", "2")], "keep_last: only a long file keeps the rows at one end"),
        (&[("keep_last", "100001")], "keep_last: `100001` is not a whole number from 1 to 100000"),
        (&[("keep_first", "1"), ("keep_last", "2")], "keep the two ends; use one of them"),
        (&[("where", "close > mean_200,close>mean_200")], "where: `close > mean_200` is said twice"),
        (&[("where", "close")], "`close` holds nothing against anything"),
        (&[("where", "close > mean_0")], "at character 9 of `close > mean_0`: `mean_0`: mean goes over 1 to 2000 bars"),
        (&[("where", "clse > 5")], "at character 1 of `clse > 5`: `clse` is no number of a bar"),
        (&[("missing", "rows"), ("where", "close > 5")], "missing: rows without a bar cannot be held against conditions"),
        (&[("layout", "latest"), ("since", "2025-04-10T02:30:00Z")], "since: the newest bars are other rows at another instant"),
        (&[("columns", "close,deviation_1")], "columns: `deviation_1`: deviation goes over 2 to 2000 bars"),
    ] {
        let pairs: Vec<_> =
            [("instruments", "KBF")].into_iter().filter(|_| !pairs.iter().any(|p| p.0 == "series")).chain(pairs.iter().copied()).collect();
        let problems = read(&pairs).unwrap_err();
        assert!(problems.iter().any(|p| p.contains(told)), "{pairs:?}: {problems:?}");
    }
}

#[test]
fn the_same_question_has_one_text_however_it_was_given() {
    let toml = Given::from_toml("interval = \"1m\"\ninstruments = [\"KBF\"]\nlast = 5\nheader = true\n").unwrap();
    let json = Given::from_json("{\"last\": 5, \"instruments\": [\"KBF\"], \"interval\": \"1m\", \"source\": \"golden\"}").unwrap();
    let pairs = read(&[("series", "KBF/1m/golden"), ("last", "5")]).unwrap();
    let (toml, json) = (Question::read(toml).unwrap(), Question::read(json).unwrap());
    assert_eq!(toml.to_toml(), "instruments = [\"KBF\"]\ninterval = \"1m\"\nlast = 5\n");
    assert_eq!((toml.digest(), toml.to_json()), (json.digest(), "{\"instruments\":[\"KBF\"],\"interval\":\"1m\",\"last\":5}".to_owned()));
    // A series says its side too, which the others leave open.
    assert_eq!(Question { sides: vec![], ..pairs }.digest(), toml.digest());
    assert_eq!(toml.to_command(), "mizuno bars KBF --interval 1m --last 5");
}

/// A key and a value that may stand beside any others of the same interval.
fn pairs() -> impl Strategy<Value = Vec<(&'static str, String)>> {
    let text = |key: &'static str, values: &'static [&'static str]| {
        prop::option::of(prop::sample::select(values)).prop_map(move |v| v.map(|v| (key, v.to_owned())))
    };
    let range = prop_oneof![
        Just(vec![]),
        Just(vec![("from", "2025-01-06"), ("to", "2025-04-09T22:00:00+12:00")]),
        Just(vec![("last", "20")]),
        Just(vec![("this", "month")]),
    ];
    let wide = prop_oneof![
        Just(vec![]),
        Just(vec![("layout", "wide")]),
        Just(vec![("layout", "wide"), ("join", "inner")]),
        Just(vec![("layout", "wide"), ("missing", "carried")]),
        Just(vec![("layout", "wide"), ("against", "ratio"), ("where", "close > 5")]),
        Just(vec![("layout", "latest"), ("sort", "-mean_20_of_volume"), ("limit", "10"), ("where", "close>mean_5_sessions,volume != 0")]),
        Just(vec![("where", "rises >= 3.50"), ("keep_last", "3"), ("across_gaps", "bridged")]),
        Just(vec![("missing", "rows")]),
    ];
    let file = prop_oneof![
        Just(vec![]),
        Just(vec![("separator", "semicolon"), ("decimal_sign", "comma"), ("header", "false")]),
        Just(vec![("format", "parquet"), ("numbers", "floats")]),
        Just(vec![("format", "ndjson"), ("stamp", "%d.%m.%Y %H:%M")]),
        Just(vec![("format", "json"), ("stamp", "millis")]),
    ];
    let more = (
        text("search", &["dairy", "it's \"quoted\"\n", "\u{7f}"]),
        text("side", &["trade", "bid", "bid,ask"]),
        text("source", &["harbour", "harbour,golden"]),
        text("as_of", &["2025-04-10T02:30:00Z", "2025-04-10T14:30:00.123456+12:00"]),
        text("columns", &["time,close", "date,open,close,volume", "time,close,mean_20,highest_5_of_mean_20_sessions_of_volume"]),
        text("names", &["close:Close", "close:Schluss,open:Er\u{f6}ffnung"]),
        text("zone", &["Pacific/Auckland", "+02:00", "+02:00/America/New_York"]),
        text("hours", &["10:00-12:00", "00:00-24:00"]),
        text("round", &["2", "tick"]),
    );
    (range, wide, file, more, prop::collection::vec("[A-Z]{2,4}", 1..4)).prop_map(|(range, wide, file, more, symbols)| {
        let (a, b, c, d, e, f, g, h, i) = more;
        let mut symbols = symbols;
        symbols.sort();
        symbols.dedup();
        let fixed = [range, wide, file].concat().into_iter().map(|(k, v)| (k, v.to_owned()));
        let of_symbols = [("instruments", symbols.join(",")), ("interval", "1m".to_owned())];
        fixed.chain([a, b, c, d, e, f, g, h, i].into_iter().flatten()).chain(of_symbols).collect()
    })
}

proptest! {
    /// Whatever a question is, its texts are read back as the same question: TOML, JSON, and the pairs of an address.
    #[test]
    fn canonical_text_and_question_are_inverses(pairs in pairs()) {
        let given = Given::from_pairs(pairs.iter().map(|(k, v)| ((*k).to_owned(), v.clone()))).unwrap();
        let question = Question::read(given).unwrap_or_else(|e| panic!("{pairs:?}: {e:?}"));
        let again = [
            Given::from_toml(&question.to_toml()).unwrap_or_else(|e| panic!("{}: {e}", question.to_toml())),
            Given::from_json(&question.to_json()).unwrap(),
            Given::from_pairs(question.to_pairs().into_iter().map(|(k, v)| (k.to_owned(), v))).unwrap(),
        ];
        for given in again {
            prop_assert_eq!(&Question::read(given).unwrap(), &question);
        }
    }
}
