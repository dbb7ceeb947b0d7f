//! A Parquet file: UTC timestamps or dates, decimal or floating numbers, a row group a batch. What it is stands in its metadata.

use super::{Encoder, Style};
use crate::{
    answer::batch::{Batch, Cells, Heading, Kind},
    question::zone::Stamp,
};
use mizuno_core::{
    bar::Digits,
    time::{DAY, SECOND},
};
use mizuno_desk::DeskError;
use mizuno_store::table::{self, TableWriter, Values};

/// Rows of one group: many small groups read slowly, and engines ask a storage for each.
const GROUP: usize = 1 << 16;
/// Cells of one group at most: some megabytes.
const CELLS: usize = 1 << 19;

pub(super) struct ParquetEncoder {
    table: TableWriter<Vec<u8>>,
    headings: Vec<Heading>,
    floats: bool,
    /// Stamps are divided by this, where they are whole numbers.
    unit: Option<i64>,
    pending: Vec<Values>,
    rows: usize,
    /// Rows of a group: those of a wide file stay below some megabytes of cells.
    most: usize,
}

fn failed(error: ::parquet::errors::ParquetError) -> DeskError {
    DeskError::fault("making the Parquet file", error)
}

impl ParquetEncoder {
    pub(super) fn new(headings: Vec<Heading>, style: &Style) -> Result<ParquetEncoder, DeskError> {
        let unit = match style.stamp {
            Stamp::Seconds => Some(SECOND),
            Stamp::Millis => Some(1000),
            Stamp::Micros => Some(1),
            _ => None,
        };
        let floats = style.file.floats;
        let column = |h: &Heading| table::Column {
            name: h.name.clone(),
            kind: match &h.kind {
                Kind::Moment | Kind::Date if unit.is_some() => table::Kind::Whole,
                Kind::Moment => table::Kind::Instant,
                Kind::Date => table::Kind::Date,
                Kind::Real => table::Kind::Float,
                Kind::Number(_) if floats => table::Kind::Float,
                Kind::Number(room) => table::Kind::decimal(*room),
                Kind::Words(words) => table::Kind::Word(words.clone()),
                Kind::Flag => table::Kind::Flag,
                Kind::Whole => table::Kind::Whole,
            },
            optional: h.optional,
        };
        let columns: Vec<_> = headings.iter().map(column).collect();
        let table = TableWriter::for_others(vec![], &columns, &style.about).map_err(failed)?;
        let pending = headings.iter().map(|h| Values { required: !h.optional, ..Values::default() }).collect();
        let most = GROUP.min(CELLS.div_ceil(headings.len().max(1)));
        Ok(ParquetEncoder { table, headings, floats, unit, pending, rows: 0, most })
    }

    /// Puts the cells of a column behind those that wait.
    fn add(&mut self, column: usize, cells: &Cells) {
        let (heading, unit, pending) = (&self.headings[column], self.unit, &mut self.pending[column]);
        match cells {
            // Through the text: the float that is nearest to the exact number.
            Cells::Numbers(cells) if self.floats => {
                pending.add_floats(cells.iter().map(|cell| cell.map(|n| n.to_string().parse().unwrap_or(f64::NAN))));
            }
            Cells::Numbers(cells) => {
                let room = if let Kind::Number(room) = heading.kind { room } else { Digits::default() };
                pending.add_decimals(room, cells);
            }
            Cells::Reals(cells) => pending.add_floats(cells.iter().copied()),
            Cells::Moments(cells) => pending.present.extend(cells.iter().map(|at| unit.map_or(*at, |unit| at.div_euclid(unit)))),
            Cells::Dates(cells) => {
                pending.present.extend(cells.iter().map(|d| unit.map_or(i64::from(*d), |unit| i64::from(*d) * (DAY / unit))));
            }
            Cells::Whole(cells) => pending.present.extend(cells),
            Cells::Words(cells) => pending.add(cells.iter().map(|w| w.map(i64::from))),
            Cells::Flags(cells) => pending.add(cells.iter().map(|f| f.map(i64::from))),
        }
    }

    fn group(&mut self, rows: usize, out: &mut Vec<u8>) -> Result<(), DeskError> {
        if rows > 0 {
            self.table.first_rows(&self.pending, rows).map_err(failed)?;
            self.pending.iter_mut().for_each(|values| values.drop_first(rows));
            self.rows -= rows;
            out.append(self.table.sink());
        }
        Ok(())
    }
}

impl Encoder for ParquetEncoder {
    fn begin(&mut self, _out: &mut Vec<u8>) -> Result<(), DeskError> {
        Ok(())
    }

    fn rows(&mut self, batch: &Batch, out: &mut Vec<u8>) -> Result<(), DeskError> {
        for (i, cells) in batch.columns.iter().enumerate() {
            self.add(i, cells);
        }
        self.rows += batch.rows;
        // Cut by rows alone: how many there are in a batch depends on how the database lies on its disk.
        while self.rows >= self.most {
            self.group(self.most, out)?;
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>, out: &mut Vec<u8>) -> Result<(), DeskError> {
        self.group(self.rows, out)?;
        out.append(&mut self.table.finish().map_err(failed)?);
        Ok(())
    }
}
