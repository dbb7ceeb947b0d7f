//! A row a moment, all series side by side.
//!
//! A stretch of time is read at once from every series, as long as its cells fit [`AT_ONCE`]; a longer answer takes several
//! stretches, and a block over their border is opened for each. Rows leave in batches of at most [`A_BATCH`] cells.

use super::{
    Member, Prepared, Words,
    batch::{Batch, Cells, Heading, Kind},
    expected::{expected, expected_rows},
    how::{finer, how},
    made::grid,
    rows::Rows,
    value_kind,
    worked::Worked,
};
use crate::{
    Research,
    question::{Against, Column, Missing, resolve::Resolved},
};
use futures_util::TryStreamExt;
use mizuno_core::{Bar, Decimal, Overlap, Slot, Span, Spans, bar::Digits, derived::Value, numbers::Numbers};
use mizuno_desk::DeskError;
use std::{collections::VecDeque, sync::Arc};

/// Cells read at once, nine bytes each: some twelve megabytes, and as many again for slots where no two series share them.
const AT_ONCE: usize = 1_300_000;
/// Cells of one batch of rows: about two megabytes.
const A_BATCH: usize = 1 << 16;

pub(super) struct Wide {
    prepared: Arc<Prepared>,
    inner: bool,
    moments: Vec<Column>,
    values: Vec<Column>,
    words: Words,
    /// Stretches of time still to be read.
    stretches: VecDeque<Span>,
    read: Option<Stretch>,
    /// The last close of each series, where it is carried forward.
    carried: Vec<Option<Decimal>>,
    /// The rows on the days of each as a member, beyond which closes are not carried; none where they are not carried at all.
    days: Vec<Option<Arc<Spans>>>,
}

/// A stretch that has been read.
struct Stretch {
    rows: Vec<Slot>,
    /// Rows that have left.
    gone: usize,
    series: Vec<Strip>,
    /// For each series, how many of its bars have left.
    at: Vec<usize>,
}

/// The bars of one series in a stretch, only the columns that are asked for.
#[derive(Default)]
struct Strip {
    /// Shared where the series before has the same.
    slots: Arc<[Slot]>,
    numbers: Vec<ExactOrReal>,
    sources: Vec<u32>,
    doubted: Vec<bool>,
    actions: Vec<Option<u32>>,
    contracts: Vec<Option<u32>>,
}

/// The numbers of one column.
enum ExactOrReal {
    Exact(Numbers),
    /// [`f64::NAN`] where there is none.
    Real(Vec<f64>),
}

impl ExactOrReal {
    fn of(column: Column) -> ExactOrReal {
        match column {
            Column::Derived(derived) if !derived.is_exact() => ExactOrReal::Real(vec![]),
            _ => ExactOrReal::Exact(Numbers::default()),
        }
    }
}

/// What the difference of two columns holds, or their ratio.
fn compared(against: Against, first: &Kind, kind: &Kind) -> Kind {
    match (against, first, kind) {
        (Against::Difference, Kind::Number(a), Kind::Number(b)) => {
            let both = a.and(*b);
            Kind::Number(Digits { whole: (both.whole + 1).min(18), ..both })
        }
        _ => Kind::Real,
    }
}

/// The cells of a column less those of the first series, or over them; empty where one of them is.
fn compare(against: Against, first: &Cells, cells: &Cells, rows: usize) -> Cells {
    let real = |cells: &Cells, at: usize| match cells {
        Cells::Numbers(all) => all.get(at).map(Decimal::to_f64),
        Cells::Reals(all) => all[at],
        _ => None,
    };
    match (against, first, cells) {
        (Against::Difference, Cells::Numbers(a), Cells::Numbers(b)) => {
            Cells::Numbers(a.iter().zip(b.iter()).map(|(a, b)| b?.minus(a?)).collect())
        }
        _ => Cells::Reals((0..rows).map(|at| pair(against, real(first, at), real(cells, at))).collect()),
    }
}

fn pair(against: Against, first: Option<f64>, number: Option<f64>) -> Option<f64> {
    let (first, number) = (first?, number?);
    let real = if against == Against::Ratio { number / first } else { number - first };
    real.is_finite().then(|| Value { real, exact: None }.shown())
}

fn is_number(column: Column) -> bool {
    !matches!(column, Column::Source | Column::Doubted | Column::Action | Column::Contract) && !column.is_of_the_moment()
}

impl Prepared {
    /// The moments first, as asked for, and then for each instrument its columns: with one column they are called by the
    /// instrument alone.
    pub(super) fn wide_headings(&self, rooms: &[(Digits, Digits)]) -> Vec<Heading> {
        let columns = self.columns();
        let values: Vec<Column> = columns.iter().copied().filter(|c| !c.is_of_the_moment()).collect();
        let mut out: Vec<Heading> = columns.iter().filter(|c| c.is_of_the_moment()).map(|c| self.of_the_moment(*c)).collect();
        let carried = self.resolved.question.shape.missing == Missing::Carried;
        let words = self.words();
        for (at, member) in self.members.iter().enumerate() {
            let label = self.label(member);
            let room = rooms.get(at).copied().unwrap_or_default();
            for column in &values {
                let name = if values.len() == 1 { label.clone() } else { format!("{label} {}", self.name(*column)) };
                let kind = value_kind(*column, room, &words);
                out.push(Heading { name: name.clone(), kind: kind.clone(), optional: true });
                if carried && *column == Column::Close {
                    out.push(Heading { name: format!("{label} carried"), kind: Kind::Flag, optional: true });
                }
                if let Some(against) = self.against(at, *column) {
                    let first = value_kind(*column, rooms.first().copied().unwrap_or_default(), &words);
                    out.push(Heading {
                        name: format!("{name} {}", against.word()),
                        kind: compared(against, &first, &kind),
                        optional: true,
                    });
                }
            }
        }
        out
    }
}

impl Prepared {
    /// How a column of a series is held against that of the first, where it is.
    fn against(&self, at: usize, column: Column) -> Option<Against> {
        self.resolved.question.shape.against.filter(|_| at > 0 && is_number(column))
    }
}

impl Wide {
    pub(super) fn new(prepared: Prepared, inner: bool) -> Result<Wide, DeskError> {
        let (moments, values) = prepared.columns().into_iter().partition(|c| c.is_of_the_moment());
        let stretches = stretches(&prepared)?;
        let carried = vec![None; prepared.members.len()];
        let carries = prepared.resolved.question.shape.missing == Missing::Carried;
        let masked = prepared.members.iter().filter(|_| carries);
        let days = masked.map(|member| rows_as_member(&prepared.resolved, member)).collect::<Result<_, _>>()?;
        Ok(Wide { words: prepared.words(), prepared: Arc::new(prepared), inner, moments, values, stretches, read: None, carried, days })
    }

    pub(super) async fn next(&mut self) -> Result<Option<Batch>, DeskError> {
        loop {
            if let Some(stretch) = &mut self.read {
                if stretch.gone < stretch.rows.len() {
                    let how = how(&self.prepared.resolved, &self.prepared.members[0])?;
                    let width = self.moments.len() + stretch.series.len() * (self.values.len() + 1);
                    let rows = (A_BATCH / width.max(1)).max(1).min(stretch.rows.len() - stretch.gone);
                    return Ok(Some(stretch.take(
                        rows,
                        &how,
                        &self.moments,
                        &self.values,
                        &self.prepared,
                        (&mut self.carried, &self.days),
                    )));
                }
                self.read = None;
            }
            let Some(span) = self.stretches.pop_front() else { return Ok(None) };
            self.read = Some(self.stretch(span).await?);
        }
    }

    async fn stretch(&self, span: Span) -> Result<Stretch, DeskError> {
        let given = (self.prepared.clone(), self.values.clone(), span.clone(), self.words.clone());
        let one = move |at: usize| {
            let (prepared, values, span, words) = given.clone();
            async move { strip(&prepared.research, &prepared, at, span, &values, &words).await }
        };
        let mut reads = self.prepared.research.desk.hands.side_by_side("reading a series", 0..self.prepared.members.len(), one);
        let mut series: Vec<Strip> = vec![];
        while let Some(mut strip) = reads.try_next().await? {
            if let Some(before) = series.last().filter(|before| before.slots == strip.slots) {
                strip.slots = before.slots.clone();
            }
            series.push(strip);
        }
        let rows = match self.prepared.resolved.question.shape.missing {
            Missing::Rows => self.expected(&span)?,
            _ => vec![],
        };
        let rows = rows_of(rows, &series, self.inner);
        let at = vec![0; series.len()];
        Ok(Stretch { rows, gone: 0, series, at })
    }

    /// The slots that the calendar of any of the instruments expects.
    fn expected(&self, span: &Span) -> Result<Vec<Slot>, DeskError> {
        let mut out: Vec<Slot> = vec![];
        let mut seen: Vec<(&str, Option<_>, Option<_>, &Option<_>)> = vec![];
        for member in &self.prepared.members {
            let instrument = &member.wanted.instrument;
            let life = (instrument.venue.as_str(), instrument.listed, instrument.last_traded, &member.wanted.days);
            if seen.contains(&life) {
                continue;
            }
            seen.push(life);
            let slots = expected_rows(&self.prepared.resolved, member, span)?;
            out = if out.is_empty() { slots } else { both(&out, &slots) };
        }
        Ok(out)
    }
}

/// The range in stretches, none with more cells than are read at once.
fn stretches(prepared: &Prepared) -> Result<VecDeque<Span>, DeskError> {
    let question = &prepared.resolved.question;
    let mut whole: Option<Span> = None;
    for member in prepared.members.iter().filter(|m| m.extent.start < m.extent.end) {
        let span = rows_in(&prepared.resolved, member)?;
        whole = Some(whole.map_or(span.clone(), |w| w.hull(&span)));
    }
    let Some(mut whole) = whole else { return Ok(VecDeque::new()) };
    if question.shape.missing == Missing::Rows {
        // Slots that are due and that nobody has yet have their rows too.
        for member in &prepared.members {
            let ends = match grid(&prepared.resolved, member)? {
                None => member.wanted.span.end,
                Some(_) => expected(&prepared.resolved, member, &member.wanted.span)?.last().map_or(whole.end, |slot| Slot(slot.0 + 1)),
            };
            whole.end = whole.end.max(ends);
        }
    }
    let values = question.columns(true).iter().filter(|c| !c.is_of_the_moment()).count().max(1);
    let slots = (AT_ONCE / (prepared.members.len().max(1) * values)).max(1) as i64;
    let step = question.interval.step();
    let held = whole.end.0.min(prepared.resolved.instant.0.max(whole.start.0));
    let end = if question.interval.is_intraday() { held } else { whole.end.0.min(whole.start.0 + 400 * 366) };
    let mut out = VecDeque::new();
    let mut at = whole.start.0;
    while at < end {
        // A day of trading is far shorter than a day: three quarters of the slots are never filled.
        let room = if question.interval.is_intraday() { slots * 3 } else { slots + slots / 3 };
        let next = at.saturating_add(room.saturating_mul(step)).min(end.max(at + step));
        out.push_back(Slot(at)..Slot(next));
        at = next;
    }
    Ok(out)
}

/// The slots from the first row of a member to behind its last.
fn rows_in(resolved: &Resolved, member: &Member) -> Result<Span, DeskError> {
    let Some(grid) = grid(resolved, member)? else { return Ok(member.extent.clone()) };
    let pieces = grid.pieces(&member.extent);
    let (first, last) = (pieces.first().map(|p| p.label), pieces.last().map(|p| p.label));
    Ok(first.zip(last).map_or(Slot(0)..Slot(0), |(first, last)| first..resolved.question.interval.span_of(last).end))
}

/// The rows of a member on its days as one, by their slots; `None` where it has them on all days.
fn rows_as_member(resolved: &Resolved, member: &Member) -> Result<Option<Arc<Spans>>, DeskError> {
    let Some(days) = &member.wanted.days else { return Ok(None) };
    Ok(Some(match grid(resolved, member)? {
        None => days.clone(),
        Some(grid) => {
            let touched = grid.pieces(&member.wanted.span).into_iter().filter(|p| days.overlaps(&p.span));
            Arc::new(touched.map(|p| p.label..Slot(p.label.0 + 1)).collect())
        }
    }))
}

async fn strip(
    research: &Research,
    prepared: &Prepared,
    at: usize,
    span: Span,
    values: &[Column],
    words: &Words,
) -> Result<Strip, DeskError> {
    let (resolved, member) = (&prepared.resolved, &prepared.members[at]);
    let mut out = Strip::default();
    // The bars of the pieces that are labelled in the stretch.
    let grid = grid(resolved, member)?;
    let span = match &grid {
        None => span.clip(&member.extent),
        Some(grid) => {
            let mut pieces = grid.pieces(&member.extent).into_iter().filter(|p| span.contains(&p.label)).map(|p| p.span);
            let (first, rest) = (pieces.next(), pieces.next_back());
            first.map_or(span.start..span.start, |first| first.start..rest.map_or(first.end, |rest| rest.end))
        }
    };
    out.numbers = values.iter().filter(|c| is_number(**c)).map(|c| ExactOrReal::of(*c)).collect();
    if span.start >= span.end {
        return Ok(out);
    }
    let (how, finer) = (how(resolved, member)?, finer(resolved, member)?);
    let (with_source, with_doubt) = (values.contains(&Column::Source), values.contains(&Column::Doubted));
    let (with_action, with_contract) = (values.contains(&Column::Action), values.contains(&Column::Contract));
    let places = member.places(&words.sources);
    let mut slots = vec![];
    let mut reader = Worked::open(research, resolved, member, values, &span).await?;
    while let Some(read) = reader.next(&finer, &how, member).await? {
        slots.extend(read.bars.iter().map(|b| b.slot));
        for (cells, column) in out.numbers.iter_mut().zip(values.iter().filter(|c| is_number(**c))) {
            let Column::Derived(derived) = column else {
                if let ExactOrReal::Exact(cells) = cells {
                    match how.as_traded(*column) {
                        Some(field) => cells.add(field, &read.bars),
                        None => {
                            cells.extend(read.iter().map(|(_, bar, extra)| how.number(*column, member.measured.as_deref(), bar, extra)))
                        }
                    }
                }
                continue;
            };
            let place = member.worked.iter().position(|d| d == derived);
            let value = |values: &[Option<Value>]| -> Option<Value> { *values.get(place?)? };
            match cells {
                ExactOrReal::Real(cells) => cells.extend(read.derived.iter().map(|v| value(v).map_or(f64::NAN, |v| v.shown()))),
                ExactOrReal::Exact(cells) => cells.extend(read.derived.iter().map(|v| how.exact(*derived, value(v)?))),
            }
        }
        if with_source {
            out.sources.extend((0..read.bars.len()).map(|at| places.get(usize::from(read.place(at))).copied().unwrap_or(0)));
        }
        if with_action {
            out.actions.extend(read.iter().map(|(_, bar, extra)| member.action_in(&how, bar.slot, extra, &words.actions)));
        }
        if with_contract {
            out.contracts.extend(read.iter().map(|(_, bar, extra)| member.contract_in(bar.slot, extra, &words.contracts)));
        }
        if with_doubt {
            let is = |at: usize, bar: &Bar| member.doubted.get(usize::from(read.place(at))).is_some_and(|d| d.contains(&bar.slot));
            out.doubted.extend(read.iter().map(|(at, bar, extra)| extra.map_or_else(|| is(at, bar), |e| e.doubted)));
        }
    }
    out.slots = slots.into();
    Ok(out)
}

/// Two ordered lists as one, each slot once.
fn both(a: &[Slot], b: &[Slot]) -> Vec<Slot> {
    let mut out = Vec::with_capacity(a.len().max(b.len()));
    let (mut i, mut j) = (0, 0);
    while i < a.len() || j < b.len() {
        let next = match (a.get(i), b.get(j)) {
            (Some(x), Some(y)) => *x.min(y),
            (Some(x), None) => *x,
            (None, Some(y)) => *y,
            (None, None) => break,
        };
        i += usize::from(a.get(i) == Some(&next));
        j += usize::from(b.get(j) == Some(&next));
        out.push(next);
    }
    out
}

/// The moments of the rows: those that any series has, or that all have, with those that are expected.
fn rows_of(expected: Vec<Slot>, series: &[Strip], inner: bool) -> Vec<Slot> {
    if inner {
        let mut all = series.iter().map(|s| &s.slots);
        let first = all.next().map(|slots| slots.to_vec()).unwrap_or_default();
        return all.fold(first, |rows, more| rows.into_iter().filter(|slot| more.binary_search(slot).is_ok()).collect());
    }
    // Series that share their slots stand side by side.
    series.chunk_by(|a, b| Arc::ptr_eq(&a.slots, &b.slots)).fold(expected, |rows, alike| {
        let (strip, mut at) = (&alike[0], 0);
        let known = strip.slots.iter().all(|slot| {
            at += rows[at..].iter().take_while(|row| *row < slot).count();
            rows.get(at) == Some(slot)
        });
        if known { rows } else { both(&rows, &strip.slots) }
    })
}

impl Stretch {
    /// The next rows, as they leave.
    fn take(
        &mut self,
        rows: usize,
        how: &Rows<'_>,
        moments: &[Column],
        values: &[Column],
        prepared: &Prepared,
        (carried, days): (&mut [Option<Decimal>], &[Option<Arc<Spans>>]),
    ) -> Batch {
        let slots = &self.rows[self.gone..self.gone + rows];
        let mut columns: Vec<Cells> = moments.iter().map(|c| how.moments(*c, slots.iter().copied())).collect();
        let carry = prepared.resolved.question.shape.missing == Missing::Carried;
        // The cells of the first series, where the others are held against them.
        let mut firsts: Vec<Cells> = vec![];
        // Where each row's bar stands among those of a series, and of those after it that share its slots.
        let mut found: Vec<Option<usize>> = Vec::with_capacity(rows);
        for (at, strip) in self.series.iter().enumerate() {
            if at > 0 && Arc::ptr_eq(&strip.slots, &self.series[at - 1].slots) {
                self.at[at] = self.at[at - 1];
            } else {
                found.clear();
                let mut next = self.at[at];
                for slot in slots {
                    // An inner join passes over bars that others lack.
                    while strip.slots.get(next).is_some_and(|s| s < slot) {
                        next += 1;
                    }
                    let here = strip.slots.get(next) == Some(slot);
                    found.push(here.then_some(next));
                    next += usize::from(here);
                }
                self.at[at] = next;
            }
            let instrument = &prepared.members[at].wanted.instrument;
            let mut number = strip.numbers.iter();
            let mut nth = 0;
            for column in values {
                let from = columns.len();
                match column {
                    Column::Action => columns.push(Cells::Words(found.iter().map(|i| i.and_then(|i| strip.actions[i])).collect())),
                    Column::Contract => columns.push(Cells::Words(found.iter().map(|i| i.and_then(|i| strip.contracts[i])).collect())),
                    Column::Source => columns.push(Cells::Words(found.iter().map(|i| i.map(|i| strip.sources[i])).collect())),
                    Column::Doubted => columns.push(Cells::Flags(found.iter().map(|i| i.map(|i| strip.doubted[i])).collect())),
                    _ => match number.next() {
                        None => continue,
                        Some(ExactOrReal::Real(reals)) => {
                            let of = |i: &Option<usize>| i.map(|i| reals[i]).filter(|real| !real.is_nan());
                            columns.push(Cells::Reals(found.iter().map(of).collect()));
                        }
                        Some(ExactOrReal::Exact(numbers)) => {
                            let cells = found.iter().map(|i| i.and_then(|i| numbers.get(i)));
                            let mut marks = None;
                            let cells = match carry && *column == Column::Close {
                                false => cells.collect(),
                                true => {
                                    let alive = |slot: Slot| {
                                        instrument.last_traded.is_none_or(|last| how.trade_date(slot) <= last)
                                            && days[at].as_ref().is_none_or(|days| days.contains(&slot))
                                    };
                                    let marks = marks.insert(Vec::with_capacity(rows));
                                    let carry_on = |(own, slot): (Option<Decimal>, &Slot)| {
                                        if own.is_none() && !alive(*slot) {
                                            carried[at] = None;
                                        }
                                        carried[at] = own.or(carried[at]);
                                        marks.push(carried[at].is_some().then_some(own.is_none()));
                                        carried[at]
                                    };
                                    cells.zip(slots).map(carry_on).collect()
                                }
                            };
                            columns.push(Cells::Numbers(cells));
                            columns.extend(marks.map(Cells::Flags));
                        }
                    },
                }
                let Some(against) = prepared.resolved.question.shape.against.filter(|_| is_number(*column)) else { continue };
                match at {
                    0 => firsts.push(columns[from].clone()),
                    _ => columns.push(compare(against, &firsts[nth], &columns[from], rows)),
                }
                nth += 1;
            }
        }
        self.gone += rows;
        Batch { rows, columns }
    }
}
