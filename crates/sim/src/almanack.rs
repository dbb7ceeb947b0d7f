//! *almanack*: members of an index as tables on a web page, splits and dividends as text, holidays as a calendar.

use crate::{
    World,
    talk::{Heard, Said},
};
use std::fmt::Write;

/// Members of the Aldermere 12 and their dates. Redshank failed and left; Fenwick joined in its place.
/// The first name is not spelled as the exchange spells it.
const MEMBERS: [(&str, &str, &str); 14] = [
    ("Kelp and Barley Foods", "2016-01-04", "-"),
    ("Oxbow Rail", "2016-01-04", "-"),
    ("Lanternfish Optics class A", "2016-01-04", "-"),
    ("Quarry Hill Cement", "2016-01-04", "-"),
    ("Saltmarsh Energy", "2016-01-04", "-"),
    ("Tern Airways", "2018-06-18", "-"),
    ("Redshank Bank", "2016-01-04", "2025-03-17"),
    ("Plover Shipping", "2016-01-04", "-"),
    ("Grebe Insurance", "2016-01-04", "-"),
    ("Crake Foundry", "2016-01-04", "2022-12-19"),
    ("Wigeon Stores", "2022-12-19", "-"),
    ("Osprey Power", "2016-01-04", "-"),
    ("Dunlin Water", "2020-06-22", "-"),
    ("Fenwick Robotics", "2025-03-17", "-"),
];

const DIVIDENDS: [(&str, &str, &str); 6] = [
    ("KBF", "2024-09-16", "0.11"),
    ("KBF", "2025-03-24", "0.12"),
    ("OXB", "2025-02-10", "0.31"),
    ("DNL", "2024-11-18", "0.08"),
    ("OSP", "2025-01-27", "0.22"),
    ("PLV", "2025-04-14", "0.05"),
];

pub(crate) fn answer(world: &World, heard: &Heard<'_>) -> Said {
    match heard.path {
        "/twelve" => Said::ok("text/html; charset=utf-8", twelve(), ""),
        "/splits.txt" => {
            let mut out = "# splits at Aldermere: symbol, first day on the new basis, new shares, for old shares\n".to_owned();
            let mut count = 0;
            for symbol in world.market.symbols() {
                for (date, new) in world.market.splits(&symbol) {
                    let _ = writeln!(out, "{symbol}|{date}|{new}|1");
                    count += 1;
                }
            }
            let _ = writeln!(out, "{count} splits in all");
            Said::ok("text/plain", out, "")
        }
        "/dividends.txt" => {
            let mut out = "# dividends at Aldermere\nSymbol|Ex-date|Amount|Currency\n".to_owned();
            for (symbol, date, amount) in DIVIDENDS {
                let _ = writeln!(out, "{symbol}|{date}|{amount}|NZD");
            }
            let _ = writeln!(out, "{} dividends in all", DIVIDENDS.len());
            Said::ok("text/plain", out, "")
        }
        "/holidays/aldx.ics" => {
            let mut out = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Almanack//Holidays//EN\r\n".to_owned();
            for (date, day) in world.market.venue.special.iter().filter(|(_, day)| day.stretches.is_empty()) {
                let compact = date.to_string().replace('-', "");
                let _ = write!(
                    out,
                    "BEGIN:VEVENT\r\nUID:{compact}@almanack\r\nDTSTAMP:20250101T000000Z\r\nDTSTART;VALUE=DATE:{compact}\r\nSUMMARY:{}\r\nEND:VEVENT\r\n",
                    day.name
                );
            }
            out.push_str("END:VCALENDAR\r\n");
            Said::ok("text/calendar", out, "")
        }
        _ => Said::no(404, "text/html", "<p>No such page in the Almanack.</p>"),
    }
}

fn twelve() -> String {
    let mut out = "<!doctype html><html><head><title>The Aldermere 12</title></head><body><h1>The Aldermere 12</h1>\n\
        <p>Members, present and past. See also <a href=\"/splits.txt\">splits</a>.</p>\n\
        <table class=\"members\"><tr><th>Company</th><th>Joined</th><th>Left</th></tr>\n"
        .to_owned();
    for (name, joined, left) in MEMBERS {
        let _ = writeln!(out, "<tr><td><b>{}</b></td><td>{joined}</td><td>{left}</td></tr>", name.replace('&', "&amp;"));
    }
    out.push_str("</table>\n<h2>Changes</h2>\n<table><tr><th>Date</th><th>In</th><th>Out</th></tr>\n");
    out.push_str("<tr><td>2025-03-17</td><td>Fenwick Robotics</td><td>Redshank Bank</td></tr>\n</table></body></html>\n");
    out
}
