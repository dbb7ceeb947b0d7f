//! Bars as a Parquet file: UTC timestamps or dates, decimal prices, a row group a batch.

use super::{Column, Encoder, Layout};
use mizuno_core::{Bar, Bars, Decimal, bar::Digits};
use mizuno_store::table::{self, Kind, TableWriter, Values};

pub(super) struct ParquetEncoder {
    table: TableWriter<Vec<u8>>,
    columns: Vec<Column>,
    price: Digits,
    volume: Digits,
}

impl ParquetEncoder {
    pub(super) fn new(layout: &Layout) -> Result<ParquetEncoder, String> {
        let time = if layout.interval.is_intraday() { Kind::Instant } else { Kind::Date };
        let column = |c: &Column| table::Column {
            name: c.name(layout.interval),
            kind: match c {
                Column::Time => time.clone(),
                Column::Source => Kind::Word(layout.sources.clone().into()),
                Column::Volume => Kind::decimal(layout.volume),
                _ => Kind::decimal(layout.price),
            },
            optional: *c == Column::Volume,
        };
        let columns: Vec<_> = layout.columns.iter().map(column).collect();
        let table = TableWriter::new(vec![], &columns, usize::MAX).map_err(|e| e.to_string())?;
        Ok(ParquetEncoder { table, columns: layout.columns.clone(), price: layout.price, volume: layout.volume })
    }
}

impl Encoder for ParquetEncoder {
    fn begin(&mut self, _out: &mut Vec<u8>) -> Result<(), String> {
        Ok(())
    }

    fn bars(&mut self, bars: &Bars, from: &[u16], out: &mut Vec<u8>) -> Result<(), String> {
        let price = |of: fn(&Bar) -> Decimal| Values::decimals(self.price, bars.rows.iter().map(|b| Some(of(b))), bars.rows.len());
        let values: Vec<Values> = self
            .columns
            .iter()
            .map(|column| match column {
                Column::Time => Values::all(bars.rows.iter().map(|b| b.slot.0)),
                Column::Open => price(Bar::open),
                Column::High => price(Bar::high),
                Column::Low => price(Bar::low),
                Column::Close => price(Bar::close),
                Column::Source => Values::all((0..bars.rows.len()).map(|i| i64::from(from.get(i).copied().unwrap_or(0)))),
                Column::Volume => Values::decimals(self.volume, bars.rows.iter().map(Bar::volume), bars.rows.len()),
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
