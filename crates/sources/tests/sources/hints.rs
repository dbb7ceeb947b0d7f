//! What a person who tries a profile is told, and stamps read fast as stamps read slowly.

use crate::common::{PLAIN, series, venue};
use mizuno_core::{Bar, Bars, Calendar, Decimal, Interval, Slot};
use mizuno_sources::{
    Page, decode,
    hints::{hints, silent},
};
use proptest::prelude::*;

fn calendar() -> Calendar {
    Calendar::new(&venue(), "2025-04-01".parse().unwrap().."2025-04-12".parse().unwrap())
}

#[test]
fn a_column_that_no_row_has_is_told_with_its_name() {
    let answer = |interest: &str| {
        format!(
            "{}columns = {{ time = \"d\", open = \"p\", high = \"p\", low = \"p\", close = \"p\", volume = \"v\", open_interest = \"{interest}\" }}\n",
            "form = \"json-rows\"\nstamp = \"%Y-%m-%d\"\n"
        )
    };
    let body = br#"[{"d":"2025-04-08","p":1,"v":5,"oi":7},{"d":"2025-04-09","p":1,"v":5}]"#;
    let told = |interest: &str| {
        let profile = series("http://127.0.0.1:1", "", "interval = \"1d\"", PLAIN, &answer(interest));
        let page = Page { part: None, media_type: None, body };
        let read = decode::decode(&profile.series[0], &venue(), "KBF", 1 << 20, &[page]).unwrap();
        silent(&read.bars, profile.series[0].answer.columns.as_ref().unwrap()).join("; ")
    };
    assert_eq!(told("oi"), "", "one row is enough");
    let hint = told("open_int");
    assert!(hint.contains("`open_int`, which the profile names for `open_interest`") && !hint.contains("volume"), "{hint}");
}

/// A session of minutes, moved by so many minutes, with the columns in this order.
fn minutes(by: i64, order: [usize; 4]) -> Bars {
    let calendar = calendar();
    let session = calendar.session("2025-04-09".parse().unwrap()).unwrap();
    let mut bars = Bars::default();
    for span in session.slots(Interval::MINUTE).iter() {
        for slot in (span.start.0..span.end.0).step_by(60_000_000) {
            let number = |cents: i64| Decimal { mantissa: cents, scale: 2 };
            let wave = (slot / 60_000_000) % 7;
            let all = [250 + wave, 260 + wave, 240 + wave, 252 + wave].map(number);
            bars.rows.push(Bar::new(Slot(slot + by * 60_000_000), order.map(|at| all[at]), None));
        }
    }
    bars
}

fn said(by: i64, order: [usize; 4]) -> String {
    hints(&minutes(by, order), &calendar(), Interval::MINUTE).join("; ")
}

#[test]
fn prices_printed_as_binary_floats_are_noticed_with_the_digits_to_round_to() {
    let bar = |at: i64, text: &str| Bar::new(Slot(20_188 + at), [text.parse().unwrap(); 4], None);
    let floats = ["7.489999771118164", "26.1200008392334", "7.5", "123.44999694824219"];
    let bars: Bars = (0..).zip(floats).map(|(at, text)| bar(at, text)).collect();
    let told = hints(&bars, &calendar(), Interval::Daily).join("; ");
    assert!(told.contains("binary floats, as in 7.489999771118164") && told.contains("round_decimals = 2"), "{told}");
    let plain: Bars = [bar(0, "1234567.25"), bar(1, "0.000125"), bar(2, "7.50")].into_iter().collect();
    assert_eq!(hints(&plain, &calendar(), Interval::Daily).join("; "), "");
}

const RIGHT: [usize; 4] = [0, 1, 2, 3];

#[test]
fn nothing_is_said_of_bars_that_look_as_they_should() {
    assert_eq!(said(0, RIGHT), "");
    assert_eq!(hints(&Bars::default(), &calendar(), Interval::MINUTE), Vec::<String>::new());
}

#[test]
fn stamps_of_the_close_and_of_another_zone_are_named() {
    assert!(said(1, RIGHT).contains("stamped_at = \"close\" fits better"), "{}", said(1, RIGHT));
    let zone = said(720, RIGHT);
    assert!(zone.contains("345 of 345 stamps fall outside") && zone.contains("moved by -12 hours"), "{zone}");
}

#[test]
fn swapped_columns_are_named() {
    assert!(said(0, [0, 2, 1, 3]).contains("`high` and `low` look swapped"));
    let other = said(0, [1, 0, 2, 3]);
    assert!(other.contains("the highest price stands where the profile reads `open`"), "{other}");
}

proptest! {
    /// Patterns of full-width numbers are read digit by digit, and as a date library reads them.
    #[test]
    fn stamps_are_read_alike_by_digits_and_by_pattern(days in 10_000i64..25_000, minute in 0i64..1440, slow in any::<bool>()) {
        let at = jiff::civil::date(1970, 1, 1).at(0, 0, 0, 0) + jiff::Span::new().days(days).minutes(minute);
        // %e and %k are padded with blanks, which takes the slow way.
        let pattern = if slow { "%d/%m/%y %H:%M" } else { "%d/%m/%Y %H:%M" };
        prop_assume!(!slow || (1970..2069).contains(&at.year()));
        let text = at.strftime(pattern).to_string();
        let answer = format!("form = \"delimited\"\nheader = false\ncolumns = {{ time = \"1\", open = \"2\", high = \"2\", low = \"2\", close = \"2\" }}\nstamp = \"{pattern}\"\nzone = \"UTC\"\n");
        let profile = series("http://127.0.0.1:1", "", "interval = \"1m\"", PLAIN, &answer);
        let body = format!("{text},1\n");
        let read = decode::decode(&profile.series[0], &venue(), "KBF", 1 << 20, &[Page { part: None, media_type: None, body: body.as_bytes() }]).unwrap();
        let expected = at.to_zoned(jiff::tz::TimeZone::UTC).unwrap().timestamp().as_microsecond();
        prop_assert_eq!(read.bars.rows.first().map(|b| b.slot.0), Some(expected), "{} {:?}", text, read.refused);
    }
}
