//! What differs between the answer to a question at two instants: rows that are new, changed or gone, each with its cause.
//!
//! The rows of each instrument, then and now, go past each other slot by slot. Series in which nothing was learned, and for which
//! nothing else changed, are not read. A wide question's changes are told in the long form, since a cell is then a row.

use super::{
    A_BATCH, Answer, MANY, Member, Prepared, Source, Words,
    batch::{Batch, Cells, Heading, Kind},
    how::how,
    long::{Open, Row, Shown, open, values},
    rows::Rows,
    value_kind,
};
use crate::{
    question::{Column, resolve::Resolved},
    reading::{Subject, leg_at},
};
use mizuno_core::{
    Decimal, Slot,
    bar::Digits,
    change::{ChangedBy, Standpoint, changed_by},
};
use mizuno_desk::DeskError;

/// What happened to a row, by its place among the words of the column `change`.
const WORDS: [&str; 3] = ["new", "changed", "gone"];
const NEW: u32 = 0;
const CHANGED: u32 = 1;
const GONE: u32 = 2;

pub(super) struct Changes {
    then: Prepared,
    now: Prepared,
    moments: Vec<Column>,
    values: Vec<Column>,
    words: Words,
    /// The members that are looked at, by their places then and now.
    pairs: Vec<(Option<usize>, Option<usize>)>,
    /// The pair being read.
    at: usize,
    open: Option<(Option<Open>, Option<Open>)>,
}

/// A row that differs: the place of its slot among those aligned, what happened to it, and why.
struct Entry {
    at: usize,
    change: u32,
    cause: ChangedBy,
}

/// Two columns of cells, then and now.
type Both = (Cells, Cells);

fn words(all: impl IntoIterator<Item = impl Into<String>>) -> Kind {
    Kind::Words(all.into_iter().map(Into::into).collect())
}

/// Begins to tell what differs. The members of the two stand in `pairs` by their places.
pub(super) async fn begin(
    then: Prepared,
    now: Prepared,
    pairs: Vec<(Option<usize>, Option<usize>)>,
    typed: bool,
) -> Result<Answer, DeskError> {
    let told = then.words().and(&now.words());
    let mut room = (Digits::default(), Digits::default());
    for prepared in [&then, &now].into_iter().filter(|_| typed) {
        for member in &prepared.members {
            let (price, volume) = prepared.room(member).await?;
            room = (room.0.and(price), room.1.and(volume));
        }
    }
    let symbol = |(was, is): &(Option<usize>, Option<usize>)| {
        let member = is.map(|at| &now.members[at]).or_else(|| was.map(|at| &then.members[at]));
        member.map_or("", |m| &m.wanted.instrument.symbol).to_owned()
    };
    let headings = headings(&now, words(pairs.iter().map(symbol)), &told, room);
    let (moments, values) = columns(&now);
    let held = |prepared: &Prepared| prepared.completeness().map_or(0, |c| c.held);
    let (desk, many) = (now.research.desk.clone(), held(&then) + held(&now) > MANY);
    let changes = Source::Changes(Box::new(Changes { words: told, moments, values, then, now, pairs, at: 0, open: None }));
    Ok(Answer { headings, rows: if many { changes.ahead(&desk.hands) } else { changes } })
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
        heading("change", words(WORDS), false),
        heading("cause", words(ChangedBy::ALL.map(ChangedBy::word)), false),
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

impl Changes {
    pub(super) async fn next(&mut self) -> Result<Option<Batch>, DeskError> {
        while let Some(&(then, now)) = self.pairs.get(self.at) {
            let (was, is) = (then.map(|at| &self.then.members[at]), now.map(|at| &self.now.members[at]));
            if self.open.is_none() {
                let then = if let Some(member) = was { Some(open(&self.then, member, &self.words.sources).await?) } else { None };
                let now = if let Some(member) = is { Some(open(&self.now, member, &self.words.sources).await?) } else { None };
                self.open = Some((then, now));
            }
            let Some((then, now)) = &mut self.open else { return Ok(None) };
            let how_then = was.map(|m| how(&self.then.resolved, m)).transpose()?;
            let how_now = is.map(|m| how(&self.now.resolved, m)).transpose()?;
            let rows =
                aligned(then.as_mut().zip(was.map(|m| (&*self.then.resolved, m))), now.as_mut().zip(is.map(|m| (&*self.now.resolved, m))))
                    .await?;
            if rows.is_empty() {
                self.open = None;
                self.at += 1;
                continue;
            }
            let places = |open: &Option<Open>| open.as_ref().map(|o| o.places.clone()).unwrap_or_default();
            let sides = (
                was.zip(how_then).map(|(member, how)| Side::of(&self.then, member, how, places(then), &self.words)),
                is.zip(how_now).map(|(member, how)| Side::of(&self.now, member, how, places(now), &self.words)),
            );
            let batch = self.differing(rows, sides);
            if batch.rows > 0 {
                return Ok(Some(batch));
            }
        }
        Ok(None)
    }

    /// Those of some aligned rows that differ.
    fn differing(&self, rows: Vec<(Slot, Option<Row>, Option<Row>)>, (then, now): (Option<Side<'_>>, Option<Side<'_>>)) -> Batch {
        // Where one side is not there at all, the other gives the kind of its empty cells.
        let Some(any) = then.as_ref().or(now.as_ref()) else { return Batch::default() };
        let (was, is) = (then.as_ref().unwrap_or(any), now.as_ref().unwrap_or(any));
        let slots: Vec<Slot> = rows.iter().map(|(slot, ..)| *slot).collect();
        let (old, new): (Vec<Option<Row>>, Vec<Option<Row>>) = rows.into_iter().map(|(_, old, new)| (old, new)).unzip();
        let moments: Vec<Both> = self.moments.iter().map(|c| (was.moments(*c, &slots), is.moments(*c, &slots))).collect();
        let before: Vec<Option<Shown<'_>>> = old.iter().map(|row| row.as_ref().map(Row::shown)).collect();
        let after: Vec<Option<Shown<'_>>> = new.iter().map(|row| row.as_ref().map(Row::shown)).collect();
        let cells: Vec<Both> = self.values.iter().map(|c| (was.values(*c, &before), is.values(*c, &after))).collect();
        let mut entries: Vec<Entry> = vec![];
        for at in 0..slots.len() {
            let cause = || match (&then, &now) {
                (Some(then), Some(now)) => changed_by(
                    &then.standpoint(slots[at], &old[at], new[at].as_ref()),
                    &now.standpoint(slots[at], &new[at], old[at].as_ref()),
                ),
                _ => ChangedBy::Membership,
            };
            let mut enter = |change| entries.push(Entry { at, change, cause: cause() });
            match (&old[at], &new[at]) {
                (None, _) => enter(NEW),
                (_, None) => enter(GONE),
                // Stamped otherwise, it is another row to whoever keeps a copy.
                _ if moments.iter().any(|(a, b)| !a.same(b, at)) => [GONE, NEW].into_iter().for_each(enter),
                _ if cells.iter().any(|(a, b)| !a.same(b, at)) => enter(CHANGED),
                _ => {}
            }
        }
        let take = |cells: &Cells, without: u32| cells.pick(entries.iter().map(|e| (e.change != without).then_some(e.at)));
        let mut columns = vec![
            Cells::Words(entries.iter().map(|e| Some(e.change)).collect()),
            Cells::Words(entries.iter().map(|e| ChangedBy::ALL.iter().position(|c| *c == e.cause).map(|at| at as u32)).collect()),
            Cells::Words(vec![Some(self.at as u32); entries.len()]),
        ];
        for (then, now) in &moments {
            columns.push(then.woven(now, entries.iter().map(|e| (e.change != GONE, e.at))));
        }
        columns.extend(cells.iter().map(|(_, new)| take(new, GONE)));
        columns.extend(cells.iter().map(|(old, _)| take(old, NEW)));
        Batch { rows: entries.len(), columns }
    }
}

/// The next rows of both sides, slot by slot.
async fn aligned(
    mut then: Option<(&mut Open, (&Resolved, &Member))>,
    mut now: Option<(&mut Open, (&Resolved, &Member))>,
) -> Result<Vec<(Slot, Option<Row>, Option<Row>)>, DeskError> {
    let mut out = vec![];
    while out.len() < A_BATCH {
        let a = if let Some((open, (resolved, member))) = &mut then { open.peek(resolved, member).await? } else { None };
        let b = if let Some((open, (resolved, member))) = &mut now { open.peek(resolved, member).await? } else { None };
        let Some(slot) = a.into_iter().chain(b).min() else { break };
        let old = then.as_mut().filter(|_| a == Some(slot)).and_then(|(open, _)| open.take());
        let new = now.as_mut().filter(|_| b == Some(slot)).and_then(|(open, _)| open.take());
        out.push((slot, old, new));
    }
    Ok(out)
}

/// One member as it was at one of the two instants.
struct Side<'p> {
    prepared: &'p Prepared,
    member: &'p Member,
    how: Rows<'p>,
    places: Vec<u32>,
    words: &'p Words,
    /// By what the bars of the member are multiplied, all of them.
    factors: String,
}

impl<'p> Side<'p> {
    fn of(prepared: &'p Prepared, member: &'p Member, how: Rows<'p>, places: Vec<u32>, words: &'p Words) -> Side<'p> {
        let all = Slot(i64::MIN)..Slot(i64::MAX);
        let factors = member.adjusted.as_ref().map(|a| a.factors.over(&all)).unwrap_or_default();
        Side { prepared, member, how, places, words, factors }
    }

    fn moments(&self, column: Column, slots: &[Slot]) -> Cells {
        self.how.moments(column, slots.iter().copied())
    }

    fn values(&self, column: Column, rows: &[Option<Shown<'_>>]) -> Cells {
        values(column, rows, &self.how, self.member, (&self.places, self.words))
    }

    /// What the answer had in a slot, and what that followed from.
    fn standpoint<'s>(&'s self, slot: Slot, row: &'s Option<Row>, other: Option<&Row>) -> Standpoint<'s> {
        let bar = row.as_ref().and_then(|row| row.bar.as_ref());
        let resolved = &self.prepared.resolved;
        // A row without a bar is there as soon as its slot is due.
        let is_due = bar.is_some()
            || other.is_some_and(|row| row.bar.is_some())
            || slot < self.how.calendar.due_until(self.how.interval, resolved.instant, 0);
        let extra = row.as_ref().and_then(|row| row.extra.as_deref());
        let wanted = &self.member.wanted;
        let in_range = wanted.range.contains(&slot) && self.how.takes(slot) && is_due;
        let span = extra.or(other.and_then(|row| row.extra.as_deref())).map_or_else(|| slot..Slot(slot.0 + 1), |e| e.span.clone());
        let left_out = in_range && !wanted.takes(&span);
        // A bar that was made of finer ones has the factors of the first of them.
        let adjusted = self.member.adjusted.as_ref().filter(|_| resolved.question.adjust.is_some());
        let factors = adjusted.map(|a| a.factors.at(extra.map_or(slot, |e| e.span.start)));
        let worked = (!self.member.worked.is_empty()).then_some(self.factors.as_str());
        let (adjusted, made) = (factors.map(|f| (&f.price.exact, &f.volume.exact)), extra.is_some());
        let action = self.member.action_in(&self.how, slot, extra, &self.words.actions);
        let doubted = |place: usize| self.member.doubted.get(place).is_some_and(|d| d.contains(&slot));
        let leg = leg_at(self.member.legs(), slot).map(|at| {
            let (leg, by_rolls) = (&self.member.legs()[at], self.member.adjusted.as_ref().filter(|a| a.by_rolls));
            let shift = leg.shift.map(|s| s.to_string()).unwrap_or_default();
            format!("{} {shift} {}", leg.contract, by_rolls.map(|a| a.factors.at(slot).price.exact.to_string()).unwrap_or_default())
        });
        // Of a chain, the contract of that slot.
        let (subject, before) = match &self.member.subject {
            Subject::Chain(legs) => match leg_at(legs, slot) {
                None => return Standpoint { in_range, left_out, ..Standpoint::default() },
                Some(at) => (&legs[at].subject, legs[..at].iter().map(|leg| leg.subject.sources().len()).sum()),
            },
            subject => (subject, 0),
        };
        let doubted = |place: usize| doubted(before + place);
        match subject {
            Subject::Chain(_) => Standpoint { in_range, left_out, leg, ..Standpoint::default() },
            Subject::Delisting(_) => {
                let bar = bar.map(|(b, _)| (b, "delisting"));
                Standpoint { in_range, left_out, is_delisting: true, bar, adjusted, made, worked, action, ..Standpoint::default() }
            }
            Subject::One(row) => {
                let name = row.key.source.as_str();
                let doubted = doubted(0).then_some(name).into_iter().collect();
                Standpoint {
                    in_range,
                    left_out,
                    leg,
                    is_delisting: false,
                    bar: bar.map(|(b, _)| (b, name)),
                    order: vec![name],
                    doubted,
                    taken_out: &[],
                    adjusted,
                    made,
                    worked,
                    action,
                }
            }
            Subject::Golden(lineup) => {
                let order = lineup.order_at(self.how.calendar, slot);
                let name = |place: &usize| lineup.parts[*place].row.key.source.as_str();
                let served = bar.and_then(|(b, from)| Some((b, lineup.part_at(usize::from(*from).checked_sub(before)?)?)));
                Standpoint {
                    in_range,
                    left_out,
                    leg,
                    is_delisting: false,
                    bar: served.map(|(b, part)| (b, part.row.key.source.as_str())),
                    order: order.iter().map(name).collect(),
                    doubted: order.iter().filter(|place| doubted(**place)).map(name).collect(),
                    taken_out: served.map_or(&[], |(_, part)| part.taken_out()),
                    adjusted,
                    made,
                    worked,
                    action,
                }
            }
        }
    }
}

impl Cells {
    /// Whether a row is written alike in two columns of a kind: numbers of equal value and other digits are not.
    pub(crate) fn same(&self, other: &Cells, row: usize) -> bool {
        let alike = |a: Option<Decimal>, b: Option<Decimal>| a.zip(b).map_or(a.is_none() && b.is_none(), |(a, b)| a.is_printed_as(b));
        match (self, other) {
            (Cells::Numbers(a), Cells::Numbers(b)) => alike(a[row], b[row]),
            (Cells::Reals(a), Cells::Reals(b)) => a[row] == b[row],
            (Cells::Words(a), Cells::Words(b)) => a[row] == b[row],
            (Cells::Flags(a), Cells::Flags(b)) => a[row] == b[row],
            (Cells::Moments(a) | Cells::Whole(a), Cells::Moments(b) | Cells::Whole(b)) => a[row] == b[row],
            (Cells::Dates(a), Cells::Dates(b)) => a[row] == b[row],
            _ => false,
        }
    }

    /// Some of the rows in this order; an empty cell for `None`.
    fn pick(&self, rows: impl Iterator<Item = Option<usize>>) -> Cells {
        match self {
            Cells::Numbers(all) => Cells::Numbers(rows.map(|at| all[at?]).collect()),
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
