//! A question resolved: which series answer it, over which spans, and the instant it stands for.

use super::{Column, Period, Question, Range};
use crate::{Research, rolled::Chain, universes::why_without};
use futures_util::StreamExt;
use mizuno_config::GOLDEN;
use mizuno_core::{
    Calendar, Instrument, Interval, Overlap, SeriesKey, Side, Slot, Span, Spans, Timestamp, TradeDate, derived::Quantity, resample::Length,
    spans,
};
use mizuno_desk::{DeskError, Setup, moments, universes::Universe};
use mizuno_store::{payloads, series::known_by};
use std::sync::Arc;

/// A question with nothing relative in it.
#[derive(Clone)]
pub struct Resolved {
    /// As it was asked.
    pub asked: Question,
    /// As it is answered: where bars are to fit, with the interval at which they do.
    pub question: Question,
    /// The configuration that counted at the instant.
    pub setup: Arc<Setup>,
    /// The instant the answer stands for.
    pub instant: Timestamp,
    /// The series asked for, one an instrument, in the order of the answer.
    pub series: Vec<Wanted>,
    /// Instruments that a pattern, a search or a universe found and that have no such series, each with the reason.
    pub without: Vec<(String, String)>,
    /// The universe that was asked for, as it was known at the instant.
    pub universe: Option<Arc<Universe>>,
}

/// A series that is asked for, golden or of one source, and the stretch of it.
#[derive(Clone, Debug)]
pub struct Wanted {
    /// Its name.
    pub key: SeriesKey,
    /// Its instrument.
    pub instrument: Arc<Instrument>,
    /// The slots of the range.
    pub range: Span,
    /// The slots asked for: those of the range, or from its first day as a member in it to its last.
    pub span: Span,
    /// Those of them on its days as a member, where it was asked for as one.
    pub days: Option<Arc<Spans>>,
    /// The chain whose contracts it is made of, where it is a continuous series.
    pub chain: Option<Arc<Chain>>,
    /// The asks to these bids, where the question needs both.
    pub other: Option<SeriesKey>,
}

impl Wanted {
    /// The parts of a stretch that are asked for: all of it, or the days as a member.
    #[must_use]
    pub fn within(&self, span: &Span) -> Spans {
        self.days.as_ref().map_or_else(|| [span.clone()].into_iter().collect(), |days| days.within(span).collect())
    }

    /// Whether some of a stretch is.
    #[must_use]
    pub fn takes(&self, span: &Span) -> bool {
        self.days.as_ref().is_none_or(|days| days.overlaps(span))
    }
}

impl Resolved {
    /// The digest of the resolved question: of its shape and file, its series with their spans, and its instant.
    #[must_use]
    pub fn digest(&self) -> String {
        let shape =
            Question { instruments: vec![], search: None, universe: None, range: Range::default(), as_of: None, ..self.question.clone() };
        let mut text = shape.to_json();
        for wanted in &self.series {
            text.push_str(&format!("\n{} {} {}", wanted.key, wanted.span.start.0, wanted.span.end.0));
            for days in wanted.days.iter().flat_map(|d| d.iter()) {
                text.push_str(&format!(" {}-{}", days.start.0, days.end.0));
            }
        }
        payloads::digest(format!("{text}\n{}", self.instant.0).as_bytes())
    }

    /// Whether it is of several instruments, or might be: they are then named in each row.
    #[must_use]
    pub fn is_of_several(&self) -> bool {
        let question = &self.question;
        self.series.len() > 1
            || question.instruments.iter().any(|i| i.contains('*'))
            || question.search.is_some()
            || question.universe.is_some()
    }

    /// Whether the answer is of an instant before the oldest configuration that is kept; that one then stands for it.
    #[must_use]
    pub fn is_before_configuration(&self) -> bool {
        self.instant < self.setup.kept.accepted_at
    }

    /// The configuration that counted, in words.
    #[must_use]
    pub fn configuration(&self) -> String {
        let kept = &self.setup.kept;
        let earlier = if self.is_before_configuration() { "; no older one is kept" } else { "" };
        format!("{}, accepted {}{earlier}", kept.id, kept.accepted_at)
    }

    /// The calendar of a series' venue.
    ///
    /// # Errors
    /// When the venue is no longer configured.
    pub fn calendar(&self, wanted: &Wanted) -> Result<&Calendar, DeskError> {
        self.setup.calendar_of(&wanted.instrument)
    }
}

/// Columns that a wide file may have.
const MOST_COLUMNS: usize = 10_000;

impl Research {
    /// Resolves a question: patterns and searches to instruments, relative words to trade dates, the instant to that of a commit.
    ///
    /// # Errors
    /// Everything that is not known or empty, at once.
    pub async fn resolve(self: &Arc<Self>, question: Question) -> Result<Resolved, DeskError> {
        let instant = self.desk.pinned("as_of", question.as_of.map(|at| at.to_string()).as_deref()).await?;
        if let Some(since) = question.since.filter(|since| *since > instant) {
            return Err(DeskError::Invalid(format!("since: {since} is still to come; the newest there is to know is of {instant}")));
        }
        let (resolved, mut problems) = self.resolved_at(question, instant).await?;
        if problems.len() > 1 {
            let all: Vec<String> = problems.iter().map(ToString::to_string).collect();
            return Err(DeskError::Invalid(all.join("; ")));
        }
        problems.pop().map_or(Ok(resolved), Err)
    }

    /// The same question as it was resolved at an earlier instant. What nobody knew then is left out.
    pub(crate) async fn resolve_then(self: &Arc<Self>, question: &Question, instant: Timestamp) -> Result<Resolved, DeskError> {
        Ok(self.resolved_at(question.clone(), instant).await?.0)
    }

    async fn resolved_at(self: &Arc<Self>, question: Question, instant: Timestamp) -> Result<(Resolved, Vec<DeskError>), DeskError> {
        let setup = self.desk.setup_at(instant).await?;
        let asked = question.clone();
        let universe = match &question.universe {
            Some(name) => self.universe(&setup, name, instant).await.map(Some),
            None => Ok(None),
        };
        let (universe, unknown) = universe.map_or_else(|error| (None, Some(error)), |universe| (universe, None));
        let (mut series, without, mut problems) = self.series_of(&setup, &question, universe.as_deref(), instant).await;
        problems.extend(unknown);
        let question = match question.fit {
            Some(most) if problems.is_empty() => {
                let question = self.fitted(&setup, question, most, &series, instant).await?;
                if question.interval_word() != asked.interval_word() {
                    series = self.series_of(&setup, &question, universe.as_deref(), instant).await.0;
                }
                question
            }
            _ => question,
        };
        let wide = matches!(question.shape.layout, super::Layout::Wide { .. });
        if let (Some(against), [one]) = (question.shape.against, &series[..]) {
            let word = against.word();
            let why = format!("against: {} stands alone, and there is no {word}; ask for several instruments, sources or sides", one.key);
            problems.push(DeskError::Invalid(why));
        }
        if let Some(made) = series.iter().find(|s| question.length() != Length::Interval(s.key.interval)) {
            let of_one =
                [Column::RawClose, Column::PriceFactor, Column::VolumeFactor].into_iter().find(|c| question.shape.columns.contains(c));
            if let Some(column) = of_one {
                problems.push(DeskError::Invalid(format!(
                    "columns: {} is of one bar, and bars of {} are made of several of {}; leave it out",
                    column.word(),
                    question.interval_word(),
                    made.key.interval
                )));
            }
            if question.shape.at_end && question.pieces.align.is_some() {
                problems.push(DeskError::Invalid("stamp_at: on a clock, bars end with the next one; leave it out".to_owned()));
            }
        } else if let Some(column) = [Column::AveragePrice, Column::Held, Column::Expected]
            .into_iter()
            .find(|c| question.shape.columns.contains(c) && !series.is_empty())
        {
            problems.push(DeskError::Invalid(format!(
                "columns: {} is of bars that are made of finer ones, and {} is collected; leave it out, or say made_from",
                column.word(),
                question.interval
            )));
        }
        let columns = series.len() * question.columns(true).iter().filter(|c| !c.is_of_the_moment()).count();
        if wide && columns > MOST_COLUMNS {
            problems.push(DeskError::Invalid(format!(
                "a wide file of {} instruments would have {columns} columns, and at most {MOST_COLUMNS} are written; ask for fewer \
                 instruments or columns, or for layout=long",
                series.len()
            )));
        }
        let of_a_session = question.shape.at_end || question.shape.columns.contains(&Column::TradeDate);
        let venues = series.windows(2).any(|w| w[0].instrument.venue != w[1].instrument.venue);
        if wide && question.interval.is_intraday() && of_a_session && venues {
            problems.push(DeskError::Invalid(
                "a moment of several venues has no one trade date, and bars that open together may end apart; leave out trade_date and \
                 stamp_at, ask for each venue alone, or for layout=long"
                    .to_owned(),
            ));
        }
        if series.is_empty() && problems.is_empty() {
            let what = question.search.as_deref().map_or_else(|| question.instruments.join(", "), str::to_owned);
            let why = without.first().map_or_else(String::new, |(symbol, why)| format!("; {symbol}: {why}"));
            problems.push(DeskError::Invalid(match &question.universe {
                Some(name) if without.is_empty() => {
                    format!("universe: {name} has no members in the range; mizuno universe {name} shows when it has")
                }
                Some(name) => format!("no member of {name} has bars of {}{why}", question.interval),
                None => format!("no instrument found by `{what}` has bars of {}{why}", question.interval),
            }));
        }
        Ok((Resolved { asked, question, setup, instant, series, without, universe }, problems))
    }

    /// The series that a question is about; what only a pattern, a search or a universe finds and that has none; and what is wrong.
    async fn series_of(
        self: &Arc<Self>,
        setup: &Arc<Setup>,
        question: &Question,
        universe: Option<&Universe>,
        instant: Timestamp,
    ) -> (Vec<Wanted>, Vec<(String, String)>, Vec<DeskError>) {
        let (named, mut problems) = named(setup, question);
        let (mut series, mut without) = (vec![], vec![]);
        let sources: Vec<&str> = match &question.sources[..] {
            [] => vec![GOLDEN],
            all => all.iter().map(String::as_str).collect(),
        };
        let sides: Vec<Option<Side>> =
            if question.sides.is_empty() { vec![None] } else { question.sides.iter().copied().map(Some).collect() };
        let of_universe = match universe.map(|universe| members(setup, question, universe, &named, instant)) {
            Some(Ok(members)) => members,
            Some(Err(error)) => {
                problems.push(error);
                vec![]
            }
            None => vec![],
        };
        self.roll_side_by_side(setup, question, &named, instant).await;
        let all = named.into_iter().map(|(symbol, by_name)| (symbol, by_name, None));
        for (symbol, by_name, days) in all.chain(of_universe.into_iter().map(|(symbol, days)| (symbol, false, Some(days)))) {
            for (source, side) in sources.iter().flat_map(|source| sides.iter().map(move |side| (*source, *side))) {
                match self.one(setup, question, (&symbol, source, side), instant).await {
                    Ok(wanted) => match days.as_ref().filter(|_| !question.whole) {
                        None => series.push(wanted),
                        Some(days) => match as_member(setup, wanted, days) {
                            Ok(wanted) => series.extend(wanted),
                            Err(error) => problems.push(error),
                        },
                    },
                    Err(DeskError::Unknown { .. }) if !by_name && without.last().is_some_and(|(last, _)| *last == symbol) => {}
                    Err(DeskError::Unknown { .. }) if !by_name => {
                        let of = days.as_ref().and(question.universe.as_deref());
                        let why = setup.instrument(&symbol).map(|i| why_without(setup, i, question.interval, source, of));
                        without.push((symbol.clone(), why.unwrap_or_default()));
                    }
                    Err(error) => problems.push(error),
                }
            }
        }
        (series, without, problems)
    }

    /// Rolls the chains among what is named, several side by side: they are remembered, and found so one after another.
    async fn roll_side_by_side(self: &Arc<Self>, setup: &Arc<Setup>, question: &Question, named: &[(String, bool)], instant: Timestamp) {
        let chains: Vec<String> = named.iter().map(|(name, _)| name).filter(|name| is_chain(setup, name)).cloned().collect();
        if chains.len() < 2 {
            return;
        }
        let (research, setup, named) = (self.clone(), setup.clone(), question.as_of);
        let roll = move |name: String| {
            let (research, setup) = (research.clone(), setup.clone());
            async move { research.chain(&setup, &name, instant, named).await.map(drop) }
        };
        // What goes wrong with one is told when it is asked for.
        self.desk.hands.side_by_side("rolling a chain", chains, roll).for_each(|_| async {}).await;
    }

    async fn one(
        self: &Arc<Self>,
        setup: &Arc<Setup>,
        question: &Question,
        (symbol, source, side): (&str, &str, Option<Side>),
        instant: Timestamp,
    ) -> Result<Wanted, DeskError> {
        if is_chain(setup, symbol) {
            return self.continuous(setup, question, (symbol, source, side), instant).await;
        }
        let finer = self.finer_for(setup, symbol, question, (source, side), instant).await?;
        let both = question.works_out(Quantity::Mid) || question.works_out(Quantity::Spread);
        let side = match side {
            Some(side) if both && side != Side::Bid => {
                let why =
                    format!("side: mid and spread are worked out of bids and asks, and {side} is asked for; leave it out, or say bid");
                return Err(DeskError::Invalid(why));
            }
            _ if both => Some(Side::Bid),
            side => side,
        };
        let key = self.series_for(setup, (symbol, finer, side, source), instant).await?;
        let other = if both { Some(self.series_for(setup, (symbol, finer, Some(Side::Ask), source), instant).await?) } else { None };
        let instrument = setup.instrument(&key.symbol)?;
        let calendar = setup.calendar_of(instrument)?;
        let span = self.span_in_pieces(question, key.interval, calendar, instant)?;
        // Names in an answer are those known at its instant.
        let symbol = setup.symbol_then(instrument).to_owned();
        let instrument = Arc::new(Instrument { symbol: symbol.clone(), ..instrument.clone() });
        Ok(Wanted { key: SeriesKey { symbol, ..key }, instrument, range: span.clone(), span, days: None, chain: None, other })
    }

    /// The slots of a question's range: where pieces are made, whole ones, so that what the range cuts is widened.
    fn span_in_pieces(&self, question: &Question, finer: Interval, calendar: &Calendar, instant: Timestamp) -> Result<Span, DeskError> {
        let span = span_of(&question.range, finer, calendar, instant)?;
        let Some(grid) = question.grid(finer, calendar)? else { return Ok(span) };
        let touched = |at: i64| grid.pieces(&(Slot(at)..Slot(at + 1))).into_iter().next();
        let first = if span.start.0 > i64::MIN { touched(span.start.0) } else { None };
        let last = if span.end.0 < i64::MAX && span.start < span.end { touched(span.end.0 - 1) } else { None };
        Ok(first.map_or(span.start, |p| span.start.min(p.span.start))..last.map_or(span.end, |p| span.end.max(p.span.end)))
    }

    /// A continuous series: the contracts of a chain, one after another.
    async fn continuous(
        self: &Arc<Self>,
        setup: &Arc<Setup>,
        question: &Question,
        (name, source, side): (&str, &str, Option<Side>),
        instant: Timestamp,
    ) -> Result<Wanted, DeskError> {
        let chain = self.chain(setup, name, instant, question.as_of).await?;
        let made_of = setup.config.chains[name].made_of();
        let Some(contract) = chain.rolled.legs.last().map(|leg| &chain.instruments[leg.contract]) else {
            return Err(DeskError::Invalid(match chain.instruments.is_empty() {
                true => format!("{name} has no contracts: it is {made_of}, and no instrument that has an expiry is one"),
                false => format!("{name} has no legs: it is {made_of}, and none of them has daily bars"),
            }));
        };
        if side == Some(Side::Mid) || question.works_out(Quantity::Mid) || question.works_out(Quantity::Spread) {
            return Err(DeskError::Invalid(format!("{name}: a continuous series has one side; leave out mid and spread")));
        }
        let finer = self.finer_for(setup, &contract.symbol, question, (source, side), instant).await?;
        let key = self.series_for(setup, (&contract.symbol, finer, side, source), instant).await?;
        let instrument = Instrument {
            symbol: name.to_owned(),
            name: setup.config.chains[name].title.clone(),
            kind: "chain".to_owned(),
            listed: None,
            last_traded: None,
            expiry: None,
            first_notice: None,
            former: vec![],
            ..contract.clone()
        };
        let span = self.span_in_pieces(question, finer, setup.calendar_of(&instrument)?, instant)?;
        let key = SeriesKey { symbol: name.to_owned(), ..key };
        Ok(Wanted { key, instrument: Arc::new(instrument), range: span.clone(), span, days: None, chain: Some(chain), other: None })
    }

    /// The interval whose bars the rows are made of: their own where it is collected, else the coarsest that divides them.
    async fn finer_for(
        &self,
        setup: &Setup,
        symbol: &str,
        question: &Question,
        (source, side): (&str, Option<Side>),
        instant: Timestamp,
    ) -> Result<Interval, DeskError> {
        let length = question.length();
        if let Some(finer) = question.pieces.made_from {
            return match length == Length::Interval(finer) || length.divides_into(finer) {
                true => Ok(finer),
                false => {
                    Err(DeskError::Invalid(format!("made_from: bars of {} cannot be made of bars of {finer}", question.interval_word())))
                }
            };
        }
        let mut found = known_by(self.desk.store.series_of(&setup.instrument(symbol)?.symbol).await?, instant);
        found.retain(|s| source == GOLDEN || s.key.source == source);
        found.retain(|s| side.is_none_or(|side| side == s.key.side));
        let own = question.longer.is_none() && found.iter().any(|s| s.key.interval == question.interval);
        let coarsest = found.iter().map(|s| s.key.interval).filter(|finer| length.divides_into(*finer)).max();
        Ok(if own { question.interval } else { coarsest.unwrap_or(question.interval) })
    }

    /// The series of an instrument that is meant: trades where there are any, else the only side there is.
    ///
    /// # Errors
    /// When there is none, or it is not clear which side is meant.
    pub async fn series_for(
        &self,
        setup: &Setup,
        (symbol, interval, side, source): (&str, Interval, Option<Side>, &str),
        instant: Timestamp,
    ) -> Result<SeriesKey, DeskError> {
        let symbol = setup.instrument(symbol)?.symbol.clone();
        let mut found = known_by(self.desk.store.series_of(&symbol).await?, instant);
        found.retain(|s| s.key.interval == interval && (source == GOLDEN || s.key.source == source));
        found.retain(|s| side.is_none_or(|side| side == s.key.side));
        let mut sides: Vec<Side> = found.iter().map(|s| s.key.side).collect();
        sides.sort_unstable();
        sides.dedup();
        let side = match sides[..] {
            [Side::Trade, ..] => Side::Trade,
            [one] => one,
            [] => {
                let wanted = SeriesKey { symbol, interval, side: side.unwrap_or(Side::Trade), source: source.to_owned() };
                return Err(self.desk.no_series(&wanted.to_string()).await?);
            }
            _ => {
                let words: Vec<String> = sides.iter().map(ToString::to_string).collect();
                return Err(DeskError::Invalid(format!(
                    "{symbol} has no trades at {interval}, but {}; say which side",
                    words.join(" and ")
                )));
            }
        };
        Ok(SeriesKey { symbol, interval, side, source: source.to_owned() })
    }
}

/// The symbols a question is about, each with whether it was named itself; and what of it nobody knows.
fn named(setup: &Setup, question: &Question) -> (Vec<(String, bool)>, Vec<DeskError>) {
    let mut out: Vec<(String, bool)> = vec![];
    let mut seen = std::collections::HashSet::new();
    let mut problems = vec![];
    let mut take = |symbol: String, by_name: bool| {
        if seen.insert(symbol.clone()) {
            out.push((symbol, by_name));
        }
    };
    let all = &setup.config.instruments;
    for asked in &question.instruments {
        if asked.contains('*') {
            let mut found: Vec<&str> = all.iter().map(|i| setup.symbol_then(i)).filter(|symbol| fits(asked, symbol)).collect();
            found.sort_unstable();
            if found.is_empty() {
                problems.push(DeskError::Invalid(format!("instruments: no symbol fits the pattern `{asked}`")));
            }
            found.into_iter().for_each(|symbol| take(symbol.to_owned(), false));
            continue;
        }
        if is_chain(setup, asked) {
            take(asked.clone(), true);
            continue;
        }
        match setup.instrument(asked) {
            Ok(instrument) => take(setup.symbol_then(instrument).to_owned(), true),
            Err(error) => problems.push(error),
        }
    }
    if let Some(words) = &question.search {
        let mut found: Vec<&str> = setup.index.find(words, usize::MAX).into_iter().map(|at| setup.symbol_then(&all[at])).collect();
        found.sort_unstable();
        found.into_iter().for_each(|symbol| take(symbol.to_owned(), false));
    }
    (out, problems)
}

/// Whether a name is that of a continuous series; an instrument of that symbol goes first.
fn is_chain(setup: &Setup, name: &str) -> bool {
    setup.config.chains.contains_key(name) && setup.known(name).is_none()
}

/// The members of a universe that belong to it in the range of a question, by the symbols they had at its instant, each with its days;
/// without those that are named beside.
fn members(
    setup: &Setup,
    question: &Question,
    universe: &Universe,
    named: &[(String, bool)],
    instant: Timestamp,
) -> Result<Vec<(String, Spans)>, DeskError> {
    let mut out = vec![];
    for symbol in universe.members.keys() {
        let instrument = setup.instrument(symbol)?;
        let calendar = setup.calendar_of(instrument)?;
        let mut range = span_of(&question.range, Interval::Daily, calendar, instant)?;
        if question.shape.layout == super::Layout::Latest {
            // The newest bars are those of its members in the newest session.
            let begun = &calendar.sessions()[..calendar.begun_by(instant)];
            let Some(newest) = begun[..begun.partition_point(|s| Slot::on(s.date) < range.end)].last() else { continue };
            range = Slot::on(newest.date)..Slot::on(newest.date.plus(1));
        }
        let days = universe.days(symbol);
        let symbol = setup.symbol_then(instrument);
        if days.overlaps(&range) && named.iter().all(|(other, _)| other != symbol) {
            out.push((symbol.to_owned(), days));
        }
    }
    out.sort_unstable_by(|a, b| a.0.cmp(&b.0));
    Ok(out)
}

/// A series on the days of its instrument as a member; `None` where none of them lie in the range.
fn as_member(setup: &Setup, wanted: Wanted, days: &Spans) -> Result<Option<Wanted>, DeskError> {
    let calendar = setup.calendar_of(setup.instrument(&wanted.instrument.symbol)?)?;
    let interval = wanted.key.interval;
    let slots = |span: &Span| match interval.is_intraday() {
        true => calendar.span_of_dates(interval, span.start.date()..span.end.date()),
        false => span.clone(),
    };
    let within: Spans = days.iter().map(|span| slots(span).clip(&wanted.span)).collect();
    Ok(spans::hull(&within).map(|span| Wanted { span, days: Some(Arc::new(within)), ..wanted }))
}

/// Whether a symbol fits a pattern in which `*` stands for any characters.
fn fits(pattern: &str, symbol: &str) -> bool {
    let mut parts = pattern.split('*');
    let Some(mut rest) = parts.next().and_then(|first| symbol.strip_prefix(first)) else { return false };
    let mut parts: Vec<&str> = parts.collect();
    let last = parts.pop().unwrap_or_default();
    for part in parts {
        match rest.find(part) {
            Some(at) => rest = &rest[at + part.len()..],
            None => return false,
        }
    }
    rest.ends_with(last)
}

/// The slots of a range on a calendar, at an instant.
pub(crate) fn span_of(range: &Range, interval: Interval, calendar: &Calendar, instant: Timestamp) -> Result<Span, DeskError> {
    // A session counts from its first bar on: a daily bar is there at its close.
    let first_bar = |s: &mizuno_core::Session| if interval.is_intraday() { s.open() } else { s.close() };
    let begun = &calendar.sessions()[..calendar.sessions().partition_point(|s| first_bar(s) <= instant)];
    let since = |from: TradeDate| calendar.span_of_dates(interval, from..TradeDate(i32::MAX));
    if let Some(sessions) = range.last {
        let first = begun.get(begun.len().saturating_sub(sessions as usize)).or(begun.first());
        return Ok(first.map_or(Slot(0)..Slot(0), |s| since(s.date)));
    }
    if let Some(period) = range.this {
        let Some(today) = begun.last().map(|s| s.date) else { return Ok(Slot(0)..Slot(0)) };
        let date = today.to_civil();
        let back = match period {
            Period::Week => i64::from(date.weekday().to_monday_zero_offset()),
            Period::Month => i64::from(date.day()) - 1,
            Period::Year => i64::from(date.day_of_year()) - 1,
        };
        return Ok(since(today.plus(-(back as i32))));
    }
    moments::span_between(range.from, range.to, interval, calendar).map_err(|moments::Backwards| {
        let shown = |m: Option<moments::Moment>| m.map(|m| m.to_string()).unwrap_or_default();
        DeskError::Invalid(format!("the range from {} to {} is empty; `from` must come before `to`", shown(range.from), shown(range.to)))
    })
}

#[cfg(test)]
mod tests {
    use super::fits;

    #[test]
    fn a_star_stands_for_any_characters() {
        for (pattern, symbol, whether) in [
            ("AL*", "AL12", true),
            ("AL*", "KAL", false),
            ("*2X", "AL2X", true),
            ("A*2*", "AL12", true),
            ("A*2*3", "AL12", false),
            ("*", "KBF", true),
            ("K*F", "KF", true),
            ("KB*BF", "KBF", false),
        ] {
            assert_eq!(fits(pattern, symbol), whether, "{pattern} {symbol}");
        }
    }
}
