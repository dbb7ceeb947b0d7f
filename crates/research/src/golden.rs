//! The golden series at work: which sources take part and on which basis, and its bars a piece at a time.

use crate::{
    Research,
    basis::{Basis, NOBODY_TELLS, basis_of, takes_part},
    findings::Known,
};
use mizuno_config::{GOLDEN, Ranked};
use mizuno_core::{
    Calendar, Decimal, Instrument, Interval, Overlap, SeriesKey, Side, Slot, Span, Spans, Timestamp, TradeDate,
    bar::Digits,
    basis::{self, AsTraded, TakenOut},
    golden::{self, Candidate, Golden},
    spans::{difference, only, union, within},
};
use mizuno_desk::{Desk, DeskError, Setup, sight::Sight};
use mizuno_store::{
    blocks::{self, Needed},
    reading::Reading,
    series::{SeriesRow, known_by},
};
use std::{collections::VecDeque, sync::Arc};

/// Pieces that are read in one step where there are many.
const AT_A_TIME: usize = 3;

/// One source of a golden series.
#[derive(Clone)]
pub struct Part {
    /// Its series.
    pub row: SeriesRow,
    /// How its prices come to be as traded.
    pub(crate) basis: Basis,
    /// Slots whose bars are doubted.
    pub doubted: Spans,
    /// What is known of it at the instant of the answer, where somebody looked: a source that adds no bar is not read.
    pub(crate) sight: Option<Arc<Sight>>,
}

impl Part {
    /// What its source takes out of its prices, by which they are brought back.
    #[must_use]
    pub fn taken_out(&self) -> &[TakenOut] {
        self.basis.taken_out()
    }

    /// Of adjusted prices that actions account for from a date on, and not before, that date.
    pub(crate) fn accounted_from(&self) -> Option<TradeDate> {
        self.basis.accounted().map(|accounted| accounted.from).filter(|from| *from != TradeDate(i32::MIN))
    }

    /// How its prices come to be as traded.
    #[must_use]
    pub fn basis_in_words(&self) -> String {
        self.basis.in_words()
    }
}

/// A source that has the series and no part in the golden one, and why.
#[derive(Clone)]
pub struct LeftOut {
    /// Its name.
    pub source: String,
    /// Why.
    pub why: String,
}

/// The sources of one golden series.
#[derive(Clone)]
pub struct Lineup {
    /// The golden series.
    pub key: SeriesKey,
    /// The sources that take part.
    pub parts: Vec<Part>,
    /// Those that do not.
    pub left_out: Vec<LeftOut>,
    /// How the parts rank, by their places, from a trade date on.
    pub ranks: Vec<(TradeDate, Vec<usize>)>,
    zone: jiff::tz::TimeZone,
    tick: Option<Decimal>,
}

/// The bars of a golden series, a piece at a time.
pub struct GoldenReading {
    desk: Arc<Desk>,
    lineup: Arc<Lineup>,
    pieces: VecDeque<(Span, Vec<usize>)>,
    as_of: Timestamp,
    needed: Needed,
    /// Readings of its next pieces that were begun together with others, in the order in which they are taken.
    begun: VecDeque<Reading>,
    /// Room for every price there may be in it.
    pub price: Digits,
    /// Room for every volume there may be in it.
    pub volume: Digits,
}

impl Research {
    /// Who takes part in the golden series of an instrument, interval and side, as of an instant.
    pub async fn lineup(&self, setup: &Setup, key: &SeriesKey, as_of: Timestamp) -> Result<Lineup, DeskError> {
        let known = self.known(setup, as_of).await?;
        self.lineup_of(setup, key, &known).await
    }

    async fn lineup_of(&self, setup: &Setup, key: &SeriesKey, known: &Known) -> Result<Lineup, DeskError> {
        let mut lineup = self.unexamined(setup, key, known).await?;
        self.examine_lineup(setup, &mut lineup, known).await?;
        lineup.leave_out(|part| {
            let never = part.accounted_from() == Some(TradeDate(i32::MAX));
            never.then(|| "its prices are adjusted, and the actions that are known do not account for them".to_owned())
        });
        Ok(lineup)
    }

    /// Looks for doubts in each part of a line-up, and how far the actions account for prices that are adjusted for dividends.
    pub(crate) async fn examine_lineup(&self, setup: &Setup, lineup: &mut Lineup, known: &Known) -> Result<(), DeskError> {
        for part in &mut lineup.parts {
            part.doubted = self.doubts(setup, &part.row, known).await?;
        }
        self.account(setup, lineup, known).await
    }

    /// A line-up in which no doubts have been looked for yet: no block is opened for it.
    pub(crate) async fn unexamined(&self, setup: &Setup, key: &SeriesKey, known: &Known) -> Result<Lineup, DeskError> {
        let mut lineup = self.lined_up(setup, key, known).await?;
        for part in &mut lineup.parts {
            if let Basis::Adjusted { which, state, .. } = &mut part.basis {
                *state = self.state_of_basis(setup, (&part.row.key, *which), known).await?;
            }
        }
        lineup.leave_out(|part| matches!(part.basis, Basis::Adjusted { state: None, .. }).then(|| NOBODY_TELLS.to_owned()));
        Ok(lineup)
    }

    /// The same, in which it is not said what prices that are adjusted for dividends are held against.
    pub(crate) async fn lined_up(&self, setup: &Setup, key: &SeriesKey, known: &Known) -> Result<Lineup, DeskError> {
        let instrument = setup.instrument(&key.symbol)?;
        let venue = setup.config.venues.get(&instrument.venue);
        let ranking = setup.config.ranking.of(instrument, key.interval, key.side);
        let (mut parts, mut left_out) = (vec![], vec![]);
        let rows = self.desk.store.sources_of(&instrument.symbol, key.interval, key.side).await?;
        for row in known_by(rows, known.as_of) {
            let source = row.key.source.clone();
            match takes_part(setup, known, &row.key) {
                Err(why) => left_out.push(LeftOut { source, why }),
                Ok(basis) => parts.push(Part { row, basis, doubted: Spans::new(), sight: None }),
            }
        }
        let key = SeriesKey { symbol: instrument.symbol.clone(), source: GOLDEN.to_owned(), ..key.clone() };
        let ranks = ranking.iter().map(|r| (r.from, in_order(r, &parts))).collect();
        let zone = venue.map_or(jiff::tz::TimeZone::UTC, |v| v.zone.clone());
        Ok(Lineup { key, parts, left_out, ranks, zone, tick: instrument.tick_size })
    }

    /// One source's series with its prices brought back to those that were traded.
    pub(crate) async fn alone(&self, setup: &Setup, row: SeriesRow, known: &Known) -> Result<Lineup, DeskError> {
        let instrument = setup.instrument(&row.key.symbol)?;
        let refused = |why: String| DeskError::Invalid(format!("{} cannot be adjusted: {why}; ask for adjust=none", row.key));
        let mut basis = basis_of(setup, known, &row.key).map_err(refused)?;
        let zone = setup.config.venues.get(&instrument.venue).map_or(jiff::tz::TimeZone::UTC, |v| v.zone.clone());
        if let Basis::Adjusted { which, state, .. } = &mut basis {
            let found = self.state_of_basis(setup, (&row.key, *which), known).await?;
            *state = Some(found.ok_or_else(|| refused(NOBODY_TELLS.to_owned()))?);
        }
        let (key, tick) = (row.key.clone(), instrument.tick_size);
        let parts = vec![Part { row, basis, doubted: Spans::new(), sight: None }];
        Ok(Lineup { key, parts, left_out: vec![], ranks: vec![(TradeDate(i32::MIN), vec![0])], zone, tick })
    }

    /// Begins to read a golden series.
    pub async fn read_golden(&self, lineup: Lineup, calendar: &Calendar, span: Span, as_of: Timestamp) -> Result<GoldenReading, DeskError> {
        let (mut price, mut volume) = (Digits::default(), Digits::default());
        let mut extent: Option<Span> = None;
        for part in &lineup.parts {
            let reading = self.desk.store.read(&part.row, span.clone(), as_of).await?;
            // What is brought back may be as much larger as there are new shares for old ones.
            let more = u8::from(part.basis.brings_back()) * 4;
            price = price.and(Digits { whole: (reading.price.whole + more).min(18), ..reading.price });
            volume = volume.and(Digits { whole: (reading.volume.whole + more).min(18), ..reading.volume });
            if let Some(own) = reading.extent() {
                extent = Some(extent.map_or(own.clone(), |e| e.hull(&own)));
            }
        }
        let extent = extent.map_or(span.start..span.start, |e| e.clip(&span));
        Ok(GoldenReading { price, volume, ..self.golden_over(lineup, calendar, extent, as_of, Needed::ALL) })
    }

    /// Begins to read a golden series of which it is known where its bars are; how much room they take is not asked.
    pub(crate) fn golden_over(&self, lineup: Lineup, calendar: &Calendar, extent: Span, as_of: Timestamp, needed: Needed) -> GoldenReading {
        let mut pieces = pieces(&lineup, calendar, extent);
        pieces.iter_mut().for_each(|(span, places)| lineup.drop_idle(span, places));
        let (desk, lineup, begun) = (self.desk.clone(), Arc::new(lineup), VecDeque::new());
        let (price, volume) = (Digits::default(), Digits::default());
        GoldenReading { desk, lineup, pieces, as_of, needed, begun, price, volume }
    }
}

/// The golden daily series of an instrument.
pub(crate) fn golden_days(instrument: &Instrument) -> SeriesKey {
    SeriesKey { symbol: instrument.symbol.clone(), interval: Interval::Daily, side: Side::Trade, source: GOLDEN.to_owned() }
}

/// The slots in which a series has a part in the golden one: those of the dates for which it is ranked.
pub fn ranked_span(setup: &Setup, calendar: &Calendar, key: &SeriesKey) -> Spans {
    let Some(instrument) = setup.known(&key.symbol) else { return Spans::new() };
    let ranking = setup.config.ranking.of(instrument, key.interval, key.side);
    let mut out = vec![];
    for (at, ranked) in ranking.iter().enumerate() {
        if ranked.sources.as_ref().is_none_or(|all| all.contains(&key.source)) {
            let start = start_of(calendar, key.interval, ranked.from);
            out.push(start..ranking.get(at + 1).map_or(Slot(i64::MAX), |next| start_of(calendar, key.interval, next.from)));
        }
    }
    out.into_iter().filter(|s| s.start < s.end).collect()
}

/// The first slot of a trade date, or of all time.
fn start_of(calendar: &Calendar, interval: Interval, from: TradeDate) -> Slot {
    match interval {
        _ if from == TradeDate(i32::MIN) => Slot(i64::MIN),
        _ => calendar.span_of_dates(interval, from..TradeDate(i32::MAX)).start,
    }
}

/// The places of the parts in the order of their rank; where nothing is said, in that of their names.
fn in_order(ranked: &Ranked, parts: &[Part]) -> Vec<usize> {
    match &ranked.sources {
        None => (0..parts.len()).collect(),
        Some(sources) => sources.iter().filter_map(|s| parts.iter().position(|p| p.row.key.source == *s)).collect(),
    }
}

/// The span cut where blocks end and where ranks change, each piece with its ranks.
fn pieces(lineup: &Lineup, calendar: &Calendar, span: Span) -> VecDeque<(Span, Vec<usize>)> {
    let interval = lineup.key.interval;
    let starts: Vec<Slot> = lineup.ranks.iter().map(|(from, _)| start_of(calendar, interval, *from)).collect();
    let mut out = VecDeque::new();
    let mut at = span.start;
    while at < span.end {
        let current = starts.iter().rposition(|s| *s <= at).unwrap_or(0);
        let next_rank = starts.get(current + 1).copied().unwrap_or(span.end);
        let end = blocks::span_of(interval, at).end.min(next_rank).min(span.end);
        out.push_back((at..end, lineup.ranks[current].1.clone()));
        at = end;
    }
    out
}

impl Lineup {
    /// What changes when a bar of it may, as bytes: the ranks, and of each part its revision, or the instant that was named, its
    /// splits, and what its doubts follow from.
    pub(crate) fn state(&self, setup: &Setup, known: &Known, named: Option<Timestamp>) -> Result<Vec<u8>, DeskError> {
        let mut out = vec![];
        let mut put = |numbers: &[i64]| numbers.iter().for_each(|n| out.extend(n.to_be_bytes()));
        for (from, places) in &self.ranks {
            put(&[i64::from(from.0), places.len() as i64]);
            places.iter().for_each(|place| put(&[*place as i64]));
        }
        for part in &self.parts {
            put(&[part.row.id, named.map_or(part.row.revision, |at| at.0)]);
            known.standard_in_numbers(setup, &part.row, named, &mut put)?;
        }
        // As of one instant it is the same for ever.
        for part in self.parts.iter().filter(|_| named.is_none()) {
            if let Basis::Adjusted { state: Some(state), .. } = &part.basis {
                out.extend(state);
            }
        }
        Ok(out)
    }

    /// Takes out the places of parts that cannot give a bar in `span`: those whose slots are all held, without a doubt, by better
    /// ones. Where a bar has to be brought back it may turn out to be none, so that such a part makes no other idle.
    fn drop_idle(&self, span: &Span, places: &mut Vec<usize>) {
        let mut sound = Spans::new();
        places.retain(|place| {
            let part = &self.parts[*place];
            let Some(sight) = &part.sight else { return true };
            let held = within(&sight.standing.held, span);
            let adds = only(held.iter().cloned(), sound.iter().cloned()).next().is_some();
            if adds && !part.basis.brings_back() {
                sound = union(&sound, &difference(&held, &part.doubted));
            }
            adds
        });
    }

    /// Leaves out the parts of which there is a reason to.
    pub(crate) fn leave_out(&mut self, why: impl Fn(&Part) -> Option<String>) {
        let reasons: Vec<Option<String>> = self.parts.iter().map(why).collect();
        for (_, places) in &mut self.ranks {
            places.retain(|place| reasons[*place].is_none());
            places.iter_mut().for_each(|place| *place = reasons[..*place].iter().filter(|why| why.is_none()).count());
        }
        let parts = std::mem::take(&mut self.parts);
        for (part, why) in parts.into_iter().zip(reasons) {
            match why {
                None => self.parts.push(part),
                Some(why) => self.left_out.push(LeftOut { source: part.row.key.source, why }),
            }
        }
    }

    /// The places of the parts that are ranked in a slot, best first.
    #[must_use]
    pub fn order_at(&self, calendar: &Calendar, slot: Slot) -> &[usize] {
        let starts = |(from, _): &&(TradeDate, Vec<usize>)| start_of(calendar, self.key.interval, *from) <= slot;
        self.ranks.iter().rfind(starts).or(self.ranks.first()).map_or(&[], |(_, places)| places)
    }

    /// The names of the parts' sources, by their places.
    pub fn sources(&self) -> Vec<String> {
        self.parts.iter().map(|p| p.row.key.source.clone()).collect()
    }

    /// Whether some prices have to be brought back.
    #[must_use]
    pub fn brings_back(&self) -> bool {
        self.parts.iter().any(|p| p.basis.brings_back())
    }

    /// What the source of a bar is called, by the places that a reading gives: behind those of the parts stand those of bars that were
    /// brought back, where there may be some.
    pub(crate) fn marked_sources(&self) -> Vec<String> {
        let names = self.sources();
        let is_adjusted = self.parts.iter().any(|part| part.basis.which().is_some());
        let marked: Vec<String> = names.iter().filter(|_| is_adjusted).map(|name| format!("{name} (brought back)")).collect();
        names.into_iter().chain(marked).collect()
    }

    /// The part that a reading means by a place.
    pub(crate) fn part_at(&self, place: usize) -> Option<&Part> {
        self.parts.get(place.checked_rem(self.parts.len())?)
    }
}

impl GoldenReading {
    /// How many pieces are to come.
    pub(crate) fn pieces(&self) -> usize {
        self.pieces.len()
    }

    /// A reading of its first piece, of the next, and of some each behind these, in order: whoever waits has the first soon.
    pub(crate) fn apart(self) -> impl Iterator<Item = GoldenReading> {
        let GoldenReading { desk, lineup, mut pieces, as_of, needed, mut begun, price, volume } = self;
        let mut sizes = [1, 1].into_iter().chain(std::iter::repeat(AT_A_TIME));
        std::iter::from_fn(move || {
            let few: VecDeque<_> = pieces.drain(..sizes.next()?.min(pieces.len())).collect();
            // What was begun is of the first.
            let (desk, lineup, begun) = (desk.clone(), lineup.clone(), std::mem::take(&mut begun));
            (!few.is_empty()).then_some(GoldenReading { desk, lineup, pieces: few, as_of, needed, begun, price, volume })
        })
    }

    /// All its pieces, which come from the store in one step.
    pub(crate) async fn all(mut self) -> Result<Vec<Golden>, DeskError> {
        if self.begun.is_empty() {
            let wanted = self.to_begin(self.pieces.len()).collect();
            let begun = self.desk.store.read_each(wanted, self.as_of, self.needed).await?;
            self.begin(begun.into_iter());
        }
        let mut out = Vec::with_capacity(self.pieces.len());
        while let Some(made) = self.next().await? {
            out.push(made);
        }
        Ok(out)
    }

    /// What its next pieces are read from, in the order of the ranks; what is brought back is read otherwise.
    pub(crate) fn to_begin(&self, pieces: usize) -> impl Iterator<Item = (&SeriesRow, Span)> {
        let next = self.pieces.iter().take(pieces).flat_map(|(span, places)| places.iter().map(move |place| (*place, span)));
        next.map(|(place, span)| (&self.lineup.parts[place], span))
            .filter(|(part, _)| !part.basis.brings_back())
            .map(|(part, span)| (&part.row, span.clone()))
    }

    /// Takes the readings that were begun of those.
    pub(crate) fn begin(&mut self, readings: impl Iterator<Item = Reading>) {
        self.begun = readings.collect();
    }

    /// The next piece: bars, and the place of each one's source.
    pub async fn next(&mut self) -> Result<Option<Golden>, DeskError> {
        let Some((span, ranks)) = self.pieces.pop_front() else { return Ok(None) };
        let (mut candidates, mut brought_back) = (vec![], vec![]);
        for &place in &ranks {
            let AsTraded { bars, brought_back: slots, .. } = self.bars_as_traded(place, span.clone()).await?;
            candidates.push(Candidate { bars, doubted: self.lineup.parts[place].doubted.clone() });
            brought_back.push(slots);
        }
        let mut made = golden::golden(candidates);
        for (bar, from) in made.bars.rows.iter().zip(&mut made.from) {
            let candidate = usize::from(*from);
            let is_brought_back = brought_back[candidate].binary_search(&bar.slot).is_ok();
            *from = (ranks[candidate] + if is_brought_back { self.lineup.parts.len() } else { 0 }) as u16;
        }
        Ok(Some(made))
    }

    async fn bars_as_traded(&mut self, place: usize, span: Span) -> Result<AsTraded, DeskError> {
        let (part, store) = (&self.lineup.parts[place], &self.desk.store);
        if let Some(reading) = self.begun.pop_front_if(|_| !part.basis.brings_back()) {
            return Ok(AsTraded { bars: reading.all().await?, ..AsTraded::default() });
        }
        let span = match (&part.basis, part.accounted_from()) {
            // Nobody looked, so that nothing is certain.
            (Basis::Adjusted { .. }, None) if part.basis.accounted().is_none() => span.end..span.end,
            (_, Some(from)) => Slot::on(from).max(span.start).min(span.end)..span.end,
            (_, None) => span,
        };
        match (part.taken_out(), self.lineup.tick) {
            ([], _) | (_, None) => {
                let bars = store.bars_only(&part.row, span, self.as_of, self.needed).await?;
                Ok(AsTraded { bars, ..AsTraded::default() })
            }
            (taken_out, Some(tick)) => {
                let versions = store.versions(&part.row, span, self.as_of).await?;
                let mut made = basis::as_traded(&versions, self.as_of, taken_out, &self.lineup.zone, tick);
                if let Some(accounted) = part.basis.accounted().filter(|accounted| !accounted.unclear.is_empty()) {
                    made.bars.rows.retain(|bar| !accounted.unclear.contains(&bar.slot));
                }
                Ok(made)
            }
        }
    }
}
