//! How many bytes of an answer are understood in a second, on one core.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a bench stops at once when something is not as it needs it")]

use mizuno_config::profile;
use mizuno_sources::{Page, decode};
use std::{fmt::Write, path::Path, time::Instant};

/// About sixteen megabytes of minutes.
const ROWS: usize = 300_000;

fn main() {
    let venue = mizuno_config::venue::parse(Path::new("v"), include_str!("../../../demo/config/venues/aldx.toml")).expect("sound");
    let (mut csv, mut rows, mut t, mut p) =
        ("date,close,high,low,open,volume\n".to_owned(), "{\"rows\":[".to_owned(), String::new(), String::new());
    for i in 0..ROWS {
        let (day, hour, minute) = (1 + i / 420 % 28, 10 + i / 60 % 7, i % 60);
        let (month, year) = (1 + i / 11_760 % 12, 2000 + i / 141_120);
        let price = format!("{}.{:02}", 10 + i % 90, i % 100);
        let _ = writeln!(csv, "{year}-{month:02}-{day:02} {hour}:{minute:02},{price},{price},{price},{price},{}", 100 + i % 5000);
        let comma = if i == 0 { "" } else { "," };
        let _ = write!(
            rows,
            "{comma}\n{{\"end\":\"{year}-{month:02}-{day:02} {hour}:{minute:02}\",\"open\":{price},\"high\":{price},\"low\":{price},\"close\":{price},\"volume\":{}}}",
            100 + i % 5000
        );
        let _ = write!(t, "{comma}{}", 1_700_000_000 + i * 60);
        let _ = write!(p, "{comma}{price}");
    }
    rows.push_str("]}\n");
    let columns = format!("{{\"t\":[{t}],\"o\":[{p}],\"h\":[{p}],\"l\":[{p}],\"c\":[{p}],\"v\":[{t}]}}\n");
    let keys = "columns = { time = \"end\", open = \"open\", high = \"high\", low = \"low\", close = \"close\", volume = \"volume\" }\nstamp = \"%Y-%m-%d %H:%M\"";
    let form = |form: &str, rest: &str| format!("form = \"{form}\"\n{rest}\n");
    let delimited = form("delimited", &keys.replace("\"end\"", "\"date\""));
    let objects = form("json-rows", &format!("rows = \"/rows\"\n{keys}"));
    let arrays = form(
        "json-columns",
        "columns = { time = \"/t\", open = \"/o\", high = \"/h\", low = \"/l\", close = \"/c\", volume = \"/v\" }\nstamp = \"epoch-seconds\"",
    );
    let mut missed = false;
    for (what, answer, body, wanted) in [
        ("delimited text", delimited, &csv, 150.0),
        ("JSON rows", objects, &rows, 100.0),
        ("JSON, an array a column", arrays, &columns, 100.0),
    ] {
        let text = format!(
            "name = \"b\"\ntitle = \"B\"\nbase = \"http://127.0.0.1:1\"\n[limits]\ncalls_per_minute = 1\n[[series]]\ninterval = \"1m\"\nvenues = [\"ALDX\"]\nadjusted = \"no\"\ndelay = \"0s\"\nspan_days = 1\n[[series.request]]\nget = \"/\"\n[series.answer]\n{answer}"
        );
        let profile = profile::parse(Path::new("b.toml"), &text).expect("sound");
        let page = [Page { part: None, media_type: None, body: body.as_bytes() }];
        let mut best = f64::MAX;
        for _ in 0..7 {
            let began = Instant::now();
            let read = decode::decode(&profile.series[0], &venue, "KBF", 1 << 30, &page).expect("readable");
            best = best.min(began.elapsed().as_secs_f64());
            assert_eq!((read.bars.rows.len(), read.refused.len()), (ROWS, 0));
        }
        let speed = body.len() as f64 / 1e6 / best;
        let met = if speed >= wanted { "met" } else { "MISSED" };
        missed |= speed < wanted;
        println!(
            "decoding {what:<29} {speed:>5.0} MB/s on one core ({:.0} ns a row)  at least {wanted:.0}  {met}",
            best * 1e9 / ROWS as f64
        );
    }
    if missed {
        println!("(a shared machine; the best of seven runs)");
    }
}
