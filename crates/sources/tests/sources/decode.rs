//! Understanding answers as a profile says, and asking in its words.

use mizuno_config::{Profile, profile};
use mizuno_core::{Interval, Side, Slot, Span, TradeDate, Venue};
use mizuno_sources::{Class, Decoded, Failure, Page, Wanted, decode, request};
use proptest::prelude::*;
use std::path::Path;

const PROFILE: &str = include_str!("../../../../demo/config/sources/harbour.toml");

fn profile(changes: &[(&str, &str)]) -> Profile {
    let text = changes.iter().fold(PROFILE.to_owned(), |text, (from, to)| {
        assert!(text.contains(from), "{from}");
        text.replace(from, to)
    });
    profile::parse(Path::new("harbour.toml"), &text).unwrap()
}

fn venue() -> Venue {
    mizuno_config::venue::parse(Path::new("aldx.toml"), include_str!("../../../../demo/config/venues/aldx.toml")).unwrap()
}

fn read(profile: &Profile, interval: Interval, body: &[u8], media_type: Option<&str>) -> Result<Decoded, Failure> {
    let offer = profile.offer("ALDX", interval, Side::Trade).unwrap();
    decode::decode(offer, &venue(), "KBF", 1 << 20, &[Page { part: None, media_type, body }])
}

fn minutes(body: &str, changes: &[(&str, &str)]) -> Result<Decoded, Failure> {
    read(&profile(changes), Interval::MINUTE, body.as_bytes(), Some("text/plain; charset=utf-8"))
}

fn daily(body: &str, changes: &[(&str, &str)]) -> Result<Decoded, Failure> {
    read(&profile(changes), Interval::Daily, body.as_bytes(), None)
}

/// The lines the bars of an answer stand on.
fn lines(read: &Decoded) -> Vec<u64> {
    read.places.iter().map(|p| p.row).collect()
}

fn at(text: &str) -> Slot {
    Slot::at(text.parse().unwrap())
}

const TOP: &str = "chatter\nchatter\nchatter\n";

#[test]
fn columns_may_stand_in_any_order_with_any_separator_and_case() {
    let body = format!("{TOP}VOLUME; Low ;date;OPEN;close;high;extra\n5;1.0;2025-04-09;1.25;1.5;2;x\n-;1;2025-04-08;1;1;1;\n");
    let read = daily(&body, &[("skip_lines = 3", "skip_lines = 3\nseparator = \";\"")]).unwrap();
    assert_eq!((read.rows, lines(&read)), (2, vec![5, 6]));
    let [first, second] = &read.bars.rows[..] else { panic!("two bars") };
    let shown = first.prices().map(|p| p.to_string());
    assert_eq!(shown, ["1.25", "2", "1.0", "1.5"], "each with the digits it was printed with");
    assert_eq!(first.slot, Slot::on("2025-04-09".parse().unwrap()));
    assert_eq!((first.volume().map(|v| v.mantissa), second.volume()), (Some(5), None), "absent is absent, not zero");
}

#[test]
fn wall_clock_stamps_follow_the_venue_through_the_end_of_daylight_saving() {
    let body = format!("{TOP}Date,Close,High,Low,Open,Volume\n2025-04-07 10:00,1,1,1,1,1\n2025-04-04 10:00,1,1,1,1,1\n");
    let read = minutes(&body, &[]).unwrap();
    assert_eq!(read.bars.rows.iter().map(|b| b.slot).collect::<Vec<_>>(), [at("2025-04-06T22:00:00Z"), at("2025-04-03T21:00:00Z")]);
    let elsewhere = minutes(&body, &[("stamp = \"%Y-%m-%d %H:%M\"", "stamp = \"%Y-%m-%d %H:%M\"\nzone = \"UTC\"")]).unwrap();
    assert_eq!(elsewhere.bars.rows[0].slot, at("2025-04-07T10:00:00Z"));
}

#[test]
fn stamps_may_be_of_the_close_in_seconds_in_milliseconds_or_rfc_3339() {
    let one = |stamp: &str, text: &str, more: &str| {
        let body = format!("{TOP}Date,Close,High,Low,Open,Volume\n{text},1,1,1,1,1\n");
        let to = format!("stamp = \"{stamp}\"\n{more}");
        minutes(&body, &[("stamp = \"%Y-%m-%d %H:%M\"", &to)]).unwrap().bars.rows[0].slot
    };
    let open = at("2025-04-09T22:00:00Z");
    assert_eq!(one("epoch-seconds", "1744236000", ""), open);
    assert_eq!(one("epoch-millis", "1744236000000", ""), open);
    assert_eq!(one("rfc3339", "2025-04-10T10:00:00+12:00", ""), open);
    assert_eq!(one("rfc3339", "2025-04-09T22:01:00Z", "stamped_at = \"close\""), open);
    assert_eq!(one("%d/%m/%Y %H:%M:%S", "10/04/2025 10:00:00", ""), open);
}

#[test]
fn any_eighteen_digits_stand_beside_any_other_and_floats_are_rounded_where_the_profile_says_so() {
    let rows = "2025-04-09,7.489999771118164,7.5,7.25,7.3,5\n2025-04-08,0.000000000012,1,0,0.5,9\n2025-04-07,1000000.5,1000001,1000000,1000000,1\n";
    let body = format!("{TOP}Date,Close,High,Low,Open,Volume\n{rows}2025-04-04,1.1234567890123456789,2,1,1,3\n");
    let read = daily(&body, &[]).unwrap();
    let closes: Vec<String> = read.bars.rows.iter().map(|b| b.close().to_string()).collect();
    assert_eq!(closes, ["7.489999771118164", "0.000000000012", "1000000.5"]);
    assert!(
        read.refused.len() == 1 && read.refused[0].reason.contains("more digits than can be kept"),
        "one row alone: {:?}",
        read.refused
    );
    let rounded = daily(&body, &[("skip_lines = 3", "skip_lines = 3\nround_decimals = 2")]).unwrap();
    let closes: Vec<String> = rounded.bars.rows.iter().map(|b| b.close().to_string()).collect();
    assert_eq!(closes, ["7.49", "0.00", "1000000.50", "1.12"]);
}

#[test]
fn volumes_in_lots_are_volumes_in_ones() {
    let body = format!("{TOP}Date,Close,High,Low,Open,Volume\n2025-04-09,1,1,1,1,12.5\n2025-04-08,1,1,1,1,99999999999999999\n");
    let read = daily(&body, &[("delay = \"20m\"", "delay = \"20m\"\nvolume_unit = 100")]).unwrap();
    assert_eq!(read.bars.rows[0].volume().unwrap().to_string(), "1250.0");
    assert!(read.refused[0].reason.contains("does not fit"), "{:?}", read.refused);
}

#[test]
fn single_bad_rows_are_refused_with_line_and_reason_and_the_rest_is_kept() {
    let body = format!(
        "{TOP}Date,Close,High,Low,Open,Volume\n2025-04-09,1,1,1,1,1\n2025-4-8x,1,1,1,1,1\n2025-04-07,1,1,,1,1\n2025-04-04,1\n2025-04-03,1,1,0x1,1,1\n2025-04-02,0.1234567890123456789,1,1,1,1\n\"2025-04-01\",1,1,1,1,1\n"
    );
    let read = daily(&body, &[]).unwrap();
    assert_eq!((read.rows, lines(&read)), (7, vec![5, 11]));
    let refused: Vec<_> = read.refused.iter().map(|r| (r.place.row, r.reason.as_str())).collect();
    assert_eq!(
        refused,
        [
            (6, "`2025-4-8x` does not read as %Y-%m-%d"),
            (7, "low: is absent"),
            (8, "has 2 fields where the header has 6"),
            (9, "low: `0x1` is not a decimal number"),
            (10, "close: `0.1234567890123456789` has more digits than can be kept exactly (18)"),
        ]
    );
}

#[test]
fn what_is_not_an_answer_is_a_failure_with_its_class() {
    for (body, class, words) in [
        ("<!DOCTYPE html><p>hello", Class::WrongContent, "got a web page"),
        ("a\nb\n", Class::Unreadable, "ends within the 3 lines"),
        ("a\nb\nc\n", Class::Unreadable, "line 4 should be the header"),
        ("a\nb\nc\nWhen,Open\n", Class::Unreadable, "a column `date`; it reads `When,Open`"),
        ("a\nb\nc\nDate,Close,High,Low,Open,Volume\n2025-04-09,1,1", Class::CutShort, "`2025-04-09,1,1`"),
    ] {
        let failure = daily(body, &[]).unwrap_err();
        assert!(failure.class == class && failure.message.contains(words), "{body}: {failure}");
    }
    let profile = profile(&[]);
    let other = read(&profile, Interval::Daily, b"{}", Some("application/json")).unwrap_err();
    assert_eq!((other.class, other.message.as_str()), (Class::WrongContent, "expected text/plain and got application/json: `{}`"));
}

#[test]
fn requests_are_written_as_the_length_of_the_window_asks() {
    let profile = profile(&[]);
    let ask = |interval: Interval, window: Span| {
        let offer = profile.offer("ALDX", interval, Side::Trade).unwrap();
        request::url(&profile, offer, &venue(), &Wanted { symbol: "LNT.A", id: None, window: &window }).unwrap()
    };
    let short = at("2025-04-08T22:00:00Z")..at("2025-04-10T02:28:00Z");
    assert_eq!(ask(Interval::MINUTE, short), "http://127.0.0.1:7411/bars/LNT-A?step=minute&from=1744149600&to=1744252080");
    let long = at("2025-04-06T22:00:00Z")..at("2025-04-10T04:45:00Z");
    assert_eq!(
        ask(Interval::MINUTE, long),
        "http://127.0.0.1:7411/bars/LNT-A?step=minute&from=2025-04-07&to=2025-04-10",
        "dates of the venue, the last included"
    );
    let days = Slot::on(TradeDate(16_804))..Slot::on("2025-04-10".parse().unwrap());
    assert_eq!(ask(Interval::Daily, days), "http://127.0.0.1:7411/bars/LNT-A?step=day&from=2016-01-04&to=2025-04-09");
}

#[test]
fn classes_that_may_pass_are_tried_again_and_others_are_not() {
    use Class::*;
    for class in
        [NameNotResolved, Unreachable, TimedOut, TooMany, ServerError, Redirected, WrongContent, CutShort, Unreadable, Empty, Stale]
    {
        assert!(class.may_pass(), "{}", class.word());
    }
    for class in [BadRequest, Tls, Denied, NotFound, Refused, TooLarge, UnpacksTooLarge, NotListed, NoKey, NotOnList, NotAskedFor] {
        assert!(!class.may_pass(), "{}", class.word());
    }
}

proptest! {
    /// Whatever bytes come, decoding ends, and every row is either a bar with its line or refused.
    #[test]
    fn no_answer_upsets_the_decoder(body in prop_oneof![
        prop::collection::vec(any::<u8>(), 0..400),
        "[0-9a-zA-Z,.;\"\n -]{0,300}".prop_map(|rows| format!("{TOP}Date,Close,High,Low,Open,Volume\n{rows}\n").into_bytes()),
    ]) {
        let profile = profile(&[]);
        if let Ok(read) = read(&profile, Interval::Daily, &body, None) {
            prop_assert_eq!(read.bars.rows.len(), read.places.len());
            prop_assert_eq!(read.rows as usize, read.places.len() + read.refused.len());
        }
    }

    /// A bar printed as a source prints it reads back, digit for digit.
    #[test]
    fn what_was_printed_is_what_is_read(prices in prop::array::uniform4(-99_999_999i64..99_999_999), day in 16_000i32..22_000, volume in prop::option::of(0i64..1_000_000_000)) {
        let date = TradeDate(day);
        let [open, high, low, close] = prices.map(|mantissa| mizuno_core::Decimal { mantissa, scale: 4 }.to_string());
        let shown = volume.map_or("-".to_owned(), |v| v.to_string());
        let read = daily(&format!("{TOP}Date,Close,High,Low,Open,Volume\n{date},{close},{high},{low},{open},{shown}\n"), &[]).unwrap();
        let bar = read.bars.rows[0];
        prop_assert_eq!(bar.prices().map(|p| p.mantissa), prices);
        prop_assert_eq!(bar.volume().map(|v| v.mantissa), volume);
        prop_assert_eq!(bar.slot, Slot::on(date));
    }
}
