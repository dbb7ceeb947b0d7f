//! A row an instrument: its newest bar.

use super::{
    A_BATCH, Prepared, Words,
    batch::Batch,
    before::start,
    how::{finer, how},
    long::{Row, batch},
    worked::Worked,
};
use crate::question::{Column, picking::Sort};
use futures_util::TryStreamExt;
use mizuno_core::{
    Span,
    derived::{Needs, Value},
};
use mizuno_desk::DeskError;
use std::{cmp::Ordering, collections::VecDeque, sync::Arc};

pub(super) struct Latest {
    prepared: Arc<Prepared>,
    columns: Vec<Column>,
    words: Words,
    /// The rows that have not left, each with the place of its member; `None` before they are read.
    rows: Option<VecDeque<(usize, Row)>>,
}

impl Latest {
    pub(super) fn new(prepared: Prepared) -> Latest {
        let (columns, words) = (prepared.columns(), prepared.words());
        Latest { prepared: Arc::new(prepared), columns, words, rows: None }
    }

    pub(super) async fn next(&mut self) -> Result<Option<Batch>, DeskError> {
        if self.rows.is_none() {
            self.rows = Some(self.read().await?.into());
        }
        let Some(rows) = &mut self.rows else { return Ok(None) };
        let mut out: Option<Batch> = None;
        for (at, row) in rows.drain(..rows.len().min(A_BATCH)) {
            let member = &self.prepared.members[at];
            let how = how(&self.prepared.resolved, member)?;
            let one = batch(&how, &self.columns, at, &[row.shown()], member, (&member.places(&self.words.sources), &self.words));
            match &mut out {
                None => out = Some(one),
                Some(all) => all.append(one),
            }
        }
        Ok(out)
    }

    /// The newest bar of each member that holds, in the order that is asked for.
    async fn read(&self) -> Result<Vec<(usize, Row)>, DeskError> {
        let one = |at: usize| {
            let (prepared, columns) = (self.prepared.clone(), self.columns.clone());
            async move { Ok(newest(&prepared, at, &columns).await?.map(|row| (at, row))) }
        };
        let mut reads = self.prepared.research.desk.hands.side_by_side("reading a series", 0..self.prepared.members.len(), one);
        let mut rows = vec![];
        while let Some(row) = reads.try_next().await? {
            rows.extend(row);
        }
        let question = &self.prepared.resolved.question;
        let picking = &question.shape.picking;
        if let Some(Sort { by, down }) = picking.sort {
            let place = question.worked_out().iter().position(|d| *d == by).unwrap_or(0);
            rows.sort_by(|(_, a), (_, b)| in_order(a.derived[place], b.derived[place], down));
        }
        rows.truncate(picking.limit.map_or(usize::MAX, |n| n as usize));
        Ok(rows)
    }
}

/// The order of two numbers; one that is not there comes last, whichever the direction.
fn in_order(a: Option<Value>, b: Option<Value>, down: bool) -> Ordering {
    match (a, b) {
        (Some(a), Some(b)) if down => b.compare(&a),
        (Some(a), Some(b)) => a.compare(&b),
        (a, b) => b.is_some().cmp(&a.is_some()),
    }
}

/// The newest bar of a member, if it holds.
async fn newest(prepared: &Prepared, at: usize, columns: &[Column]) -> Result<Option<Row>, DeskError> {
    let (member, resolved) = (&prepared.members[at], &prepared.resolved);
    let extent = member.extent.clone();
    if extent.start >= extent.end {
        return Ok(None);
    }
    let few = start(resolved, member, extent.end, Needs { bars: 1, sessions: 0 }, false)?.max(extent.start)..extent.end;
    match last(prepared, at, columns, &few).await? {
        // None of the newest bars could be brought back: the one before them is the newest.
        None if resolved.question.shape.picking.conditions.is_empty() && few != extent => last(prepared, at, columns, &extent).await,
        found => Ok(found),
    }
}

async fn last(prepared: &Prepared, at: usize, columns: &[Column], rows: &Span) -> Result<Option<Row>, DeskError> {
    let (member, resolved) = (&prepared.members[at], &prepared.resolved);
    let (finer, how) = (finer(resolved, member)?, how(resolved, member)?);
    let mut reader = Worked::open(&prepared.research, resolved, member, columns, rows).await?;
    let mut out = None;
    while let Some(mut read) = reader.next(&finer, &how, member).await? {
        let Some(bar) = read.bars.pop() else { continue };
        let place = read.from.get(read.bars.len()).copied().unwrap_or(0);
        let (extra, derived) = (read.extras.pop().map(Box::new), read.derived.pop().unwrap_or_default());
        out = Some(Row { slot: bar.slot, bar: Some((bar, place)), extra, derived });
    }
    Ok(out)
}
