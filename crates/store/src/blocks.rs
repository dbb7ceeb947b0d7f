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
use mizuno_core::{Bar, Bars, Interval, Price, Slot, Span, Timestamp, Versions, Volume, bar::Version};
use parquet::{
    column::reader::ColumnReader,
    errors::ParquetError,
    file::reader::{FileReader, RowGroupReader, SerializedFileReader},
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

/// A column is optional only where some row lacks a value: levels cost time on every reading.
fn columns(interval: Interval, versions: &Versions) -> [Column; 8] {
    let withdrawn = versions.rows.iter().any(|v| v.withdrawn);
    let unknown = versions.rows.iter().any(|v| v.bar.volume.is_none());
    let price = |name| Column { name, kind: Kind::Decimal(versions.price_scale), optional: withdrawn };
    let time = if interval.is_intraday() { Kind::Instant } else { Kind::Date };
    [
        Column { name: "time", kind: time, optional: false },
        Column { name: "recorded_at", kind: Kind::Instant, optional: false },
        Column { name: "fetch", kind: Kind::Whole, optional: false },
        price("open"),
        price("high"),
        price("low"),
        price("close"),
        Column { name: "volume", kind: Kind::Decimal(versions.volume_scale), optional: withdrawn || unknown },
    ]
}

/// The Parquet file of some versions.
///
/// # Errors
/// When the file cannot be made; in memory that means a bug, not a full disk.
pub fn encode(interval: Interval, versions: &Versions) -> Result<Vec<u8>> {
    let rows = &versions.rows;
    let columns = columns(interval, versions);
    let price = |at: usize, of: fn(&Bar) -> Price| match columns[at].optional {
        true => Values::some(rows.iter().map(|v| (!v.withdrawn).then(|| of(&v.bar).0))),
        false => Values::all(rows.iter().map(|v| of(&v.bar).0)),
    };
    let volume = match columns[7].optional {
        true => Values::some(rows.iter().map(|v| v.bar.volume.filter(|_| !v.withdrawn).map(|v| v.0))),
        false => Values::all(rows.iter().filter_map(|v| v.bar.volume).map(|v| v.0)),
    };
    let write = || {
        let mut file = TableWriter::new(Vec::with_capacity(rows.len() * 6 + 2048), &columns, rows.len())?;
        file.rows(&[
            Values::all(rows.iter().map(|v| v.bar.slot.0)),
            Values::all(rows.iter().map(|v| v.recorded_at.0)),
            Values::all(rows.iter().map(|v| v.fetch)),
            price(3, |b| b.open),
            price(4, |b| b.high),
            price(5, |b| b.low),
            price(6, |b| b.close),
            volume,
        ])?;
        file.finish()
    };
    write().map_err(|e| StoreError::Damaged { block: 0, problem: e.to_string() })
}

type Decoded<T> = std::result::Result<T, ParquetError>;

/// Reads the file back, every version.
///
/// # Errors
/// When `body` is not such a file.
pub fn decode(body: Vec<u8>, price_scale: u8, volume_scale: u8) -> Decoded<Versions> {
    let file = SerializedFileReader::new(Bytes::from(body))?;
    let mut rows: Vec<Version> = vec![];
    for index in 0..file.num_row_groups() {
        let group = Group { reader: file.get_row_group(index)?, count: file.metadata().row_group(index).num_rows() as usize };
        let (bars, withdrawn) = group.bars()?;
        let (recorded_at, fetch) = (group.all(1)?, group.all(2)?);
        let stamps = recorded_at.into_iter().zip(fetch).enumerate();
        rows.extend(stamps.zip(bars).map(|((i, (at, fetch)), bar)| Version {
            recorded_at: Timestamp(at),
            fetch,
            bar,
            withdrawn: withdrawn.get(i).is_some_and(|level| *level == 0),
        }));
    }
    Ok(Versions { price_scale, volume_scale, rows })
}

/// Reads only the bars of a file in which every slot stands once and none is withdrawn:
/// two columns less to read, and no versions to choose from.
///
/// # Errors
/// When `body` is not such a file.
pub fn decode_plain(body: Vec<u8>, price_scale: u8, volume_scale: u8) -> Decoded<Bars> {
    let file = SerializedFileReader::new(Bytes::from(body))?;
    let mut rows: Vec<Bar> = vec![];
    for index in 0..file.num_row_groups() {
        let group = Group { reader: file.get_row_group(index)?, count: file.metadata().row_group(index).num_rows() as usize };
        rows.append(&mut group.bars()?.0);
    }
    Ok(Bars { price_scale, volume_scale, rows })
}

struct Group<'f> {
    reader: Box<dyn RowGroupReader + 'f>,
    count: usize,
}

impl Group<'_> {
    /// The bars of the group, and the levels of its prices where some row may have none.
    fn bars(&self) -> Decoded<(Vec<Bar>, Vec<i16>)> {
        let time = self.all(0)?;
        let (open, levels) = self.spread(3)?;
        let (high, low, close) = (self.spread(4)?.0, self.spread(5)?.0, self.spread(6)?.0);
        let (volume, known) = self.spread(7)?;
        let bar = |i: usize| Bar {
            slot: Slot(time[i]),
            open: Price(open[i]),
            high: Price(high[i]),
            low: Price(low[i]),
            close: Price(close[i]),
            volume: known.get(i).is_none_or(|level| *level > 0).then(|| Volume(volume[i])),
        };
        Ok(((0..self.count).map(bar).collect(), levels))
    }

    /// A column in which every row has a value.
    fn all(&self, column: usize) -> Decoded<Vec<i64>> {
        Ok(self.spread(column)?.0)
    }

    /// A column with zero for the rows without a value, and the levels that tell these apart;
    /// no levels when every row has one.
    fn spread(&self, column: usize) -> Decoded<(Vec<i64>, Vec<i16>)> {
        let (mut values, mut levels) = (Vec::with_capacity(self.count), vec![]);
        match self.reader.get_column_reader(column)? {
            ColumnReader::Int64ColumnReader(mut r) => {
                r.read_records(self.count, Some(&mut levels), None, &mut values)?;
            }
            ColumnReader::Int32ColumnReader(mut r) => {
                let mut days = Vec::with_capacity(self.count);
                r.read_records(self.count, Some(&mut levels), None, &mut days)?;
                values.extend(days.into_iter().map(i64::from));
            }
            _ => return Err(ParquetError::General("a column of an unknown type".to_owned())),
        }
        if levels.len() == self.count && values.len() < self.count {
            let mut present = values.into_iter();
            values = levels.iter().map(|level| if *level > 0 { present.next().unwrap_or(0) } else { 0 }).collect();
        }
        if values.len() == self.count {
            return Ok((values, levels));
        }
        Err(ParquetError::General("columns of different lengths".to_owned()))
    }
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
