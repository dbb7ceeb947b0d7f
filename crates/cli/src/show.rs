//! Tables for people, JSON for programs.

use crate::exit::Failure;
use comfy_table::{CellAlignment, ContentArrangement, Table, presets};
use mizuno_api::Status;
pub use mizuno_api::words::{bytes, count, counted, percent};
use serde::Serialize;

/// Prints a line of results. When nobody reads any more, as after `| head`, the program ends quietly.
macro_rules! out {
    ($($text:tt)*) => {
        $crate::show::line(format_args!($($text)*))
    };
}

/// See [`out`].
pub fn line(text: std::fmt::Arguments<'_>) {
    use std::io::Write;
    if writeln!(std::io::stdout(), "{text}").is_err() {
        std::process::exit(0);
    }
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

/// A table: headers, rows, and which columns are numbers.
pub fn table(headers: &[&str], numbers: &[usize], rows: Vec<Vec<String>>) {
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    // A zone in brackets keeps its spelling.
    table.set_header(headers.iter().map(|h| match h.split_once(" (") {
        Some((name, zone)) => format!("{} ({zone}", name.to_uppercase()),
        None => h.to_uppercase(),
    }));
    table.add_rows(rows);
    for (i, column) in table.column_iter_mut().enumerate() {
        column.set_padding((0, 2));
        if numbers.contains(&i) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    for line in table.lines() {
        out!("{}", line.trim_end());
    }
}

pub fn json<T: Serialize>(value: &T) -> Result<(), Failure> {
    out!("{}", serde_json::to_string_pretty(value).map_err(Failure::new)?);
    Ok(())
}
