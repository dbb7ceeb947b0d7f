//! Series as seen at one moment: what is expected, held, excused, asked for and in reach.

use crate::{
    desk::Desk,
    error::ServiceError,
    schedule,
    setup::{Post, Setup},
};
use mizuno_api::Completeness;
use mizuno_core::{
    Instrument, Interval, SeriesKey, Slot, Span, Spans, Timestamp, TradeDate,
    gap::{self, Asked, Evidence, Gap},
    plan::{Reach, Standing},
    slot::{difference, intersection, within},
};
use mizuno_store::series::SeriesRow;
use std::collections::HashMap;

/// A scheduled run has this long to bring what it was due for, in microseconds.
const GRACE: i64 = 120 * mizuno_core::time::SECOND;

/// One series, everything known of it that gaps and plans need.
pub(crate) struct View<'d> {
    pub row: SeriesRow,
    pub post: Post<'d>,
    pub standing: Standing,
    /// What explains its gaps. A bar that the next scheduled run will ask for is not due yet.
    pub evidence: Evidence,
    /// What the source can be asked for now.
    in_reach: Span,
}

impl Desk {
    /// The series of a collector, made where they are new.
    pub(crate) async fn series_of(&self, setup: &Setup, post: &Post<'_>) -> Result<Vec<SeriesRow>, ServiceError> {
        let c = post.collector;
        let key = |i: &Instrument| SeriesKey { symbol: i.symbol.clone(), interval: c.interval, side: c.side, source: c.source.clone() };
        Ok(self.store.ensure_series(setup.config.instruments_of(c).map(key).collect()).await?)
    }

    /// Views of the given series; a series that no collector keeps any more has none.
    pub(crate) async fn views<'s>(&self, setup: &'s Setup, rows: Vec<SeriesRow>) -> Result<Vec<View<'s>>, ServiceError> {
        let now = self.clock.now();
        let mut held = self.store.held(&rows).await?;
        let mut excused = self.store.excused().await?;
        let mut asked = self.store.asked(&rows).await?;
        let mut quarantined = self.quarantined_slots(&rows).await?;
        let mut grids: HashMap<(&'s str, Interval, TradeDate), Spans> = HashMap::new();
        let mut dues: HashMap<&'s str, Slot> = HashMap::new();
        let mut out = Vec::with_capacity(rows.len());
        for row in rows {
            let Some(post) = setup.post_of(&row.key) else { continue };
            let interval = row.key.interval;
            let c = post.collector;
            let grid = grids.entry((&c.venue, interval, c.since)).or_insert_with(|| expected_so_far(&post, now));
            let standing = Standing {
                expected: in_its_life(setup, &row.key, &post, grid),
                held: held.remove(&row.id).unwrap_or_default(),
                excused: excused.remove(&row.id).unwrap_or_default(),
            };
            let reach = Reach { depth_days: post.offer.depth_days, delay: post.offer.delay };
            let in_reach = reach.span(post.calendar, &post.venue.zone, interval, now);
            let due = *dues.entry(&c.name).or_insert_with(|| {
                let asked_last = schedule::last_due(&post, now.plus(-GRACE)).unwrap_or(now);
                post.calendar.due_until(interval, asked_last, post.offer.delay)
            });
            let evidence = Evidence {
                asked: asked.remove(&row.id).unwrap_or_default(),
                quarantined: quarantined.remove(&row.id).unwrap_or_default(),
                reach: Some(in_reach.start..due.clamp(in_reach.start, in_reach.end)),
            };
            out.push(View { row, post, standing, evidence, in_reach });
        }
        Ok(out)
    }

    /// Views of every series that a collector keeps.
    pub(crate) async fn all_views<'s>(&self, setup: &'s Setup) -> Result<Vec<View<'s>>, ServiceError> {
        let rows = self.store.series().await?;
        self.views(setup, rows).await
    }

    async fn quarantined_slots(&self, rows: &[SeriesRow]) -> Result<HashMap<i64, Spans>, ServiceError> {
        let only = if let [one] = rows { Some(one.id) } else { None };
        let intervals: HashMap<i64, Interval> = rows.iter().map(|r| (r.id, r.key.interval)).collect();
        let mut out: HashMap<i64, Spans> = HashMap::new();
        for q in self.store.quarantine(only, i64::MAX).await? {
            if let (Some(interval), Some(slot)) = (intervals.get(&q.series), q.suspect.slot) {
                out.entry(q.series).or_default().insert(interval.span_of(slot));
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

/// Every slot from the collector's first date up to and with the session in progress.
fn expected_so_far(post: &Post<'_>, now: Timestamp) -> Spans {
    let today = post.calendar.at_or_after(now).filter(|s| s.open() <= now).or(post.calendar.last_closed(now));
    let end = today.map_or(post.collector.since, |s| s.date.plus(1));
    post.calendar.expected(post.collector.interval, post.collector.since..end)
}

impl View<'_> {
    /// The gaps, every one with its cause.
    pub(crate) fn gaps(&self) -> Vec<Gap> {
        gap::gaps(self.row.key.interval, &self.standing, &self.evidence)
    }

    /// Figures over the slots in `span` that should be had by now: expected, and neither too young nor beyond the source's depth.
    pub(crate) fn completeness(&self, span: &Span) -> Completeness {
        let interval = self.row.key.interval;
        let end = self.evidence.reach.as_ref().map_or(span.end, |reach| reach.end.min(span.end));
        // Everything is cut to the span first: a table asks for thousands of short ones.
        let span = span.start..end.max(span.start);
        let due = within(&self.standing.expected, &span);
        let held = intersection(&due, &within(&self.standing.held, &span));
        let excused = difference(&intersection(&due, &within(&self.standing.excused, &span)), &held);
        let (expected, held, excused) = (interval.count(&due), interval.count(&held), interval.count(&excused));
        Completeness { expected, held, excused, missing: expected - held - excused }
    }

    /// What the source can be asked for now, less what it answered without only lately.
    pub(crate) fn reach(&self, now: Timestamp, rested: bool) -> Spans {
        let reach: Spans = Some(self.in_reach.clone()).into_iter().filter(|r| r.start < r.end).collect();
        if rested {
            return reach;
        }
        let asked: &[Asked] = &self.evidence.asked;
        difference(&reach, &gap::resting(&self.standing.missing(), asked, now, gap::FIRST_REST, gap::LONGEST_REST))
    }
}

/// Sums completeness over several views.
pub(crate) fn sum<'v, 'd: 'v>(views: impl Iterator<Item = &'v View<'d>>) -> Completeness {
    let all = Slot(i64::MIN)..Slot(i64::MAX);
    views.map(|v| v.completeness(&all)).fold(Completeness::default(), |a, b| Completeness {
        expected: a.expected + b.expected,
        held: a.held + b.held,
        excused: a.excused + b.excused,
        missing: a.missing + b.missing,
    })
}
