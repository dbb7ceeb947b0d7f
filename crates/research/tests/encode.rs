//! Bars as files: every digit as it is held, every instant with the offset of its day, every source by its name.

use jiff::tz::TimeZone;
use mizuno_core::{Bar, Bars, Decimal, Interval, Slot, Timestamp};
use mizuno_research::encode::{Column, Format, Layout, encoder};
use proptest::prelude::*;

fn bar(slot: i64, prices: [i64; 4], volume: Option<i64>) -> Bar {
    Bar::new(Slot(slot), prices.map(|mantissa| Decimal { mantissa, scale: 2 }), volume.map(|mantissa| Decimal { mantissa, scale: 0 }))
}

fn written(format: Format, interval: Interval, zone: Option<&str>, bars: &Bars, from: &[u16]) -> String {
    let columns = Column::list(None, interval, !from.is_empty()).unwrap();
    let layout = Layout {
        format,
        columns,
        interval,
        zone: zone.map(|z| TimeZone::get(z).unwrap()),
        price: bars.digits().0,
        volume: bars.digits().1,
        sources: vec!["harbour".to_owned(), "cellar".to_owned()],
    };
    let mut encoder = encoder(layout).unwrap();
    let mut out = vec![];
    encoder.begin(&mut out).unwrap();
    encoder.bars(bars, from, &mut out).unwrap();
    encoder.finish(&mut out).unwrap();
    String::from_utf8(out).unwrap()
}

#[test]
fn instants_print_with_the_offset_of_their_day() {
    let at = |text: &str| bar(text.parse::<Timestamp>().unwrap().0, [1, 1, 1, 1], None);
    let rows = ["2025-04-05T13:30:00Z", "2025-04-05T14:30:00Z", "2025-04-09T22:00:00Z", "1969-12-31T23:59:59Z"].map(at).to_vec();
    let bars = Bars { rows };
    let times = |zone| {
        let csv = written(Format::Csv, Interval::MINUTE, zone, &bars, &[]);
        csv.lines().skip(1).map(|l| l.split(',').next().unwrap().to_owned()).collect::<Vec<_>>()
    };
    let auckland = ["2025-04-06T02:30:00+13:00", "2025-04-06T02:30:00+12:00", "2025-04-10T10:00:00+12:00", "1970-01-01T11:59:59+12:00"];
    assert_eq!(times(Some("Pacific/Auckland")), auckland);
    assert_eq!(times(None)[3], "1969-12-31T23:59:59Z");
}

#[test]
fn each_bar_names_its_source_where_there_are_several() {
    let bars = Bars { rows: vec![bar(20_188, [100, 110, 90, 105], Some(7)), bar(20_189, [105, 105, 105, 105], None)] };
    let csv = written(Format::Csv, Interval::Daily, None, &bars, &[1, 0]);
    assert_eq!(
        csv,
        "date,open,high,low,close,volume,source\r\n2025-04-10,1.00,1.10,0.90,1.05,7,cellar\r\n2025-04-11,1.05,1.05,1.05,1.05,,harbour\r\n"
    );
    let json: serde_json::Value = serde_json::from_str(&written(Format::Json, Interval::Daily, None, &bars, &[1, 0])).unwrap();
    assert_eq!((json[0]["source"].as_str(), json[1]["volume"].is_null()), (Some("cellar"), true));
    assert!(!written(Format::Csv, Interval::Daily, None, &bars, &[]).contains("source"));
}

#[test]
fn a_list_of_columns_is_read_or_refused_by_name() {
    assert_eq!(Column::list(Some("time, close,source"), Interval::Daily, false).unwrap(), [Column::Time, Column::Close, Column::Source]);
    let twice = Column::list(Some("date,close,time"), Interval::Daily, false).unwrap_err().to_string();
    assert!(twice.contains("`date` is named twice"), "{twice}");
    let said = Column::list(Some("time,price"), Interval::MINUTE, false).unwrap_err().to_string();
    assert!(said.contains("`price` is not a column; there is time, open"), "{said}");
}

proptest! {
    /// Numbers print every digit they hold, as the decimals they are, in every text format.
    #[test]
    fn numbers_print_every_digit_they_hold(
        prices in prop::array::uniform4(-999_999_999_999_999_999i64..1_000_000_000_000_000_000),
        volume in prop::option::of(0i64..1_000_000_000_000),
        scales in prop::array::uniform4(0u8..=18),
        volume_scale in 0u8..4,
    ) {
        let prices = [0, 1, 2, 3].map(|at| Decimal { mantissa: prices[at], scale: scales[at] });
        let volume = volume.map(|mantissa| Decimal { mantissa, scale: volume_scale });
        let bars = Bars { rows: vec![Bar::new(Slot(20_000), prices, volume)] };
        let (price, volume) = (|d: Decimal| d.to_string(), volume.map(|v| v.to_string()));
        let csv = written(Format::Csv, Interval::Daily, None, &bars, &[]);
        let line = format!("2024-10-04,{},{}", prices.map(price).join(","), volume.clone().unwrap_or_default());
        prop_assert_eq!(csv.lines().nth(1), Some(line.as_str()));
        let ndjson = written(Format::Ndjson, Interval::Daily, None, &bars, &[]);
        let names = ["open", "high", "low", "close"];
        for (name, value) in names.into_iter().zip(prices.map(price)) {
            let told = format!("\"{name}\":{value},");
            prop_assert!(ndjson.contains(&told), "{} {}", ndjson, told);
        }
        let told = format!("\"volume\":{}}}", volume.unwrap_or("null".to_owned()));
        prop_assert!(ndjson.contains(&told), "{} {}", ndjson, told);
    }
}
