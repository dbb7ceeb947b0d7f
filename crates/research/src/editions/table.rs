//! A table of texts, as an edition carries it.

/// A table of texts.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Table {
    headings: Vec<&'static str>,
    pub(super) rows: Vec<Vec<String>>,
}

impl Table {
    pub(super) fn new(headings: &[&'static str]) -> Table {
        Table { headings: headings.to_vec(), rows: vec![] }
    }

    /// One of these rows.
    pub(super) fn of(headings: &[&'static str], rows: impl IntoIterator<Item = Vec<String>>) -> Table {
        Table { headings: headings.to_vec(), rows: rows.into_iter().collect() }
    }

    /// How many rows it has.
    #[must_use]
    pub fn rows(&self) -> usize {
        self.rows.len()
    }

    /// Its columns.
    pub(super) fn headings(&self) -> &[&'static str] {
        &self.headings
    }

    /// Its rows, in order.
    pub(super) fn all(&self) -> &[Vec<String>] {
        &self.rows
    }

    /// It as CSV (RFC 4180), with a header.
    #[must_use]
    pub fn text(&self) -> String {
        let cell = |cell: &str| match cell.contains(['"', ',', '\n', '\r']) {
            true => format!("\"{}\"", cell.replace('"', "\"\"")),
            false => cell.to_owned(),
        };
        let mut out = self.headings.join(",");
        out.push_str("\r\n");
        for row in &self.rows {
            let cells: Vec<String> = row.iter().map(|text| cell(text)).collect();
            out.push_str(&cells.join(","));
            out.push_str("\r\n");
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_cell_may_hold_anything() {
        let row = ["plain", "a, b", "\"said\"", "two\nlines"].map(str::to_owned).to_vec();
        let table = Table::of(&["one", "two", "three", "four"], [row.clone()]);
        let text = table.text();
        let mut read = csv::Reader::from_reader(text.as_bytes());
        assert_eq!(read.headers().unwrap().iter().collect::<Vec<_>>(), vec!["one", "two", "three", "four"]);
        let back: Vec<Vec<String>> = read.records().map(|r| r.unwrap().iter().map(str::to_owned).collect()).collect();
        assert_eq!((back, table.rows()), (vec![row], 1));
    }
}
