//! Lines and tables for people, JSON for programs.
//!
//! In a terminal, lines are wrapped and tables drop their least useful columns, so that
//! no row is broken; down a pipe everything is written whole. Bold is all the
//! emphasis there is, and says nothing that the words do not.

use crate::exit::Failure;
use comfy_table::{CellAlignment, ContentArrangement, Table, presets};
use mizuno_api::Status;
pub use mizuno_api::words::{bytes, count, counted, percent};
use serde::Serialize;
use std::io::{self, ErrorKind, IsTerminal, Write};

/// Prints a line of results. When nobody reads any more, as after `| head`, the program ends quietly.
macro_rules! out {
    ($($text:tt)*) => {
        $crate::show::line(&format!($($text)*))
    };
}

/// See [`out`].
pub fn line(text: &str) {
    match width() {
        None => write(text),
        Some(width) => text.split('\n').for_each(|line| wrapped(line, width).iter().for_each(|l| write(l))),
    }
}

/// A line that stands out on a terminal.
pub fn heading(text: &str) {
    match width().filter(|_| std::env::var_os("NO_COLOR").is_none_or(|v| v.is_empty())) {
        None => line(text),
        Some(width) => wrapped(text, width).iter().for_each(|l| write(&format!("\u{1b}[1m{l}\u{1b}[0m"))),
    }
}

/// Prints a notice on standard error.
macro_rules! note {
    ($($text:tt)*) => {
        $crate::show::notice(&format!($($text)*))
    };
}

/// See [`note`].
pub fn notice(text: &str) {
    match terminal(io::stderr().is_terminal()) {
        None => eprintln!("{text}"),
        Some(width) => text.split('\n').for_each(|line| wrapped(line, width).iter().for_each(|l| eprintln!("{l}"))),
    }
}

/// Writes one line. A reader that has gone away has what it wanted; a full disk has not.
pub fn write(text: &str) {
    match writeln!(io::stdout(), "{text}").and_then(|()| io::stdout().flush()) {
        Ok(()) => {}
        Err(e) if e.kind() == ErrorKind::BrokenPipe => std::process::exit(0),
        Err(e) => {
            eprintln!("mizuno: cannot write the results: {e}");
            std::process::exit(1);
        }
    }
}

/// Columns of the terminal that results are written to; none when they go elsewhere.
pub fn width() -> Option<usize> {
    terminal(io::stdout().is_terminal())
}

fn terminal(is_one: bool) -> Option<usize> {
    if !is_one {
        return None;
    }
    let told = std::env::var("COLUMNS").ok().and_then(|c| c.parse().ok());
    Some(told.or(terminal_size::terminal_size().map(|(w, _)| usize::from(w.0))).unwrap_or(80).max(20))
}

/// What a cell says, or a dash.
pub fn or_dash(value: &Option<String>) -> String {
    value.clone().unwrap_or_else(|| "-".to_owned())
}

/// A line in pieces of a width at most, each further one indented like the first and a little more.
fn wrapped(line: &str, width: usize) -> Vec<String> {
    let indent = line.chars().take_while(|c| *c == ' ').count();
    // What follows a word in a column of its own stays in that column.
    let column = line[indent..].find("  ").map(|at| indent + at + line[indent + at..].chars().take_while(|c| *c == ' ').count());
    let hanging = column.filter(|c| *c < width / 2).unwrap_or((indent + 2).min(width / 2));
    let hanging = " ".repeat(hanging);
    let options = textwrap::Options::new(width).subsequent_indent(&hanging).word_separator(textwrap::WordSeparator::AsciiSpace);
    let options = options.word_splitter(textwrap::WordSplitter::NoHyphenation);
    textwrap::wrap(line, options).into_iter().map(|l| l.trim_end().to_owned()).collect()
}

/// The zone times are shown in.
pub struct Zone(jiff::tz::TimeZone, String);

impl Zone {
    pub fn of(status: &Status) -> Zone {
        let name = match &status.venues[..] {
            [only] => only.zone.clone(),
            _ => "UTC".to_owned(),
        };
        Zone::named(&name)
    }

    /// The zone of this IANA name; UTC when this machine does not know it.
    pub fn named(name: &str) -> Zone {
        match jiff::tz::TimeZone::get(name) {
            Ok(zone) => Zone(zone, name.to_owned()),
            Err(_) => Zone(jiff::tz::TimeZone::UTC, "UTC".to_owned()),
        }
    }

    /// An RFC 3339 instant on this zone's wall.
    pub fn wall(&self, instant: &str) -> String {
        match instant.parse::<jiff::Timestamp>() {
            Ok(at) => self.0.to_datetime(at).strftime("%Y-%m-%d %H:%M:%S").to_string(),
            Err(_) => instant.to_owned(),
        }
    }

    /// The same without seconds.
    pub fn minute(&self, instant: &str) -> String {
        let wall = self.wall(instant);
        wall.get(..16).map_or(wall.clone(), str::to_owned)
    }

    pub fn name(&self) -> &str {
        &self.1
    }
}

/// A table to be shown.
pub struct Columns<'h> {
    /// Their names.
    pub headers: &'h [&'h str],
    /// Which are numbers.
    pub numbers: &'h [usize],
    /// Which are left out where there is no room, the least useful first.
    pub least: &'h [usize],
}

/// Prints a table, with as many of its columns as the terminal has room for.
pub fn table(columns: &Columns<'_>, rows: Vec<Vec<String>>) {
    let Columns { headers, numbers, least } = columns;
    let length = |text: &str| text.chars().count();
    let natural = |at: usize| rows.iter().map(|r| length(&r[at])).chain([length(headers[at])]).max().unwrap_or(0);
    let mut shown: Vec<usize> = (0..headers.len()).collect();
    let mut left_out = vec![];
    let room = width();
    let mut least = least.iter();
    while room.is_some_and(|room| shown.iter().map(|at| natural(*at) + 2).sum::<usize>() > room + 2)
        && let Some(next) = least.next()
    {
        shown.retain(|at| at != next);
        left_out.push(headers[*next].split(" (").next().unwrap_or_default());
    }
    let mut table = Table::new();
    table.load_style(presets::NOTHING);
    match room {
        None => table.set_content_arrangement(ContentArrangement::Disabled),
        Some(room) => table.set_content_arrangement(ContentArrangement::Dynamic).set_width(room.min(10_000) as u16),
    };
    // A zone in brackets keeps its spelling.
    table.set_header(shown.iter().map(|at| match headers[*at].split_once(" (") {
        Some((name, zone)) => format!("{} ({zone}", name.to_uppercase()),
        None => headers[*at].to_uppercase(),
    }));
    table.add_rows(rows.into_iter().map(|row| shown.iter().map(|at| row[*at].clone()).collect::<Vec<_>>()));
    let last = shown.len() - 1;
    for (i, column) in table.column_iter_mut().enumerate() {
        column.set_padding((0, if i == last { 0 } else { 2 }));
        if numbers.contains(&shown[i]) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    for line in table.lines() {
        write(line.trim_end());
    }
    if !left_out.is_empty() {
        note!("not shown for want of room: {}; a wider terminal or --json has them", left_out.join(", "));
    }
}

pub fn json<T: Serialize>(value: &T) -> Result<(), Failure> {
    write(&serde_json::to_string_pretty(value).map_err(Failure::new)?);
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_wrapped_between_words_and_stay_in_their_column() {
        assert_eq!(wrapped("FAILED       two words and more", 28), ["FAILED       two words and", "             more"]);
        // A column that leaves less than half of the line is not kept to.
        assert_eq!(wrapped("FAILED       two words and more", 24), ["FAILED       two words", "  and more"]);
        assert_eq!(wrapped("    asked once, last by fetch 7", 20), ["    asked once, last", "      by fetch 7"]);
        assert_eq!(wrapped("short", 20), ["short"]);
        assert!(wrapped(&"x".repeat(100), 30).iter().all(|l| l.len() <= 30), "what has no blanks is broken all the same");
    }
}
