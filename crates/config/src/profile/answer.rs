//! How an answer is understood: its form, its wrapping, and where its parts stand.

use super::{Stamp, StampedAt};
use crate::text;
use jiff::tz::TimeZone;
use serde::Deserialize;

/// The shape of an answer's rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Form {
    /// Lines of fields, with or without a header line.
    Delimited,
    /// A JSON array of rows, each an object or an array.
    JsonRows,
    /// JSON with one array for each column.
    JsonColumns,
    /// One JSON value a line.
    JsonLines,
    /// A JSON object of rows under keys, such as dates.
    JsonMap,
    /// A table of a web page.
    HtmlTable,
    /// The events of a calendar (RFC 5545).
    Icalendar,
    /// A file of Apache Parquet, as an edition has them.
    Parquet,
}

/// How an answer is wrapped.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Packed {
    /// One gzip stream (RFC 1952).
    Gzip,
    /// A zip archive of one or more files.
    Zip,
}

/// How to understand an answer.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Answer {
    /// The shape of its rows.
    pub form: Form,
    /// How it is wrapped.
    #[serde(default)]
    pub packed: Option<Packed>,
    /// The file of a zip archive that holds the rows, with `{symbol}` filled in; all its files when left out.
    #[serde(default)]
    pub member: Option<String>,
    /// The media type the answer must have, when the source can be trusted to say.
    #[serde(default)]
    pub media_type: Option<String>,
    /// Text that says that there is nothing: an answer with it has no rows.
    #[serde(default)]
    pub nothing: Option<String>,
    /// JSON Pointer (RFC 6901) to a message that is there only when something went wrong.
    #[serde(default)]
    pub error: Option<String>,

    /// Delimited text: what stands between two fields.
    #[serde(default = "comma")]
    pub separator: char,
    /// Delimited text: lines above the header to pass over.
    #[serde(default)]
    pub skip_lines: u32,
    /// Delimited text: lines below the last row to pass over.
    #[serde(default)]
    pub skip_last_lines: u32,
    /// Delimited text: lines that begin with this are no rows.
    #[serde(default)]
    pub comment: Option<char>,
    /// Delimited text: whether there is a header line; without one, columns are named `1`, `2` and so on.
    #[serde(default = "yes")]
    pub header: bool,
    /// Delimited text: whether the last line of a whole answer ends in a line break; without one it was cut.
    #[serde(default)]
    pub last_line_ends: bool,
    /// JSON: Pointer to the rows, the map or the object of columns; the whole answer when left out.
    #[serde(default)]
    pub rows: String,
    /// HTML: which table of the page, from 1.
    #[serde(default = "first")]
    pub table: u32,

    /// The column that says whose row it is, in files of many instruments: rows of others are passed over.
    #[serde(default)]
    pub symbol_in: Option<String>,
    /// Spellings of an absent value.
    #[serde(default)]
    pub missing: Vec<String>,
    /// What becomes of bars before the open and after the close.
    #[serde(default)]
    pub outside_hours: OutsideHours,
    /// Prices are rounded to this many digits after the point, half to even; for sources that print binary floats.
    /// The payload keeps what was printed.
    #[serde(default)]
    pub round_decimals: Option<u8>,
    /// Where a bar's parts stand; not for lists.
    #[serde(default)]
    pub columns: Option<Columns>,
    /// How a bar's moment is written.
    #[serde(default, deserialize_with = "text::parsed_if_there")]
    pub stamp: Option<Stamp>,
    /// Whether the stamp is that of a bar's open or of its close.
    #[serde(default)]
    pub stamped_at: StampedAt,
    /// The zone of stamps without an offset; the venue's when left out.
    #[serde(default, deserialize_with = "text::zone_if_there")]
    pub zone: Option<TimeZone>,
}

/// What becomes of bars that lie outside the venue's sessions.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum OutsideHours {
    /// They go into quarantine: the zone, the calendar or the source is wrong.
    #[default]
    Refuse,
    /// They are left out and counted: the source gives trading before the open and after the close as well.
    LeaveOut,
}

/// Where the parts of a bar stand.
///
/// A header's name or column number in delimited text and tables; a key, an
/// index or a JSON Pointer in a JSON row; a JSON Pointer to an array for JSON
/// columns; `(key)` for the key of a JSON map.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Columns {
    /// When.
    pub time: String,
    /// The time of day, where it stands apart from the date; read after `time` and a blank.
    #[serde(default)]
    pub clock: Option<String>,
    /// First price.
    pub open: String,
    /// Highest price.
    pub high: String,
    /// Lowest price.
    pub low: String,
    /// Last price.
    pub close: String,
    /// Quantity traded; none when left out.
    #[serde(default)]
    pub volume: Option<String>,
    /// Contracts open at the bar's end; none when left out.
    #[serde(default)]
    pub open_interest: Option<String>,
}

fn comma() -> char {
    ','
}
fn yes() -> bool {
    true
}
fn first() -> u32 {
    1
}

impl Answer {
    /// What is wrong with it, and the text to point at; `bars` when its rows are bars.
    pub(super) fn problems(&self, bars: bool) -> Vec<(&'static str, String)> {
        let mut out = vec![];
        let text = self.form == Form::Delimited;
        let json = matches!(self.form, Form::JsonRows | Form::JsonColumns | Form::JsonLines | Form::JsonMap);
        let mut only = |given: bool, fits: bool, key: &'static str, form: &str| {
            if given && !fits {
                out.push((key, format!("`{key}` is for {form}")));
            }
        };
        only(self.skip_lines > 0, text, "skip_lines", "delimited text");
        only(self.skip_last_lines > 0, text, "skip_last_lines", "delimited text");
        only(self.comment.is_some(), text, "comment", "delimited text");
        only(!self.header, text, "header", "delimited text");
        only(self.last_line_ends, text || self.form == Form::JsonLines, "last_line_ends", "delimited text and json-lines");
        only(!self.rows.is_empty(), json, "rows", "JSON");
        only(self.error.is_some(), json, "error", "JSON");
        only(self.table != 1, self.form == Form::HtmlTable, "table", "an html-table");
        only(self.member.is_some(), self.packed == Some(Packed::Zip), "member", "a zip archive; add packed = \"zip\"");
        only(self.symbol_in.is_some(), bars, "symbol_in", "bars; a list has a column `symbol`");
        if self.round_decimals.is_some_and(|n| n > 18) {
            out.push(("round_decimals", "a number has at most 18 digits after the point".to_owned()));
        }
        if self.separator.len_utf8() != 1 {
            out.push(("separator", format!("`{}` cannot part fields; use one ASCII character", self.separator)));
        }
        for (key, pointer) in [("rows", Some(&self.rows)), ("error", self.error.as_ref())] {
            if let Some(p) = pointer.filter(|p| !p.is_empty() && !p.starts_with('/')) {
                out.push((key, format!("`{p}` is not a JSON Pointer (RFC 6901); it begins with a slash, as in /data/bars")));
            }
        }
        if bars && self.columns.is_none() {
            out.push((
                "answer]",
                "says not where the parts of a bar stand; add columns = { time = …, open = …, high = …, low = …, close = … }".to_owned(),
            ));
        }
        if bars && self.stamp.is_none() {
            out.push(("answer]", "says not how a bar's moment is written; add stamp = \"%Y-%m-%d\" or the like".to_owned()));
        }
        out
    }
}
