//! One of the two answers that changes are told between: its cells, and what each followed from.

use super::{
    Member, Prepared, Words,
    batch::Cells,
    how::{finer, how},
    long::values,
    open::{MadeOf, Open, bars, shown},
    row::Shown,
    rows::Rows,
};
use crate::{
    question::Column,
    reading::{Subject, leg_at},
};
use mizuno_core::{Slot, TradeDate, change::Standpoint, numbers::Numbers};
use mizuno_desk::DeskError;
use std::cell::LazyCell;

/// One member as it was at one of the two instants.
pub(super) struct Side<'p> {
    prepared: &'p Prepared,
    member: &'p Member,
    how: Rows<'p>,
    /// How the bars that are read become rows, where those of `how` are made of them.
    finer: Rows<'p>,
    places: Vec<u32>,
    words: &'p Words,
    /// By what the bars of the member are multiplied, all of them.
    factors: String,
}

impl<'p> Side<'p> {
    /// # Errors
    /// When its venue is no longer configured.
    pub(super) fn of(prepared: &'p Prepared, member: &'p Member, places: Vec<u32>, words: &'p Words) -> Result<Side<'p>, DeskError> {
        let (how, finer) = (how(&prepared.resolved, member)?, finer(&prepared.resolved, member)?);
        let all = Slot(i64::MIN)..Slot(i64::MAX);
        let factors = member.adjusted.as_ref().map(|a| a.factors.over(&all)).unwrap_or_default();
        Ok(Side { prepared, member, how, finer, places, words, factors })
    }

    pub(super) fn moments(&self, column: Column, slots: &[Slot]) -> Cells {
        self.how.moments(column, slots.iter().copied())
    }

    /// Columns of some rows; empty cells where there is no row.
    pub(super) fn values(&self, columns: &[Column], open: &Option<Open>, rows: &[Option<MadeOf>]) -> Vec<Cells> {
        let bars = open.as_ref().and_then(|open| Some(&open.read.bars[bars(rows.iter().copied())?]));
        let every = LazyCell::new(|| rows.iter().map(|row| shown(open, *row)).collect::<Vec<Option<Shown<'_>>>>());
        let cells = |column: &Column| match bars.zip(self.how.as_traded(*column)) {
            Some((bars, field)) => Cells::Numbers(Numbers::of(field, bars)),
            None => values(*column, &every, &self.how, self.member, (&self.places, self.words)),
        };
        columns.iter().map(cells).collect()
    }

    /// What the answer had in a slot, and what that followed from.
    pub(super) fn standpoint<'s>(&'s self, slot: Slot, row: Option<Shown<'s>>, other: Option<Shown<'_>>) -> Standpoint<'s> {
        let bar = row.and_then(|row| row.bar);
        let resolved = &self.prepared.resolved;
        // A row without a bar is there as soon as its slot is due.
        let is_due = bar.is_some()
            || other.is_some_and(|row| row.bar.is_some())
            || slot < self.how.calendar.due_until(self.how.interval, resolved.instant, 0);
        let extra = row.and_then(|row| row.extra);
        // The piece of a bar that is made of finer ones, a stretch of their slots: where there is none on this side, on the other.
        let piece = extra.or(other.and_then(|row| row.extra)).map(|e| e.span.clone());
        let wanted = &self.member.wanted;
        let in_range = wanted.range.contains(&slot) && self.how.takes(slot) && is_due;
        let span = piece.clone().unwrap_or_else(|| slot..Slot(slot.0 + 1));
        let left_out = in_range && !wanted.takes(&span);
        // A bar that was made of finer ones has the factors of the first of them.
        let adjusted = self.member.adjusted.as_ref().filter(|_| resolved.question.adjust.is_some());
        let factors = adjusted.map(|a| a.factors.at(piece.as_ref().map_or(slot, |span| span.start)));
        let worked = (!self.member.worked.is_empty()).then_some(self.factors.as_str());
        let (adjusted, made) = (factors.map(|f| (&f.price.exact, &f.volume.exact)), extra.is_some());
        let action = self.member.action_in(&self.how, slot, extra, &self.words.actions);
        let complete = self.member.measured.as_deref().map(|measured| {
            let finer = &self.finer;
            let day = |date: TradeDate| finer.calendar.span_of_dates(finer.interval, date..date.plus(1));
            let span = piece.unwrap_or_else(|| day(self.how.trade_date(slot)));
            (finer.interval.count(finer.slots(&span).within(&span)), measured.over(&span))
        });
        let doubted = |place: usize| self.member.doubted.get(place).is_some_and(|d| d.contains(&slot));
        let leg = leg_at(self.member.legs(), slot).map(|at| {
            let (leg, by_rolls) = (&self.member.legs()[at], self.member.adjusted.as_ref().filter(|a| a.by_rolls));
            let shift = leg.shift.map(|s| s.to_string()).unwrap_or_default();
            format!("{} {shift} {}", leg.contract, by_rolls.map(|a| a.factors.at(slot).price.exact.to_string()).unwrap_or_default())
        });
        let apart_from_the_bar = Standpoint { in_range, left_out, leg, adjusted, made, worked, action, complete, ..Standpoint::default() };
        // Of a chain, the contract of that slot.
        let (subject, before) = match &self.member.subject {
            Subject::Chain(legs) => match leg_at(legs, slot) {
                None => return apart_from_the_bar,
                Some(at) => (&legs[at].subject, legs[..at].iter().map(|leg| leg.subject.sources().len()).sum()),
            },
            subject => (subject, 0),
        };
        let doubted = |place: usize| doubted(before + place);
        match subject {
            Subject::Chain(_) => apart_from_the_bar,
            Subject::Delisting(_) => Standpoint { is_delisting: true, bar: bar.map(|(b, _)| (b, "delisting")), ..apart_from_the_bar },
            Subject::One(row) => {
                let name = row.key.source.as_str();
                let doubted = doubted(0).then_some(name).into_iter().collect();
                Standpoint { bar: bar.map(|(b, _)| (b, name)), order: vec![name], doubted, ..apart_from_the_bar }
            }
            Subject::Golden(lineup) => {
                let order = lineup.order_at(self.how.calendar, slot);
                let name = |place: &usize| lineup.parts[*place].row.key.source.as_str();
                let served = bar.and_then(|(b, from)| Some((b, lineup.part_at(usize::from(from).checked_sub(before)?)?)));
                Standpoint {
                    bar: served.map(|(b, part)| (b, part.row.key.source.as_str())),
                    order: order.iter().map(name).collect(),
                    doubted: order.iter().filter(|place| doubted(**place)).map(name).collect(),
                    taken_out: served.map_or(&[], |(_, part)| part.taken_out()),
                    ..apart_from_the_bar
                }
            }
        }
    }
}
