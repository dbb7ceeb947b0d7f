//! Bars as an answer has them: those that were read, or coarser ones made of them.

use super::{
    Member,
    extra::{Extra, Sources},
    rows::Rows,
};
use crate::{
    question::{
        Column, Question, Shape,
        resolve::{Resolved, Wanted},
    },
    reading::Reader,
};
use mizuno_core::{
    Bar, Slot, Span, Spans, Timestamp,
    derived::Value,
    resample::{Grid, Piece, average_price, combine},
    spans::intersection,
};
use mizuno_desk::DeskError;
use std::{borrow::Cow, collections::VecDeque};

/// The place of the source of a bar that was made of bars of several, behind those of the sources there are.
pub(super) const SEVERAL: &str = "several";

/// Bars of a member.
#[derive(Default)]
pub(super) struct Read {
    pub bars: Vec<Bar>,
    /// The place of the source of each; the first of all where there are none.
    pub from: Vec<u16>,
    /// What is told of each beside, where they were made of finer ones.
    pub extras: Vec<Extra>,
    /// What was worked out of each, where something was.
    pub derived: Vec<Box<[Option<Value>]>>,
}

impl Read {
    /// The place of the source of a bar.
    pub(super) fn place(&self, at: usize) -> u16 {
        self.from.get(at).copied().unwrap_or(0)
    }

    /// Puts those of another behind them.
    pub(super) fn append(&mut self, mut more: Read) {
        self.bars.append(&mut more.bars);
        self.from.append(&mut more.from);
        self.extras.append(&mut more.extras);
        self.derived.append(&mut more.derived);
    }

    /// Drops the first so many.
    pub(super) fn drop_first(&mut self, count: usize) {
        self.bars.drain(..count);
        self.from.drain(..count.min(self.from.len()));
        self.extras.drain(..count.min(self.extras.len()));
        self.derived.drain(..count.min(self.derived.len()));
    }

    /// Keeps those on which `keep` says so of the bar and what is told beside.
    pub(super) fn retain(&mut self, keep: impl Fn(&Bar, Option<&Extra>) -> bool) {
        fn only<T>(all: &mut Vec<T>, keep: &[bool]) {
            let mut keep = keep.iter();
            all.retain(|_| *keep.next().unwrap_or(&true));
        }
        let keep: Vec<bool> = self.iter().map(|(_, bar, extra)| keep(bar, extra)).collect();
        if keep.iter().all(|keep| *keep) {
            return;
        }
        only(&mut self.bars, &keep);
        only(&mut self.from, &keep);
        only(&mut self.extras, &keep);
        only(&mut self.derived, &keep);
    }

    /// The bars, each with its place among them and what is told beside.
    pub(super) fn iter(&self) -> impl ExactSizeIterator<Item = (usize, &Bar, Option<&Extra>)> {
        self.bars.iter().enumerate().map(|(at, bar)| (at, bar, self.extras.get(at)))
    }
}

/// Reads the bars of a member, and makes coarser ones of them where the question asks for these.
pub(super) struct Made {
    reader: Reader,
    pieces: Option<Pieces>,
    ended: bool,
}

/// Bars on their way into pieces.
struct Pieces {
    to_come: VecDeque<Piece>,
    waiting: Vec<Bar>,
    from: Vec<u16>,
    several: u16,
    average: bool,
    worked: bool,
    counted: bool,
    dropped: bool,
    /// A slot at or after it is not due.
    due: Slot,
}

/// How time is cut for a member; `None` where its bars are used as they are collected.
pub(super) fn grid<'p>(resolved: &'p Resolved, member: &Member) -> Result<Option<Grid<'p>>, DeskError> {
    resolved.question.grid(member.wanted.key.interval, resolved.calendar(&member.wanted)?)
}

/// The stretch in which the pieces of a member begin that has bars in `extent`.
pub(super) fn begun(resolved: &Resolved, member: &Member, extent: &Span) -> Result<Span, DeskError> {
    let touched = extent.start..Slot(extent.end.0.min(extent.start.0.saturating_add(1)));
    let first = grid(resolved, member)?.and_then(|g| g.pieces(&touched).first().map(|p| p.span.start));
    Ok(first.map_or(extent.start, |start| start.min(extent.start))..extent.end)
}

impl Made {
    /// Begins to make the bars of a member whose finer ones `reader` reads over `span`; only pieces that begin in `span` are made.
    pub(super) fn new(reader: Reader, resolved: &Resolved, member: &Member, span: &Span) -> Result<Made, DeskError> {
        let question = &resolved.question;
        let has = |column| question.shape.columns.contains(&column);
        let pieces = grid(resolved, member)?.map(|grid| Pieces {
            to_come: grid.pieces(span).into_iter().filter(|p| span.contains(&p.span.start)).collect(),
            waiting: vec![],
            from: vec![],
            several: member.subject.sources().len() as u16,
            average: has(Column::AveragePrice),
            worked: !question.worked_out().is_empty(),
            counted: has(Column::Expected) || question.pieces.dropped,
            dropped: question.pieces.dropped,
            due: grid.calendar.due_until(grid.finer, resolved.instant, 0),
        });
        Ok(Made { reader, pieces, ended: false })
    }

    /// The next bars; `finer` says how those that are read become rows.
    pub(super) async fn next(&mut self, finer: &Rows<'_>, member: &Member) -> Result<Option<Read>, DeskError> {
        while !self.ended {
            let Some((mut bars, mut from)) = self.reader.next().await? else {
                self.ended = true;
                let rest = self.pieces.as_mut().map(|p| p.take(finer, member, true));
                return Ok(rest.filter(|rest| !rest.bars.is_empty()));
            };
            finer.narrow(&mut bars.rows, &mut from);
            let Some(pieces) = &mut self.pieces else {
                return Ok(Some(Read { bars: bars.rows, from, ..Read::default() }));
            };
            pieces.put(bars.rows, from);
            let made = pieces.take(finer, member, false);
            if !made.bars.is_empty() {
                return Ok(Some(made));
            }
        }
        Ok(None)
    }
}

impl Pieces {
    /// Puts further bars with the places of their sources behind those that wait; mostly none do, and nothing is copied.
    fn put(&mut self, bars: Vec<Bar>, from: Vec<u16>) {
        if self.waiting.is_empty() {
            (self.waiting, self.from) = (bars, from);
        } else {
            self.waiting.extend(bars);
            self.from.extend(from);
        }
        self.from.resize(self.waiting.len(), 0);
    }

    /// Makes the bars of all pieces that end with the newest bar or before it, or of all there are.
    fn take(&mut self, finer: &Rows<'_>, member: &Member, all: bool) -> Read {
        let newest = self.waiting.last().map_or(Slot(i64::MIN), |b| finer.interval.span_of(b.slot).end);
        let ended = if all { self.to_come.len() } else { self.to_come.partition_point(|piece| piece.span.end <= newest) };
        let (mut out, mut gone) = (Read::default(), 0);
        let most = ended.min(self.waiting.len());
        out.bars.reserve_exact(most);
        out.from.reserve_exact(most);
        out.extras.reserve_exact(most);
        for piece in self.to_come.drain(..ended) {
            let before = |from: usize, slot: Slot| from + self.waiting[from..].iter().take_while(|b| b.slot < slot).count();
            let start = before(gone, piece.span.start);
            let end = before(start, piece.span.end);
            gone = end;
            let (mut bars, mut from) = (Cow::Borrowed(&self.waiting[start..end]), Cow::Borrowed(&self.from[start..end]));
            // A piece in which a member joined or left is made of its days as a member; one before all of them is whole, to work with.
            if let Some(days) = member.wanted.days.as_ref().filter(|days| days.overlaps(&piece.span)) {
                let both = bars.iter().zip(from.iter()).filter(|(bar, _)| days.contains(&bar.slot)).map(|(b, f)| (*b, *f));
                let (of_member, theirs): (Vec<Bar>, Vec<u16>) = both.unzip();
                (bars, from) = (Cow::Owned(of_member), Cow::Owned(theirs));
            }
            let (bars, from) = (&bars[..], &from[..]);
            let Some(bar) = combine(piece.label, bars, finer.factors_and_decimals()) else { continue };
            let complete = |missing| missing == 0 && piece.span.end <= self.due;
            let (expected, missing) = match self.counted {
                true => expected(finer, member, &piece, self.due),
                false => (0, 0),
            };
            if self.dropped && !complete(missing) {
                continue;
            }
            let place = if from.iter().all(|f| f == &from[0]) { from[0] } else { self.several };
            let is_doubted = |(bar, from): (&Bar, &u16)| member.doubted.get(usize::from(*from)).is_some_and(|d| d.contains(&bar.slot));
            let extra = Extra {
                held: bars.len() as u64,
                expected: self.counted.then_some(expected),
                average: if self.average { average_price(bars, super::rows::decimals(finer.round)) } else { None },
                doubted: !member.doubted.is_empty() && bars.iter().zip(from).any(is_doubted),
                sources: if self.worked {
                    Sources::of(bars, finer.factors_and_decimals().map(|(factors, _)| factors)).map(Box::new)
                } else {
                    None
                },
                span: piece.span,
            };
            out.bars.push(bar);
            out.from.push(place);
            out.extras.push(extra);
        }
        self.waiting.drain(..gone);
        self.from.drain(..gone);
        out
    }
}

/// How many slots of a piece should have a bar, quiet ones left aside, and how many of those that are due have none.
fn expected(finer: &Rows<'_>, member: &Member, piece: &Piece, due: Slot) -> (u64, u64) {
    let mut out = (0, 0);
    for span in member.wanted.within(&piece.span).iter() {
        let counted = member.measured.as_deref().map(|m| m.over(span)).unwrap_or_default();
        let to_come = span.start.max(due)..span.end;
        let still = match to_come.start < to_come.end {
            true => finer.interval.count(finer.slots(&to_come).within(&to_come)),
            false => 0,
        };
        out = (out.0 + counted.expected + still, out.1 + counted.missing);
    }
    out
}

/// The labels of pieces in `span` in which a bar is expected and due by `now`, within the life of the instrument and on its days as a member.
pub(super) fn labels(grid: &Grid<'_>, wanted: &Wanted, span: &Span, now: Timestamp) -> Vec<Slot> {
    let slots: Spans = grid.calendar.expected(grid.finer, wanted.instrument.life());
    let slots = wanted.days.as_ref().map_or(slots.clone(), |days| intersection(&slots, days));
    let due = grid.calendar.due_until(grid.finer, now, 0);
    let some = |p: &Piece| slots.within(&(p.span.start..p.span.end.min(due).max(p.span.start))).next().is_some();
    grid.pieces(&(span.start..span.end.min(due).max(span.start))).into_iter().filter(some).map(|p| p.label).collect()
}

/// Whether the columns or the shape of a question need to know how complete pieces are.
pub(super) fn measures(question: &Question) -> bool {
    let Shape { columns, .. } = &question.shape;
    columns.contains(&Column::Completeness) || columns.contains(&Column::Expected) || question.pieces.dropped
}
