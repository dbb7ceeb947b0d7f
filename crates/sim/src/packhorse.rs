//! *packhorse*: JSON rows in pages with a cursor, RFC 3339 in UTC, stamped at the close of the bar.

use crate::{
    World,
    market::{Market, Tick},
    talk::{Heard, Said},
};
use mizuno_core::{Timestamp, TradeDate, time::SECOND};
use std::fmt::Write;

const JSON: &str = "application/json";
/// Rows on a page.
const PAGE: usize = 2_000;
/// Bars are out so long after they end.
const DELAY: i64 = 180 * SECOND;

pub(crate) fn answer(world: &World, heard: &Heard<'_>) -> Said {
    if heard.path == "/contracts" {
        return contracts(world, heard);
    }
    let symbol = heard.get("symbol").replace('_', "-");
    let Some(market) = [&world.corran, &world.meridian].into_iter().find(|m| m.instrument(&symbol).is_some()) else {
        return Said::no(404, JSON, "{\"problem\":\"no such symbol\"}");
    };
    let at = |name: &str| heard.get(name).parse::<Timestamp>().ok();
    let (Some(from), Some(to)) = (at("from"), at("to")) else {
        return Said::no(400, JSON, "{\"problem\":\"from and to as RFC 3339\"}");
    };
    let mut rows = match heard.get("step") {
        "day" => days(market, &symbol, from, to, heard.now),
        _ => minutes(market, &symbol, from, to, heard.now).into_iter().map(|(end, bar)| (end, bar, None)).collect(),
    };
    // Half a spread of one to three units, on the minute.
    for (_, bar, _) in &mut rows {
        let half = 1 + (bar.open_at.0 / (60 * SECOND)).rem_euclid(3);
        let by = match heard.get("side") {
            "bid" => -half,
            "ask" => half,
            _ => 0,
        };
        bar.prices = bar.prices.map(|p| p + by);
    }
    let first: usize = heard.get("cursor").parse().unwrap_or(0);
    let page = &rows[first.min(rows.len())..(first + PAGE).min(rows.len())];
    let mut out = String::with_capacity(page.len() * 110 + 40);
    out.push_str("{\"rows\":[");
    for (i, (end, bar, held)) in page.iter().enumerate() {
        let [open, high, low, close] = bar.prices.map(|p| market.print(p));
        let volume = if heard.get("side") == "trade" { format!(",\"volume\":{}", bar.volume) } else { String::new() };
        let interest = held.map_or(String::new(), |n| format!(",\"open_contracts\":{n}"));
        let comma = if i == 0 { "" } else { "," };
        let _ =
            write!(out, "{comma}\n{{\"end\":\"{end}\",\"open\":{open},\"high\":{high},\"low\":{low},\"close\":{close}{volume}{interest}}}");
    }
    let next = if first + PAGE < rows.len() { format!("\"{}\"", first + PAGE) } else { "null".to_owned() };
    let _ = write!(out, "\n],\"next\":{next}}}\n");
    Said::ok(JSON, out, &symbol)
}

/// Daily bars: the stamp is the end of the session, as an instant. The contracts open at its end are counted overnight, and told from the open of
/// the next session on.
fn days(market: &Market, symbol: &str, from: Timestamp, to: Timestamp, now: Timestamp) -> Vec<(Timestamp, Tick, Option<i64>)> {
    let mut out = vec![];
    let sessions = market.calendar().sessions();
    for day in market.days(symbol).into_iter().flatten() {
        let Ok(at) = sessions.binary_search_by_key(&day.date, |s| s.date) else { continue };
        let end = sessions[at].close();
        let told = sessions.get(at + 1).is_some_and(|next| next.open() <= now);
        if end > from && end <= to.plus(86_400 * SECOND) && end.plus(DELAY) <= now {
            out.extend(day.bar.map(|b| (end, b, day.open_interest.filter(|_| told))));
        }
    }
    out
}

fn minutes(market: &Market, symbol: &str, from: Timestamp, to: Timestamp, now: Timestamp) -> Vec<(Timestamp, Tick)> {
    let sessions = market.calendar().sessions().iter().filter(|s| s.close() > from && s.open() < to && s.open() <= now);
    let bars = sessions.flat_map(|s| market.minutes(symbol, s.date));
    let sold = |m: &Tick| m.open_at >= from && m.open_at < to && m.open_at.plus(60 * SECOND + DELAY) <= now;
    bars.filter(sold).map(|m| (m.open_at.plus(60 * SECOND), m)).collect()
}

/// The contracts it has, with one that is listed from 11 April 2025 on, and in pages of five.
fn contracts(world: &World, heard: &Heard<'_>) -> Said {
    let today = heard.now.date_in(&world.corran.venue.zone);
    let mut rows: Vec<String> = vec![];
    for symbol in world.corran.symbols() {
        let Some(i) = world.corran.instrument(&symbol).filter(|i| i.listed.is_none_or(|d| d <= today)) else { continue };
        let date = |d: Option<TradeDate>| d.map_or(String::new(), |d| d.to_string());
        rows.push(format!(
            "{{\"code\":\"{}\",\"name\":\"{}\",\"first\":\"{}\",\"last\":\"{}\",\"expires\":\"{}\",\"tick\":\"{}\",\"size\":{},\"on\":\"{}\",\"notice\":\"{}\"}}",
            symbol.replace('-', "_"),
            i.name,
            date(i.listed),
            date(i.last_traded),
            date(i.expiry),
            i.tick_size.map_or(String::new(), |t| t.to_string()),
            i.multiplier.map_or(String::new(), |t| t.to_string()),
            i.product.as_deref().unwrap_or_default(),
            date(i.first_notice),
        ));
    }
    if today.to_string().as_str() >= "2025-04-11" {
        rows.push("{\"code\":\"TDP_2025_07\",\"name\":\"Tidal power July 2025\",\"first\":\"2025-04-11\",\"last\":\"2025-07-18\",\"expires\":\"2025-07-18\",\"tick\":\"0.01\",\"size\":100,\"on\":\"TDP\",\"notice\":\"\"}".to_owned());
    }
    let first: usize = heard.get("cursor").parse().unwrap_or(0);
    let next = if first + 5 < rows.len() { format!("\"{}\"", first + 5) } else { "null".to_owned() };
    let page = &rows[first.min(rows.len())..(first + 5).min(rows.len())];
    Said::ok(JSON, format!("{{\"rows\":[{}],\"next\":{next}}}\n", page.join(",\n")), "")
}
