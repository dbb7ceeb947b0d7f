//! A member being read, row by row: its bars, and where the question asks for them the expected slots that have none.

use super::{
    Member, Prepared,
    before::start,
    expected::expected,
    how::{finer, how},
    made::Read,
    row::Shown,
    worked::Worked,
};
use crate::question::{Missing, picking::Keep, resolve::Resolved};
use mizuno_core::{
    Slot, Span,
    derived::{Needs, Quantity},
};
use mizuno_desk::DeskError;
use std::{collections::VecDeque, ops::Range};

/// A member being read.
pub(super) struct Open {
    reader: Worked,
    /// For each place of its sources, the place among all sources.
    pub(super) places: Vec<u32>,
    /// Expected slots that have not had a row yet, where each is to have one.
    expected: VecDeque<Slot>,
    /// The bars that were read last, and how many of them have left.
    pub(super) read: Read,
    gone: usize,
    /// Whether they are the last.
    ended: bool,
}

/// What a row is made of, until the next bars are read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum MadeOf {
    /// A bar, by its place among those that were read last.
    Bar(usize),
    /// Nothing: a slot that has no bar.
    Nothing(Slot),
}

/// The places of the bars that some rows are made of, where each is made of one: rows leave in order, so that these lie side by side.
pub(super) fn bars(mut rows: impl Iterator<Item = Option<MadeOf>>) -> Option<Range<usize>> {
    let Some(Some(MadeOf::Bar(first))) = rows.next() else { return None };
    let mut behind = first + 1;
    for row in rows {
        let Some(MadeOf::Bar(_)) = row else { return None };
        behind += 1;
    }
    Some(first..behind)
}

impl Open {
    /// The slot of the next row, which stays; further bars are read where all have left. `None` at the end.
    pub(super) async fn peek(&mut self, resolved: &Resolved, member: &Member) -> Result<Option<Slot>, DeskError> {
        while self.gone == self.read.bars.len() && !self.ended {
            let (finer, how) = (finer(resolved, member)?, how(resolved, member)?);
            match self.reader.next(&finer, &how, member).await? {
                Some(read) => (self.read, self.gone) = (read, 0),
                None => self.ended = true,
            }
        }
        Ok(self.waits())
    }

    /// The slot of the next row, where no bars have to be read to tell it.
    pub(super) fn waits(&self) -> Option<Slot> {
        let expected = self.expected.front().copied();
        match self.read.bars.get(self.gone) {
            Some(bar) => Some(expected.map_or(bar.slot, |slot| slot.min(bar.slot))),
            None => expected.filter(|_| self.ended),
        }
    }

    /// Takes the row that waits.
    pub(super) fn take(&mut self) -> Option<MadeOf> {
        let slot = self.waits()?;
        let expected = self.expected.pop_front_if(|expected| *expected == slot);
        match self.read.bars.get(self.gone) {
            Some(bar) if bar.slot == slot => {
                self.gone += 1;
                Some(MadeOf::Bar(self.gone - 1))
            }
            _ => expected.map(MadeOf::Nothing),
        }
    }

    /// Takes the rows that wait, at most so many.
    pub(super) fn take_some(&mut self, most: usize) -> Vec<MadeOf> {
        if self.expected.is_empty() {
            let rows = self.gone..self.read.bars.len().min(self.gone + most);
            self.gone = rows.end;
            return rows.map(MadeOf::Bar).collect();
        }
        std::iter::from_fn(|| self.take()).take(most).collect()
    }

    /// A row that was taken, as its cells are made of it.
    pub(super) fn shown(&self, row: MadeOf) -> Shown<'_> {
        match row {
            MadeOf::Bar(at) => self.read.shown(at),
            MadeOf::Nothing(slot) => Shown { slot, bar: None, extra: None, derived: &[] },
        }
    }
}

/// A row of a member that may not be there, as its cells are made of it.
pub(super) fn shown(open: &Option<Open>, row: Option<MadeOf>) -> Option<Shown<'_>> {
    Some(open.as_ref()?.shown(row?))
}

/// Begins to read a member.
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
    Ok(Open { places: member.places(sources), reader, expected, read: Read::default(), gone: 0, ended: false })
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
