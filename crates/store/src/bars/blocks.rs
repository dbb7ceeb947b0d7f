//! A block: every version of one series' bars in one span, as a Parquet file.
//!
//! Rows stand by (slot, recorded_at). The columns are `time` (TIMESTAMP in
//! UTC microseconds, or DATE for daily bars), `recorded_at`, `fetch`, and
//! `open`, `high`, `low`, `close`, `volume` as DECIMAL; a withdrawn bar has no prices.
//! `open_interest` stands behind them where a bar has one.
//!
//! A column has one scale, the largest of its numbers: DECIMAL(18, s) where all
//! fit into 18 digits, DECIMAL(38, s) where not. Where numbers were printed with
//! fewer digits, `decimals` says with how many: those of the open in its last two
//! digits, of high, low, close, volume and open interest in the pairs before them. Columns are
//! found by name, so that a later version may add further numbers.

use crate::{
    Result, StoreError,
    table::{Column, Kind, TableWriter, Values},
};
use bytes::Bytes;
use mizuno_core::{Bar, Decimal, Interval, Slot, Span, Timestamp, Version, Versions, bar::Digits};
use parquet::{
    column::reader::ColumnReader,
    errors::ParquetError,
    file::reader::{FileReader, RowGroupReader, SerializedFileReader},
};
use std::ops::Range;

/// Which numbers of bars somebody needs, besides the close. A column that nobody needs is not unpacked: the close stands in the place of
/// another price then, and a volume or an open interest is absent.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Needed {
    /// The open.
    pub open: bool,
    /// The high.
    pub high: bool,
    /// The low.
    pub low: bool,
    /// The volume.
    pub volume: bool,
    /// The open interest.
    pub open_interest: bool,
}

impl Needed {
    /// All numbers there are.
    pub const ALL: Needed = Needed { open: true, high: true, low: true, volume: true, open_interest: true };
    /// The close, and nothing besides.
    pub const CLOSE: Needed = Needed { open: false, high: false, low: false, volume: false, open_interest: false };
}

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

/// The room that the prices and volumes of some versions take.
#[must_use]
pub fn digits(versions: &Versions) -> (Digits, Digits) {
    mizuno_core::bar::digits(versions.rows.iter().filter(|v| !v.withdrawn).map(|v| &v.bar))
}

/// The room that their open interest takes; `None` where no bar has one.
fn interest(versions: &Versions) -> Option<Digits> {
    let mut all = versions.rows.iter().filter_map(|v| v.bar.open_interest()).peekable();
    all.peek()?;
    let mut room = Digits::default();
    all.for_each(|n| room.take(n));
    Some(room)
}

/// A column is optional only where some row lacks a value: levels cost time on every reading.
fn columns(interval: Interval, versions: &Versions, room: (Digits, Digits, Option<Digits>), printed_alike: bool) -> Vec<Column> {
    let (price, volume, interest) = room;
    let withdrawn = versions.rows.iter().any(|v| v.withdrawn);
    let unknown = versions.rows.iter().any(|v| v.bar.volume().is_none());
    let column = |name: &str, kind, optional| Column { name: name.to_owned(), kind, optional };
    let time = if interval.is_intraday() { Kind::Instant } else { Kind::Date };
    let mut out = vec![column("time", time, false), column("recorded_at", Kind::Instant, false), column("fetch", Kind::Whole, false)];
    out.extend(["open", "high", "low", "close"].map(|name| column(name, Kind::decimal(price), withdrawn)));
    out.push(column("volume", Kind::decimal(volume), withdrawn || unknown));
    out.extend(interest.map(|room| column("open_interest", Kind::decimal(room), true)));
    out.extend((!printed_alike).then(|| column("decimals", Kind::Code, false)));
    out
}

/// How many digits each number of a bar has after the point, two decimal digits each.
fn decimals(bar: &Bar) -> i64 {
    let all = bar.prices().map(Some).into_iter().chain([bar.volume(), bar.open_interest()]);
    all.map(|number| number.map_or(0, |n| n.scale)).zip(0..).map(|(scale, at)| i64::from(scale) * 100i64.pow(at)).sum()
}

/// The Parquet file of some versions.
///
/// # Errors
/// When the file cannot be made; in memory that means a bug, not a full disk.
pub fn encode(interval: Interval, versions: &Versions) -> Result<Vec<u8>> {
    let rows = &versions.rows;
    let (price, volume) = digits(versions);
    let interest = interest(versions);
    let interest_scale = interest.map_or(0, |room| room.scale);
    let alike = rows.iter().all(|v| v.withdrawn || v.bar.is_printed_with(price.scale, volume.scale, interest_scale));
    let columns = columns(interval, versions, (price, volume, interest), alike);
    let bar = |v: &Version, of: fn(&Bar) -> Option<Decimal>| (!v.withdrawn).then(|| of(&v.bar)).flatten();
    let numbers = |room: Digits, of: fn(&Bar) -> Option<Decimal>| Values::decimals(room, &rows.iter().map(|v| bar(v, of)).collect());
    let write = || {
        let mut file = TableWriter::new(Vec::with_capacity(rows.len() * 6 + 2048), &columns, rows.len())?;
        let mut values = vec![
            Values::all(rows.iter().map(|v| v.bar.slot.0)),
            Values::all(rows.iter().map(|v| v.recorded_at.0)),
            Values::all(rows.iter().map(|v| v.fetch)),
            numbers(price, |b| Some(b.open())),
            numbers(price, |b| Some(b.high())),
            numbers(price, |b| Some(b.low())),
            numbers(price, |b| Some(b.close())),
            numbers(volume, Bar::volume),
        ];
        values.extend(interest.map(|room| numbers(room, Bar::open_interest)));
        if !alike {
            values.push(Values::all(rows.iter().map(|v| decimals(&v.bar))));
        }
        file.rows(&values)?;
        file.finish()
    };
    write().map_err(|e| StoreError::Unpackable { what: "a block", source: e.into() })
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
        let group = Group::new(&file, index)?;
        let mut bars = vec![];
        let (time, (close, withdrawn)) = (group.all("time")?, group.spread("close")?);
        group.bars((price_scale, volume_scale), Needed::ALL, (&time, &close), &(0..time.len()), &mut bars)?;
        let (recorded_at, fetch) = (group.all("recorded_at")?, group.all("fetch")?);
        let stamps = recorded_at.into_iter().zip(fetch).enumerate();
        rows.extend(stamps.zip(bars).map(|((i, (at, fetch)), bar)| {
            let withdrawn = withdrawn.get(i).is_some_and(|level| *level == 0);
            let bar = if withdrawn { Bar::nothing(bar.slot) } else { bar };
            Version { recorded_at: Timestamp(at), fetch, bar, withdrawn }
        }));
    }
    Ok(Versions { rows })
}

/// Reads only the bars of a file in which every slot stands once and none is withdrawn:
/// two columns less to read, and no versions to choose from. Those in `span` are put behind those in `out`.
///
/// # Errors
/// When `body` is not such a file.
pub fn decode_plain(body: Vec<u8>, scales: (u8, u8), needed: Needed, span: &Span, out: &mut Vec<Bar>) -> Decoded<()> {
    let file = SerializedFileReader::new(Bytes::from(body))?;
    for index in 0..file.num_row_groups() {
        let group = Group::new(&file, index)?;
        let (time, (close, _)) = (group.all("time")?, group.spread("close")?);
        group.bars(scales, needed, (&time, &close), &in_span(&time, span), out)?;
    }
    Ok(())
}

/// Reads the bars of a file as they were known at an instant, as [`Versions::as_of`] would choose them: rows that are not chosen do not
/// become bars. Those in `span` are put behind those in `out`.
///
/// # Errors
/// When `body` is not such a file.
pub fn decode_as_of(body: Vec<u8>, scales: (u8, u8), as_of: Timestamp, needed: Needed, span: &Span, out: &mut Vec<Bar>) -> Decoded<()> {
    let file = SerializedFileReader::new(Bytes::from(body))?;
    for index in 0..file.num_row_groups() {
        let group = Group::new(&file, index)?;
        let (time, (close, levels)) = (group.all("time")?, group.spread("close")?);
        let rows = group.known_at(&time, &levels, as_of, in_span(&time, span))?;
        group.bars(scales, needed, (&time, &close), &rows, out)?;
    }
    Ok(())
}

/// The slots of the bars that a file had at an instant, in order.
///
/// # Errors
/// When `body` is not such a file.
pub fn decode_slots(body: Vec<u8>, as_of: Timestamp) -> Decoded<Vec<Slot>> {
    let file = SerializedFileReader::new(Bytes::from(body))?;
    let mut out = vec![];
    for index in 0..file.num_row_groups() {
        let group = Group::new(&file, index)?;
        let (time, (_, levels)) = (group.all("time")?, group.spread("close")?);
        out.extend(group.known_at(&time, &levels, as_of, 0..time.len())?.iter().map(|row| Slot(time[*row])));
    }
    Ok(out)
}

/// The rows of a group whose slots lie in `span`.
fn in_span(time: &[i64], span: &Span) -> Range<usize> {
    let before = |slot: Slot| time.partition_point(|at| *at < slot.0);
    before(span.start)..before(span.end).max(before(span.start))
}

/// Rows of a group, in order: a stretch of them, or those that were chosen.
trait Chosen {
    fn each(&self) -> impl Iterator<Item = usize>;
}

impl Chosen for Range<usize> {
    fn each(&self) -> impl Iterator<Item = usize> {
        self.clone()
    }
}

impl Chosen for Vec<usize> {
    fn each(&self) -> impl Iterator<Item = usize> {
        self.iter().copied()
    }
}

struct Group<'f> {
    reader: Box<dyn RowGroupReader + 'f>,
    count: usize,
}

/// The values of a column, with nought for rows without one.
enum Spread {
    Narrow(Vec<i64>),
    Wide(Vec<i128>),
}

impl<'f> Group<'f> {
    fn new(file: &'f SerializedFileReader<Bytes>, index: usize) -> Decoded<Group<'f>> {
        Ok(Group { reader: file.get_row_group(index)?, count: file.metadata().row_group(index).num_rows() as usize })
    }

    /// The rows that were known at an instant, one for each slot at most: the last that was learned until then, where it is not withdrawn.
    /// A bar has all its prices or none, so the levels of the close are those of all.
    fn known_at(&self, time: &[i64], levels: &[i16], as_of: Timestamp, rows: Range<usize>) -> Decoded<Vec<usize>> {
        let recorded_at = self.all("recorded_at")?;
        let mut out: Vec<usize> = Vec::with_capacity(rows.len());
        let mut known = None;
        for row in rows.clone() {
            if recorded_at[row] <= as_of.0 {
                known = Some(row);
            }
            let ends = row + 1 == rows.end || time[row + 1] != time[row];
            if ends {
                out.extend(known.take().filter(|row| levels.get(*row).is_none_or(|level| *level > 0)));
            }
        }
        Ok(out)
    }

    /// Puts the bars of some rows behind those in `out`. The moments and the closes have been read, since rows are chosen by them.
    fn bars(
        &self,
        (price_scale, volume_scale): (u8, u8),
        needed: Needed,
        (time, close): (&[i64], &Spread),
        rows: &impl Chosen,
        out: &mut Vec<Bar>,
    ) -> Decoded<()> {
        let price = |name, needed: bool| needed.then(|| Ok::<Spread, ParquetError>(self.spread(name)?.0)).transpose();
        let (open, high, low) = (price("open", needed.open)?, price("high", needed.high)?, price("low", needed.low)?);
        let [open, high, low] = [&open, &high, &low].map(|column| column.as_ref().unwrap_or(close));
        let (volume, known) = match needed.volume {
            true => self.spread("volume")?,
            false => (Spread::Narrow(vec![0; self.count]), vec![0; self.count]),
        };
        let interest = (needed.open_interest && self.has("open_interest")).then(|| self.interest()).transpose()?;
        let printed = self.has("decimals").then(|| self.all("decimals")).transpose()?;
        if let (Spread::Narrow(o), Spread::Narrow(h), Spread::Narrow(l), Spread::Narrow(c), Spread::Narrow(v), None) =
            (open, high, low, close, &volume, &printed)
        {
            let price = |mantissa: i64| Decimal { mantissa, scale: price_scale };
            // Slices of one length: no bar then asks whether there is a number for it.
            let n = self.count;
            let (time, o, h, l, c, v) = (&time[..n], &o[..n], &h[..n], &l[..n], &c[..n], &v[..n]);
            let bar = |i: usize, volume| Bar::new(Slot(time[i]), [price(o[i]), price(h[i]), price(l[i]), price(c[i])], volume);
            let volume = |i: usize| Decimal { mantissa: v[i], scale: volume_scale };
            let from = out.len();
            match known.is_empty() {
                true => out.extend(rows.each().map(|i| bar(i, Some(volume(i))))),
                false => out.extend(rows.each().map(|i| bar(i, known.get(i).is_none_or(|level| *level > 0).then(|| volume(i))))),
            }
            if let Some(interest) = interest {
                for (i, bar) in rows.each().zip(&mut out[from..]) {
                    *bar = bar.with_open_interest(interest.at(i, None)?);
                }
            }
            return Ok(());
        }
        let bar = |i: usize| {
            let own = |at: u32| printed.as_ref().map(|all| (all[i] / 100i64.pow(at) % 100) as u8);
            let number = |column: &Spread, at: u32, scale: u8| column.number(i, scale, own(at).unwrap_or(scale));
            let prices = [
                number(open, if needed.open { 0 } else { 3 }, price_scale)?,
                number(high, if needed.high { 1 } else { 3 }, price_scale)?,
                number(low, if needed.low { 2 } else { 3 }, price_scale)?,
                number(close, 3, price_scale)?,
            ];
            let volume = match known.get(i).is_none_or(|level| *level > 0) {
                true => Some(number(&volume, 4, volume_scale)?),
                false => None,
            };
            let interest = interest.as_ref().map_or(Ok(None), |interest| interest.at(i, own(5)))?;
            Decoded::Ok(Bar::new(Slot(time[i]), prices, volume).with_open_interest(interest))
        };
        for i in rows.each() {
            out.push(bar(i)?);
        }
        Ok(())
    }

    fn interest(&self) -> Decoded<Interest> {
        let (values, levels) = self.spread("open_interest")?;
        let scale = self.place("open_interest").map_or(0, |at| self.reader.metadata().schema_descr().column(at).type_scale());
        Ok(Interest { values, levels, scale: u8::try_from(scale).unwrap_or(0) })
    }

    fn place(&self, column: &str) -> Option<usize> {
        self.reader.metadata().schema_descr().columns().iter().position(|c| c.name() == column)
    }

    fn has(&self, column: &str) -> bool {
        self.place(column).is_some()
    }

    /// A column of whole numbers in which every row has a value.
    fn all(&self, column: &str) -> Decoded<Vec<i64>> {
        match self.spread(column)?.0 {
            Spread::Narrow(values) => Ok(values),
            Spread::Wide(_) => Err(ParquetError::General(format!("the column {column} is of another type"))),
        }
    }

    /// A column with zero for the rows without a value, and the levels that tell these apart;
    /// no levels when every row has one.
    fn spread(&self, column: &str) -> Decoded<(Spread, Vec<i16>)> {
        let place = self.place(column).ok_or_else(|| ParquetError::General(format!("there is no column {column}")))?;
        let mut levels = vec![];
        let spread = match self.reader.get_column_reader(place)? {
            ColumnReader::Int64ColumnReader(mut r) => {
                let mut values = Vec::with_capacity(self.count);
                r.read_records(self.count, Some(&mut levels), None, &mut values)?;
                Spread::Narrow(self.in_place(values, &levels)?)
            }
            ColumnReader::Int32ColumnReader(mut r) => {
                let mut days = Vec::with_capacity(self.count);
                r.read_records(self.count, Some(&mut levels), None, &mut days)?;
                Spread::Narrow(self.in_place(days.into_iter().map(i64::from).collect(), &levels)?)
            }
            ColumnReader::FixedLenByteArrayColumnReader(mut r) => {
                let mut wide = Vec::with_capacity(self.count);
                r.read_records(self.count, Some(&mut levels), None, &mut wide)?;
                let number = |bytes: &[u8]| {
                    bytes.try_into().map(i128::from_be_bytes).map_err(|_| ParquetError::General("a number of another width".to_owned()))
                };
                let wide = wide.iter().map(|w| number(w.data())).collect::<Decoded<Vec<i128>>>()?;
                Spread::Wide(self.in_place(wide, &levels)?)
            }
            _ => return Err(ParquetError::General(format!("the column {column} is of an unknown type"))),
        };
        Ok((spread, levels))
    }

    /// The values there are, with noughts between them where levels say that there is none.
    fn in_place<T: Copy + Default>(&self, values: Vec<T>, levels: &[i16]) -> Decoded<Vec<T>> {
        let values = match levels.len() == self.count && values.len() < self.count {
            false => values,
            true => {
                let mut present = values.into_iter();
                levels.iter().map(|level| if *level > 0 { present.next().unwrap_or_default() } else { T::default() }).collect()
            }
        };
        if values.len() == self.count { Ok(values) } else { Err(ParquetError::General("columns of different lengths".to_owned())) }
    }
}

/// The open interest of each row, at the scale that the file says.
struct Interest {
    values: Spread,
    levels: Vec<i16>,
    scale: u8,
}

impl Interest {
    /// That of a row, with so many digits after the point where not all are printed alike.
    fn at(&self, row: usize, own: Option<u8>) -> Decoded<Option<Decimal>> {
        let is_there = self.levels.get(row).is_none_or(|level| *level > 0);
        is_there.then(|| self.values.number(row, self.scale, own.unwrap_or(self.scale))).transpose()
    }
}

impl Spread {
    /// A number with `own` of the column's `scale` digits after the point.
    fn number(&self, at: usize, scale: u8, own: u8) -> Decoded<Decimal> {
        let wide = match self {
            // Most numbers are printed as the column has them, or fit.
            Spread::Narrow(values) if own >= scale => return Ok(Decimal { mantissa: values[at], scale: own }),
            Spread::Narrow(values) => i128::from(values[at]),
            Spread::Wide(values) => values[at],
        };
        let by = 10i128.pow(u32::from(scale.saturating_sub(own).min(18)));
        let mantissa = i64::try_from(wide / by).ok().filter(|_| wide % by == 0);
        mantissa
            .map(|mantissa| Decimal { mantissa, scale: own })
            .ok_or_else(|| ParquetError::General("a number with more digits than it was printed with".to_owned()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    prop_compose! {
        /// Numbers of a few digits, or of all that there can be.
        fn number(few: bool)(mantissa in -999_999_999_999_999_999i64..1_000_000_000_000_000_000, scale in 0u8..=18) -> Decimal {
            if few { Decimal { mantissa: mantissa % 100_000, scale: 2 } } else { Decimal { mantissa, scale } }
        }
    }

    prop_compose! {
        fn version(few: bool, slots: Range<i64>)(slot in slots, at in 0i64..1_000, fetch in 1i64..99, prices in prop::array::uniform4(number(few)),
                     volume in prop::option::of(number(few)), interest in prop::option::weighted(0.3, number(few)),
                     withdrawn in prop::bool::weighted(0.1)) -> Version {
            let bar = Bar::new(Slot(slot), prices, volume).with_open_interest(interest);
            let bar = if withdrawn { Bar::nothing(Slot(slot)) } else { bar };
            Version { recorded_at: Timestamp(at), fetch, bar, withdrawn }
        }
    }

    proptest! {
        /// Any number beside any other reads back as it was printed.
        #[test]
        fn a_block_reads_back_versions_and_all(
            rows in any::<bool>().prop_flat_map(|few| prop::collection::vec(version(few, -1_000_000..1_000_000_000), 0..300)),
            daily in any::<bool>(),
        ) {
            let interval = if daily { Interval::Daily } else { Interval::MINUTE };
            let versions = Versions { rows };
            let (price, volume) = digits(&versions);
            let read = decode(encode(interval, &versions).unwrap(), price.scale, volume.scale).unwrap();
            prop_assert_eq!(format!("{read:?}"), format!("{versions:?}"));
        }

        /// Rows that are chosen while a block is read are those that would be chosen of all its versions, at any instant and in any span.
        #[test]
        fn what_was_known_at_an_instant_is_read_without_the_rest(
            rows in (any::<bool>(), 1i64..100).prop_flat_map(|(few, to)| prop::collection::vec(version(few, 0..to), 0..300)),
            as_of in 0i64..1_000,
            (from, to) in (-10i64..100, -10i64..100),
        ) {
            let mut versions = Versions::default();
            rows.into_iter().for_each(|v| versions.absorb(Versions { rows: vec![v] }));
            let (price, volume) = digits(&versions);
            let (scales, span, as_of) = ((price.scale, volume.scale), Slot(from)..Slot(to), Timestamp(as_of));
            let body = || encode(Interval::MINUTE, &versions).unwrap();
            let known = versions.as_of(as_of).rows;
            let within: Vec<Bar> = known.iter().copied().filter(|b| span.contains(&b.slot)).collect();
            let mut read = vec![];
            decode_as_of(body(), scales, as_of, Needed::ALL, &span, &mut read).unwrap();
            prop_assert_eq!(format!("{read:?}"), format!("{within:?}"));
            prop_assert_eq!(decode_slots(body(), as_of).unwrap(), known.iter().map(|b| b.slot).collect::<Vec<_>>());
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
