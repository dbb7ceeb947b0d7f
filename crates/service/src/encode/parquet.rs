//! Bars as a Parquet file: UTC timestamps or dates, decimal prices, a row group a batch.

use super::{Column, Encoder, Layout};
use mizuno_core::{Bar, Bars};
use mizuno_store::table::{self, Kind, TableWriter, Values};

pub(super) struct ParquetEncoder {
    table: TableWriter<Vec<u8>>,
    columns: Vec<Column>,
}

impl ParquetEncoder {
    pub(super) fn new(layout: &Layout) -> Result<ParquetEncoder, String> {
        let time = if layout.interval.is_intraday() { Kind::Instant } else { Kind::Date };
        let column = |c: &Column| table::Column {
            name: c.name(layout.interval),
            kind: match c {
                Column::Time => time.clone(),
                Column::Source => Kind::Word(layout.sources.clone().into()),
                Column::Volume => Kind::Decimal(layout.volume_scale),
                _ => Kind::Decimal(layout.price_scale),
            },
            optional: *c == Column::Volume,
        };
        let columns: Vec<_> = layout.columns.iter().map(column).collect();
        let table = TableWriter::new(vec![], &columns, usize::MAX).map_err(|e| e.to_string())?;
        Ok(ParquetEncoder { table, columns: layout.columns.clone() })
    }
}

impl Encoder for ParquetEncoder {
    fn begin(&mut self, _out: &mut Vec<u8>) -> Result<(), String> {
        Ok(())
    }

    fn bars(&mut self, bars: &Bars, from: &[u16], out: &mut Vec<u8>) -> Result<(), String> {
        let all = |of: fn(&Bar) -> i64| Values::all(bars.rows.iter().map(of));
        let values: Vec<Values> = self
            .columns
            .iter()
            .map(|column| match column {
                Column::Time => all(|b| b.slot.0),
                Column::Open => all(|b| b.open.0),
                Column::High => all(|b| b.high.0),
                Column::Low => all(|b| b.low.0),
                Column::Close => all(|b| b.close.0),
                Column::Source => Values::all((0..bars.rows.len()).map(|i| i64::from(from.get(i).copied().unwrap_or(0)))),
                Column::Volume => Values::some(bars.rows.iter().map(|b| b.volume.map(|v| v.0))),
            })
            .collect();
        self.table.rows(&values).map_err(|e| e.to_string())?;
        out.append(self.table.sink());
        Ok(())
    }

    fn finish(self: Box<Self>, out: &mut Vec<u8>) -> Result<(), String> {
        out.append(&mut self.table.finish().map_err(|e| e.to_string())?);
        Ok(())
    }
}
