//! A row a bar, one series after another.

use super::{
    A_BATCH, Member, Prepared,
    batch::{Batch, Cells, Heading, Kind},
    made::{Made, Read, begun, grid, labels},
    rows::{Extra, FACTOR, Rows, needed},
    value_kind,
};
use crate::{
    adjusting::Adjusted,
    question::{Column, Missing, resolve::Resolved},
};
use mizuno_core::{Bar, Interval, Slot, Span, TradeDate, bar::Digits, resample::Length};
use mizuno_desk::DeskError;
use std::{collections::VecDeque, sync::Arc};

pub(super) struct Long {
    prepared: Prepared,
    columns: Vec<Column>,
    sources: Arc<[String]>,
    actions: Arc<[String]>,
    /// The member being read, and those after it.
    at: usize,
    open: Option<Open>,
}

/// A member being read.
pub(super) struct Open {
    reader: Made,
    /// For each place of its sources, the place among all sources.
    pub(super) places: Vec<u32>,
    /// Expected slots that have not had a row yet, where each is to have one.
    expected: VecDeque<Slot>,
    /// Rows that were read and have not left.
    waiting: VecDeque<Row>,
}

/// For each place of the sources of a member the place among all, and the texts of the column `action`.
pub(super) type WordsOf<'w> = (&'w [u32], &'w [String]);

/// A row: a slot, and the bar there with the place of its source, where there is one.
pub(super) type Row = (Slot, Option<(Bar, u16)>, Option<Box<Extra>>);

impl Prepared {
    pub(super) fn long_headings(&self, (price, volume): (Digits, Digits)) -> Vec<Heading> {
        let absent = self.resolved.question.shape.missing != Missing::Absent;
        let instruments: Arc<[String]> = self.members.iter().map(|m| m.wanted.instrument.symbol.clone()).collect();
        let (sources, actions) = (self.sources(), self.action_words());
        let heading = |column: Column| {
            if column.is_of_the_moment() {
                return self.of_the_moment(column);
            }
            let kind = match column {
                Column::Instrument => Kind::Words(instruments.clone()),
                column => value_kind(column, (price, volume), &sources, &actions),
            };
            let may_lack = matches!(column, Column::Volume | Column::Completeness | Column::Action | Column::AveragePrice);
            let optional = may_lack || (absent && column != Column::Instrument);
            Heading { name: self.name(column), kind, optional }
        };
        self.columns().into_iter().map(heading).collect()
    }
}

impl Long {
    pub(super) fn new(prepared: Prepared) -> Long {
        let (columns, sources, actions) = (prepared.columns(), prepared.sources(), prepared.action_words());
        Long { prepared, columns, sources, actions, at: 0, open: None }
    }

    pub(super) async fn next(&mut self) -> Result<Option<Batch>, DeskError> {
        loop {
            let Some(member) = self.prepared.members.get(self.at) else { return Ok(None) };
            if self.open.is_none() {
                self.open = Some(open(&self.prepared, member, &self.sources).await?);
            }
            let Some(open) = &mut self.open else { return Ok(None) };
            let how = how(&self.prepared.resolved, member)?;
            if open.waiting.is_empty() && !open.read_on(&self.prepared.resolved, member).await? {
                self.open = None;
                self.at += 1;
                continue;
            }
            let rows: Vec<Option<&Row>> = open.waiting.iter().take(A_BATCH).map(Some).collect();
            let count = rows.len();
            let batch = (count > 0).then(|| batch(&how, &self.columns, self.at, &rows, member, (&open.places, &self.actions)));
            open.waiting.drain(..count);
            if batch.is_some() {
                return Ok(batch);
            }
        }
    }
}

/// How the bars of a member become rows.
pub(super) fn how<'p>(resolved: &'p Resolved, member: &Member) -> Result<Rows<'p>, DeskError> {
    let resampled = resolved.question.length() != Length::Interval(member.wanted.key.interval);
    let adjusted = member.adjusted.clone().filter(|_| !resampled);
    rows_of(resolved, member, resolved.question.interval, adjusted)
}

/// How the bars that are read of a member become those of rows.
pub(super) fn finer<'p>(resolved: &'p Resolved, member: &Member) -> Result<Rows<'p>, DeskError> {
    rows_of(resolved, member, member.wanted.key.interval, member.adjusted.clone())
}

fn rows_of<'p>(
    resolved: &'p Resolved,
    member: &Member,
    interval: Interval,
    adjusted: Option<Arc<Adjusted>>,
) -> Result<Rows<'p>, DeskError> {
    let instrument = &member.wanted.instrument;
    let zone = resolved.setup.config.venues.get(&instrument.venue).map_or(jiff::tz::TimeZone::UTC, |v| v.zone.clone());
    Ok(Rows::new(&resolved.question, instrument, resolved.setup.calendar_of(instrument)?, zone, interval, adjusted))
}

impl Open {
    /// The next row, which stays; `None` at the end.
    pub(super) async fn peek(&mut self, resolved: &Resolved, member: &Member) -> Result<Option<Slot>, DeskError> {
        while self.waiting.is_empty() {
            if !self.read_on(resolved, member).await? {
                return Ok(None);
            }
        }
        Ok(self.waiting.front().map(|(slot, ..)| *slot))
    }

    /// Takes the row that was looked at.
    pub(super) fn take(&mut self) -> Option<Row> {
        self.waiting.pop_front()
    }

    /// Reads the next bars, and puts them with the expected slots before them among the rows that wait; false at the end.
    async fn read_on(&mut self, resolved: &Resolved, member: &Member) -> Result<bool, DeskError> {
        let finer = finer(resolved, member)?;
        let Some(read) = self.reader.next(&finer, member).await? else {
            self.waiting.extend(self.expected.drain(..).map(|slot| (slot, None, None)));
            return Ok(!self.waiting.is_empty());
        };
        self.waiting.reserve_exact(read.bars.len());
        let Read { bars, from, extras } = read;
        let places = from.into_iter().chain(std::iter::repeat(0));
        if self.expected.is_empty() && extras.is_empty() {
            self.waiting.extend(bars.into_iter().zip(places).map(|(bar, place)| (bar.slot, Some((bar, place)), None)));
            return Ok(true);
        }
        let mut extras = extras.into_iter();
        for (bar, place) in bars.into_iter().zip(places) {
            while let Some(slot) = self.expected.pop_front_if(|slot| *slot < bar.slot) {
                self.waiting.push_back((slot, None, None));
            }
            self.expected.pop_front_if(|slot| *slot == bar.slot);
            self.waiting.push_back((bar.slot, Some((bar, place)), extras.next().map(Box::new)));
        }
        Ok(true)
    }
}

pub(super) async fn open(prepared: &Prepared, member: &Member, sources: &[String]) -> Result<Open, DeskError> {
    let resolved = &prepared.resolved;
    let calendar = resolved.calendar(&member.wanted)?;
    let expected = match resolved.question.shape.missing {
        Missing::Rows => {
            let since = member.extent.start.max(member.wanted.span.start)..member.wanted.span.end;
            expected(resolved, member, &since)?.into()
        }
        _ => VecDeque::new(),
    };
    let extent = member.extent.clone();
    let reader =
        prepared.research.read_over(member.subject.clone(), calendar, extent.clone(), resolved.instant, needed(&prepared.columns()));
    // A piece that began before the first bar is one of this member too.
    let span = begun(resolved, member, &extent)?;
    Ok(Open {
        places: member.places(sources),
        reader: Made::new(reader.await?, resolved, member, &span)?,
        expected,
        waiting: VecDeque::new(),
    })
}

/// The slots in which a row is expected and due.
pub(super) fn expected(resolved: &Resolved, member: &Member, span: &Span) -> Result<Vec<Slot>, DeskError> {
    let instrument = &member.wanted.instrument;
    Ok(match grid(resolved, member)? {
        None => how(resolved, member)?.expected(instrument, span, resolved.instant),
        Some(grid) => {
            let last = instrument.last_traded.map_or(TradeDate(i32::MAX), |last| last.plus(1));
            labels(&grid, instrument.listed.unwrap_or(TradeDate(i32::MIN))..last, span, resolved.instant)
        }
    })
}

/// Some rows of a member as cells.
fn batch(how: &Rows<'_>, columns: &[Column], instrument: usize, rows: &[Option<&Row>], member: &Member, words: WordsOf<'_>) -> Batch {
    let column = |column: &Column| match column {
        Column::Time | Column::TradeDate | Column::Epoch => how.moments(*column, rows.iter().flatten().map(|(slot, ..)| *slot)),
        Column::Instrument => Cells::Words(vec![Some(instrument as u32); rows.len()]),
        column => values(*column, rows, how, member, words),
    };
    Batch { rows: rows.len(), columns: columns.iter().map(column).collect() }
}

/// The cells of a column of values for some rows; empty where there is no row.
pub(super) fn values(column: Column, rows: &[Option<&Row>], how: &Rows<'_>, member: &Member, (places, actions): WordsOf<'_>) -> Cells {
    let bars = || rows.iter().map(|row| row.and_then(|(_, bar, _)| bar.as_ref()));
    match column {
        Column::Action => {
            let of = |(slot, _, extra): &Row| member.action_in(how, *slot, extra.as_deref(), actions);
            Cells::Words(rows.iter().map(|row| of(row.as_ref()?)).collect())
        }
        Column::Source => Cells::Words(bars().map(|bar| bar.and_then(|(_, from)| places.get(usize::from(*from)).copied())).collect()),
        Column::Doubted => {
            let is = |bar: &(Bar, u16)| member.doubted.get(usize::from(bar.1)).is_some_and(|d| d.contains(&bar.0.slot));
            let of = |row: &Option<&Row>| {
                let (_, bar, extra) = row.as_ref()?;
                bar.as_ref().map(|bar| extra.as_ref().map_or_else(|| is(bar), |e| e.doubted))
            };
            Cells::Flags(rows.iter().map(of).collect())
        }
        Column::Completeness => {
            let of = |row: &Option<&Row>| {
                let ((slot, _, extra), measured) = (row.as_ref()?, member.measured.as_deref()?);
                extra.as_ref().map_or_else(|| how.completeness(measured, *slot), |e| measured.share(&e.span))
            };
            Cells::Numbers(rows.iter().map(of).collect())
        }
        // Without a bar, too, a slot has its factors.
        Column::PriceFactor | Column::VolumeFactor => {
            let of = |slot: Slot| how.factors(slot).map(|f| if column == Column::PriceFactor { &f.price } else { &f.volume });
            Cells::Numbers(rows.iter().map(|row| Some(of(row.as_ref()?.0)?.decimal(FACTOR))).collect())
        }
        _ => {
            let of = |row: &Option<&Row>| {
                let (_, bar, extra) = row.as_ref()?;
                how.number(column, None, &bar.as_ref()?.0, extra.as_deref())
            };
            Cells::Numbers(rows.iter().map(of).collect())
        }
    }
}
