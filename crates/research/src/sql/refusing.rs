//! What a query cannot say, by the name of the key that asks for it.

use crate::question::{
    Column, Layout, Missing, Question, Round,
    picking::{Condition, Sign},
    resolve::{Resolved, Wanted},
    zone::{Clock, Stamp},
};
use mizuno_config::{GOLDEN, edition::TableSpec};
use mizuno_core::{
    Interval, Side, Timestamp,
    adjust::Anchor,
    derived::{Derived, Quantity},
};
use std::collections::HashSet;

/// Columns that a query gives.
const COLUMNS: [Column; 14] = [
    Column::Instrument,
    Column::Time,
    Column::TradeDate,
    Column::Open,
    Column::High,
    Column::Low,
    Column::Close,
    Column::Volume,
    Column::OpenInterest,
    Column::Source,
    Column::RawClose,
    Column::PriceFactor,
    Column::VolumeFactor,
    Column::Held,
];

/// Decimals that prices are rounded to, at most.
const MOST_DECIMALS: u8 = 8;

/// The column of a number that conditions may be about.
pub(super) fn plain(number: Derived) -> Option<Column> {
    let column = match number.of {
        Quantity::Open => Column::Open,
        Quantity::High => Column::High,
        Quantity::Low => Column::Low,
        Quantity::Close => Column::Close,
        Quantity::Volume => Column::Volume,
        Quantity::OpenInterest => Column::OpenInterest,
        _ => return None,
    };
    (number == Derived::plain(number.of)).then_some(column)
}

/// The columns that the conditions of a question are about.
pub(super) fn of_conditions(question: &Question) -> impl Iterator<Item = Column> {
    question.shape.picking.conditions.iter().flat_map(Condition::operands).filter_map(plain)
}

/// By what was asked alone.
pub(super) fn by_keys(question: &Question, table: &TableSpec, instant: Timestamp) -> Vec<String> {
    let (shape, mut wrong) = (&question.shape, vec![]);
    let mut refuse = |is: bool, key: &str, why: &str| {
        if is {
            wrong.push(format!("{key}: {why}"));
        }
    };
    refuse(question.sources.iter().any(|source| source != GOLDEN), "source", "the table holds golden bars; leave it out");
    refuse(question.sides.iter().any(|side| *side != Side::Trade), "side", "the table holds trades; leave it out");
    refuse(question.search.is_some(), "search", "name the instruments, or a pattern");
    refuse(
        question.as_of.is_some_and(|at| at != instant),
        "as_of",
        &format!("the table stands for {instant}; leave it out, or name an edition of that instant"),
    );
    refuse(question.since.is_some(), "since", "changes are told by about/changes-* of each edition; leave it out");
    refuse(question.fit.is_some(), "fit", "say an interval");
    refuse(question.rolls.is_some(), "rolls", "the table holds contracts, and no continuous series; leave it out");
    refuse(question.delisting, "delisting", "the table holds bars of sources, and no last prices; leave it out");
    let anchored = question.adjust.is_some_and(|a| matches!(a.anchor, Anchor::Date(_)));
    refuse(anchored, "anchor", "the table of factors has those of `newest` and `oldest`");
    refuse(
        question.pieces.dropped,
        "incomplete",
        "how many bars there should be is not in the table; leave it out, and hold `held` against it",
    );
    refuse(question.pieces.align.is_some(), "align", "the table has the opens of sessions, and no clocks; leave it out");
    refuse(shape.layout != Layout::Long, "layout", "a query gives a row a bar; leave it out");
    refuse(shape.missing != Missing::Absent, "missing", "a query gives bars that are there; leave it out");
    refuse(shape.clock != Clock::Utc, "zone", "times are in UTC; leave it out");
    refuse(shape.stamp != Stamp::default(), "stamp", "times and dates have types of their own; leave it out");
    refuse(shape.at_end, "stamp_at", "times are those of the open; leave it out");
    refuse(shape.hours.is_some(), "hours", "the table has no clocks of venues; leave it out");
    refuse(shape.first_minutes.is_some(), "first_minutes", "leave it out, and hold times against the table of sessions");
    refuse(shape.last_minutes.is_some(), "last_minutes", "leave it out, and hold times against the table of sessions");
    refuse(shape.bridged, "across_gaps", "numbers held against the bar before are not translated; leave it out");
    refuse(shape.picking.keep.is_some(), "keep_first, keep_last", "not translated; leave it out");
    match shape.round {
        Some(Round::Tick) => refuse(true, "round", "ticks are not in the table; say decimals"),
        Some(Round::Decimals(n)) => refuse(n > MOST_DECIMALS, "round", &format!("at most {MOST_DECIMALS} decimals")),
        None => {}
    }
    for column in shape.columns.iter().filter(|column| !COLUMNS.contains(column)) {
        refuse(true, "columns", &format!("{} is not translated; leave it out", column.word()));
    }
    for condition in &shape.picking.conditions {
        for number in condition.operands().filter(|number| plain(*number).is_none()) {
            refuse(true, "where", &format!("{number} is not translated; there is open, high, low, close, volume, open_interest"));
        }
        let crosses = matches!(condition.sign, Sign::CrossesAbove | Sign::CrossesBelow);
        refuse(crosses, "where", &format!("`{condition}` looks at the row before, and is not translated"));
    }
    let held = shape.columns.iter().copied().chain(of_conditions(question)).any(|column| column == Column::OpenInterest);
    refuse(held && !table.open_interest, "open_interest", "the table has none; write open_interest = true into the [table] of its spec");
    let volume = question.columns(true).contains(&Column::Volume);
    refuse(
        question.adjust.is_some() && volume && table.volume_decimals > 0,
        "columns",
        "an adjusted volume keeps the decimals that it has, and those are not in the table; leave volume out",
    );
    wrong
}

/// By the instruments that it is about: those of an interval that the table does not have.
pub(super) fn by_instruments(resolved: &Resolved, interval: Interval, there: &HashSet<&str>, edition: &str) -> Option<String> {
    let lacks = |w: &&Wanted| is_of_trades(w) && w.key.interval == interval && !there.contains(w.key.symbol.as_str());
    let first = resolved.series.iter().find(lacks)?;
    let more = resolved.series.iter().filter(lacks).count() - 1;
    let more = if more == 0 { String::new() } else { format!(" and {more} more") };
    Some(format!("instruments: {}{more} at {interval} are not in the table of {edition}", first.key.symbol))
}

fn is_of_trades(wanted: &Wanted) -> bool {
    wanted.chain.is_none() && wanted.key.side == Side::Trade
}

/// By what kind of series it is about, and whose.
pub(super) fn by_series(resolved: &Resolved, table: &TableSpec, edition: &str) -> Vec<String> {
    let mut wrong = vec![];
    if let Some(chain) = resolved.series.iter().find(|wanted| wanted.chain.is_some()) {
        wrong.push(format!("instruments: {} is a continuous series, and the table holds contracts", chain.key.symbol));
    }
    if let Some(odd) = resolved.series.iter().find(|wanted| wanted.chain.is_none() && !is_of_trades(wanted)) {
        wrong.push(format!("side: {} has no trades, and the table holds nothing else; say side=trade, or leave it out", odd.key.symbol));
    }
    if let Some(name) = resolved.question.universe.as_ref().filter(|name| !table.universes.contains(name)) {
        let known = if table.universes.is_empty() { "of none".to_owned() } else { format!("of {}", table.universes.join(", ")) };
        wrong.push(format!("universe: {edition} has memberships {known}; write {name} into `universes` of its table"));
    }
    let mut finer: Vec<Interval> = resolved.series.iter().map(|wanted| wanted.key.interval).collect();
    finer.sort_unstable();
    finer.dedup();
    let there = || table.intervals.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
    let lacking = finer.iter().filter(|interval| !table.intervals.contains(interval));
    wrong.extend(lacking.map(|interval| format!("interval: {edition} has no bars of {interval}; there is {}", there())));
    if finer.len() > 1 {
        let all: Vec<String> = finer.iter().map(ToString::to_string).collect();
        wrong.push(format!("interval: some are made of bars of {}, others of {}; say made_from", all[0], all[1..].join(", ")));
    }
    wrong
}
