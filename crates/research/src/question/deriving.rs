//! The keys of what is made of bars: adjusted prices and coarser bars.

use super::{ADJUST, Column, Joined, ROLLS, Round, Shape, pieces::Pieces, reader::Reader};
use mizuno_core::{
    Interval,
    adjust::{Adjustment, Anchor},
    roll::Join,
};

/// How coarser bars are made.
pub(super) fn pieces(r: &mut Reader) -> Pieces {
    let align = r.text("align").filter(|text| text != "session");
    if let Some(zone) = &align
        && jiff::tz::TimeZone::get(zone).is_err()
    {
        r.wrong(format!("align: `{zone}` is neither session nor a zone, as Pacific/Auckland"));
    }
    Pieces {
        made_from: r.read::<Interval>("made_from"),
        align,
        by_last: r.word("label", "a session", &[("first", false), ("last", true)]).unwrap_or(false),
        dropped: r.word("incomplete", "a way", &[("kept", false), ("dropped", true)]).unwrap_or(false),
    }
}

/// How prices are adjusted.
pub(super) fn adjust(r: &mut Reader) -> (Option<Adjustment>, Option<Joined>) {
    let which = r.word("adjust", "a way to adjust", &ADJUST).flatten();
    let join = r.word("rolls", "a way to join", &ROLLS).flatten();
    let anchor = r.text("anchor").and_then(|text| match text.as_str() {
        "newest" => Some(Anchor::Newest),
        "oldest" => Some(Anchor::Oldest),
        date => match date.parse() {
            Ok(date) => Some(Anchor::Date(date)),
            Err(_) => {
                r.wrong(format!("anchor: `{text}` is no anchor; it is newest, oldest, or a trade date as 2025-04-09"));
                None
            }
        },
    });
    if which.is_none() && join.is_none() && anchor.is_some() {
        r.wrong("anchor: prices are as traded; add adjust=splits or adjust=all, or rolls=difference or rolls=ratio, or leave it out");
    }
    if let (Some(_), Some(Anchor::Date(date))) = (join, anchor) {
        r.wrong(format!("anchor: contracts are joined at the newest or the oldest one, and {date} is neither"));
    }
    let adjust = which.map(|which| Adjustment { which, anchor: anchor.unwrap_or(Anchor::Newest) });
    (adjust, join.map(|by| Joined { by, oldest: anchor == Some(Anchor::Oldest) }))
}

/// What cannot be had without adjusted prices, or with them.
pub(super) fn of_actions(r: &mut Reader, adjust: Option<Adjustment>, rolls: Option<Joined>, shape: &Shape) {
    let multiplied = adjust.is_some() || rolls.is_some_and(|r| r.by == Join::Ratio);
    if multiplied && shape.round == Some(Round::Tick) {
        r.wrong("round: an adjusted price need not be a whole number of ticks; give a number of decimals");
    }
    for column in [Column::RawClose, Column::PriceFactor, Column::VolumeFactor] {
        if adjust.is_none() && shape.columns.contains(&column) {
            r.wrong(format!("columns: {} is there beside adjusted prices; add adjust=splits or adjust=all", column.word()));
        }
    }
}
