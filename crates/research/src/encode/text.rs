//! Bars as CSV, NDJSON and JSON. Numbers are printed digit by digit as they are held; nothing passes through a float.

use super::{Column, Encoder, Format, Layout};
use jiff::tz::TimeZone;
use mizuno_core::{Bar, Bars, Decimal, Slot, TradeDate, time::SECOND};

pub(super) struct TextEncoder {
    layout: Layout,
    clock: WallPrinter,
    first: bool,
}

impl TextEncoder {
    pub(super) fn new(layout: Layout) -> TextEncoder {
        let clock = WallPrinter::new(layout.zone.clone());
        TextEncoder { layout, clock, first: true }
    }

    fn moment(&mut self, slot: Slot, out: &mut Vec<u8>) {
        if self.layout.interval.is_intraday() {
            self.clock.print(slot.0, out);
        } else {
            out.extend_from_slice(slot.date().to_string().as_bytes());
        }
    }

    /// A source's name: letters, digits and hyphens, which need no quoting anywhere.
    fn source(&self, from: u16) -> &str {
        self.layout.sources.get(usize::from(from)).map_or("", String::as_str)
    }

    fn csv(&mut self, bar: &Bar, from: u16, out: &mut Vec<u8>) {
        for i in 0..self.layout.columns.len() {
            if i > 0 {
                out.push(b',');
            }
            let column = self.layout.columns[i];
            match column {
                Column::Time => self.moment(bar.slot, out),
                Column::Source => out.extend_from_slice(self.source(from).as_bytes()),
                _ => number(bar, column, out),
            }
        }
        out.extend_from_slice(b"\r\n");
    }

    fn object(&mut self, bar: &Bar, from: u16, out: &mut Vec<u8>) {
        for i in 0..self.layout.columns.len() {
            let column = self.layout.columns[i];
            out.push(if i == 0 { b'{' } else { b',' });
            out.push(b'"');
            out.extend_from_slice(column.name(self.layout.interval).as_bytes());
            out.extend_from_slice(b"\":");
            match column {
                Column::Time => {
                    out.push(b'"');
                    self.moment(bar.slot, out);
                    out.push(b'"');
                }
                Column::Source => {
                    out.push(b'"');
                    out.extend_from_slice(self.source(from).as_bytes());
                    out.push(b'"');
                }
                Column::Volume if bar.volume().is_none() => out.extend_from_slice(b"null"),
                _ => number(bar, column, out),
            }
        }
        out.push(b'}');
    }
}

impl Encoder for TextEncoder {
    fn begin(&mut self, out: &mut Vec<u8>) -> Result<(), String> {
        match self.layout.format {
            Format::Csv => {
                let names: Vec<_> = self.layout.columns.iter().map(|c| c.name(self.layout.interval)).collect();
                out.extend_from_slice(names.join(",").as_bytes());
                out.extend_from_slice(b"\r\n");
            }
            Format::Json => out.push(b'['),
            _ => {}
        }
        Ok(())
    }

    fn bars(&mut self, bars: &Bars, from: &[u16], out: &mut Vec<u8>) -> Result<(), String> {
        out.reserve(bars.rows.len() * 64);
        for (i, bar) in bars.rows.iter().enumerate() {
            let from = from.get(i).copied().unwrap_or(0);
            match self.layout.format {
                Format::Csv => self.csv(bar, from, out),
                Format::Ndjson => {
                    self.object(bar, from, out);
                    out.push(b'\n');
                }
                _ => {
                    out.extend_from_slice(if self.first { b"\n" } else { b",\n" });
                    self.object(bar, from, out);
                }
            }
            self.first = false;
        }
        Ok(())
    }

    fn finish(self: Box<Self>, out: &mut Vec<u8>) -> Result<(), String> {
        if self.layout.format == Format::Json {
            out.extend_from_slice(b"\n]\n");
        }
        Ok(())
    }
}

fn number(bar: &Bar, column: Column, out: &mut Vec<u8>) {
    match column {
        Column::Open => decimal(bar.open(), out),
        Column::High => decimal(bar.high(), out),
        Column::Low => decimal(bar.low(), out),
        Column::Close => decimal(bar.close(), out),
        Column::Volume => bar.volume().into_iter().for_each(|v| decimal(v, out)),
        Column::Time | Column::Source => {}
    }
}

/// Prints a number with the digits it has.
fn decimal(Decimal { mantissa, scale }: Decimal, out: &mut Vec<u8>) {
    let mut buffer = itoa::Buffer::new();
    if mantissa < 0 {
        out.push(b'-');
    }
    let digits = buffer.format(mantissa.unsigned_abs()).as_bytes();
    let scale = usize::from(scale);
    if scale == 0 {
        out.extend_from_slice(digits);
    } else if digits.len() > scale {
        let (whole, part) = digits.split_at(digits.len() - scale);
        out.extend_from_slice(whole);
        out.push(b'.');
        out.extend_from_slice(part);
    } else {
        out.extend_from_slice(b"0.");
        out.resize(out.len() + scale - digits.len(), b'0');
        out.extend_from_slice(digits);
    }
}

/// Prints instants as RFC 3339 in one zone, remembering the last day and hour.
struct WallPrinter {
    zone: Option<TimeZone>,
    day: Option<(i64, String)>,
    hour: Option<(i64, i64, String)>,
}

impl WallPrinter {
    fn new(zone: Option<TimeZone>) -> WallPrinter {
        WallPrinter { zone, day: None, hour: None }
    }

    /// The offset from UTC in seconds and how it is written. Offsets change on
    /// quarters of an hour at the finest, so one is looked up for each.
    fn offset(&mut self, micros: i64) -> (i64, &str) {
        let Some(zone) = &self.zone else { return (0, "Z") };
        let quarter = micros.div_euclid(900 * SECOND);
        if self.hour.as_ref().is_none_or(|(q, ..)| *q != quarter) {
            let offset = zone.to_offset(mizuno_core::Timestamp(micros).to_jiff());
            let seconds = i64::from(offset.seconds());
            let sign = if seconds < 0 { '-' } else { '+' };
            let (h, m) = (seconds.abs() / 3600, seconds.abs() / 60 % 60);
            self.hour = Some((quarter, seconds, format!("{sign}{h:02}:{m:02}")));
        }
        self.hour.as_ref().map_or((0, "Z"), |(_, seconds, text)| (*seconds, text.as_str()))
    }

    fn print(&mut self, micros: i64, out: &mut Vec<u8>) {
        let (offset, suffix) = self.offset(micros);
        let suffix = suffix.to_owned();
        let wall = micros + offset * SECOND;
        let (day, rest) = (wall.div_euclid(mizuno_core::time::DAY), wall.rem_euclid(mizuno_core::time::DAY));
        if self.day.as_ref().is_none_or(|(d, _)| *d != day) {
            self.day = Some((day, TradeDate(day as i32).to_string()));
        }
        if let Some((_, text)) = &self.day {
            out.extend_from_slice(text.as_bytes());
        }
        let seconds = rest / SECOND;
        out.push(b'T');
        for (i, part) in [seconds / 3600, seconds / 60 % 60, seconds % 60].into_iter().enumerate() {
            if i > 0 {
                out.push(b':');
            }
            out.extend_from_slice(&[b'0' + (part / 10) as u8, b'0' + (part % 10) as u8]);
        }
        out.extend_from_slice(suffix.as_bytes());
    }
}
