//! The golden series at work: which sources take part and on which basis, and its bars a piece at a time.

use crate::{
    Research,
    actions::Splits,
    findings::{Known, doubted, offer_of},
};
use mizuno_config::{GOLDEN, Ranked, profile::Adjusted};
use mizuno_core::{
    Calendar, Decimal, Interval, Overlap, SeriesKey, Slot, Span, Spans, Timestamp, TradeDate,
    bar::Digits,
    basis::{self, AsTraded},
    finding::Split,
    golden::{self, Candidate, Golden},
    spans::{difference, only, union, within},
};
use mizuno_desk::{Desk, DeskError, Setup, sight::Sight};
use mizuno_store::{
    blocks::{self, Needed},
    series::{SeriesRow, known_by},
};
use std::{collections::VecDeque, sync::Arc};

/// One source of a golden series.
#[derive(Clone)]
pub struct Part {
    /// Its series.
    pub row: SeriesRow,
    /// Splits to bring its prices back by; `None` where they are as traded.
    splits: Option<Vec<Split>>,
    /// Slots whose bars are doubted.
    pub doubted: Spans,
    /// What is known of it at the instant of the answer, where somebody looked: a source that adds no bar is not read.
    pub(crate) sight: Option<Arc<Sight>>,
}

impl Part {
    /// The splits its prices are brought back by.
    #[must_use]
    pub fn splits(&self) -> &[Split] {
        self.splits.as_deref().unwrap_or_default()
    }

    /// How its prices come to be as traded.
    pub fn basis_in_words(&self) -> &'static str {
        match &self.splits {
            None => "as traded",
            Some(splits) if splits.is_empty() => "adjusted for splits, of which there are none",
            Some(_) => "adjusted for splits, brought back by the list of splits",
        }
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
    lineup: Lineup,
    pieces: VecDeque<(Span, Vec<usize>)>,
    as_of: Timestamp,
    needed: Needed,
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
        Ok(lineup)
    }

    /// Looks for doubts in each part of a line-up.
    pub(crate) async fn examine_lineup(&self, setup: &Setup, lineup: &mut Lineup, known: &Known) -> Result<(), DeskError> {
        for part in &mut lineup.parts {
            part.doubted = doubted(&self.findings(setup, &part.row, known).await?);
        }
        Ok(())
    }

    /// A line-up in which no doubts have been looked for yet: no block is opened for it.
    pub(crate) async fn unexamined(&self, setup: &Setup, key: &SeriesKey, known: &Known) -> Result<Lineup, DeskError> {
        let instrument = setup.instrument(&key.symbol)?;
        let venue = setup.config.venues.get(&instrument.venue);
        let ranking = setup.config.ranking.of(instrument, key.interval, key.side);
        let (mut parts, mut left_out) = (vec![], vec![]);
        let rows = self.desk.store.sources_of(&instrument.symbol, key.interval, key.side).await?;
        for row in known_by(rows, known.as_of) {
            let source = row.key.source.clone();
            match takes_part(setup, &known.splits, &row.key) {
                Err(why) => left_out.push(LeftOut { source, why }),
                Ok(splits) => parts.push(Part { row, splits, doubted: Spans::new(), sight: None }),
            }
        }
        let key = SeriesKey { symbol: instrument.symbol.clone(), source: GOLDEN.to_owned(), ..key.clone() };
        let ranks = ranking.iter().map(|r| (r.from, in_order(r, &parts))).collect();
        let zone = venue.map_or(jiff::tz::TimeZone::UTC, |v| v.zone.clone());
        Ok(Lineup { key, parts, left_out, ranks, zone, tick: instrument.tick_size })
    }

    /// One source's series with its prices brought back to those that were traded.
    pub(crate) fn alone(&self, setup: &Setup, row: SeriesRow, known: &Known) -> Result<Lineup, DeskError> {
        let instrument = setup.instrument(&row.key.symbol)?;
        let splits = basis_of(setup, &known.splits, &row.key)
            .map_err(|why| DeskError::Invalid(format!("{} cannot be adjusted: {why}; ask for adjust=none", row.key)))?;
        let zone = setup.config.venues.get(&instrument.venue).map_or(jiff::tz::TimeZone::UTC, |v| v.zone.clone());
        let (key, tick) = (row.key.clone(), instrument.tick_size);
        let parts = vec![Part { row, splits, doubted: Spans::new(), sight: None }];
        Ok(Lineup { key, parts, left_out: vec![], ranks: vec![(TradeDate(i32::MIN), vec![0])], zone, tick })
    }

    /// Begins to read a golden series.
    pub async fn read_golden(&self, lineup: Lineup, calendar: &Calendar, span: Span, as_of: Timestamp) -> Result<GoldenReading, DeskError> {
        let (mut price, mut volume) = (Digits::default(), Digits::default());
        let mut extent: Option<Span> = None;
        for part in &lineup.parts {
            let reading = self.desk.store.read(&part.row, span.clone(), as_of).await?;
            // What is brought back may be as much larger as there are new shares for old ones.
            let more = u8::from(part.splits.as_ref().is_some_and(|s| !s.is_empty())) * 4;
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
        GoldenReading { desk: self.desk.clone(), lineup, pieces, as_of, needed, price: Digits::default(), volume: Digits::default() }
    }
}

/// Whether a series has a part in the golden one of its instrument, and the splits its prices are brought back by, if it is adjusted;
/// or why it has none. There is no other answer to this: files, line-ups and gaps all ask here.
pub fn takes_part(setup: &Setup, splits: &Splits, key: &SeriesKey) -> Result<Option<Vec<Split>>, String> {
    let instrument = setup.known(&key.symbol).ok_or("its instrument is not known any more")?;
    let ranking = setup.config.ranking.of(instrument, key.interval, key.side);
    let never = ranking.iter().all(|r| r.sources.as_ref().is_some_and(|all| !all.contains(&key.source)));
    match basis_of(setup, splits, key) {
        _ if never && offer_of(setup, key).is_some() => Err("ranking.toml does not rank it".to_owned()),
        basis => basis,
    }
}

/// The splits by which the prices of a series are brought back to those that were traded, if it is adjusted; or why they cannot be.
pub(crate) fn basis_of(setup: &Setup, splits: &Splits, key: &SeriesKey) -> Result<Option<Vec<Split>>, String> {
    let instrument = setup.known(&key.symbol).ok_or("its instrument is not known any more")?;
    match (offer_of(setup, key).map(|o| o.adjusted), splits.of(setup, &key.symbol)) {
        (None, _) => Err("its profile no longer has this series".to_owned()),
        (Some(Adjusted::No), _) => Ok(None),
        (Some(Adjusted::SplitsAndDividends), _) => {
            Err("its prices are adjusted for dividends, and cannot be brought back to what was paid".to_owned())
        }
        (Some(Adjusted::Splits), Some(splits))
            if key.interval == Interval::Daily && !splits.is_empty() && instrument.tick_size.is_none() =>
        {
            Err("its prices are adjusted for splits, and without a tick_size of the instrument it is not clear what was paid".to_owned())
        }
        (Some(Adjusted::Splits), Some(splits)) if key.interval == Interval::Daily => Ok(Some(splits.to_vec())),
        (Some(Adjusted::Splits), _) => {
            Err(format!("its prices are adjusted for splits, and no list of splits of {} is collected", instrument.venue))
        }
    }
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
            let splits = part.splits.as_deref();
            put(&[part.row.id, named.map_or(part.row.revision, |at| at.0), splits.map_or(-1, |s| s.len() as i64)]);
            splits.unwrap_or_default().iter().for_each(|s| put(&[i64::from(s.ex_date.0), s.new, s.old]));
            known.standard_in_numbers(setup, &part.row, named, &mut put)?;
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
            if adds && part.splits().is_empty() {
                sound = union(&sound, &difference(&held, &part.doubted));
            }
            adds
        });
    }

    /// Leaves only the parts whose prices are told as traded.
    pub(crate) fn only_as_traded(&mut self) {
        let is_told: Vec<bool> = self.parts.iter().map(|part| part.splits.is_none()).collect();
        for (_, places) in &mut self.ranks {
            places.retain(|place| is_told[*place]);
            places.iter_mut().for_each(|place| *place = is_told[..*place].iter().filter(|told| **told).count());
        }
        self.parts.retain(|part| part.splits.is_none());
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
        self.parts.iter().any(|p| !p.splits().is_empty())
    }

    /// What the source of a bar is called, by the places that a reading gives: behind those of the parts stand those of bars that were
    /// brought back, where there may be some.
    pub(crate) fn marked_sources(&self) -> Vec<String> {
        let names = self.sources();
        let marked: Vec<String> = names.iter().filter(|_| self.brings_back()).map(|name| format!("{name} (brought back)")).collect();
        names.into_iter().chain(marked).collect()
    }

    /// The part that a reading means by a place.
    pub(crate) fn part_at(&self, place: usize) -> Option<&Part> {
        self.parts.get(place.checked_rem(self.parts.len())?)
    }
}

impl GoldenReading {
    /// The next piece: bars, and the place of each one's source.
    pub async fn next(&mut self) -> Result<Option<Golden>, DeskError> {
        let Some((span, ranks)) = self.pieces.pop_front() else { return Ok(None) };
        let (mut candidates, mut brought_back) = (vec![], vec![]);
        for &place in &ranks {
            let part = &self.lineup.parts[place];
            let AsTraded { bars, brought_back: slots, .. } = self.bars_as_traded(part, span.clone()).await?;
            candidates.push(Candidate { bars, doubted: part.doubted.clone() });
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

    async fn bars_as_traded(&self, part: &Part, span: Span) -> Result<AsTraded, DeskError> {
        let store = &self.desk.store;
        match (part.splits(), self.lineup.tick) {
            ([], _) | (_, None) => {
                let bars = store.bars_only(&part.row, span, self.as_of, self.needed).await?;
                Ok(AsTraded { bars, ..AsTraded::default() })
            }
            (splits, Some(tick)) => {
                let versions = store.versions(&part.row, span, self.as_of).await?;
                Ok(basis::as_traded(&versions, self.as_of, splits, &self.lineup.zone, tick))
            }
        }
    }
}
