//! The records of delimited text (RFC 4180 and its kin), one at a time where they stand.

use csv_core::{ReadRecordResult, Reader, ReaderBuilder};
use std::cell::RefCell;

/// The separator, and what a line begins with that is a comment.
type Dialect = (u8, Option<u8>);

thread_local! {
    /// A reader's tables take as long to make as a short answer to read, so each thread keeps the last ones.
    static LAST: RefCell<Option<(Dialect, Reader)>> = const { RefCell::new(None) };
}

/// Reads text from beginning to end.
pub(super) struct Records<'t> {
    dialect: Dialect,
    reader: Reader,
    text: &'t [u8],
    at: usize,
    /// The fields of the record at hand one after another, without quotes, and where each ends.
    fields: Vec<u8>,
    ends: Vec<usize>,
}

impl Drop for Records<'_> {
    fn drop(&mut self) {
        self.reader.reset();
        LAST.set(Some((self.dialect, std::mem::take(&mut self.reader))));
    }
}

/// One record.
pub(super) struct Record<'r> {
    /// The line it begins on, from 1.
    pub line: u64,
    /// Itself, as it stands.
    pub text: &'r [u8],
    fields: &'r [u8],
    ends: &'r [usize],
}

impl<'t> Records<'t> {
    pub fn new(text: &'t [u8], separator: u8, comment: Option<u8>) -> Records<'t> {
        let dialect = (separator, comment);
        let reader = match LAST.take() {
            Some((last, reader)) if last == dialect => reader,
            _ => ReaderBuilder::new().delimiter(separator).comment(comment).build(),
        };
        Records { dialect, reader, text, at: 0, fields: vec![0; 256], ends: vec![0; 16] }
    }

    pub fn next(&mut self) -> Option<Record<'_>> {
        let (begin, line) = (self.at, self.reader.line());
        let (mut written, mut count) = (0, 0);
        loop {
            let (so, read, out, fields) =
                self.reader.read_record(&self.text[self.at..], &mut self.fields[written..], &mut self.ends[count..]);
            (self.at, written, count) = (self.at + read, written + out, count + fields);
            match so {
                // Told so once more, with nothing left, it ends the last record.
                ReadRecordResult::InputEmpty => {}
                ReadRecordResult::OutputFull => self.fields.resize(self.fields.len() * 2, 0),
                ReadRecordResult::OutputEndsFull => self.ends.resize(self.ends.len() * 2, 0),
                ReadRecordResult::End => return None,
                ReadRecordResult::Record => {
                    let text = &self.text[begin..self.at];
                    return Some(Record { line, text, fields: &self.fields[..written], ends: &self.ends[..count] });
                }
            }
        }
    }
}

impl<'r> Record<'r> {
    /// How many fields it has.
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// A field, from 0.
    pub fn get(&self, at: usize) -> Option<&'r [u8]> {
        let begin = at.checked_sub(1).map_or(0, |before| self.ends.get(before).copied().unwrap_or(0));
        self.fields.get(begin..*self.ends.get(at)?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn read(text: &[u8]) -> Vec<(u64, Vec<Vec<u8>>)> {
        let mut records = Records::new(text, b';', Some(b'#'));
        let mut out = vec![];
        while let Some(record) = records.next() {
            out.push((record.line, (0..record.len()).filter_map(|at| record.get(at)).map(<[u8]>::to_vec).collect()));
        }
        out
    }

    proptest! {
        /// Whatever stands there, these are the records that the `csv` crate finds.
        #[test]
        fn records_are_those_of_the_csv_crate(text in prop::collection::vec(prop::sample::select(b"ab;;\"\"#\n\n\r\xef\xbb\xbf1".to_vec()), 0..400)) {
            let mut reader =
                csv::ReaderBuilder::new().delimiter(b';').comment(Some(b'#')).flexible(true).has_headers(false).from_reader(&text[..]);
            let theirs: Vec<(u64, Vec<Vec<u8>>)> = reader
                .byte_records()
                .map(|r| r.unwrap())
                .map(|r| (r.position().unwrap().line(), r.iter().map(<[u8]>::to_vec).collect()))
                .collect();
            prop_assert_eq!(read(&text), theirs);
        }
    }

    #[test]
    fn long_records_and_many_fields_are_read_whole() {
        let text = format!("{};{}\n{}", "x".repeat(5_000), "y".repeat(700), ";".repeat(99));
        let found = read(text.as_bytes());
        assert_eq!(found[0].1, [b"x".repeat(5_000), b"y".repeat(700)]);
        assert_eq!((found[1].0, found[1].1.len()), (2, 100));
        assert_eq!(found.len(), 2);
    }
}
