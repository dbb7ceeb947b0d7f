//! What differs between the answer to a question at two instants: rows that are new, changed or gone, each with its cause.
//!
//! The rows of each instrument, then and now, go past each other slot by slot. Series in which nothing was learned, and for which
//! nothing else changed, are not read. A wide question's changes are told in the long form, since a cell is then a row.

use super::{
    A_BATCH, Answer, MANY, Member, Prepared, Source, Words,
    batch::{Batch, Cells, Heading, Kind},
    open::{MadeOf, Open, open, shown},
    side::Side,
    value_kind,
};
use crate::question::{Column, resolve::Resolved};
use futures_util::{StreamExt, stream};
use mizuno_core::{
    Decimal, Slot,
    bar::Digits,
    change::{ChangedBy, changed_by},
};
use mizuno_desk::DeskError;
use std::sync::Arc;

/// Rows of both sides that are held against each other at a time: each time they go from one thread to another.
const ROWS: usize = 4 * A_BATCH;
/// Batches of a series that may wait while those of the one before are written: of a year of minutes, most.
const AHEAD: usize = 16;
/// What happened to a row, by its place among the words of the column `change`.
const WORDS: [&str; 3] = ["new", "changed", "gone"];
const NEW: u32 = 0;
const CHANGED: u32 = 1;
const GONE: u32 = 2;

/// The two answers.
struct Both {
    then: Prepared,
    now: Prepared,
    moments: Vec<Column>,
    values: Vec<Column>,
    words: Words,
}

/// One of the series that are looked at, by its place among them, and the places of its members then and now.
pub(super) struct Pair {
    both: Arc<Both>,
    at: usize,
    members: (Option<usize>, Option<usize>),
    open: Option<(Option<Open>, Option<Open>)>,
}

/// Rows of both sides, slot by slot.
struct Aligned {
    slots: Vec<Slot>,
    old: Vec<Option<MadeOf>>,
    new: Vec<Option<MadeOf>>,
}

/// A row that differs: the place of its slot among those aligned, what happened to it, and why.
struct Entry {
    at: usize,
    change: u32,
    cause: ChangedBy,
}

/// The places of members then and now; `None` where there is none.
pub(super) type Pairs = Vec<(Option<usize>, Option<usize>)>;

/// Two columns of cells, then and now.
type ThenAndNow = (Cells, Cells);

fn words_of(all: impl IntoIterator<Item = impl Into<String>>) -> Kind {
    Kind::Words(all.into_iter().map(Into::into).collect())
}

/// Begins to tell what differs. The members of the two stand in `pairs` by their places; `room` is that for the numbers of a file that has one
/// type a column.
pub(super) fn begin(then: Prepared, now: Prepared, pairs: Pairs, room: Option<(Digits, Digits)>) -> Answer {
    let words = then.words().and(&now.words());
    let symbol = |(was, is): &(Option<usize>, Option<usize>)| {
        let member = is.map(|at| &now.members[at]).or_else(|| was.map(|at| &then.members[at]));
        member.map_or("", |m| &m.wanted.instrument.symbol).to_owned()
    };
    let headings = headings(&now, words_of(pairs.iter().map(symbol)), &words, room.unwrap_or_default());
    let (moments, values) = columns(&now);
    let held = |prepared: &Prepared| prepared.completeness().map_or(0, |c| c.held);
    let (research, many) = (now.research.clone(), held(&then) + held(&now) > MANY);
    let both = Arc::new(Both { words, moments, values, then, now });
    let pairs = stream::iter(pairs).enumerate().map(move |(at, members)| {
        let rows = Source::Pair(Box::new(Pair { both: both.clone(), at, members, open: None }));
        if many { rows.ahead(AHEAD, &research.desk.hands) } else { rows }
    });
    // Of many rows two series are looked at side by side, each ahead of the file.
    let begun = pairs.map(std::future::ready).buffered(if many { 2 } else { 1 });
    Answer { headings, rows: Source::Changes(Box::pin(begun.map(Source::batches).flatten())) }
}

/// Room for the numbers of both answers.
///
/// # Errors
/// When the store cannot be read.
pub(super) async fn room(then: &Prepared, now: &Prepared) -> Result<(Digits, Digits), DeskError> {
    let mut room = (Digits::default(), Digits::default());
    for prepared in [then, now] {
        for member in &prepared.members {
            let (price, volume) = prepared.room(member).await?;
            room = (room.0.and(price), room.1.and(volume));
        }
    }
    Ok(room)
}

/// The columns that say when, the moment always among them, and those of values.
fn columns(now: &Prepared) -> (Vec<Column>, Vec<Column>) {
    let (mut moments, values): (Vec<Column>, Vec<Column>) = now.columns().into_iter().partition(|c| c.is_of_the_moment());
    if !moments.contains(&Column::Time) {
        moments.insert(0, Column::Time);
    }
    (moments, values.into_iter().filter(|c| *c != Column::Instrument).collect())
}

/// The columns of changes: what happened and why, whose bar and when, the values now, and those then.
pub(super) fn headings(now: &Prepared, instruments: Kind, told: &Words, room: (Digits, Digits)) -> Vec<Heading> {
    let heading = |name: &str, kind, optional| Heading { name: name.to_owned(), kind, optional };
    let mut out = vec![
        heading("change", words_of(WORDS), false),
        heading("cause", words_of(ChangedBy::ALL.map(ChangedBy::word)), false),
        heading(&now.name(Column::Instrument), instruments, false),
    ];
    let (moments, values) = columns(now);
    out.extend(moments.iter().map(|c| now.of_the_moment(*c)));
    for old in ["", "old_"] {
        let value = |c: &Column| heading(&format!("{old}{}", now.name(*c)), value_kind(*c, room, told), true);
        out.extend(values.iter().map(value));
    }
    out
}

impl Pair {
    pub(super) async fn next(&mut self) -> Result<Option<Batch>, DeskError> {
        let Both { then: before, now: after, words, .. } = &*self.both;
        let (was, is) = (self.members.0.map(|at| &before.members[at]), self.members.1.map(|at| &after.members[at]));
        if self.open.is_none() {
            let then = if let Some(member) = was { Some(open(before, member, &words.sources).await?) } else { None };
            let now = if let Some(member) = is { Some(open(after, member, &words.sources).await?) } else { None };
            self.open = Some((then, now));
        }
        let Some((then, now)) = &mut self.open else { return Ok(None) };
        let places = |open: &Option<Open>| open.as_ref().map(|o| o.places.clone()).unwrap_or_default();
        let sides = (
            was.map(|member| Side::of(before, member, places(then), words)).transpose()?,
            is.map(|member| Side::of(after, member, places(now), words)).transpose()?,
        );
        loop {
            let rows = aligned(then.as_mut().zip(was.map(|m| (&*before.resolved, m))), now.as_mut().zip(is.map(|m| (&*after.resolved, m))));
            let rows = rows.await?;
            if rows.slots.is_empty() {
                return Ok(None);
            }
            let batch = self.both.differing(self.at, rows, [(&sides.0, then), (&sides.1, now)]);
            if batch.rows > 0 {
                return Ok(Some(batch));
            }
        }
    }
}

impl Both {
    /// Those of some aligned rows of a pair that differ.
    fn differing(&self, pair: usize, Aligned { slots, old, new }: Aligned, [then, now]: [(&Option<Side<'_>>, &Option<Open>); 2]) -> Batch {
        // Where one side is not there at all, the other gives the kind of its empty cells.
        let Some(any) = then.0.as_ref().or(now.0.as_ref()) else { return Batch::default() };
        let (was, is) = (then.0.as_ref().unwrap_or(any), now.0.as_ref().unwrap_or(any));
        let (before, after) = (was.values(&self.values, then.1, &old), is.values(&self.values, now.1, &new));
        let moments: Vec<ThenAndNow> = self.moments.iter().map(|c| (was.moments(*c, &slots), is.moments(*c, &slots))).collect();
        let (mut otherwise_stamped, mut differs) = (vec![false; slots.len()], vec![false; slots.len()]);
        moments.iter().for_each(|(then, now)| then.mark(now, &mut otherwise_stamped));
        before.iter().zip(&after).for_each(|(then, now)| then.mark(now, &mut differs));
        let mut entries: Vec<Entry> = vec![];
        for (at, &slot) in slots.iter().enumerate() {
            let cause = || match (then.0, now.0) {
                (Some(then_side), Some(now_side)) => {
                    let (old, new) = (shown(then.1, old[at]), shown(now.1, new[at]));
                    changed_by(&then_side.standpoint(slot, old, new), &now_side.standpoint(slot, new, old))
                }
                _ => ChangedBy::Membership,
            };
            let mut enter = |change| entries.push(Entry { at, change, cause: cause() });
            match (&old[at], &new[at]) {
                (None, _) => enter(NEW),
                (_, None) => enter(GONE),
                // Stamped otherwise, it is another row to whoever keeps a copy.
                _ if otherwise_stamped[at] => [GONE, NEW].into_iter().for_each(enter),
                _ if differs[at] => enter(CHANGED),
                _ => {}
            }
        }
        let mut columns = vec![
            Cells::Words(entries.iter().map(|e| Some(e.change)).collect()),
            Cells::Words(entries.iter().map(|e| ChangedBy::ALL.iter().position(|c| *c == e.cause).map(|at| at as u32)).collect()),
            Cells::Words(vec![Some(pair as u32); entries.len()]),
        ];
        // What was told anew of a series differs from end to end.
        let all_changed = entries.len() == slots.len() && entries.iter().all(|e| e.change == CHANGED);
        let take = |cells: Vec<Cells>, without: u32| match all_changed {
            true => cells,
            false => cells.iter().map(|cells| cells.pick(entries.iter().map(|e| (e.change != without).then_some(e.at)))).collect(),
        };
        columns.extend(moments.into_iter().map(|(then, now)| match all_changed {
            true => now,
            false => then.woven(&now, entries.iter().map(|e| (e.change != GONE, e.at))),
        }));
        columns.extend(take(after, GONE));
        columns.extend(take(before, NEW));
        Batch { rows: entries.len(), columns }
    }
}

/// The next rows of both sides, slot by slot, until one of them has to read on; none at the end.
async fn aligned(
    mut then: Option<(&mut Open, (&Resolved, &Member))>,
    mut now: Option<(&mut Open, (&Resolved, &Member))>,
) -> Result<Aligned, DeskError> {
    let a = if let Some((open, (resolved, member))) = &mut then { open.peek(resolved, member).await? } else { None };
    let b = if let Some((open, (resolved, member))) = &mut now { open.peek(resolved, member).await? } else { None };
    let (mut old, mut new) = (then.map(|(open, _)| open), now.map(|(open, _)| open));
    let (mut then_at, mut now_at) = (a, b);
    let mut out = Aligned { slots: Vec::with_capacity(ROWS), old: Vec::with_capacity(ROWS), new: Vec::with_capacity(ROWS) };
    // As long as neither of them has to read on; one that is at its end has nothing more.
    while out.slots.len() < ROWS && then_at.is_some() == a.is_some() && now_at.is_some() == b.is_some() {
        let Some(slot) = then_at.into_iter().chain(now_at).min() else { break };
        let take = |open: &mut Option<&mut Open>, at: &mut Option<Slot>| {
            let open = open.as_mut().filter(|_| *at == Some(slot))?;
            let row = open.take();
            *at = open.waits();
            row
        };
        out.old.push(take(&mut old, &mut then_at));
        out.new.push(take(&mut new, &mut now_at));
        out.slots.push(slot);
    }
    Ok(out)
}

impl Cells {
    /// Whether a row is written alike in two columns of a kind: numbers of equal value and other digits are not.
    pub(crate) fn same(&self, other: &Cells, row: usize) -> bool {
        let alike = |a: Option<Decimal>, b: Option<Decimal>| a.zip(b).map_or(a.is_none() && b.is_none(), |(a, b)| a.is_printed_as(b));
        match (self, other) {
            (Cells::Numbers(a), Cells::Numbers(b)) => alike(a.get(row), b.get(row)),
            (Cells::Reals(a), Cells::Reals(b)) => a[row] == b[row],
            (Cells::Words(a), Cells::Words(b)) => a[row] == b[row],
            (Cells::Flags(a), Cells::Flags(b)) => a[row] == b[row],
            (Cells::Moments(a) | Cells::Whole(a), Cells::Moments(b) | Cells::Whole(b)) => a[row] == b[row],
            (Cells::Dates(a), Cells::Dates(b)) => a[row] == b[row],
            _ => false,
        }
    }

    /// Marks the rows that are not written alike in two columns of a kind.
    fn mark(&self, other: &Cells, differs: &mut [bool]) {
        match (self, other) {
            (Cells::Numbers(a), Cells::Numbers(b)) => a.mark(b, differs),
            _ => differs.iter_mut().enumerate().for_each(|(row, differs)| *differs |= !self.same(other, row)),
        }
    }

    /// Some of the rows in this order; an empty cell for `None`.
    fn pick(&self, rows: impl Iterator<Item = Option<usize>>) -> Cells {
        match self {
            Cells::Numbers(all) => Cells::Numbers(rows.map(|at| all.get(at?)).collect()),
            Cells::Reals(all) => Cells::Reals(rows.map(|at| all[at?]).collect()),
            Cells::Words(all) => Cells::Words(rows.map(|at| all[at?]).collect()),
            Cells::Flags(all) => Cells::Flags(rows.map(|at| all[at?]).collect()),
            // A row has its moment always.
            Cells::Moments(all) => Cells::Moments(rows.flatten().map(|at| all[at]).collect()),
            Cells::Whole(all) => Cells::Whole(rows.flatten().map(|at| all[at]).collect()),
            Cells::Dates(all) => Cells::Dates(rows.flatten().map(|at| all[at]).collect()),
        }
    }

    /// Rows of this column, or where the flag says so of another one.
    fn woven(&self, other: &Cells, rows: impl Iterator<Item = (bool, usize)>) -> Cells {
        match (self, other) {
            (Cells::Moments(a), Cells::Moments(b)) => Cells::Moments(rows.map(|(theirs, at)| if theirs { b[at] } else { a[at] }).collect()),
            (Cells::Whole(a), Cells::Whole(b)) => Cells::Whole(rows.map(|(theirs, at)| if theirs { b[at] } else { a[at] }).collect()),
            (Cells::Dates(a), Cells::Dates(b)) => Cells::Dates(rows.map(|(theirs, at)| if theirs { b[at] } else { a[at] }).collect()),
            _ => other.pick(rows.map(|(_, at)| Some(at))),
        }
    }
}
