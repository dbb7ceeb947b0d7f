//! A row an instrument: its newest bar.

use super::{
    A_BATCH, Member, Prepared, Words,
    batch::Batch,
    before::start,
    how::{finer, how},
    long::batch,
    row::Row,
    worked::{ToRead, Worked},
};
use crate::question::{Column, picking::Sort};
use futures_util::TryStreamExt;
use mizuno_core::derived::{Needs, Value};
use mizuno_desk::DeskError;
use mizuno_store::blocks::Needed;
use std::{cmp::Ordering, collections::VecDeque, ops::Range, sync::Arc};

/// Groups of members that are read from one after another, where there are so many: each thread finds some to do.
const GROUPS: usize = 16;
/// Members of a group at most.
const MOST_AT_ONCE: usize = 32;

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
        let given = (self.prepared.clone(), self.columns.clone());
        let few = move |places: Range<usize>| {
            let (prepared, columns) = given.clone();
            async move { newest(&prepared, places, &columns).await }
        };
        let all = self.prepared.members.len();
        let at_once = (all / GROUPS).clamp(1, MOST_AT_ONCE);
        let groups = (0..all).step_by(at_once).map(|first| first..(first + at_once).min(all));
        let mut reads = self.prepared.research.desk.hands.side_by_side("reading series", groups, few);
        let mut rows = vec![];
        while let Some(few) = reads.try_next().await? {
            rows.extend(few);
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

/// The newest bars of some members, of each that holds one, with its place.
async fn newest(prepared: &Prepared, places: Range<usize>, columns: &[Column]) -> Result<Vec<(usize, Row)>, DeskError> {
    let resolved = &prepared.resolved;
    let (mut reads, mut several, mut needed) = (vec![], vec![], Needed::CLOSE);
    for at in places {
        let member = &prepared.members[at];
        let extent = &member.extent;
        if extent.start < extent.end {
            let few = start(resolved, member, extent.end, Needs { bars: 1, sessions: 0 }, false)?.max(extent.start)..extent.end;
            let to_read = ToRead::of(resolved, member, columns, &few)?;
            // All have the same columns.
            needed = to_read.needed;
            several.push((member.subject.clone(), resolved.calendar(&member.wanted)?, to_read.span.clone()));
            reads.push((at, few, to_read));
        }
    }
    let readers = prepared.research.read_each_over(several, resolved.instant, needed).await?;
    let mut out = vec![];
    for ((at, few, to_read), reader) in reads.into_iter().zip(readers) {
        let member = &prepared.members[at];
        let rows = Worked::over(reader, &prepared.research, resolved, member, to_read).await?;
        let mut found = last(prepared, member, rows).await?;
        // None of the newest bars could be brought back: the one before them is the newest.
        if found.is_none() && resolved.question.shape.picking.conditions.is_empty() && few != member.extent {
            let rows = Worked::open(&prepared.research, resolved, member, columns, &member.extent).await?;
            found = last(prepared, member, rows).await?;
        }
        out.extend(found.map(|row| (at, row)));
    }
    Ok(out)
}

async fn last(prepared: &Prepared, member: &Member, mut rows: Worked) -> Result<Option<Row>, DeskError> {
    let (finer, how) = (finer(&prepared.resolved, member)?, how(&prepared.resolved, member)?);
    let mut out = None;
    while let Some(mut read) = rows.next(&finer, &how, member).await? {
        let Some(bar) = read.bars.pop() else { continue };
        let place = read.from.get(read.bars.len()).copied().unwrap_or(0);
        let (extra, derived) = (read.extras.pop().map(Box::new), read.derived.pop().unwrap_or_default());
        out = Some(Row { slot: bar.slot, bar: Some((bar, place)), extra, derived });
    }
    Ok(out)
}
