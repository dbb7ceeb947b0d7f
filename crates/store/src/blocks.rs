//! A block: every version of one series' bars in one span, as a Parquet file.
//!
//! Rows stand by (slot, recorded_at). The columns are `time` (TIMESTAMP in
//! UTC microseconds, or DATE for daily bars), `recorded_at`, `fetch`, and
//! `open`, `high`, `low`, `close`, `volume` as DECIMAL; a withdrawn bar has no prices.

use crate::{
    Result, StoreError,
    table::{Column, Kind, TableWriter, Values},
};
use bytes::Bytes;
use mizuno_core::{Bar, Interval, Price, Slot, Span, Timestamp, Versions, Volume, bar::Version};
use parquet::{
    column::reader::ColumnReader,
    errors::ParquetError,
    file::reader::{FileReader, SerializedFileReader},
};

/// The span of the block that `slot` belongs to: a UTC day for bars of seconds,
/// a month for minutes, a year for hours, everything for daily bars.
#[must_use]
pub fn span_of(interval: Interval, slot: Slot) -> Span {
    let Interval::Intraday { seconds } = interval else {
        return Slot(i64::from(i32::MIN))..Slot(i64::from(i32::MAX));
    };
    let day = slot.instant().date_in(&jiff::tz::TimeZone::UTC).to_civil();
    let (first, next) = match seconds {
        0..60 => (day, day.saturating_add(jiff::Span::new().days(1))),
        60..3600 => (day.first_of_month(), day.last_of_month().saturating_add(jiff::Span::new().days(1))),
        _ => (day.first_of_year(), day.last_of_year().saturating_add(jiff::Span::new().days(1))),
    };
    let at = |d: jiff::civil::Date| Slot(i64::from(mizuno_core::TradeDate::from_civil(d).0) * mizuno_core::time::DAY);
    at(first)..at(next)
}

fn columns(interval: Interval, versions: &Versions) -> [Column; 8] {
    let price = |name| Column { name, kind: Kind::Decimal(versions.price_scale), optional: true };
    let time = if interval.is_intraday() { Kind::Instant } else { Kind::Date };
    [
        Column { name: "time", kind: time, optional: false },
        Column { name: "recorded_at", kind: Kind::Instant, optional: false },
        Column { name: "fetch", kind: Kind::Whole, optional: false },
        price("open"),
        price("high"),
        price("low"),
        price("close"),
        Column { name: "volume", kind: Kind::Decimal(versions.volume_scale), optional: true },
    ]
}

/// The Parquet file of some versions.
///
/// # Errors
/// When the file cannot be made; in memory that means a bug, not a full disk.
pub fn encode(interval: Interval, versions: &Versions) -> Result<Vec<u8>> {
    let rows = &versions.rows;
    let price = |of: fn(&Bar) -> Price| Values::some(rows.iter().map(|v| (!v.withdrawn).then(|| of(&v.bar).0)));
    let write = || {
        let mut file = TableWriter::new(Vec::with_capacity(rows.len() * 6 + 2048), &columns(interval, versions))?;
        file.rows(&[
            Values::all(rows.iter().map(|v| v.bar.slot.0)),
            Values::all(rows.iter().map(|v| v.recorded_at.0)),
            Values::all(rows.iter().map(|v| v.fetch)),
            price(|b| b.open),
            price(|b| b.high),
            price(|b| b.low),
            price(|b| b.close),
            Values::some(rows.iter().map(|v| v.bar.volume.filter(|_| !v.withdrawn).map(|v| v.0))),
        ])?;
        file.finish()
    };
    write().map_err(|e| StoreError::Damaged { block: 0, problem: e.to_string() })
}

/// Reads the file back.
///
/// # Errors
/// When `body` is not such a file.
pub fn decode(body: Vec<u8>, price_scale: u8, volume_scale: u8) -> std::result::Result<Versions, ParquetError> {
    let file = SerializedFileReader::new(Bytes::from(body))?;
    let mut rows: Vec<Version> = vec![];
    for index in 0..file.num_row_groups() {
        let group = file.get_row_group(index)?;
        let count = group.metadata().num_rows() as usize;
        let first = rows.len();
        let column = |i| group.get_column_reader(i).and_then(|reader| read(reader, count));
        let (time, _) = column(0)?;
        let (recorded_at, _) = column(1)?;
        let (fetch, _) = column(2)?;
        if time.len() != count || recorded_at.len() != count || fetch.len() != count {
            return Err(ParquetError::General("columns of different lengths".to_owned()));
        }
        rows.extend((0..count).map(|i| Version {
            recorded_at: Timestamp(recorded_at[i]),
            fetch: fetch[i],
            withdrawn: false,
            bar: Bar { slot: Slot(time[i]), open: Price(0), high: Price(0), low: Price(0), close: Price(0), volume: None },
        }));
        let rows = &mut rows[first..];
        fill(rows, column(3)?, |v, x| v.bar.open = Price(x));
        fill(rows, column(4)?, |v, x| v.bar.high = Price(x));
        fill(rows, column(5)?, |v, x| v.bar.low = Price(x));
        let close = column(6)?;
        if close.0.len() < count {
            rows.iter_mut().zip(&close.1).for_each(|(v, &level)| v.withdrawn = level == 0);
        }
        fill(rows, close, |v, x| v.bar.close = Price(x));
        fill(rows, column(7)?, |v, x| v.bar.volume = Some(Volume(x)));
    }
    Ok(Versions { price_scale, volume_scale, rows })
}

/// Puts a column's values into the rows that have one.
fn fill(rows: &mut [Version], (values, levels): (Vec<i64>, Vec<i16>), put: impl Fn(&mut Version, i64)) {
    if values.len() == rows.len() {
        rows.iter_mut().zip(values).for_each(|(v, x)| put(v, x));
    } else {
        let present = rows.iter_mut().zip(levels).filter(|(_, level)| *level > 0);
        present.zip(values).for_each(|((v, _), x)| put(v, x));
    }
}

fn read(reader: ColumnReader, count: usize) -> std::result::Result<(Vec<i64>, Vec<i16>), ParquetError> {
    let (mut values, mut levels) = (Vec::with_capacity(count), vec![]);
    match reader {
        ColumnReader::Int64ColumnReader(mut r) => {
            r.read_records(count, Some(&mut levels), None, &mut values)?;
        }
        ColumnReader::Int32ColumnReader(mut r) => {
            let mut days = Vec::with_capacity(count);
            r.read_records(count, Some(&mut levels), None, &mut days)?;
            values.extend(days.into_iter().map(i64::from));
        }
        _ => return Err(ParquetError::General("a column of an unknown type".to_owned())),
    }
    Ok((values, levels))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    prop_compose! {
        fn version()(slot in -1_000_000i64..1_000_000_000, at in 0i64..1_000, fetch in 1i64..99, p in prop::array::uniform4(-999_999_999_999_999_999i64..1_000_000_000_000_000_000),
                     volume in prop::option::of(0i64..1_000_000_000), withdrawn in prop::bool::weighted(0.1)) -> Version {
            let [open, high, low, close] = p.map(Price);
            let bar = Bar { slot: Slot(slot), open, high, low, close, volume: volume.map(Volume) };
            let gone = Bar { slot: Slot(slot), open: Price(0), high: Price(0), low: Price(0), close: Price(0), volume: None };
            Version { recorded_at: Timestamp(at), fetch, bar: if withdrawn { gone } else { bar }, withdrawn }
        }
    }

    proptest! {
        #[test]
        fn a_block_reads_back_versions_and_all(rows in prop::collection::vec(version(), 0..300), daily in any::<bool>(), price_scale in 0u8..12) {
            let interval = if daily { Interval::Daily } else { Interval::MINUTE };
            let versions = Versions { price_scale, volume_scale: 0, rows };
            let body = encode(interval, &versions).unwrap();
            prop_assert_eq!(decode(body, price_scale, 0).unwrap(), versions);
        }

        #[test]
        fn every_slot_lies_in_its_span(slot in -60_000_000_000_000_000i64..60_000_000_000_000_000, seconds in 1u32..80_000) {
            let interval = Interval::Intraday { seconds };
            let span = span_of(interval, Slot(slot));
            prop_assert!(span.contains(&Slot(slot)));
            prop_assert_eq!(span_of(interval, span.start), span.clone());
            prop_assert_eq!(span_of(interval, span.end).start, span.end);
        }
    }

    #[test]
    fn bytes_that_are_no_block_are_refused() {
        assert!(decode(b"not a parquet file".to_vec(), 0, 0).is_err());
    }
}
