//! Universes as they were known at an instant, those by a rule among them.

use crate::{
    Research,
    findings::Known,
    golden::{Lineup, golden_days},
    reading::{Piece, Subject},
};
use futures_util::TryStreamExt;
use mizuno_config::{GOLDEN, universe::Rule};
use mizuno_core::{
    Bar, Instrument, Interval, Overlap, Slot, Span, Timestamp, TradeDate,
    membership::Stay,
    review::{Bounds, Daily, Reasons, Review, judge, reviews, stays},
    spans::hull,
};
use mizuno_desk::{
    DeskError, Setup,
    sight::Sight,
    universes::{Members, Membership, Universe, told},
    views::Seen,
};
use mizuno_store::{blocks::Needed, payloads, series::SeriesRow};
use std::{
    collections::{BTreeMap, BTreeSet, HashMap, HashSet},
    ops::Range,
    sync::Arc,
};

/// What a universe follows from: the setup it is read with, the instant since which nothing has changed in lists, its name, and where it follows from a
/// rule the state of the bars that it looks at.
pub(crate) type FollowsFrom = (u64, Timestamp, String, String);

/// What is known of series, by their numbers.
pub(crate) type Sights = HashMap<i64, Arc<Sight>>;

/// Universes that are remembered.
pub(crate) const REMEMBERED: usize = 32;

/// What a review needs to know besides the bars.
struct Reviewed {
    rule: Rule,
    bounds: Bounds,
    reviews: Vec<Review>,
    /// Of a strict rule, what came of reviews before: what had been learned by then is the same for ever.
    before: Arc<Settled>,
    /// How many reviews are over for good.
    settled: usize,
}

/// The stays that follow from the first reviews of a strict rule, by symbol.
#[derive(Default)]
pub(crate) struct Settled {
    reviews: usize,
    stays: HashMap<String, Stays>,
}

type Stays = Vec<(Stay, Reasons)>;

impl Research {
    /// A universe as it was known at an instant.
    ///
    /// # Errors
    /// When there is none of that name, or the store cannot be read.
    pub async fn universe(self: &Arc<Self>, setup: &Arc<Setup>, name: &str, as_of: Timestamp) -> Result<Arc<Universe>, DeskError> {
        let since = self.desk.store.told_since();
        let state = if setup.config.is_by_rule(name) { self.state_of_days(setup, as_of).await? } else { String::new() };
        let key = (setup.serial, if as_of < since { as_of } else { since }, name.to_owned(), state);
        self.universes.recall_or(key, self.read_universe(setup, name, as_of)).await
    }

    async fn read_universe(self: &Arc<Self>, setup: &Arc<Setup>, name: &str, as_of: Timestamp) -> Result<Universe, DeskError> {
        let told = told(&self.desk.store, setup.config.lists_behind([name]), as_of).await?;
        let mut rules = BTreeMap::new();
        for name in setup.config.behind(name) {
            if let Some(rule) = setup.config.universes.get(name).and_then(|described| described.rule.as_ref()) {
                rules.insert(name.to_owned(), self.members_by(setup, name, rule, as_of).await?);
            }
        }
        setup.universe(name, &told, &rules)
    }

    /// The trade date of the newest session that has begun by an instant, on any of the venues of its members.
    #[must_use]
    pub fn newest_session(&self, setup: &Setup, universe: &Universe, as_of: Timestamp) -> TradeDate {
        let venues: BTreeSet<&String> = universe.members.keys().filter_map(|s| Some(&setup.known(s)?.venue)).collect();
        let newest = |venue: &String| {
            let calendar = setup.calendars.get(venue)?;
            calendar.sessions()[..calendar.begun_by(as_of)].last().map(|s| s.date)
        };
        venues.into_iter().filter_map(newest).max().unwrap_or_else(|| as_of.date_in(&jiff::tz::TimeZone::UTC))
    }

    /// The instruments that ever belonged to a universe and have no daily bars, each with the reason.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn members_without(&self, setup: &Setup, universe: &Universe) -> Result<Vec<(String, String)>, DeskError> {
        let all = self.desk.store.series().await?;
        let held: HashSet<&str> = all.iter().filter(|s| s.key.interval == Interval::Daily).map(|s| s.key.symbol.as_str()).collect();
        let lacking = universe.members.keys().filter(|symbol| !held.contains(symbol.as_str())).filter_map(|symbol| setup.known(symbol));
        let why = |i: &Instrument| (setup.symbol_then(i).to_owned(), why_without(setup, i, Interval::Daily, GOLDEN, Some(&universe.name)));
        Ok(lacking.map(why).collect())
    }

    /// What changes when a daily bar of any series may, or whether it is doubted, or as a further session has closed.
    async fn state_of_days(&self, setup: &Setup, as_of: Timestamp) -> Result<String, DeskError> {
        let named = Some(as_of).filter(|at| *at < self.desk.store.newest());
        let known = self.known(setup, as_of).await?;
        let mut state: Vec<u8> = vec![];
        let mut put = |numbers: &[i64]| numbers.iter().for_each(|n| state.extend(n.to_be_bytes()));
        for calendar in setup.calendars.values() {
            put(&[calendar.closed_by(as_of) as i64]);
        }
        // By actions, bars of adjusted series are brought back.
        put(&[self.desk.store.told_since().min(as_of).0]);
        for row in self.desk.store.series().await?.iter().filter(|row| row.key.interval == Interval::Daily) {
            put(&[row.id, named.map_or(row.revision, |at| at.0)]);
            known.standard_in_numbers(setup, row, named, &mut put)?;
        }
        Ok(payloads::digest(&state))
    }

    /// The members that a rule finds, review by review.
    async fn members_by(self: &Arc<Self>, setup: &Arc<Setup>, name: &str, rule: &Rule, as_of: Timestamp) -> Result<Members, DeskError> {
        let Some(calendar) = setup.calendars.get(&rule.venue) else { return Ok(Members::new()) };
        let closed = calendar.closed_by(as_of);
        let reviews = reviews(calendar.sessions(), rule.since, rule.review, closed);
        let next_open = |review: &Review| calendar.sessions().get(review.at + 1).map_or(as_of, |s| s.open().min(as_of));
        let settled = match rule.strict {
            true => reviews.partition_point(|review| next_open(review) < as_of.min(self.desk.store.newest())),
            false => 0,
        };
        let key = (setup.serial, name.to_owned());
        // As of an instant before, fewer reviews are over than were looked at.
        let before = self.settled.recall(&key).filter(|before| before.reviews <= settled).unwrap_or_default();
        let reviewed = Arc::new(Reviewed {
            bounds: Bounds {
                price: rule.price_at_least,
                turnover: rule.turnover_at_least,
                sessions: rule.turnover_sessions as usize,
                listed: rule.listed_sessions as usize,
            },
            reviews,
            rule: rule.clone(),
            before,
            settled,
        });
        // What had been learned by each review; without `strict`, what is known now of the bars dated before it.
        let mut known: Vec<Arc<Known>> = vec![];
        match rule.strict {
            true => {
                for review in &reviewed.reviews[reviewed.before.reviews..] {
                    known.push(Arc::new(self.read_known(setup, next_open(review)).await?));
                }
            }
            false => known.push(self.known(setup, as_of).await?),
        }
        let known: Arc<[Arc<Known>]> = known.into();
        // Of the past instants of a strict rule nothing is kept.
        let takes_in =
            |row: &&SeriesRow| row.key.interval == Interval::Daily && setup.known(&row.key.symbol).is_some_and(|i| i.venue == rule.venue);
        let rows = if rule.strict { vec![] } else { self.desk.store.series().await?.iter().filter(takes_in).cloned().collect() };
        let sights = Arc::new(self.sights(setup, rows, as_of).await?);
        let given = (self.clone(), setup.clone(), reviewed.clone(), known.clone(), sights.clone());
        let one = move |at: usize| {
            let (research, setup, reviewed, known, sights) = given.clone();
            async move {
                let instrument = &setup.config.instruments[at];
                let found = research.reviewed(&setup, instrument, &reviewed, (&known, &sights)).await?;
                Ok((instrument.symbol.clone(), found))
            }
        };
        let fits = |i: &Instrument| {
            let among = |list: &Option<Vec<String>>, word: &String| list.as_ref().is_none_or(|all| all.contains(word));
            let multiplies = i.leverage.is_some_and(|l| l.to_f64() != 1.0);
            i.venue == rule.venue
                && among(&rule.kinds, &i.kind)
                && among(&rule.currencies, &i.currency)
                && !(rule.without_leverage && multiplies)
        };
        let fitting: Vec<usize> = (0..setup.config.instruments.len()).filter(|at| fits(&setup.config.instruments[*at])).collect();
        let mut found = self.desk.hands.side_by_side("reviewing an instrument", fitting, one);
        let mut out = Members::new();
        let mut over = Settled { reviews: settled, stays: HashMap::new() };
        while let Some((symbol, (first, stays))) = found.try_next().await? {
            over.stays.insert(symbol.clone(), first);
            let by = format!("rule {name}");
            let membership = |(stay, (joined, left))| Membership {
                stay,
                called: symbol.clone(),
                by: by.clone(),
                learned: None,
                joined: Some(joined),
                left,
            };
            if !stays.is_empty() {
                out.insert(symbol.clone(), stays.into_iter().map(membership).collect());
            }
        }
        if settled > reviewed.before.reviews {
            self.settled.keep(key, over);
        }
        Ok(out)
    }

    /// The stays of an instrument by the reviews that are over for good, and by all.
    async fn reviewed(
        &self,
        setup: &Setup,
        instrument: &Instrument,
        reviewed: &Reviewed,
        (known, sights): (&[Arc<Known>], &Sights),
    ) -> Result<(Stays, Stays), DeskError> {
        let calendar = setup.calendar_of(instrument)?;
        let Reviewed { rule, bounds, reviews, before, settled } = reviewed;
        let reviews = &reviews[before.reviews..];
        let wants_bars = bounds.price.is_some() || bounds.turnover.is_some();
        let sessions = calendar.sessions();
        let mut verdicts = Vec::with_capacity(reviews.len());
        let mut bars = vec![];
        for (at, review) in reviews.iter().enumerate() {
            let first = &sessions[(review.at + 1).saturating_sub(bounds.sessions.max(1))];
            if wants_bars && (rule.strict || at == 0) {
                let to = if rule.strict { sessions[review.at].date.plus(1) } else { TradeDate(i32::MAX) };
                let known = &known[at.min(known.len() - 1)];
                let daily = self.daily(setup, instrument, first.date..to, (known, sights)).await?;
                bars = daily.iter().map(reviewed_bar).collect();
            }
            let verdict = match instrument.trades_on(sessions[review.at].date) {
                true => judge(bounds, *review, sessions, instrument.listed, &bars),
                false => Err("it is not listed".to_owned()),
            };
            verdicts.push((*review, verdict));
        }
        let rest = verdicts.split_off(settled.saturating_sub(before.reviews));
        let over = stays(before.stays.get(&instrument.symbol).cloned().unwrap_or_default(), sessions, verdicts);
        Ok((over.clone(), stays(over, sessions, rest)))
    }

    /// What is held of some series at an instant, by their numbers.
    pub(crate) async fn sights(&self, setup: &Setup, rows: Vec<SeriesRow>, as_of: Timestamp) -> Result<Sights, DeskError> {
        let views = self.desk.views_at(setup, rows, Seen::at(as_of)).await?;
        Ok(views.into_iter().map(|view| (view.row.id, view.sight)).collect())
    }

    /// The golden daily bars of an instrument on some dates, as traded, without their opens; none where it has no such series.
    async fn daily(
        &self,
        setup: &Setup,
        instrument: &Instrument,
        dates: Range<TradeDate>,
        (known, sights): (&Known, &Sights),
    ) -> Result<Vec<Bar>, DeskError> {
        let lineup = self.unexamined(setup, &golden_days(instrument), known).await?;
        let needed = Needed { open: false, ..Needed::ALL };
        Ok(self.daily_of(setup, instrument, lineup, (dates, needed), (known, sights)).await?.0.rows)
    }

    /// The same of a line-up in which no doubts have been looked for yet, and which numbers are needed.
    pub(crate) async fn daily_of(
        &self,
        setup: &Setup,
        instrument: &Instrument,
        mut lineup: Lineup,
        (dates, needed): (Range<TradeDate>, Needed),
        (known, sights): (&Known, &Sights),
    ) -> Result<Piece, DeskError> {
        self.examine_lineup(setup, &mut lineup, known).await?;
        // A source that adds no bar is not read, where it is known what each has.
        lineup.parts.iter_mut().for_each(|part| part.sight = sights.get(&part.row.id).cloned());
        let subject = Subject::Golden(lineup);
        let rows = subject.rows();
        let extents: Vec<Span> = match rows.iter().map(|row| sights.get(&row.id)).collect::<Option<Vec<_>>>() {
            Some(sights) => sights.iter().filter_map(|sight| hull(&sight.standing.held)).collect(),
            None => self.desk.store.held(&rows, known.as_of).await?.values().filter_map(hull).collect(),
        };
        let Some(extent) = extents.into_iter().reduce(|a, b| a.hull(&b)) else { return Ok(Piece::default()) };
        let calendar = setup.calendar_of(instrument)?;
        let span = extent.clip(&(Slot::on(dates.start)..Slot::on(dates.end)));
        if span.is_empty() {
            return Ok(Piece::default());
        }
        let mut reader = self.read_over(subject, calendar, span, known.as_of, needed).await?;
        let mut out = Piece::default();
        while let Some((bars, from)) = reader.next().await? {
            out.0.rows.extend(bars.rows);
            out.1.extend(from);
        }
        Ok(out)
    }
}

fn reviewed_bar(bar: &Bar) -> Daily {
    Daily { date: bar.slot.date(), close: bar.close(), turnover: bar.volume().map_or(0.0, |v| bar.typical() * v.to_f64()) }
}

/// Why an instrument has no bars of an interval.
pub(crate) fn why_without(setup: &Setup, instrument: &Instrument, interval: Interval, source: &str, universe: Option<&str>) -> String {
    let fits = |c: &&mizuno_config::Collector| c.interval == interval && (source == GOLDEN || c.source == source);
    let asked: Vec<_> = setup.config.collectors.values().filter(fits).filter(|c| setup.config.takes(c, instrument)).collect();
    if asked.is_empty() {
        let venue = &instrument.venue;
        return match universe {
            Some(name) => format!("no collector asks for it; `universe = \"{name}\"` in one of {venue} would"),
            None => format!("no collector asks for it; name it in one of {venue}"),
        };
    }
    let lacks = |c: &&mizuno_config::Collector| setup.ids.get(&c.source).is_some_and(|ids| !ids.contains_key(&instrument.symbol));
    match asked.iter().all(lacks) {
        true => format!("not on the list of {}", asked.iter().map(|c| c.source.as_str()).collect::<Vec<_>>().join(", nor of ")),
        false => {
            let names: Vec<&str> = asked.iter().map(|c| c.name.as_str()).collect();
            format!("collected by {}, and nothing has come so far; mizuno fetches tells why", names.join(", "))
        }
    }
}
