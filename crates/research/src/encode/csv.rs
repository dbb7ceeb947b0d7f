//! Delimited text (RFC 4180): lines end with CR LF, and a text is quoted where it must be.

use super::{
    Encoder, Style,
    print::{StampPrinter, decimal, real, whole},
};
use crate::answer::batch::{Batch, Cells, Heading, Kind};
use mizuno_desk::DeskError;

pub(super) struct CsvEncoder {
    headings: Vec<Heading>,
    stamps: StampPrinter,
    separator: u8,
    sign: u8,
    header: bool,
    /// Whether every text and stamp is quoted.
    quoted: bool,
    /// The words of each column as they stand in a cell.
    words: Vec<Vec<Vec<u8>>>,
}

impl CsvEncoder {
    pub(super) fn new(headings: Vec<Heading>, style: Style) -> CsvEncoder {
        let (separator, quoted) = (style.file.separator, style.file.quoted_texts);
        let words = |h: &Heading| match &h.kind {
            Kind::Words(words) => words.iter().map(|w| cell(w, separator, quoted)).collect(),
            _ => vec![],
        };
        CsvEncoder {
            words: headings.iter().map(words).collect(),
            headings,
            stamps: StampPrinter::new(style.clock, style.stamp),
            separator,
            sign: if style.file.decimal_comma { b',' } else { b'.' },
            header: style.file.header,
            quoted,
        }
    }

    fn stamp(&mut self, out: &mut Vec<u8>, print: impl FnOnce(&mut StampPrinter, &mut Vec<u8>)) {
        let quoted = self.quoted && !self.stamps.are_numbers();
        out.extend(quoted.then_some(b'"'));
        print(&mut self.stamps, out);
        out.extend(quoted.then_some(b'"'));
    }
}

/// A text as a cell, quoted where it must be, or always. One that a spreadsheet would take for a formula has an apostrophe before it.
fn cell(text: &str, separator: u8, always: bool) -> Vec<u8> {
    let guard = text.starts_with(['=', '+', '-', '@', '\t', '\r']);
    let quoted = always || guard || text.bytes().any(|b| b == separator || b"\"\r\n".contains(&b));
    let text = if guard { format!("'{text}") } else { text.to_owned() };
    if quoted { format!("\"{}\"", text.replace('"', "\"\"")).into_bytes() } else { text.into_bytes() }
}

impl Encoder for CsvEncoder {
    fn begin(&mut self, out: &mut Vec<u8>) -> Result<(), DeskError> {
        if self.header {
            let names: Vec<Vec<u8>> = self.headings.iter().map(|h| cell(&h.name, self.separator, self.quoted)).collect();
            out.extend_from_slice(&names.join(&self.separator));
            out.extend_from_slice(b"\r\n");
        }
        Ok(())
    }

    fn rows(&mut self, batch: &Batch, out: &mut Vec<u8>) -> Result<(), DeskError> {
        out.reserve(batch.rows * batch.columns.len() * 9);
        for row in 0..batch.rows {
            for (i, column) in batch.columns.iter().enumerate() {
                if i > 0 {
                    out.push(self.separator);
                }
                match column {
                    Cells::Numbers(cells) => cells.get(row).into_iter().for_each(|n| decimal(n, self.sign, out)),
                    Cells::Reals(cells) => cells[row].into_iter().for_each(|n| real(n, self.sign, out)),
                    Cells::Moments(cells) => self.stamp(out, |stamps, out| stamps.instant(cells[row], out)),
                    Cells::Dates(cells) => self.stamp(out, |stamps, out| stamps.date(cells[row], out)),
                    Cells::Whole(cells) => whole(cells[row], out),
                    Cells::Words(cells) => {
                        let word = cells[row].and_then(|place| self.words[i].get(place as usize));
                        out.extend_from_slice(word.map_or(&[][..], Vec::as_slice));
                    }
                    Cells::Flags(cells) => out.extend_from_slice(cells[row].map_or(&b""[..], |yes| if yes { b"true" } else { b"false" })),
                }
            }
            out.extend_from_slice(b"\r\n");
        }
        Ok(())
    }

    fn finish(self: Box<Self>, _out: &mut Vec<u8>) -> Result<(), DeskError> {
        Ok(())
    }
}
