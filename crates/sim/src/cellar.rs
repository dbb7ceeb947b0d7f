//! *cellar*: the whole of yesterday for one venue, a zip with one file a symbol, listed on an index page.

use crate::{
    World,
    faults::Fault,
    talk::{Heard, Said},
};
use mizuno_core::{Session, Timestamp, time::SECOND};
use std::{
    fmt::Write as _,
    io::{Cursor, Write},
};
use zip::{ZipWriter, write::SimpleFileOptions};

/// Files go back so many days.
const DEPTH_DAYS: i32 = 21;

pub(crate) fn answer(world: &World, heard: &Heard<'_>) -> Said {
    let up: Vec<&Session> = world.market.calendar().sessions().iter().filter(|s| is_up(world, s, heard.now)).collect();
    if heard.path == "/" {
        let mut out = "<html><head><title>The Cellar</title></head><body><h1>Down in the cellar</h1><ul>\n".to_owned();
        for session in &up {
            let _ = writeln!(out, "<li><a href=\"/{0}\">{0}</a></li>", name(session));
        }
        out.push_str("</ul></body></html>\n");
        return Said::ok("text/html", out, "");
    }
    match up.iter().find(|s| heard.path == format!("/{}", name(s))) {
        Some(session) => Said::ok("application/zip", archive(world, session), ""),
        None => Said::no(404, "text/html", "<p>Nothing on that shelf.</p>"),
    }
}

fn name(session: &Session) -> String {
    format!("aldx-{}.zip", session.date.to_string().replace('-', ""))
}

/// A session's file is up at eight the next morning: fifteen hours and a quarter after a full day's close.
fn is_up(world: &World, session: &Session, now: Timestamp) -> bool {
    let mut late = Some(0);
    for (fault, _) in world.faults.iter() {
        if let Fault::File { date, late: hours } = fault
            && *date == session.date
        {
            late = *hours;
        }
    }
    let recent = session.date >= now.date_in(&world.market.venue.zone).plus(-DEPTH_DAYS);
    recent && late.is_some_and(|hours| session.close().plus((15 * 3600 + 900 + hours * 3600) * SECOND) <= now)
}

fn archive(world: &World, session: &Session) -> Vec<u8> {
    let mut zip = ZipWriter::new(Cursor::new(vec![]));
    let market = &world.market;
    for symbol in market.symbols() {
        let bars = market.minutes(&symbol, session.date);
        if bars.is_empty() {
            continue;
        }
        let mut text = "day;time;o;h;l;c;v\n".to_owned();
        for bar in bars {
            let wall = market.venue.zone.to_datetime(bar.open_at.to_jiff());
            let [open, high, low, close] = bar.prices.map(|p| market.print(p));
            let _ = writeln!(text, "{};{open};{high};{low};{close};{}", wall.strftime("%Y%m%d;%H:%M"), bar.volume);
        }
        // Writing into memory fails only when there is none left.
        if zip.start_file(format!("{}.txt", symbol.replace('.', "")), SimpleFileOptions::default()).is_ok() {
            let _ = zip.write_all(text.as_bytes());
        }
    }
    zip.finish().map(Cursor::into_inner).unwrap_or_default()
}
