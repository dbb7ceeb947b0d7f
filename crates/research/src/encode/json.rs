//! An object a row, as lines or as one array, or one object with an array a column (RFC 8259). Numbers are written with all the digits
//! they have.

use super::{
    Encoder, Style,
    print::{StampPrinter, decimal, real, whole},
};
use crate::{
    answer::batch::{Batch, Cells, Heading, Kind},
    question::Format,
};
use mizuno_desk::DeskError;

pub(super) struct JsonEncoder {
    /// What stands before each cell: the brace or comma, and its name.
    before: Vec<Vec<u8>>,
    words: Vec<Vec<Vec<u8>>>,
    stamps: StampPrinter,
    lines: bool,
    first: bool,
    /// Where each column is an array: its cells so far.
    columns: Option<Vec<Vec<u8>>>,
    /// Cells so far.
    cells: usize,
}

/// Cells of a file with an array a column, at most: all columns stand in memory until the last row, some forty megabytes.
const MOST_CELLS: usize = 3_000_000;

fn quoted(text: &str) -> Vec<u8> {
    serde_json::Value::from(text).to_string().into_bytes()
}

impl JsonEncoder {
    pub(super) fn new(headings: Vec<Heading>, style: Style) -> JsonEncoder {
        let before = |(i, h): (usize, &Heading)| [if i == 0 { &b"{"[..] } else { b"," }, &quoted(&h.name), b":"].concat();
        let words = |h: &Heading| match &h.kind {
            Kind::Words(words) => words.iter().map(|w| quoted(w)).collect(),
            _ => vec![],
        };
        JsonEncoder {
            before: headings.iter().enumerate().map(before).collect(),
            words: headings.iter().map(words).collect(),
            stamps: StampPrinter::new(style.clock, style.stamp),
            lines: style.file.format == Format::Ndjson,
            first: true,
            columns: style.file.by_column.then(|| vec![vec![]; headings.len()]),
            cells: 0,
        }
    }

    fn stamp(&mut self, out: &mut Vec<u8>, print: impl FnOnce(&mut StampPrinter, &mut Vec<u8>)) {
        let quote = !self.stamps.are_numbers();
        out.extend_from_slice(if quote { b"\"" } else { b"" });
        print(&mut self.stamps, out);
        out.extend_from_slice(if quote { b"\"" } else { b"" });
    }

    fn row(&mut self, batch: &Batch, row: usize, out: &mut Vec<u8>) {
        for (i, column) in batch.columns.iter().enumerate() {
            out.extend_from_slice(&self.before[i]);
            self.cell(i, column, row, out);
        }
        out.push(b'}');
    }

    fn cell(&mut self, at: usize, column: &Cells, row: usize, out: &mut Vec<u8>) {
        const NONE: &[u8] = b"null";
        match column {
            Cells::Numbers(cells) => match cells.get(row) {
                Some(n) => decimal(n, b'.', out),
                None => out.extend_from_slice(NONE),
            },
            Cells::Reals(cells) => match cells[row] {
                Some(n) => real(n, b'.', out),
                None => out.extend_from_slice(NONE),
            },
            Cells::Moments(cells) => self.stamp(out, |stamps, out| stamps.instant(cells[row], out)),
            Cells::Dates(cells) => self.stamp(out, |stamps, out| stamps.date(cells[row], out)),
            Cells::Whole(cells) => whole(cells[row], out),
            Cells::Words(cells) => {
                let word = cells[row].and_then(|place| self.words[at].get(place as usize));
                out.extend_from_slice(word.map_or(NONE, Vec::as_slice));
            }
            Cells::Flags(cells) => out.extend_from_slice(cells[row].map_or(NONE, |yes| if yes { b"true" } else { b"false" })),
        }
    }

    /// Puts the cells of a batch behind those of each column.
    fn gather(&mut self, batch: &Batch, columns: &mut [Vec<u8>]) -> Result<(), DeskError> {
        self.cells += batch.rows * batch.columns.len();
        if self.cells > MOST_CELLS {
            return Err(DeskError::Invalid(format!(
                "arrays: a file with an array a column holds at most {MOST_CELLS} cells, and this one has more; ask for a shorter range, fewer \
                 columns, or arrays=rows"
            )));
        }
        for (at, (cells, out)) in batch.columns.iter().zip(columns).enumerate() {
            for row in 0..batch.rows {
                out.extend_from_slice(if out.is_empty() { b"" } else { b"," });
                self.cell(at, cells, row, out);
            }
        }
        Ok(())
    }
}

impl Encoder for JsonEncoder {
    fn begin(&mut self, out: &mut Vec<u8>) -> Result<(), DeskError> {
        if !self.lines && self.columns.is_none() {
            out.push(b'[');
        }
        Ok(())
    }

    fn rows(&mut self, batch: &Batch, out: &mut Vec<u8>) -> Result<(), DeskError> {
        if let Some(mut columns) = self.columns.take() {
            let gathered = self.gather(batch, &mut columns);
            self.columns = Some(columns);
            return gathered;
        }
        for row in 0..batch.rows {
            if !self.lines {
                out.extend_from_slice(if self.first { b"\n" } else { b",\n" });
            }
            self.row(batch, row, out);
            if self.lines {
                out.push(b'\n');
            }
            self.first = false;
        }
        Ok(())
    }

    fn finish(self: Box<Self>, out: &mut Vec<u8>) -> Result<(), DeskError> {
        if let Some(columns) = &self.columns {
            for (before, cells) in self.before.iter().zip(columns) {
                out.extend_from_slice(&[before, &b"["[..], cells, b"]"].concat());
            }
            out.extend_from_slice(if columns.is_empty() { b"{}\n" } else { b"}\n" });
        } else if !self.lines {
            out.extend_from_slice(b"\n]\n");
        }
        Ok(())
    }
}
