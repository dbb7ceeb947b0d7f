//! A spreadsheet workbook (Office Open XML, ECMA-376): typed dates and numbers, a frozen header, and a sheet that says what it is.
//!
//! Numbers of a workbook are 64-bit floats. One that a float cannot give back digit for digit is refused, unless floats were
//! asked for. Stamps are the time on the clock, whose name stands in the heading, since a workbook knows no zones.

use super::{Encoder, Style};
use crate::{
    answer::batch::{Batch, Cells, Heading, Kind},
    question::zone::Clock,
};
use mizuno_core::{
    Decimal, Timestamp,
    time::{DAY, SECOND},
};
use mizuno_desk::DeskError;
use rust_xlsxwriter::{DocProperties, ExcelDateTime, Format, Workbook, Worksheet, XlsxError};

/// Rows of a sheet, its header included (ECMA-376 names no limit; spreadsheet programs open no more).
const SHEET: u32 = 1_048_576;
/// Cells of a workbook at most: it is kept as a whole until it is finished.
const MOST_CELLS: u64 = 3_000_000;
/// 1 January 1970, counted in days as a workbook counts them.
const EPOCH: f64 = 25_569.0;

pub(super) struct WorkbookEncoder {
    book: Workbook,
    headings: Vec<Heading>,
    formats: Vec<Format>,
    bold: Format,
    clock: Clock,
    floats: bool,
    about: Vec<(String, String)>,
    /// The sheet being filled, by its place, and its next row.
    sheet: usize,
    row: u32,
    cells: u64,
}

fn failed(error: XlsxError) -> DeskError {
    DeskError::fault("making the workbook", error)
}

impl WorkbookEncoder {
    pub(super) fn new(headings: Vec<Heading>, style: Style) -> Result<WorkbookEncoder, DeskError> {
        let format = |h: &Heading| match &h.kind {
            Kind::Moment => Format::new().set_num_format("yyyy-mm-dd hh:mm:ss"),
            Kind::Date => Format::new().set_num_format("yyyy-mm-dd"),
            Kind::Number(room) if room.scale > 0 => Format::new().set_num_format(format!("0.{}", "0".repeat(usize::from(room.scale)))),
            _ => Format::new(),
        };
        let mut out = WorkbookEncoder {
            book: Workbook::new(),
            formats: headings.iter().map(format).collect(),
            headings,
            bold: Format::new().set_bold(),
            clock: style.clock,
            floats: style.file.floats,
            about: style.about,
            sheet: 0,
            row: 0,
            cells: 0,
        };
        out.say_what_it_is().map_err(failed)?;
        out.next_sheet().map_err(failed)?;
        Ok(out)
    }

    /// The first sheet: what the file is. Its own date is the instant that the answer stands for.
    fn say_what_it_is(&mut self) -> Result<(), XlsxError> {
        let sheet = self.book.add_worksheet();
        sheet.set_name("About")?;
        sheet.set_column_width(0, 26)?.set_column_width(1, 90)?;
        for (row, (key, value)) in self.about.iter().enumerate() {
            sheet.write_string_with_format(row as u32, 0, key.trim_start_matches("mizuno."), &self.bold)?;
            sheet.write_string(row as u32, 1, value)?;
        }
        let instant = self.about.iter().find(|(key, _)| key == "mizuno.as_of").and_then(|(_, at)| at.parse::<Timestamp>().ok());
        // Never the time at which it was written: the same answer has the same bytes.
        let made = ExcelDateTime::from_timestamp(instant.map_or(0, |at| at.0.div_euclid(SECOND)))?;
        self.book.set_properties(&DocProperties::new().set_title("Bars").set_creation_datetime(&made));
        Ok(())
    }

    fn next_sheet(&mut self) -> Result<(), XlsxError> {
        let sheet = self.book.add_worksheet_with_constant_memory()?;
        self.sheet += 1;
        sheet.set_name(if self.sheet == 1 { "Bars".to_owned() } else { format!("Bars {}", self.sheet) })?;
        sheet.set_freeze_panes(1, 1)?;
        for (at, heading) in self.headings.iter().enumerate() {
            let width = if heading.kind == Kind::Moment { 20 } else { 12 };
            sheet.set_column_width(at as u16, width)?;
        }
        for (at, heading) in self.headings.iter().enumerate() {
            let name = match heading.kind {
                Kind::Moment => format!("{} ({})", heading.name, self.clock),
                _ => heading.name.clone(),
            };
            sheet.write_string_with_format(0, at as u16, &name, &self.bold)?;
        }
        self.row = 1;
        Ok(())
    }

    /// Days since the beginning of the workbook's calendar, on the clock.
    fn days(&self, micros: i64) -> f64 {
        let wall = micros + i64::from(self.clock.offset(Timestamp(micros)).seconds()) * SECOND;
        EPOCH + wall as f64 / DAY as f64
    }

    fn number(&self, number: Decimal, heading: &Heading) -> Result<f64, DeskError> {
        let float = number.to_string().parse::<f64>().unwrap_or(f64::NAN);
        let same = self.floats || Decimal::parse(float.to_string().as_bytes()).is_ok_and(|back| back == number);
        same.then_some(float).ok_or_else(|| {
            DeskError::Invalid(format!(
                "{number} in the column {} has more digits than a workbook can give back; add numbers=floats, or ask for another format",
                heading.name
            ))
        })
    }

    fn row(&mut self, batch: &Batch, row: usize) -> Result<(), DeskError> {
        if self.row == SHEET {
            self.next_sheet().map_err(failed)?;
        }
        let mut numbers: Vec<Option<f64>> = Vec::with_capacity(batch.columns.len());
        for (heading, column) in self.headings.iter().zip(&batch.columns) {
            numbers.push(match column {
                Cells::Numbers(cells) => cells.get(row).map(|n| self.number(n, heading)).transpose()?,
                Cells::Reals(cells) => cells[row],
                Cells::Moments(cells) => Some(self.days(cells[row])),
                Cells::Dates(cells) => Some(EPOCH + f64::from(cells[row])),
                Cells::Whole(cells) => Some(cells[row] as f64),
                Cells::Words(_) | Cells::Flags(_) => None,
            });
        }
        let at = self.row;
        self.row += 1;
        let sheet: &mut Worksheet = self.book.worksheet_from_index(self.sheet).map_err(failed)?;
        for (i, column) in batch.columns.iter().enumerate() {
            let place = i as u16;
            let written = match (column, numbers[i], &self.headings[i].kind) {
                (_, Some(number), _) => sheet.write_number_with_format(at, place, number, &self.formats[i]).map(drop),
                (Cells::Words(cells), _, Kind::Words(words)) => match cells[row].and_then(|word| words.get(word as usize)) {
                    Some(word) => sheet.write_string(at, place, word).map(drop),
                    None => Ok(()),
                },
                (Cells::Flags(cells), ..) => cells[row].map_or(Ok(()), |yes| sheet.write_boolean(at, place, yes).map(drop)),
                _ => Ok(()),
            };
            written.map_err(failed)?;
        }
        Ok(())
    }
}

impl Encoder for WorkbookEncoder {
    fn begin(&mut self, _out: &mut Vec<u8>) -> Result<(), DeskError> {
        Ok(())
    }

    fn rows(&mut self, batch: &Batch, _out: &mut Vec<u8>) -> Result<(), DeskError> {
        self.cells += (batch.rows * batch.columns.len()) as u64;
        if self.cells > MOST_CELLS {
            return Err(DeskError::Invalid(format!(
                "the answer has more than {MOST_CELLS} cells, and a workbook is written with at most so many; ask for fewer, or for format=parquet"
            )));
        }
        (0..batch.rows).try_for_each(|row| self.row(batch, row))
    }

    fn finish(mut self: Box<Self>, out: &mut Vec<u8>) -> Result<(), DeskError> {
        // It opens with the bars; what it is stands beside them.
        self.book.worksheet_from_index(1).map_err(failed)?.set_active(true);
        out.append(&mut self.book.save_to_buffer().map_err(failed)?);
        Ok(())
    }
}
