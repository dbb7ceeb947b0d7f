//! *lodestar*: JSON with one array a column, epoch seconds, numeric ids, a key in a header.

use crate::{
    LODESTAR_KEY, World, actions,
    faults::Fault,
    market::{Market, Tick},
    talk::{Heard, Said},
};
use mizuno_core::{Action, Timestamp, TradeDate, action::What, calendar::on_the_wall, time::SECOND};
use serde_json::json;

const JSON: &str = "application/json";
/// Calls a day without a key.
const WITHOUT_KEY: usize = 25;
/// Minute bars go back so many days; one request spans thirty.
const DEPTH_DAYS: i32 = 84;
const SPAN: i64 = 31 * 86_400 * SECOND;

/// Its number for a symbol.
fn id(symbol: &str) -> u32 {
    symbol.bytes().fold(7u32, |h, b| h.wrapping_mul(31).wrapping_add(u32::from(b))) % 90_000 + 10_000
}

pub(crate) fn answer(world: &World, heard: &Heard<'_>) -> Said {
    match heard.key {
        Some(LODESTAR_KEY) => {}
        Some(other) => return Said::no(401, JSON, json!({ "error": format!("unknown key {other}") }).to_string()),
        None if used_today(world, heard.now) >= WITHOUT_KEY => {
            return Said::no(429, JSON, json!({ "error": "25 calls a day without a key" }).to_string());
        }
        None => {}
    }
    if heard.path == "/v2/instruments" {
        return list(world);
    }
    let parts: Vec<&str> = heard.path.trim_start_matches("/v2/bars/").split('/').collect();
    let [number, step] = parts[..] else { return Said::no(404, JSON, json!({ "error": "no such path" }).to_string()) };
    let found = [&world.market, &world.meridian]
        .into_iter()
        .find_map(|m| Some((m, m.symbols().into_iter().find(|s| id(s).to_string() == number)?)));
    let Some((market, symbol)) = found else { return Said::no(404, JSON, json!({ "error": "no such instrument" }).to_string()) };
    let seconds = |name: &str| heard.get(name).parse::<i64>().ok().map(|s| Timestamp(s.saturating_mul(SECOND)));
    let (Some(from), Some(to)) = (seconds("from"), seconds("to")) else {
        return Said::no(400, JSON, json!({ "error": "from and to in seconds" }).to_string());
    };
    let rows = match step {
        "D" => days(world, market, &symbol, from, to, heard.now),
        "A" => return Said::ok(JSON, written(&adjusted_days(market, &symbol, from, to, heard.now), &four_decimals), &symbol),
        _ if to.0 - from.0 > SPAN => return Said::no(400, JSON, json!({ "error": "thirty days at most" }).to_string()),
        _ => minutes(world, market, &symbol, from, to, heard.now),
    };
    Said::ok(JSON, written(&rows, &|price| market.print(price)), &symbol)
}

fn used_today(world: &World, now: Timestamp) -> usize {
    let day = |t: Timestamp| t.date_in(&jiff::tz::TimeZone::get("America/New_York").unwrap_or(jiff::tz::TimeZone::UTC));
    world.calls().iter().filter(|c| c.source == "lodestar" && day(c.at) == day(now) && c.status != 429).count()
}

fn list(world: &World) -> Said {
    let rows: Vec<_> = world
        .market
        .symbols()
        .iter()
        .filter_map(|s| world.market.instrument(s))
        .map(|i| json!({ "id": id(&i.symbol), "ticker": i.symbol, "title": i.name, "class": i.kind }))
        .collect();
    Said::ok(JSON, json!({ "instruments": rows }).to_string(), "")
}

/// Bars in lots of a hundred; a stamp and a bar.
type Row = (i64, Tick);

fn days(world: &World, market: &Market, symbol: &str, from: Timestamp, to: Timestamp, now: Timestamp) -> Vec<Row> {
    let unfinished = has(world, |f| matches!(f, Fault::Unfinished { source: "lodestar" }));
    let restates = has(world, |f| matches!(f, Fault::Restates { source: "lodestar" }));
    let midnight = |d: TradeDate| on_the_wall(&market.venue.zone, d, jiff::civil::Time::midnight());
    let closed: Vec<TradeDate> = market.calendar().sessions().iter().filter(|s| s.close() <= now).map(|s| s.date).collect();
    let fresh = closed.len().checked_sub(2).map_or(TradeDate(i32::MAX), |at| closed[at]);
    let mut out = vec![];
    for day in market.days(symbol).into_iter().flatten() {
        let (stamp, Some(session)) = (midnight(day.date), market.calendar().session(day.date)) else { continue };
        if stamp < from || stamp >= to || session.open() > now {
            continue;
        }
        let mut bar = if session.close().plus(900 * SECOND) <= now {
            day.bar
        } else if unfinished {
            let so_far: Vec<Tick> = market.minutes(symbol, day.date).into_iter().filter(|m| m.open_at.plus(60 * SECOND) <= now).collect();
            so_far.first().zip(so_far.last()).map(|(first, last)| Tick {
                open_at: first.open_at,
                prices: [
                    first.prices[0],
                    so_far.iter().map(|m| m.prices[1]).max().unwrap_or(0),
                    so_far.iter().map(|m| m.prices[2]).min().unwrap_or(0),
                    last.prices[3],
                ],
                volume: so_far.iter().map(|m| m.volume).sum(),
            })
        } else {
            None
        };
        // Splits that have happened by now are taken out of what came before them.
        let known = market.splits(symbol).filter(|(d, ..)| *d > day.date && midnight(*d) <= now);
        let (new, old) = known.fold((1, 1), |(new, old), (_, n, o)| (new * n, old * o));
        if let Some(bar) = &mut bar {
            bar.prices = bar.prices.map(|p| (p * old + new / 2) / new);
            bar.volume = bar.volume * new / old;
            if restates && day.date >= fresh && (day.date.0 as u32 ^ id(symbol)).is_multiple_of(5) {
                bar.volume = bar.volume * 9 / 10;
            }
        }
        out.extend(bar.map(|b| (stamp.0 / SECOND, b)));
    }
    out
}

fn minutes(world: &World, market: &Market, symbol: &str, from: Timestamp, to: Timestamp, now: Timestamp) -> Vec<Row> {
    let unfinished = has(world, |f| matches!(f, Fault::Unfinished { source: "lodestar" }));
    let oldest = now.date_in(&market.venue.zone).plus(-DEPTH_DAYS);
    let mut out = vec![];
    for session in market.calendar().sessions().iter().filter(|s| s.close() > from && s.open() < to && s.open() <= now && s.date >= oldest)
    {
        for mut m in market.minutes(symbol, session.date) {
            let done = m.open_at.plus(120 * SECOND) <= now;
            if m.open_at < from || m.open_at >= to || !(done || (unfinished && m.open_at <= now)) {
                continue;
            }
            if has(world, |f| matches!(f, Fault::BadPrint { source: "lodestar", symbol: s, at } if *s == symbol && *at == m.open_at)) {
                m.prices[1] = m.prices[1] * 3 / 2;
            }
            out.push((m.open_at.0 / SECOND, m));
        }
    }
    out
}

fn has(world: &World, is: impl Fn(&Fault) -> bool) -> bool {
    world.faults.iter().any(|(f, _)| is(f))
}

/// Daily bars adjusted for splits and dividends that have happened by now, in ten-thousandths. One dividend is wrong by a cent.
fn adjusted_days(market: &Market, symbol: &str, from: Timestamp, to: Timestamp, now: Timestamp) -> Vec<Row> {
    let midnight = |d: TradeDate| on_the_wall(&market.venue.zone, d, jiff::civil::Time::midnight());
    let done = |d: TradeDate| market.calendar().session(d).is_some_and(|s| s.close().plus(900 * SECOND) <= now);
    let days: Vec<(TradeDate, Tick)> = market.days(symbol).into_iter().flatten().filter_map(|d| Some((d.date, d.bar?))).collect();
    let factor = |action: &Action| {
        let before = days.partition_point(|(date, _)| *date < action.ex_date).checked_sub(1)?;
        let mut action = action.clone();
        if let (What::Dividend(dividend), "OXB") = (&mut action.what, symbol) {
            dividend.amount.mantissa += i64::from(action.ex_date == WRONG_BY_A_CENT);
        }
        Some((action.ex_date, actions::step(&action, days[before].1.prices[3] as f64 / 100.0), actions::shares(&action)))
    };
    let known: Vec<_> = actions::of(symbol).iter().filter(|a| midnight(a.ex_date) <= now).filter_map(factor).collect();
    let asked = |(date, _): &&(TradeDate, Tick)| (from..to).contains(&midnight(*date)) && done(*date);
    let adjusted = |(date, bar): &(TradeDate, Tick)| {
        let later = known.iter().filter(|(ex_date, ..)| date < ex_date);
        let (price, volume) = later.fold((1.0, 1.0), |(price, volume), (_, step, shares)| {
            (price * step, volume * shares.map_or(1.0, |(new, old)| new as f64 / old as f64))
        });
        let prices = bar.prices.map(|p| (p as f64 * price * 100.0).round() as i64);
        (midnight(*date).0 / SECOND, Tick { prices, volume: (bar.volume as f64 * volume) as i64, ..*bar })
    };
    days.iter().filter(asked).map(adjusted).collect()
}

/// The ex-date of a dividend of OXB: 0.32 instead of 0.31.
const WRONG_BY_A_CENT: TradeDate = TradeDate(20_129); // 10 February 2025

fn four_decimals(price: i64) -> String {
    format!("{}.{:04}", price / 10_000, price % 10_000)
}

fn written(rows: &[Row], price: &dyn Fn(i64) -> String) -> String {
    let column = |value: &dyn Fn(&Row) -> String| rows.iter().map(value).collect::<Vec<_>>().join(",");
    let price = |at: usize| column(&|(_, b): &Row| price(b.prices[at]));
    format!(
        "{{\"bars\":{{\"t\":[{}],\"o\":[{}],\"h\":[{}],\"l\":[{}],\"c\":[{}],\"v\":[{}]}}}}\n",
        column(&|(t, _): &Row| t.to_string()),
        price(0),
        price(1),
        price(2),
        price(3),
        column(&|(_, b): &Row| ((b.volume + 50) / 100).to_string()),
    )
}
