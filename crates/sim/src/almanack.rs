//! *almanack*: members of an index as tables on a web page, splits and dividends as text, holidays as a calendar.

use crate::{
    World, actions,
    talk::{Heard, Said},
};
use mizuno_core::action::What;
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

pub(crate) fn answer(world: &World, heard: &Heard<'_>) -> Said {
    let today = world.now().date_in(&world.market.venue.zone);
    let listed = |symbol: &str| actions::listed(symbol, today);
    match heard.path {
        "/twelve" => Said::ok("text/html; charset=utf-8", twelve(), ""),
        "/splits.txt" => {
            let mut out = "# splits at Aldermere: symbol, first day on the new basis, new shares, for old shares\n".to_owned();
            let mut count = 0;
            for symbol in world.market.symbols() {
                for action in listed(&symbol) {
                    if let What::Split { new, old } = action.what {
                        let _ = writeln!(out, "{symbol}|{}|{new}|{old}", action.ex_date);
                        count += 1;
                    }
                }
            }
            let _ = writeln!(out, "{count} splits in all");
            Said::ok("text/plain", out, "")
        }
        "/dividends.txt" => {
            let mut out = "# dividends at Aldermere\nSymbol|Ex-date|Amount|Currency|Rate\n".to_owned();
            let mut count = 0;
            for symbol in world.market.symbols() {
                for action in listed(&symbol) {
                    let What::Dividend(dividend) = action.what else { continue };
                    if !dividend.special {
                        let rate = dividend.rate.map(|r| r.to_string()).unwrap_or_default();
                        let currency = dividend.currency.unwrap_or_else(|| "NZD".to_owned());
                        let _ = writeln!(out, "{symbol}|{}|{}|{currency}|{rate}", action.ex_date, dividend.amount);
                        count += 1;
                    }
                }
            }
            let _ = writeln!(out, "{count} dividends in all");
            Said::ok("text/plain", out, "")
        }
        "/events.csv" => {
            let mut out = "company,kind,first day without,get,for each,pay,worth\n".to_owned();
            for symbol in world.market.symbols() {
                for action in listed(&symbol) {
                    let date = action.ex_date;
                    let _ = match (action.kind(), action.what) {
                        ("special", What::Dividend(d)) => writeln!(out, "{symbol},special,{date},,,{},", d.amount),
                        (_, What::Rights { new, old, price }) => writeln!(out, "{symbol},rights,{date},{new},{old},{price},"),
                        (_, What::SpinOff { new, old, value }) => {
                            writeln!(out, "{symbol},spin-off,{date},{new},{old},,{}", value.map(|v| v.to_string()).unwrap_or_default())
                        }
                        _ => Ok(()),
                    };
                }
            }
            Said::ok("text/csv", out, "")
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
