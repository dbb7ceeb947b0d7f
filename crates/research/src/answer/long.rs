//! A row a bar, one series after another.

use super::{
    A_BATCH, Member, Prepared, Words,
    batch::{Batch, Cells, Heading, Kind},
    before::start,
    extra::Extra,
    how::{finer, how},
    made::{Read, grid, labels},
    rows::{FACTOR, Rows},
    value_kind,
    worked::Worked,
};
use crate::question::{Column, Missing, picking::Keep, resolve::Resolved};
use mizuno_core::{
    Bar, Slot, Span,
    bar::Digits,
    derived::{Needs, Quantity, Value},
    numbers::Numbers,
};
use mizuno_desk::DeskError;
use std::{cell::LazyCell, collections::VecDeque, ops::Range, sync::Arc};

pub(super) struct Long {
    prepared: Prepared,
    columns: Vec<Column>,
    words: Words,
    /// The member being read, and those after it.
    at: usize,
    open: Option<Open>,
}

/// A member being read.
pub(super) struct Open {
    reader: Worked,
    /// For each place of its sources, the place among all sources.
    pub(super) places: Vec<u32>,
    /// Expected slots that have not had a row yet, where each is to have one.
    expected: VecDeque<Slot>,
    /// Rows that were read and have not left.
    waiting: VecDeque<Row>,
    /// Instead, where nothing but bars has a row: the bars that were read, and how many of them have left.
    bars: Option<(Read, usize)>,
}

/// For each place of the sources of a member the place among all, and the words of the answer.
pub(super) type WordsOf<'w> = (&'w [u32], &'w Words);

/// A row.
#[derive(Clone, Debug)]
pub(super) struct Row {
    /// Its slot.
    pub slot: Slot,
    /// The bar there with the place of its source, where there is one.
    pub bar: Option<(Bar, u16)>,
    /// What is told of it beside, where it was made of finer ones.
    pub extra: Option<Box<Extra>>,
    /// What was worked out of it and those before, where something was.
    pub derived: Box<[Option<Value>]>,
}

/// A row as its cells are made of it.
#[derive(Clone, Copy)]
pub(super) struct Shown<'r> {
    slot: Slot,
    bar: Option<(&'r Bar, u16)>,
    extra: Option<&'r Extra>,
    derived: &'r [Option<Value>],
}

impl Row {
    /// It as its cells are made of it.
    pub(super) fn shown(&self) -> Shown<'_> {
        let bar = self.bar.as_ref().map(|(bar, place)| (bar, *place));
        Shown { slot: self.slot, bar, extra: self.extra.as_deref(), derived: &self.derived }
    }

    fn without_bar(slot: Slot) -> Row {
        Row { slot, bar: None, extra: None, derived: Box::default() }
    }
}

impl Prepared {
    pub(super) fn long_headings(&self, (price, volume): (Digits, Digits)) -> Vec<Heading> {
        let absent = self.resolved.question.shape.missing != Missing::Absent;
        let instruments: Arc<[String]> = self.members.iter().map(|m| m.wanted.instrument.symbol.clone()).collect();
        let series: Arc<[String]> = self.members.iter().map(|m| m.wanted.key.to_string()).collect();
        let words = self.words();
        let heading = |column: Column| {
            if column.is_of_the_moment() {
                return self.of_the_moment(column);
            }
            let kind = match column {
                Column::Instrument => Kind::Words(instruments.clone()),
                Column::Series => Kind::Words(series.clone()),
                column => value_kind(column, (price, volume), &words),
            };
            let may_lack = matches!(
                column,
                Column::Volume
                    | Column::OpenInterest
                    | Column::Completeness
                    | Column::Action
                    | Column::Contract
                    | Column::AveragePrice
                    | Column::Derived(_)
            );
            let optional = may_lack || (absent && !matches!(column, Column::Instrument | Column::Series));
            Heading { name: self.name(column), kind, optional }
        };
        self.columns().into_iter().map(heading).collect()
    }
}

impl Long {
    pub(super) fn new(prepared: Prepared) -> Long {
        let (columns, words) = (prepared.columns(), prepared.words());
        Long { prepared, columns, words, at: 0, open: None }
    }

    pub(super) async fn next(&mut self) -> Result<Option<Batch>, DeskError> {
        loop {
            let Some(member) = self.prepared.members.get(self.at) else { return Ok(None) };
            if self.open.is_none() {
                let mut open = open(&self.prepared, member, &self.words.sources).await?;
                open.bars = (self.prepared.resolved.question.shape.missing != Missing::Rows).then(Default::default);
                self.open = Some(open);
            }
            let Some(open) = &mut self.open else { return Ok(None) };
            let how = how(&self.prepared.resolved, member)?;
            if let Some((read, gone)) = &mut open.bars {
                if *gone == read.bars.len() {
                    let finer = finer(&self.prepared.resolved, member)?;
                    match open.reader.next(&finer, &how, member).await? {
                        Some(more) => (*read, *gone) = (more, 0),
                        None => {
                            self.open = None;
                            self.at += 1;
                        }
                    }
                    continue;
                }
                let rows = *gone..read.bars.len().min(*gone + A_BATCH);
                *gone = rows.end;
                return Ok(Some(batch_of_bars(&how, &self.columns, self.at, (read, rows), member, (&open.places, &self.words))));
            }
            if open.waiting.is_empty() && !open.read_on(&self.prepared.resolved, member).await? {
                self.open = None;
                self.at += 1;
                continue;
            }
            let rows: Vec<Shown<'_>> = open.waiting.iter().take(A_BATCH).map(Row::shown).collect();
            let count = rows.len();
            let batch = (count > 0).then(|| batch(&how, &self.columns, self.at, &rows, member, (&open.places, &self.words)));
            open.waiting.drain(..count);
            if batch.is_some() {
                return Ok(batch);
            }
        }
    }
}

impl Open {
    /// The next row, which stays; `None` at the end.
    pub(super) async fn peek(&mut self, resolved: &Resolved, member: &Member) -> Result<Option<Slot>, DeskError> {
        while self.waiting.is_empty() {
            if !self.read_on(resolved, member).await? {
                return Ok(None);
            }
        }
        Ok(self.waits())
    }

    /// The slot of the first row that was read and has not left.
    pub(super) fn waits(&self) -> Option<Slot> {
        self.waiting.front().map(|row| row.slot)
    }

    /// Takes the row that was looked at.
    pub(super) fn take(&mut self) -> Option<Row> {
        self.waiting.pop_front()
    }

    /// Reads the next bars, and puts them with the expected slots before them among the rows that wait; false at the end.
    async fn read_on(&mut self, resolved: &Resolved, member: &Member) -> Result<bool, DeskError> {
        let (finer, how) = (finer(resolved, member)?, how(resolved, member)?);
        let Some(read) = self.reader.next(&finer, &how, member).await? else {
            self.waiting.extend(self.expected.drain(..).map(Row::without_bar));
            return Ok(!self.waiting.is_empty());
        };
        self.waiting.reserve_exact(read.bars.len());
        let Read { bars, from, extras, derived } = read;
        let places = from.into_iter().chain(std::iter::repeat(0));
        let (mut extras, mut derived) = (extras.into_iter(), derived.into_iter());
        for (bar, place) in bars.into_iter().zip(places) {
            while let Some(slot) = self.expected.pop_front_if(|slot| *slot < bar.slot) {
                self.waiting.push_back(Row::without_bar(slot));
            }
            self.expected.pop_front_if(|slot| *slot == bar.slot);
            let (extra, derived) = (extras.next().map(Box::new), derived.next().unwrap_or_default());
            self.waiting.push_back(Row { slot: bar.slot, bar: Some((bar, place)), extra, derived });
        }
        Ok(true)
    }
}

pub(super) async fn open(prepared: &Prepared, member: &Member, sources: &[String]) -> Result<Open, DeskError> {
    let resolved = &prepared.resolved;
    let expected = match resolved.question.shape.missing {
        Missing::Rows => {
            let since = member.extent.start.max(member.wanted.span.start)..member.wanted.span.end;
            expected(resolved, member, &since)?.into()
        }
        _ => VecDeque::new(),
    };
    let rows = newest(resolved, member)?;
    let reader = Worked::open(&prepared.research, resolved, member, &prepared.columns(), &rows).await?;
    Ok(Open { places: member.places(sources), reader, expected, waiting: VecDeque::new(), bars: None })
}

/// A bar that was read, as the cells of its row are made of it.
fn shown(read: &Read, at: usize) -> Shown<'_> {
    let bar = &read.bars[at];
    let derived = read.derived.get(at).map(AsRef::as_ref).unwrap_or_default();
    Shown { slot: bar.slot, bar: Some((bar, read.place(at))), extra: read.extras.get(at), derived }
}

/// The stretch whose rows are given: where only the last so many are kept, no more than those is read.
fn newest(resolved: &Resolved, member: &Member) -> Result<Span, DeskError> {
    let (extent, question) = (member.extent.clone(), &resolved.question);
    let picking = &question.shape.picking;
    let stays_in_one_piece = member.wanted.days.as_ref().is_none_or(|days| days.len() <= 1);
    Ok(match picking.keep {
        Some(Keep::Last(bars)) if picking.conditions.is_empty() && !question.works_out(Quantity::Drawdown) && stays_in_one_piece => {
            start(resolved, member, extent.end, Needs { bars, sessions: 0 }, false)?.max(extent.start)..extent.end
        }
        _ => extent,
    })
}

/// The slots in which a row is expected and due.
pub(super) fn expected(resolved: &Resolved, member: &Member, span: &Span) -> Result<Vec<Slot>, DeskError> {
    let wanted = &member.wanted;
    Ok(match grid(resolved, member)? {
        None => {
            let mut slots = how(resolved, member)?.expected(&wanted.instrument, span, resolved.instant);
            slots.retain(|slot| wanted.days.as_ref().is_none_or(|days| days.contains(slot)));
            slots
        }
        Some(grid) => labels(&grid, wanted, span, resolved.instant),
    })
}

/// The same of rows whose slots lie in `rows`: where these are made of finer bars, those are others.
pub(super) fn expected_rows(resolved: &Resolved, member: &Member, rows: &Span) -> Result<Vec<Slot>, DeskError> {
    Ok(match grid(resolved, member)? {
        None => expected(resolved, member, rows)?,
        Some(_) => {
            let mut slots = expected(resolved, member, &member.wanted.span)?;
            slots.retain(|slot| rows.contains(slot));
            slots
        }
    })
}

/// Some rows of a member as cells.
pub(super) fn batch(
    how: &Rows<'_>,
    columns: &[Column],
    instrument: usize,
    rows: &[Shown<'_>],
    member: &Member,
    words: WordsOf<'_>,
) -> Batch {
    let slots = || rows.iter().map(|row| row.slot);
    let some: Vec<Option<Shown<'_>>> = rows.iter().copied().map(Some).collect();
    let column =
        |column: &Column| of_the_row(*column, how, instrument, slots()).unwrap_or_else(|| values(*column, &some, how, member, words));
    Batch { rows: rows.len(), columns: columns.iter().map(column).collect() }
}

/// The same of some of the bars that were read: most columns are made of these without a row for each.
fn batch_of_bars(
    how: &Rows<'_>,
    columns: &[Column],
    instrument: usize,
    (read, at): (&Read, Range<usize>),
    member: &Member,
    words: WordsOf<'_>,
) -> Batch {
    let bars = &read.bars[at.clone()];
    let rows = LazyCell::new(|| at.map(|at| Some(shown(read, at))).collect::<Vec<Option<Shown<'_>>>>());
    let column = |column: &Column| match how.as_traded(*column) {
        Some(field) => Cells::Numbers(Numbers::of(field, bars)),
        None => of_the_row(*column, how, instrument, bars.iter().map(|bar| bar.slot))
            .unwrap_or_else(|| values(*column, &rows, how, member, words)),
    };
    Batch { rows: bars.len(), columns: columns.iter().map(column).collect() }
}

/// The cells of a column that says when or whose a row is; `None` of one of values.
fn of_the_row(column: Column, how: &Rows<'_>, instrument: usize, slots: impl ExactSizeIterator<Item = Slot>) -> Option<Cells> {
    Some(match column {
        Column::Time | Column::TradeDate | Column::Epoch => how.moments(column, slots),
        Column::Instrument | Column::Series => Cells::Words(vec![Some(instrument as u32); slots.len()]),
        _ => return None,
    })
}

/// The cells of a column of values for some rows; empty where there is no row.
pub(super) fn values(column: Column, rows: &[Option<Shown<'_>>], how: &Rows<'_>, member: &Member, (places, words): WordsOf<'_>) -> Cells {
    match column {
        Column::Action => {
            let of = |row: Shown<'_>| member.action_in(how, row.slot, row.extra, &words.actions);
            Cells::Words(rows.iter().map(|row| of((*row)?)).collect())
        }
        Column::Contract => {
            let of = |row: Shown<'_>| member.contract_in(row.slot, row.extra, &words.contracts);
            Cells::Words(rows.iter().map(|row| of((*row)?)).collect())
        }
        Column::Source => {
            let of = |row: Shown<'_>| places.get(usize::from(row.bar?.1)).copied();
            Cells::Words(rows.iter().map(|row| of((*row)?)).collect())
        }
        Column::Doubted => {
            let is = |(bar, place): (&Bar, u16)| member.doubted.get(usize::from(place)).is_some_and(|d| d.contains(&bar.slot));
            let of = |row: Shown<'_>| row.bar.map(|bar| row.extra.map_or_else(|| is(bar), |e| e.doubted));
            Cells::Flags(rows.iter().map(|row| of((*row)?)).collect())
        }
        Column::Completeness => {
            let of = |row: Shown<'_>| {
                let measured = member.measured.as_deref()?;
                row.extra.map_or_else(|| how.completeness(measured, row.slot), |e| measured.share(&e.span))
            };
            Cells::Numbers(rows.iter().map(|row| of((*row)?)).collect())
        }
        Column::Derived(derived) => {
            let at = member.worked.iter().position(|d| *d == derived);
            let of = |row: &Option<Shown<'_>>| *(*row)?.derived.get(at?)?;
            match derived.is_exact() {
                true => Cells::Numbers(rows.iter().map(|row| how.exact(derived, of(row)?)).collect()),
                false => Cells::Reals(rows.iter().map(|row| of(row).map(|v| v.shown())).collect()),
            }
        }
        // Without a bar, too, a slot has its factors.
        Column::PriceFactor | Column::VolumeFactor => {
            let of = |slot: Slot| how.factors(slot).map(|f| if column == Column::PriceFactor { &f.price } else { &f.volume });
            Cells::Numbers(rows.iter().map(|row| Some(of((*row)?.slot)?.decimal(FACTOR))).collect())
        }
        _ => Cells::Numbers(match how.as_traded(column) {
            Some(field) => rows.iter().map(|row| (*row)?.bar?.0.get(field)).collect(),
            None => rows.iter().map(|row| how.number(column, None, (*row)?.bar?.0, (*row)?.extra)).collect(),
        }),
    }
}
