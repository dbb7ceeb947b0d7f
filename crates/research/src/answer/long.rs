//! A row a bar, one series after another.

use super::{
    A_BATCH, Member, Prepared, Words,
    batch::{Batch, Cells, Heading, Kind},
    how::how,
    made::Read,
    open::{Open, bars, open},
    row::Shown,
    rows::{FACTOR, Rows},
    value_kind,
};
use crate::question::{Column, Missing};
use mizuno_core::{Bar, Slot, bar::Digits, numbers::Numbers};
use mizuno_desk::DeskError;
use std::{cell::LazyCell, ops::Range, sync::Arc};

pub(super) struct Long {
    prepared: Prepared,
    columns: Vec<Column>,
    words: Words,
    /// The member being read, and those after it.
    at: usize,
    open: Option<Open>,
}

/// For each place of the sources of a member the place among all, and the words of the answer.
pub(super) type WordsOf<'w> = (&'w [u32], &'w Words);

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
                self.open = Some(open(&self.prepared, member, &self.words.sources).await?);
            }
            let Some(open) = &mut self.open else { return Ok(None) };
            if open.peek(&self.prepared.resolved, member).await?.is_none() {
                self.open = None;
                self.at += 1;
                continue;
            }
            let rows = open.take_some(A_BATCH);
            let how = how(&self.prepared.resolved, member)?;
            let words = (&open.places[..], &self.words);
            return Ok(Some(match bars(rows.iter().copied().map(Some)) {
                Some(bars) => batch_of_bars(&how, &self.columns, self.at, (&open.read, bars), member, words),
                None => {
                    let rows: Vec<Shown<'_>> = rows.into_iter().map(|row| open.shown(row)).collect();
                    batch(&how, &self.columns, self.at, &rows, member, words)
                }
            }));
        }
    }
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
    let rows = LazyCell::new(|| at.map(|at| Some(read.shown(at))).collect::<Vec<Option<Shown<'_>>>>());
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
