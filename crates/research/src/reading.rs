//! Bars of one question, a piece at a time: of one source, or golden ones.

use crate::{
    Research,
    findings::Known,
    golden::{GoldenReading, Lineup},
    rolled::ContractCloses,
};
use futures_util::{StreamExt, TryStreamExt, stream};
use mizuno_config::GOLDEN;
use mizuno_core::{
    Bar, Bars, Calendar, Decimal, Overlap, SeriesKey, Slot, Span, Spans, Timestamp,
    bar::{Digits, digits},
    golden::Golden,
    spans::union,
};
use mizuno_desk::{
    DeskError, Setup,
    hands::{Ahead, Hands},
};
use mizuno_store::{StoreError, blocks::Needed, ranges::Sieve, reading::Reading, series::SeriesRow};
use std::collections::VecDeque;
use tokio::task::JoinError;

/// Reading ahead is worth another thread from so many blocks on: one or two are a question for a month of minutes, of which there are many at once.
const WORTH_AHEAD: usize = 3;

/// Bars, and the places of their sources where these are several.
pub type Piece = (Bars, Vec<u16>);

/// What is read: a series as its source tells it, or the best of several.
pub enum Reader {
    /// One source's.
    One(Reading),
    /// Golden ones.
    Golden(Box<GoldenReading>),
    /// Those of some stretches, one after another.
    Stretches(VecDeque<Stretch>),
    /// Bars that are at hand.
    Given(Option<Piece>),
    /// One of the others on another thread, a piece or two ahead of whoever takes them.
    Ahead(Ahead<Piece>),
}

/// What is read of many series at once.
enum First {
    Series(SeriesRow, Span),
    Of(Reader),
}

impl First {
    fn to_begin(&self) -> Vec<(&SeriesRow, Span)> {
        match self {
            First::Series(row, span) => vec![(row, span.clone())],
            First::Of(Reader::Golden(golden)) => golden.to_begin(1).collect(),
            First::Of(_) => vec![],
        }
    }
}

/// A stretch of a reading.
pub struct Stretch {
    reader: Reader,
    /// What the places of its sources are counted on from.
    places: u16,
    /// What its prices are shifted by.
    shift: Option<Decimal>,
}

impl Stretch {
    fn of(reader: Reader) -> Stretch {
        Stretch { reader, places: 0, shift: None }
    }

    fn room(&self) -> (Digits, Digits) {
        let (mut price, volume) = self.reader.room();
        if let Some(shift) = self.shift {
            let whole = price.whole.max(shift.whole_digits()) + 1;
            price = Digits { whole: whole.min(18), scale: price.scale.max(shift.scale) };
        }
        (price, volume)
    }

    async fn next(&mut self) -> Result<Option<Piece>, DeskError> {
        let Some((mut bars, mut from)) = Box::pin(self.reader.next()).await? else { return Ok(None) };
        if let Some(shift) = self.shift {
            let minus = Decimal { mantissa: -shift.mantissa, ..shift };
            for bar in &mut bars.rows {
                let [o, h, l, c] = bar.prices().map(|price| price.minus(minus));
                let (Some(o), Some(h), Some(l), Some(c)) = (o, h, l, c) else {
                    return Err(DeskError::Invalid(format!("rolls: a price shifted by {shift} has more than 18 digits; ask for ratio")));
                };
                *bar = bar.with_prices([o, h, l, c]);
            }
        }
        if self.places > 0 {
            from.resize(bars.rows.len(), 0);
            from.iter_mut().for_each(|place| *place += self.places);
        }
        Ok(Some((bars, from)))
    }
}

impl Reader {
    /// A bar, where it lies in `span`.
    fn one(bar: Bar, span: &Span) -> Reader {
        Reader::Given(span.contains(&bar.slot).then(|| (Bars { rows: vec![bar] }, vec![])))
    }

    /// Room for every price and every volume there may be in it.
    #[must_use]
    pub fn room(&self) -> (Digits, Digits) {
        match self {
            Reader::One(one) => (one.price, one.volume),
            Reader::Golden(golden) => (golden.price, golden.volume),
            Reader::Stretches(stretches) => {
                stretches.iter().map(Stretch::room).reduce(|(p, v), (q, w)| (p.and(q), v.and(w))).unwrap_or_default()
            }
            Reader::Given(piece) => digits(piece.iter().flat_map(|(bars, _)| &bars.rows)),
            Reader::Ahead(_) => Default::default(),
        }
    }

    /// Reads ahead where there are several blocks: the next ones are unpacked, of golden series two side by side, while the bars of the one
    /// before are worked with. How much room they take is not told.
    pub(crate) fn ahead(self, hands: &Hands) -> Reader {
        if self.blocks() < WORTH_AHEAD {
            return self;
        }
        const DOING: &str = "reading bars";
        Reader::Ahead(match self {
            Reader::Golden(golden) => {
                // On the threads of answers, on which the stream is taken from.
                let few = stream::iter(golden.apart()).map(|few: GoldenReading| tokio::spawn(few.all())).buffered(2);
                let made = few.map(|made: Result<Result<Vec<Golden>, DeskError>, JoinError>| {
                    let made = made.map_err(|e| DeskError::fault(DOING, e))??;
                    Ok::<_, DeskError>(stream::iter(made.into_iter().map(|made| Ok((made.bars, made.from)))))
                });
                hands.ahead(0, DOING, made.try_flatten())
            }
            reader => {
                let next = |mut reader: Reader| async move { Ok(reader.next().await?.map(|piece| (piece, reader))) };
                hands.ahead(0, DOING, stream::try_unfold(reader, next))
            }
        })
    }

    /// The blocks to come, of one source.
    fn blocks(&self) -> usize {
        match self {
            Reader::One(one) => one.blocks(),
            Reader::Golden(golden) => golden.pieces(),
            Reader::Stretches(stretches) => stretches.iter().map(|stretch| stretch.reader.blocks()).sum(),
            Reader::Given(_) | Reader::Ahead(_) => 0,
        }
    }

    /// The next bars.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn next(&mut self) -> Result<Option<Piece>, DeskError> {
        match self {
            Reader::One(one) => Ok(one.next().await?.map(|bars| (bars, vec![]))),
            Reader::Golden(golden) => Ok(golden.next().await?.map(|made| (made.bars, made.from))),
            Reader::Stretches(stretches) => {
                while let Some(stretch) = stretches.front_mut() {
                    if let Some(piece) = stretch.next().await? {
                        return Ok(Some(piece));
                    }
                    stretches.pop_front();
                }
                Ok(None)
            }
            Reader::Given(piece) => Ok(piece.take()),
            Reader::Ahead(pieces) => pieces.next().await,
        }
    }
}

/// The series an answer is made of.
#[derive(Clone)]
pub enum Subject {
    /// One source's.
    One(SeriesRow),
    /// Those of a golden series.
    Golden(Lineup),
    /// Those of the contracts of a chain, leg by leg; or of an instrument, with the price of its delisting behind them.
    Chain(Vec<Leg>),
    /// The price of a delisting, as a bar.
    Delisting(Bar),
}

/// A leg of a chain, as bars are read of it.
#[derive(Clone)]
pub struct Leg {
    /// Its contract, or instrument.
    pub contract: String,
    /// Its slots.
    pub span: Span,
    /// Its series.
    pub subject: Subject,
    /// What its prices are shifted by.
    pub shift: Option<Decimal>,
    /// Its closes, where its chain was rolled by those bars.
    pub(crate) closes: Option<ContractCloses>,
}

impl Subject {
    /// Everything that changes when a bar of it, or whether that is doubted, may, as bytes. As of an instant that was named, later
    /// bars change nothing.
    pub(crate) fn state(&self, setup: &Setup, known: &Known, named: Option<Timestamp>) -> Result<Vec<u8>, DeskError> {
        match self {
            Subject::One(row) => {
                let mut out = [row.id.to_be_bytes(), named.map_or(row.revision, |at| at.0).to_be_bytes()].concat();
                known.standard_in_numbers(setup, row, named, &mut |numbers| {
                    numbers.iter().for_each(|n| out.extend(n.to_be_bytes()));
                })?;
                Ok(out)
            }
            Subject::Golden(lineup) => lineup.state(setup, known, named),
            Subject::Chain(legs) => {
                let mut out = vec![];
                for leg in legs {
                    out.extend([leg.span.start.0, leg.span.end.0].iter().flat_map(|n| n.to_be_bytes()));
                    out.extend(leg.shift.map(|s| s.to_string()).unwrap_or_default().bytes());
                    out.extend(leg.subject.state(setup, known, named)?);
                }
                Ok(out)
            }
            Subject::Delisting(bar) => Ok(format!("{} {}", bar.slot.0, bar.close()).into_bytes()),
        }
    }

    /// Does something with each of its golden line-ups.
    pub(crate) fn each_lineup(&mut self, act: &mut dyn FnMut(&mut Lineup)) {
        match self {
            Subject::One(_) | Subject::Delisting(_) => {}
            Subject::Golden(lineup) => act(lineup),
            Subject::Chain(legs) => legs.iter_mut().for_each(|leg| leg.subject.each_lineup(act)),
        }
    }

    /// The series it is read from.
    #[must_use]
    pub fn rows(&self) -> Vec<SeriesRow> {
        match self {
            Subject::One(row) => vec![row.clone()],
            Subject::Golden(lineup) => lineup.parts.iter().map(|p| p.row.clone()).collect(),
            Subject::Chain(legs) => legs.iter().flat_map(|leg| leg.subject.rows()).collect(),
            Subject::Delisting(_) => vec![],
        }
    }
}

/// The place of the leg of a slot.
#[must_use]
pub(crate) fn leg_at(legs: &[Leg], slot: Slot) -> Option<usize> {
    let at = legs.partition_point(|leg| leg.span.end <= slot);
    legs.get(at).filter(|leg| leg.span.start <= slot).map(|_| at)
}

/// The legs with slots in a span, each with those and with how many sources come before its own.
fn in_stretches(legs: Vec<Leg>, span: &Span) -> Vec<(Leg, Span, u16)> {
    let mut places = 0;
    let mut out = vec![];
    for leg in legs {
        let (own, before) = (leg.span.clip(span), places);
        places += leg.subject.sources().len() as u16;
        if own.start < own.end {
            out.push((leg, own, before));
        }
    }
    out
}

impl Research {
    /// The series of a name, or the line-up of a golden one, as of an instant.
    ///
    /// # Errors
    /// When there is no such series, or no source has a part in it.
    pub async fn subject(&self, setup: &Setup, key: &SeriesKey, as_of: Timestamp) -> Result<Subject, DeskError> {
        let known = self.known(setup, as_of).await?;
        let mut subject = self.unexamined_subject(setup, key, &known).await?;
        if let Subject::Golden(lineup) = &mut subject {
            self.examine_lineup(setup, lineup, &known).await?;
        }
        Ok(subject)
    }

    /// The same with what findings are judged by, read once for many; no doubts have been looked for yet.
    pub(crate) async fn unexamined_subject(&self, setup: &Setup, key: &SeriesKey, known: &Known) -> Result<Subject, DeskError> {
        if key.source != GOLDEN {
            return Ok(Subject::One(self.desk.series_named(setup, &key.to_string()).await?));
        }
        let lineup = self.unexamined(setup, key, known).await?;
        if lineup.parts.is_empty() {
            let why: Vec<String> = lineup.left_out.iter().map(|l| format!("{}: {}", l.source, l.why)).collect();
            return Err(match why.is_empty() {
                true => self.desk.no_series(&key.to_string()).await?,
                false => DeskError::Invalid(format!("no source has a part in {key}; {}", why.join("; "))),
            });
        }
        Ok(Subject::Golden(lineup))
    }

    /// Looks for doubts in a series: the slots whose bars are doubted, for each of its sources by its place. Of one source they are
    /// looked for only where somebody asks, since they do not change which bars there are.
    pub(crate) async fn examine_subject(
        &self,
        setup: &Setup,
        subject: &mut Subject,
        known: &Known,
        asked: bool,
    ) -> Result<Vec<Spans>, DeskError> {
        Ok(match subject {
            Subject::Golden(lineup) => {
                self.examine_lineup(setup, lineup, known).await?;
                let doubted = lineup.parts.iter().map(|p| p.doubted.clone());
                doubted.cycle().take(lineup.marked_sources().len()).collect()
            }
            Subject::One(row) if asked => vec![self.doubts(setup, row, known).await?],
            Subject::One(_) | Subject::Delisting(_) => vec![],
            Subject::Chain(legs) => {
                let mut out = vec![];
                for leg in legs {
                    let mut doubted = Box::pin(self.examine_subject(setup, &mut leg.subject, known, asked)).await?;
                    // Each place has its own, since those of the next leg stand behind them.
                    doubted.resize(leg.subject.sources().len(), Spans::new());
                    out.extend(doubted);
                }
                out
            }
        })
    }

    /// Begins to read a stretch of it.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn read(&self, subject: Subject, calendar: &Calendar, span: Span, as_of: Timestamp) -> Result<Reader, DeskError> {
        Ok(match subject {
            Subject::One(row) => Reader::One(self.desk.store.read(&row, span, as_of).await?),
            Subject::Golden(lineup) => Reader::Golden(Box::new(self.read_golden(lineup, calendar, span, as_of).await?)),
            Subject::Chain(legs) => {
                let mut out = VecDeque::new();
                for (leg, own, places) in in_stretches(legs, &span) {
                    let reader = Box::pin(self.read(leg.subject, calendar, own, as_of)).await?;
                    out.push_back(Stretch { reader, places, shift: leg.shift });
                }
                Reader::Stretches(out)
            }
            Subject::Delisting(bar) => Reader::one(bar, &span),
        })
    }

    /// The same where it is known that its bars lie in `extent`, and which numbers are needed; how much room they take is not told.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn read_over(
        &self,
        subject: Subject,
        calendar: &Calendar,
        extent: Span,
        as_of: Timestamp,
        needed: Needed,
    ) -> Result<Reader, DeskError> {
        Ok(match subject {
            Subject::One(row) => Reader::One(self.desk.store.read_only(&row, extent, as_of, needed).await?),
            Subject::Golden(lineup) => Reader::Golden(Box::new(self.golden_over(lineup, calendar, extent, as_of, needed))),
            Subject::Chain(legs) => {
                let mut out = VecDeque::new();
                for (leg, own, places) in in_stretches(legs, &extent) {
                    let reader = match leg.closes.filter(|_| needed == Needed::CLOSE) {
                        Some(closes) => Reader::Given(closes.within(&own)),
                        None => Box::pin(self.read_over(leg.subject, calendar, own, as_of, needed)).await?,
                    };
                    out.push_back(Stretch { reader, places, shift: leg.shift });
                }
                Reader::Stretches(out)
            }
            Subject::Delisting(bar) => Reader::one(bar, &extent),
        })
    }

    /// The same of several at once: what each is read from first comes in one step.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub(crate) async fn read_each_over(
        &self,
        several: Vec<(Subject, &Calendar, Span)>,
        as_of: Timestamp,
        needed: Needed,
    ) -> Result<Vec<Reader>, DeskError> {
        let mut firsts = Vec::with_capacity(several.len());
        for (subject, calendar, extent) in several {
            firsts.push(match subject {
                Subject::One(row) => First::Series(row, extent),
                subject => First::Of(self.read_over(subject, calendar, extent, as_of, needed).await?),
            });
        }
        let wanted: Vec<Vec<(&SeriesRow, Span)>> = firsts.iter().map(First::to_begin).collect();
        let counts: Vec<usize> = wanted.iter().map(Vec::len).collect();
        let mut begun = self.desk.store.read_each(wanted.into_iter().flatten().collect(), as_of, needed).await?.into_iter();
        let mut readers = Vec::with_capacity(firsts.len());
        for (first, count) in firsts.into_iter().zip(counts) {
            let mut own = begun.by_ref().take(count);
            readers.push(match first {
                First::Series(..) => Reader::One(own.next().ok_or(StoreError::Closed)?),
                First::Of(Reader::Golden(mut golden)) => {
                    golden.begin(own);
                    Reader::Golden(golden)
                }
                First::Of(other) => other,
            });
        }
        Ok(readers)
    }

    /// The same where only bars that pass a sieve are of interest: stretches in which no source has one are not read.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn read_through(
        &self,
        subject: Subject,
        calendar: &Calendar,
        extent: Span,
        as_of: Timestamp,
        needed: Needed,
        sieve: &Sieve,
    ) -> Result<Reader, DeskError> {
        let mut spans = Spans::new();
        for row in subject.rows() {
            spans = union(&spans, &self.desk.store.may_pass(&row, &extent, sieve).await?);
        }
        let mut readers = VecDeque::new();
        for span in spans.iter() {
            readers.push_back(Stretch::of(self.read_over(subject.clone(), calendar, span.clone(), as_of, needed).await?));
        }
        Ok(Reader::Stretches(readers))
    }

    /// All bars of a stretch at once; for what looks at a series as a whole.
    ///
    /// # Errors
    /// When there is no such series, or the store cannot be read.
    pub async fn all_bars(
        &self,
        setup: &Setup,
        key: &SeriesKey,
        calendar: &Calendar,
        span: Span,
        as_of: Timestamp,
    ) -> Result<Bars, DeskError> {
        let subject = self.subject(setup, key, as_of).await?;
        let mut reader = self.read(subject, calendar, span, as_of).await?;
        let mut out = Bars::default();
        while let Some((bars, _)) = reader.next().await? {
            out.rows.extend(bars.rows);
        }
        Ok(out)
    }

    /// The series that a golden bar is taken from; `None` where there is no bar.
    ///
    /// # Errors
    /// When the instrument is not known, or the store cannot be read.
    pub async fn taken_from(&self, setup: &Setup, key: &SeriesKey, slot: Slot) -> Result<Option<SeriesRow>, DeskError> {
        let instant = self.desk.pinned("as_of", None).await?;
        let calendar = setup.calendar_of(setup.instrument(&key.symbol)?)?;
        let lineup = self.lineup(setup, key, instant).await?;
        let rows: Vec<SeriesRow> = lineup.parts.iter().map(|p| p.row.clone()).collect();
        let mut reading = self.read_golden(lineup, calendar, key.interval.span_of(slot), instant).await?;
        while let Some(made) = reading.next().await? {
            if let Some(at) = made.bars.rows.iter().position(|b| b.slot == slot) {
                let place = usize::from(made.from[at]) % rows.len();
                return Ok(rows.into_iter().nth(place));
            }
        }
        Ok(None)
    }
}
