//! The answer to a resolved question: its headings, and its rows a batch at a time.
//!
//! A long answer goes through one series after another, a wide one through time, with all series side by side. Memory holds
//! a bounded number of cells at a time ([`wide`] says how many), however long the answer.

pub mod batch;
mod before;
mod changes;
mod draft;
mod ending;
mod expected;
mod extra;
mod how;
mod latest;
mod long;
mod made;
mod open;
mod part;
mod row;
mod rows;
mod side;
mod standing;
mod state;
mod wide;
mod worked;

use crate::{
    Research,
    adjusting::Adjusted,
    closes::Closes,
    question::{
        Column, Layout, Round,
        resolve::{Resolved, Wanted},
        zone::Clock,
    },
    reading::{Leg, Subject, leg_at},
    worth::Worth,
};
use batch::{Batch, Heading, Kind};
pub use draft::Draft;
use extra::Extra;
use futures_util::{
    Stream, TryStreamExt,
    stream::{self, BoxStream},
};
use made::SEVERAL;
use mizuno_core::{
    Completeness, Slot, Span, Spans, TradeDate,
    bar::Digits,
    derived::{Derived, Quantity},
    resample::Length,
};
use mizuno_desk::{
    DeskError,
    hands::{Ahead, Hands},
};
pub(crate) use part::{Dates, Learned};
pub(crate) use rows::{FACTOR, decimals};
use rows::{Measured, Rows};
use std::sync::Arc;
use worked::Beside;

/// Rows of one batch, in the long form: some two hundred kilobytes.
const A_BATCH: usize = 1024;
/// An answer of more rows is laid out on another thread than the one that writes it; for a shorter one that would cost more than it saves.
const MANY: u64 = 1 << 14;

/// A series of the answer, with what it is read from.
#[derive(Clone)]
pub struct Member {
    /// The series that was asked for.
    pub wanted: Wanted,
    /// Where its bars come from.
    pub subject: Subject,
    /// How complete it is over the span asked for; `None` when no collector keeps it any more.
    pub completeness: Option<Completeness>,
    /// The slots from its first bar to its last, within the span asked for.
    pub extent: Span,
    /// The slots from its first bar to its last.
    whole: Span,
    /// The numbers that are worked out of its bars.
    worked: Vec<Derived>,
    /// What they follow from, besides its bars.
    beside: Beside,
    /// The asks to these bids, where mid or spread are worked out.
    other: Option<Box<Member>>,
    /// The slots whose bars are doubted, for each of its sources by its place; of one source only where the question asks for them.
    doubted: Vec<Spans>,
    /// What is expected and held of it; `None` when no collector keeps it any more.
    standing: Option<Arc<Measured>>,
    /// The same, where the question asks how complete each trade date or piece is.
    measured: Option<Arc<Measured>>,
    /// What its actions are held against, where the question asks for them.
    acted: Option<Acted>,
    /// What they do to its prices, once that was worked out.
    pub adjusted: Option<Arc<Adjusted>>,
}

/// What the actions of a member follow from.
#[derive(Clone)]
struct Acted {
    /// Trade dates of its oldest and newest bar, to which anchors refer.
    ends: (TradeDate, TradeDate),
    closes: Option<Closes>,
    worth: Worth,
}

impl Member {
    /// The text of its actions on a trade date, by its place among all texts.
    fn action(&self, date: TradeDate, texts: &[String]) -> Option<u32> {
        let days = &self.adjusted.as_ref()?.days;
        let at = days.binary_search_by_key(&date, |(day, _)| *day).ok()?;
        texts.binary_search(&days[at].1).ok().map(|at| at as u32)
    }

    /// The text of the actions that count in a row: on its trade date, or in any session of what it is made of.
    fn action_in(&self, how: &Rows<'_>, slot: Slot, extra: Option<&Extra>, texts: &[String]) -> Option<u32> {
        // Of an instrument without actions no date is looked for.
        self.adjusted.as_ref().filter(|adjusted| !adjusted.days.is_empty())?;
        let Some(extra) = extra else { return self.action(how.trade_date(slot), texts) };
        let date = |slot: Slot| if self.wanted.key.interval.is_intraday() { how.date_of(slot) } else { slot.date() };
        let (first, last) = (date(extra.span.start), date(Slot(extra.span.end.0 - 1)));
        let days = &self.adjusted.as_ref()?.days;
        let day = days.iter().find(|(day, _)| (first..=last).contains(day))?;
        texts.binary_search(&day.1).ok().map(|at| at as u32)
    }

    /// Whether the price of its delisting stands behind its bars.
    pub(crate) fn ends_with_a_last_price(&self) -> bool {
        matches!(&self.subject, Subject::Chain(legs) if legs.iter().any(|leg| matches!(leg.subject, Subject::Delisting(_))))
    }

    /// The legs of a continuous series.
    fn legs(&self) -> &[Leg] {
        match &self.subject {
            Subject::Chain(legs) if self.wanted.chain.is_some() => legs,
            _ => &[],
        }
    }

    /// The contract of a row, by its place among all; of a coarser bar that of its last one.
    fn contract_in(&self, slot: Slot, extra: Option<&Extra>, contracts: &[String]) -> Option<u32> {
        let slot = extra.map_or(slot, |e| Slot(e.span.end.0 - 1));
        let leg = &self.legs()[leg_at(self.legs(), slot)?];
        contracts.binary_search(&leg.contract).ok().map(|at| at as u32)
    }

    /// Whether some of its bars may turn out to be none: those of a source that have to be brought back.
    fn may_lose_bars(&self) -> bool {
        self.subject.may_lose_bars()
    }

    /// For each place of its sources, the place among all sources of the answer.
    fn places(&self, sources: &[String]) -> Vec<u32> {
        let place = |name: &str| sources.iter().position(|s| s == name).unwrap_or(0) as u32;
        self.subject.sources().iter().map(String::as_str).chain([SEVERAL]).map(place).collect()
    }
}

/// The words that stand in some columns, each in order.
#[derive(Clone)]
struct Words {
    /// The names of the sources.
    sources: Arc<[String]>,
    /// What is told of corporate actions.
    actions: Arc<[String]>,
    /// The contracts of continuous series.
    contracts: Arc<[String]>,
}

impl Words {
    /// Those of two answers.
    fn and(&self, other: &Words) -> Words {
        let sorted = |a: &[String], b: &[String]| -> Arc<[String]> {
            a.iter().chain(b).collect::<std::collections::BTreeSet<_>>().into_iter().cloned().collect()
        };
        // Sources stand in the order in which they take part.
        let mut sources: Vec<String> = other.sources.to_vec();
        sources.extend(self.sources.iter().filter(|name| !other.sources.contains(name)).cloned());
        Words {
            sources: sources.into(),
            actions: sorted(&self.actions, &other.actions),
            contracts: sorted(&self.contracts, &other.contracts),
        }
    }
}

/// The room that open interest takes, as sources' answers are read.
pub(crate) const OPEN_INTEREST: Digits = Digits { whole: 12, scale: 6 };

/// What a column of values holds, with this room for prices and volumes.
fn value_kind(column: Column, (price, volume): (Digits, Digits), words: &Words) -> Kind {
    match column {
        Column::Source => Kind::Words(words.sources.clone()),
        Column::Doubted => Kind::Flag,
        Column::Completeness => Kind::Number(Digits { whole: 3, scale: 2 }),
        Column::PriceFactor | Column::VolumeFactor => Kind::Number(Digits { whole: 6, scale: FACTOR }),
        Column::Action => Kind::Words(words.actions.clone()),
        Column::Contract => Kind::Words(words.contracts.clone()),
        Column::AveragePrice => Kind::Number(Digits { whole: price.whole, scale: price.scale.max(FACTOR) }),
        Column::Held | Column::Expected => Kind::Number(Digits { whole: 9, scale: 0 }),
        Column::Volume => Kind::Number(volume),
        Column::OpenInterest => Kind::Number(OPEN_INTEREST),
        Column::Derived(derived) if !derived.is_exact() => Kind::Real,
        Column::Derived(derived) => Kind::Number(match derived.of {
            Quantity::Volume => volume,
            Quantity::OpenInterest => OPEN_INTEREST,
            // Half a unit of the last digit, where two prices do not meet in the middle.
            Quantity::Mid => Digits { whole: price.whole, scale: (price.scale + 1).min(18) },
            of if of.is_a_price() => Digits { whole: (price.whole + 1).min(18), scale: price.scale },
            _ => Digits { whole: 12, scale: 0 },
        }),
        _ => Kind::Number(price),
    }
}

/// A question about to be answered.
pub struct Prepared {
    research: Arc<Research>,
    /// The question, resolved.
    pub resolved: Arc<Resolved>,
    /// Its series, in the order of the answer.
    pub members: Vec<Member>,
    /// Whether it is of several instruments.
    several: bool,
}

/// An answer under way.
pub struct Answer {
    /// Its columns.
    pub headings: Vec<Heading>,
    rows: Source,
}

enum Source {
    Long(Box<long::Long>),
    Wide(Box<wide::Wide>),
    Latest(Box<latest::Latest>),
    /// What differs, of one series.
    Pair(Box<changes::Pair>),
    /// The same of all series.
    Changes(BoxStream<'static, Result<Batch, DeskError>>),
    /// One of the others on another thread, a batch or two ahead of the file.
    Ahead(Ahead<Batch>),
}

impl Source {
    async fn next(&mut self) -> Result<Option<Batch>, DeskError> {
        match self {
            Source::Long(long) => long.next().await,
            Source::Wide(wide) => wide.next().await,
            Source::Latest(latest) => latest.next().await,
            Source::Pair(pair) => pair.next().await,
            Source::Changes(batches) => batches.try_next().await,
            Source::Ahead(batches) => batches.next().await,
        }
    }

    /// Its batches, one after another.
    fn batches(self) -> impl Stream<Item = Result<Batch, DeskError>> {
        stream::try_unfold(self, |mut rows| async move { Ok(rows.next().await?.map(|batch| (batch, rows))) })
    }

    /// Goes ahead by so many batches and one or two: rows are laid out while those before are written.
    fn ahead(self, by: usize, hands: &Hands) -> Source {
        Source::Ahead(hands.ahead(by, "laying out rows", self.batches()))
    }
}

impl Answer {
    /// The next rows.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn next(&mut self) -> Result<Option<Batch>, DeskError> {
        self.rows.next().await
    }
}

impl Prepared {
    /// What a series is called beside others: by its instrument, and by its source or side where several are asked for.
    fn label(&self, member: &Member) -> String {
        let (question, key) = (&self.resolved.question, &member.wanted.key);
        let mut out = member.wanted.instrument.symbol.clone();
        if question.sources.len() > 1 {
            out = format!("{out} {}", key.source);
        }
        if question.sides.len() > 1 {
            out = format!("{out} {}", key.side);
        }
        out
    }

    /// What each series is called beside the others.
    pub(crate) fn labels(&self) -> Vec<String> {
        self.members.iter().map(|m| self.label(m)).collect()
    }

    /// The clock of the first series' venue.
    pub(crate) fn venue_clock(&self) -> Clock {
        let venue = self.members.first().and_then(|m| self.resolved.setup.config.venues.get(&m.wanted.instrument.venue));
        venue.map_or(Clock::Utc, |v| Clock::Zone(v.zone.clone()))
    }

    /// Whether there are several instruments.
    #[must_use]
    pub fn is_of_several(&self) -> bool {
        self.several
    }

    /// How complete all of it is, together.
    #[must_use]
    pub fn completeness(&self) -> Option<Completeness> {
        let mut known = self.members.iter().filter_map(|m| m.completeness).peekable();
        known.peek().is_some().then(|| known.sum())
    }

    /// The columns of the answer.
    fn columns(&self) -> Vec<Column> {
        self.resolved.question.columns(self.is_of_several())
    }

    /// The texts of the column `action`, in order.
    pub(crate) fn action_words(&self) -> Arc<[String]> {
        let all = self.members.iter().filter_map(|m| m.adjusted.as_ref()).flat_map(|a| a.days.iter().map(|(_, text)| text.clone()));
        let words: std::collections::BTreeSet<String> = all.collect();
        words.into_iter().collect()
    }

    /// The words of its columns.
    fn words(&self) -> Words {
        let contracts = self.members.iter().flat_map(|m| m.legs()).map(|leg| leg.contract.clone());
        let contracts: std::collections::BTreeSet<String> = contracts.collect();
        Words { sources: self.sources(), actions: self.action_words(), contracts: contracts.into_iter().collect() }
    }

    /// The names of the sources there may be, in the order in which they first take part.
    fn sources(&self) -> Arc<[String]> {
        let mut out: Vec<String> = vec![];
        for member in &self.members {
            for name in member.subject.sources() {
                if !out.contains(&name) {
                    out.push(name);
                }
            }
        }
        if self.members.iter().any(|m| self.resolved.question.length() != Length::Interval(m.wanted.key.interval)) {
            out.push(SEVERAL.to_owned());
        }
        out.into()
    }

    fn name(&self, column: Column) -> String {
        let question = &self.resolved.question;
        question.shape.names.get(&column).cloned().unwrap_or_else(|| column.name(question.interval).into_owned())
    }

    /// Room for the prices and volumes of a member. Only formats with one type a column need it, and it reads the tail.
    async fn room(&self, member: &Member) -> Result<(Digits, Digits), DeskError> {
        let question = &self.resolved.question;
        let calendar = self.resolved.calendar(&member.wanted)?;
        let reader = self.research.read(member.subject.clone(), calendar, member.wanted.span.clone(), self.resolved.instant).await?;
        let (mut price, volume) = reader.room();
        if let Some(adjusted) = member.adjusted.as_ref().filter(|a| a.by_rolls || question.adjust.is_some()) {
            let more = adjusted.factors.more_digits();
            let wider = |room: Digits, scale| Digits { whole: (room.whole + more).min(18), scale };
            return Ok((wider(price, decimals(question.shape.round)), wider(volume, volume.scale)));
        }
        match question.shape.round {
            None => {}
            Some(Round::Decimals(n)) => price = Digits { whole: price.whole + u8::from(n < price.scale), scale: price.scale.min(n) },
            Some(Round::Tick) => {
                let tick = member.wanted.instrument.tick_size.map_or(price.scale, |t| t.scale);
                price = Digits { whole: (price.whole + 1).min(18), scale: tick };
            }
        }
        Ok((price, volume))
    }

    /// The columns of the answer.
    #[must_use]
    pub fn headings(&self) -> Vec<Heading> {
        match self.resolved.question.shape.layout {
            _ if self.resolved.question.since.is_some() => {
                changes::headings(self, Kind::Words(Arc::default()), &self.words(), Default::default())
            }
            Layout::Long | Layout::Latest => self.long_headings(Default::default()),
            Layout::Wide { .. } => self.wide_headings(&[]),
        }
    }

    /// Begins the answer. `typed` says that the file has one type a column, and needs to know its numbers' size before the first.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn begin(self, typed: bool) -> Result<Answer, DeskError> {
        let mut rooms = vec![];
        for member in self.members.iter().filter(|_| typed) {
            rooms.push(self.room(member).await?);
        }
        self.begin_in(rooms)
    }

    /// The same with room for the numbers of each series; for none where the file needs to know of none.
    fn begin_in(self, rooms: Vec<(Digits, Digits)>) -> Result<Answer, DeskError> {
        let typed = !rooms.is_empty();
        let research = self.research.clone();
        let hands = &research.desk.hands;
        let both = rooms.iter().copied().reduce(|(p, v), (q, w)| (p.and(q), v.and(w))).unwrap_or_default();
        match self.resolved.question.shape.layout {
            Layout::Long => {
                let headings = self.long_headings(both);
                let held: u64 = self.members.iter().filter_map(|m| m.completeness).map(|c| c.held).sum();
                let rows = Source::Long(Box::new(long::Long::new(self)));
                Ok(Answer { headings, rows: if typed || held > MANY { rows.ahead(0, hands) } else { rows } })
            }
            Layout::Latest => {
                let headings = self.long_headings(both);
                Ok(Answer { headings, rows: Source::Latest(Box::new(latest::Latest::new(self))) })
            }
            Layout::Wide { inner } => {
                let headings = self.wide_headings(&rooms);
                Ok(Answer { headings, rows: Source::Wide(Box::new(wide::Wide::new(self, inner)?)).ahead(0, hands) })
            }
        }
    }

    /// The heading of a column that says when.
    fn of_the_moment(&self, column: Column) -> Heading {
        let intraday = self.resolved.question.interval.is_intraday();
        let kind = match column {
            Column::Epoch => Kind::Whole,
            Column::Time if intraday => Kind::Moment,
            _ => Kind::Date,
        };
        Heading { name: self.name(column), kind, optional: false }
    }
}

impl Subject {
    /// Whether some of its bars may turn out to be none: those of a source that have to be brought back.
    fn may_lose_bars(&self) -> bool {
        match self {
            Subject::One(_) | Subject::Delisting(_) => false,
            Subject::Golden(lineup) => lineup.brings_back(),
            Subject::Chain(legs) => legs.iter().any(|leg| leg.subject.may_lose_bars()),
        }
    }

    /// The names of its sources, by their places.
    #[must_use]
    pub fn sources(&self) -> Vec<String> {
        match self {
            Subject::One(row) => vec![row.key.source.clone()],
            Subject::Golden(lineup) => lineup.marked_sources(),
            Subject::Chain(legs) => legs.iter().flat_map(|leg| leg.subject.sources()).collect(),
            Subject::Delisting(_) => vec!["delisting".to_owned()],
        }
    }
}
