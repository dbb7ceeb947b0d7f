//! Series as seen at one moment: what is expected, held, excused, asked for and in reach.

use crate::{
    desk::Desk,
    error::DeskError,
    setup::{Post, Setup},
    sight::{Moment, Sight},
    timetable,
    view::View,
};
use mizuno_core::{
    Completeness, Instrument, Interval, SeriesKey, Slot, Span, Spans, Timestamp, TradeDate, gap::Evidence, plan::Reach, spans::within,
    standing::Standing,
};
use mizuno_store::{quarantine::Slots, series::SeriesRow};
use std::{
    collections::{HashMap, HashSet},
    sync::Arc,
};

/// A scheduled run has this long to bring what it was due for, in microseconds.
const GRACE: i64 = 120 * mizuno_core::time::SECOND;

/// When series are looked at: what was known, and what was due.
#[derive(Clone, Copy)]
pub struct Seen {
    /// The instant of knowledge.
    pub known: Timestamp,
    /// The instant that what is due, late and in reach is counted from.
    pub now: Timestamp,
}

impl Seen {
    /// Both at one instant, as an answer needs it that is to be the same again.
    pub fn at(instant: Timestamp) -> Seen {
        Seen { known: instant, now: instant }
    }
}

impl Desk {
    /// The series of a collector, made where they are new.
    pub async fn series_of(&self, setup: &Setup, post: &Post<'_>) -> Result<Vec<SeriesRow>, DeskError> {
        let c = post.collector;
        let key = |i: &Instrument| SeriesKey { symbol: i.symbol.clone(), interval: c.interval, side: c.side, source: c.source.clone() };
        Ok(self.store.ensure_series(setup.config.instruments_of(c).map(key).collect()).await?)
    }

    /// Views of the given series; a series that no collector keeps any more has none.
    pub async fn views<'s>(&self, setup: &'s Setup, rows: Vec<SeriesRow>) -> Result<Vec<View<'s>>, DeskError> {
        self.views_at(setup, rows, Seen { known: self.store.newest(), now: self.clock.now() }).await
    }

    /// The same as it was known, and as it was due, at an instant. A series that is given twice is looked at once: what is read for many is
    /// dealt out to each, and there would be nothing left for the second.
    pub async fn views_at<'s>(&self, setup: &'s Setup, mut rows: Vec<SeriesRow>, seen: Seen) -> Result<Vec<View<'s>>, DeskError> {
        let mut given = HashSet::new();
        rows.retain(|row| given.insert(row.id));
        let mut moments: HashMap<&'s str, Moment> = HashMap::new();
        let mut out = Vec::with_capacity(rows.len());
        let mut stale = vec![];
        let changed = self.store.changed(rows.iter().map(|r| r.id));
        for (row, changed) in rows.into_iter().zip(changed) {
            let Some(post) = setup.post_of(&row.key) else { continue };
            let moment = moments.entry(&post.collector.name).or_insert_with(|| self.moment(setup, &post, seen.now));
            let place = out.len();
            let sight = self.sights.recall(row.id, moment, changed, seen.known);
            if sight.is_none() {
                stale.push(place);
            }
            out.push((row, post, sight));
        }
        if !stale.is_empty() {
            let wanted: Vec<(&SeriesRow, Post<'s>, &Moment)> =
                stale.iter().map(|at| (&out[*at].0, out[*at].1, &moments[out[*at].1.collector.name.as_str()])).collect();
            let made = self.look(setup, &wanted, seen).await?;
            for (at, sight) in stale.into_iter().zip(made) {
                out[at].2 = Some(sight);
            }
        }
        let views = out.into_iter().filter_map(|(row, post, sight)| Some(View { row, post, sight: sight? }));
        let mut views: Vec<View<'s>> = views.collect();
        self.sights.expect_what_is_usual(&mut views);
        Ok(views)
    }

    /// What of a look at a collector's series follows from the instant alone.
    fn moment(&self, setup: &Setup, post: &Post<'_>, now: Timestamp) -> Moment {
        let interval = post.collector.interval;
        let reach = Reach { depth_days: post.offer.depth_days, delay: post.offer.delay };
        let in_reach = reach.span(post.calendar, &post.venue.zone, interval, now);
        let asked_last = timetable::last_due(post, now.plus(-GRACE)).unwrap_or(now);
        let due = post.calendar.due_until(interval, asked_last, post.offer.delay);
        let sessions = post.calendar.sessions();
        let closed = post.calendar.closed_by(now);
        let recent = &sessions[closed.saturating_sub(post.collector.second_look.sessions as usize)..closed];
        let recent = recent.first().zip(recent.last()).map(|(a, b)| post.calendar.span_of_dates(interval, a.date..b.date.plus(1)));
        let today = post.calendar.at_or_after(now).filter(|s| s.open() <= now).or(post.calendar.last_closed(now));
        Moment {
            setup: setup.serial,
            until: today.map_or(post.collector.since, |s| s.date.plus(1)),
            due: in_reach.start..due.clamp(in_reach.start, in_reach.end),
            in_reach,
            recent,
            grace: grace(post.offer.delay).max(self.late.of(&post.collector.name)),
        }
    }

    /// Looks at some series anew.
    async fn look(&self, setup: &Setup, wanted: &[(&SeriesRow, Post<'_>, &Moment)], seen: Seen) -> Result<Vec<Arc<Sight>>, DeskError> {
        let known = seen.known;
        let rows: Vec<SeriesRow> = wanted.iter().map(|(row, ..)| (*row).clone()).collect();
        let mut held = self.store.held(&rows, known).await?;
        let mut excused = self.store.excused(known).await?;
        let mut quarantined = self.quarantined_slots(&rows, known).await?;
        let mut grids: HashMap<&str, Spans> = HashMap::new();
        let mut standings = Vec::with_capacity(wanted.len());
        for (row, post, moment) in wanted {
            let c = post.collector;
            let grid = grids.entry(&c.name).or_insert_with(|| post.calendar.expected(c.interval, c.since..moment.until));
            let expected = in_its_life(setup, &row.key, post, grid);
            let held = held.remove(&row.id).unwrap_or_default();
            // Of thousands of series that have all they should, one array is kept.
            let held = if held == expected { expected.clone() } else { held };
            standings.push(Standing { expected, held, excused: excused.remove(&row.id).unwrap_or_default() });
        }
        // The ledger of years of polls is long; only what explains a missing slot, or tells when the newest
        // sessions were asked for, is read.
        let spans = wanted.iter().zip(&standings).flat_map(|((row, _, moment), standing)| {
            pieces(&standing.missing()).into_iter().chain(moment.recent.clone()).map(|span| (row.id, span))
        });
        let mut asked = self.store.asked(&spans.collect::<Vec<_>>(), known).await?;
        let mut out = vec![];
        for ((row, _, moment), standing) in wanted.iter().zip(standings) {
            let evidence = Evidence {
                asked: asked.remove(&row.id).unwrap_or_default(),
                quarantined: quarantined.remove(&row.id).unwrap_or_default(),
                reach: Some(moment.due.clone()),
            };
            let sight = Arc::new(Sight::new(row.key.interval, standing, evidence, moment.in_reach.clone(), moment.grace));
            self.sights.remember(row.id, (*moment).clone(), known, sight.clone());
            out.push(sight);
        }
        Ok(out)
    }

    /// Views of every series that a collector keeps.
    pub async fn all_views<'s>(&self, setup: &'s Setup) -> Result<Vec<View<'s>>, DeskError> {
        let rows = self.store.series().await?.iter().cloned().collect();
        self.views(setup, rows).await
    }

    async fn quarantined_slots(&self, rows: &[SeriesRow], known: Timestamp) -> Result<HashMap<i64, Spans>, DeskError> {
        let only = if let [one] = rows { Some(one.id) } else { None };
        let intervals: HashMap<i64, Interval> = rows.iter().map(|r| (r.id, r.key.interval)).collect();
        let mut out: HashMap<i64, Spans> = HashMap::new();
        for (series, slot) in self.store.quarantined_slots(only, known).await? {
            let Some(interval) = intervals.get(&series) else { continue };
            let spans = out.entry(series).or_default();
            match slot {
                Slots::One(slot) => spans.insert(interval.span_of(slot)),
                Slots::Several(several) => spans.extend(several),
            }
        }
        Ok(out)
    }
}

/// The slots of a grid in which the instrument was listed.
fn in_its_life(setup: &Setup, key: &SeriesKey, post: &Post<'_>, grid: &Spans) -> Spans {
    let Some(instrument) = setup.known(&key.symbol) else { return Spans::new() };
    if instrument.listed.is_none() && instrument.last_traded.is_none() {
        return grid.clone();
    }
    let first = instrument.listed.unwrap_or(TradeDate(i32::MIN));
    let last = instrument.last_traded.map_or(TradeDate(i32::MAX), |d| d.plus(1));
    within(grid, &post.calendar.span_of_dates(key.interval, first..last))
}

/// A bar is waited for so long beyond its publishing delay before its absence counts, in microseconds.
fn grace(delay: i64) -> i64 {
    delay.clamp(300 * mizuno_core::time::SECOND, 6 * 3600 * mizuno_core::time::SECOND)
}

/// Spans in which the ledger is read at most, for one series.
const PIECES: usize = 12;

/// Where the fetches matter that explain what is missing: round all of it, in a few pieces.
fn pieces(missing: &Spans) -> Vec<Span> {
    let mut pieces: Vec<Span> = missing.iter().cloned().collect();
    if pieces.len() > PIECES {
        // The widest spaces between missing slots part the pieces.
        let mut spaces: Vec<i64> = pieces.windows(2).map(|w| w[1].start.0 - w[0].end.0).collect();
        let least = *spaces.select_nth_unstable_by(PIECES - 1, |a, b| b.cmp(a)).1;
        let mut joined: Vec<Span> = vec![];
        for piece in pieces {
            match joined.last_mut() {
                Some(last) if piece.start.0 - last.end.0 <= least => last.end = piece.end,
                _ => joined.push(piece),
            }
        }
        pieces = joined;
    }
    pieces
}

/// Sums completeness over several views.
pub fn sum<'v, 'd: 'v>(views: impl Iterator<Item = &'v View<'d>>) -> Completeness {
    views.map(|v| v.completeness(&(Slot(i64::MIN)..Slot(i64::MAX)))).sum()
}
