//! *almanack*: members of an index as tables on a web page, splits and dividends as text, holidays as a calendar.

use crate::{
    World, actions,
    talk::{Heard, Said},
};
use mizuno_core::{TradeDate, action::What};
use std::fmt::Write;

/// Members of the Aldermere 12 and their dates, twelve on any day. Grebe left and came back; Redshank failed and left, and Fenwick joined in
/// its place. The first name and that of Quarry Hill are not spelled as the exchange spells them.
const MEMBERS: [(&str, &str, &str); 18] = [
    ("Kelp and Barley Foods", "2016-01-04", "-"),
    ("Oxbow Rail", "2016-01-04", "-"),
    ("Lanternfish Optics class A", "2016-01-04", "-"),
    ("Quarry Hill Cement Co.", "2016-01-04", "-"),
    ("Saltmarsh Energy", "2016-01-04", "-"),
    ("Alder Paper", "2016-01-04", "2018-06-18"),
    ("Tern Airways", "2018-06-18", "-"),
    ("Redshank Bank", "2016-01-04", "2025-03-17"),
    ("Plover Shipping", "2016-01-04", "-"),
    ("Grebe Insurance", "2016-01-04", "2019-06-24"),
    ("Teasel Textiles", "2019-06-24", "2021-06-21"),
    ("Grebe Insurance", "2021-06-21", "-"),
    ("Crake Foundry", "2016-01-04", "2022-12-19"),
    ("Wigeon Stores", "2022-12-19", "-"),
    ("Osprey Power", "2016-01-04", "-"),
    ("Heath and Hollow Timber", "2016-01-04", "2020-06-22"),
    ("Dunlin Water", "2020-06-22", "-"),
    ("Fenwick Robotics", "2025-03-17", "-"),
];

/// The changes that the page lists beside: of the last years only, by the names of their time.
const CHANGES: [(&str, &str, &str); 5] = [
    ("2025-03-17", "Fenwick Robotics", "Redshank Bank"),
    ("2022-12-19", "Wigeon Stores", "Crake Foundry"),
    ("2021-06-21", "Grebe Insurance", "Teasel Textiles"),
    ("2020-06-22", "Dunlin Water", "Heath and Hollow Timber"),
    ("2019-06-24", "Teasel Textiles", "Grebe Insurance"),
];

/// Until it corrects that on 11 April, the table of members has Redshank's place change hands on its last day of trading; until 14 April it
/// knows Tern Airways by its former name.
fn member(at: usize, today: TradeDate) -> (&'static str, &'static str, &'static str) {
    let before = |date: &str| date.parse().is_ok_and(|date: TradeDate| today < date);
    match MEMBERS[at] {
        ("Tern Airways", joined, left) if before("2025-04-14") => ("Gull Air", joined, left),
        (name, joined, "2025-03-17") if before("2025-04-11") => (name, joined, "2025-03-14"),
        (name, "2025-03-17", left) if before("2025-04-11") => (name, "2025-03-14", left),
        said => said,
    }
}

pub(crate) fn answer(world: &World, heard: &Heard<'_>) -> Said {
    let today = world.now().date_in(&world.market.venue.zone);
    let listed = |symbol: &str| actions::listed(symbol, today);
    match heard.path {
        "/twelve" => Said::ok("text/html; charset=utf-8", twelve(today), ""),
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
                        (_, What::Delisting { price }) => writeln!(out, "{symbol},delisting,{date},,,{price},"),
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

fn twelve(today: TradeDate) -> String {
    let mut out = "<!doctype html><html><head><title>The Aldermere 12</title></head><body><h1>The Aldermere 12</h1>\n\
        <p>Members, present and past. See also <a href=\"/splits.txt\">splits</a>.</p>\n\
        <table class=\"members\"><tr><th>Company</th><th>Joined</th><th>Left</th></tr>\n"
        .to_owned();
    for (name, joined, left) in (0..MEMBERS.len()).map(|at| member(at, today)) {
        let _ = writeln!(out, "<tr><td><b>{}</b></td><td>{joined}</td><td>{left}</td></tr>", name.replace('&', "&amp;"));
    }
    out.push_str("</table>\n<h2>Changes</h2>\n<table><tr><th>Date</th><th>In</th><th>Out</th></tr>\n");
    for (date, joined, left) in CHANGES {
        let _ = writeln!(out, "<tr><td>{date}</td><td>{joined}</td><td>{left}</td></tr>");
    }
    out.push_str("</table></body></html>\n");
    out
}
