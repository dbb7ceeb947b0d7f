//! *harbour*: delimited text, newest first, three lines of chatter, wall-clock stamps.

use crate::{
    World,
    faults::Fault,
    market::Tick,
    talk::{Heard, Said},
};
use mizuno_core::{Timestamp, TradeDate, calendar::on_the_wall, time::SECOND};
use std::fmt::Write;

/// Minute bars go back this many days.
const DEPTH_DAYS: i32 = 30;
/// A minute's bar is out two minutes after it ends, a day's twenty minutes after the close.
const DELAY: (i64, i64) = (120 * SECOND, 1200 * SECOND);

#[derive(Clone, Copy, PartialEq, Eq)]
enum Step {
    Day,
    Minute,
}

const TEXT: &str = "text/plain; charset=utf-8";

const SORRY: &str = "<html><head><title>Harbour Quotes</title></head><body><h1>Sorry!</h1><p>We are mending the quay.</p></body></html>\n";

pub(crate) fn answer(world: &World, heard: &Heard<'_>) -> Said {
    let symbol = heard.path.trim_start_matches("/bars/").replace('-', ".");
    let step = match heard.get("step") {
        "day" => Step::Day,
        "minute" => Step::Minute,
        _ => return Said::no(400, TEXT, "step is day or minute\n"),
    };
    if world.market.days(&symbol).is_none() {
        return Said::no(404, TEXT, format!("No such symbol: {symbol}\n"));
    }
    for (fault, strikes) in world.faults.iter() {
        match fault {
            Fault::Instead { symbol: s, times, status, body } if (s.is_empty() || *s == symbol) && strikes.strike(*times) => {
                return Said { status: *status, ..Said::ok(TEXT, body.clone(), &symbol) };
            }
            Fault::ErrorPage { symbol: s, until } if *s == symbol && step == Step::Day && heard.now < *until => {
                return Said::ok(TEXT, SORRY, &symbol);
            }
            _ => {}
        }
    }
    let Some(range) = range(world, heard.get("from"), heard.get("to")) else {
        return Said::no(400, TEXT, "Dates as YYYY-MM-DD, or seconds since 1970.\n");
    };
    let mut rows = rows(world, &symbol, step, range, heard.now);
    spoil(world, &symbol, step, heard.now, &mut rows);
    Said::ok(TEXT, print(world, &symbol, step, &rows), &symbol)
}

/// The half-open range asked for: dates include the last day, seconds do not include the last second.
fn range(world: &World, from: &str, to: &str) -> Option<(Timestamp, Timestamp)> {
    let midnight = |d: TradeDate| on_the_wall(&world.market.venue.zone, d, jiff::civil::Time::midnight());
    if let (Ok(from), Ok(to)) = (from.parse::<TradeDate>(), to.parse::<TradeDate>()) {
        return Some((midnight(from), midnight(to.plus(1))));
    }
    let seconds = |t: &str| t.parse::<i64>().ok().and_then(|s| s.checked_mul(SECOND)).map(Timestamp);
    Some((seconds(from)?, seconds(to)?))
}

/// What there is to sell: in range, published, not too old; newest first.
fn rows(world: &World, symbol: &str, step: Step, (from, to): (Timestamp, Timestamp), now: Timestamp) -> Vec<(TradeDate, Tick)> {
    let market = &world.market;
    let oldest = now.date_in(&market.venue.zone).plus(-DEPTH_DAYS);
    let mut out = vec![];
    for session in market.calendar().sessions().iter().filter(|s| s.close() > from && s.open() < to && s.open() <= now) {
        match step {
            Step::Day => {
                let day = market.days(symbol).into_iter().flatten().find(|d| d.date == session.date);
                if session.close().plus(DELAY.1) <= now {
                    out.extend(day.and_then(|d| d.bar).map(|b| (session.date, b)));
                }
            }
            Step::Minute if session.date >= oldest => {
                let sold = |m: &Tick| m.open_at >= from && m.open_at < to && m.open_at.plus(60 * SECOND + DELAY.0) <= now;
                out.extend(market.minutes(symbol, session.date).into_iter().filter(sold).map(|m| (session.date, m)));
            }
            Step::Minute => {}
        }
    }
    out.reverse();
    out
}

fn spoil(world: &World, symbol: &str, step: Step, now: Timestamp, rows: &mut Vec<(TradeDate, Tick)>) {
    for (fault, strikes) in world.faults.iter() {
        match fault {
            Fault::LostAfternoon { symbol: s, date, heals_after } if *s == symbol && step == Step::Minute => {
                let noon = world.market.calendar().session(*date).and_then(|s| s.stretches.first()).map(|m| m.end);
                let lost = |(d, m): &(TradeDate, Tick)| d == date && noon.is_some_and(|noon| m.open_at >= noon);
                if rows.iter().any(lost) && strikes.strike(heals_after.unwrap_or(u32::MAX)) {
                    rows.retain(|row| !lost(row));
                }
            }
            Fault::RepeatedRows { symbol: s } if *s == symbol && step == Step::Day => {
                let twice = rows.iter().enumerate().flat_map(|(i, row)| std::iter::repeat_n(*row, if i % 5 == 0 { 2 } else { 1 }));
                *rows = twice.collect();
            }
            Fault::HighBelowLow { symbol: s, date } if *s == symbol && step == Step::Day => {
                rows.iter_mut().filter(|(d, _)| d == date).for_each(|(_, bar)| bar.prices.swap(1, 2));
            }
            Fault::EarlyVolume { symbol: s, date, until } if *s == symbol && step == Step::Day && now < *until => {
                rows.iter_mut().filter(|(d, _)| d == date).for_each(|(_, bar)| bar.volume = bar.volume * 9 / 10);
            }
            Fault::Shuffled { symbol: s } if *s == symbol => {
                let half = rows.len() / 2;
                rows.rotate_left(half);
                rows[..half].reverse();
            }
            _ => {}
        }
    }
}

fn print(world: &World, symbol: &str, step: Step, rows: &[(TradeDate, Tick)]) -> String {
    let mut out = String::with_capacity(rows.len() * 48 + 200);
    let _ = writeln!(out, "Harbour Quotes -- a courtesy to our friends ashore");
    let _ = writeln!(out, "{symbol}, as traded, in dollars; newest first");
    let _ = writeln!(out, "Times are those of the exchange. No warranty, fair winds.");
    let _ = writeln!(out, "Date,Close,High,Low,Open,Volume");
    let cents = |c: i64| format!("{}.{:02}", c / 100, c % 100);
    for (date, bar) in rows {
        let [open, high, low, close] = bar.prices.map(cents);
        match step {
            Step::Day => {
                let _ = write!(out, "{date}");
            }
            Step::Minute => {
                let wall = world.market.venue.zone.to_datetime(bar.open_at.to_jiff());
                let _ = write!(out, "{} {:02}:{:02}", wall.date(), wall.hour(), wall.minute());
            }
        }
        let _ = writeln!(out, ",{close},{high},{low},{open},{}", bar.volume);
    }
    for (fault, strikes) in world.faults.iter() {
        if let Fault::CutFile { symbol: s, times } = fault
            && *s == symbol
            && strikes.strike(*times)
        {
            out.truncate(out.len() * 2 / 3);
            while out.ends_with('\n') {
                out.pop();
            }
        }
    }
    out
}
