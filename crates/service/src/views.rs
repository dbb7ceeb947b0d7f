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
    gap::{self, Asked, Evidence, Gap, Outcome},
    plan::{Reach, Standing},
    quiet::quiet,
    spans::{both, difference, intersection, only, within},
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
    /// Slots without a bar in which it is only quiet; not expected, and looked at again like the others.
    pub quiet: Spans,
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
                asked: vec![],
                quarantined: quarantined.remove(&row.id).unwrap_or_default(),
                reach: Some(in_reach.start..due.clamp(in_reach.start, in_reach.end)),
            };
            out.push(View { row, post, standing, evidence, quiet: Spans::new(), in_reach });
        }
        // The ledger of years of polls is long; only what explains a missing slot, or tells when the newest
        // sessions were asked for, is read.
        let spans: Vec<(i64, Span)> = out.iter().flat_map(|v| v.spans_to_explain(now).into_iter().map(|s| (v.row.id, s))).collect();
        let mut asked = self.store.asked(&spans).await?;
        for view in &mut out {
            view.evidence.asked = asked.remove(&view.row.id).unwrap_or_default();
            view.expect_what_is_usual();
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

/// Spans in which the ledger is read at most, for one series.
const PIECES: usize = 12;

impl View<'_> {
    /// Where the fetches matter: round everything missing, in a few pieces, and in the sessions of the second look.
    fn spans_to_explain(&self, now: Timestamp) -> Vec<Span> {
        let missing = self.standing.missing();
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
        let look = self.post.collector.second_look.sessions as usize;
        let sessions = self.post.calendar.sessions();
        let closed = sessions.partition_point(|s| s.close() <= now);
        if let (Some(first), Some(last)) = (sessions[closed.saturating_sub(look)..closed].first(), sessions[..closed].last()) {
            pieces.push(self.post.calendar.span_of_dates(self.row.key.interval, first.date..last.date.plus(1)));
        }
        pieces
    }

    /// Takes out of what is expected the slots in which a thinly traded instrument is only quiet.
    fn expect_what_is_usual(&mut self) {
        let answered = self.evidence.asked.iter().filter(|a| a.outcome != Outcome::Failed).map(|a| a.window.clone()).collect();
        self.quiet = quiet(self.post.calendar, self.row.key.interval, &self.standing, &answered);
        if !self.quiet.is_empty() {
            self.standing.expected = difference(&self.standing.expected, &self.quiet);
        }
    }

    /// Whether a window is a repair: asked for before, and not of the newest sessions.
    pub(crate) fn is_repair(&self, window: &Span, now: Timestamp) -> bool {
        let overlaps = |a: &Asked| a.window.start < window.end && window.start < a.window.end;
        !self.post.is_newest(window, now) && self.evidence.asked.iter().any(overlaps) && !self.standing.held.overlaps(window)
    }

    /// The gaps, every one with its cause.
    pub(crate) fn gaps(&self) -> Vec<Gap> {
        gap::gaps(self.row.key.interval, &self.standing, &self.evidence)
    }

    /// Figures over the slots in `span` that should be had by now: expected, and neither too young nor beyond the source's depth.
    pub(crate) fn completeness(&self, span: &Span) -> Completeness {
        let end = self.evidence.reach.as_ref().map_or(span.end, |reach| reach.end.min(span.end));
        completeness(self.row.key.interval, &self.standing, span.start..end.max(span.start))
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

/// What a golden series made of these is expected to have, and has: what any of its sources does.
pub(crate) struct Whole {
    pub interval: Interval,
    pub standing: Standing,
    /// A slot at or after it is not due from any source.
    due: Slot,
}

/// The views of a golden series' sources as one; `None` of none.
pub(crate) fn union<'v, 'd: 'v, V: std::borrow::Borrow<View<'d>>>(views: &'v [V]) -> Option<Whole> {
    let views = || views.iter().map(std::borrow::Borrow::borrow);
    let first = views().next()?;
    let all = |of: &dyn Fn(&'v View<'d>) -> &'v Spans| views().flat_map(|v| of(v).iter().cloned()).collect::<Spans>();
    let due = views().filter_map(|v| v.evidence.reach.as_ref().map(|r| r.end)).max().unwrap_or(Slot(i64::MAX));
    let (held, excused) = (all(&|v| &v.standing.held), all(&|v| &v.standing.excused));
    // Where one source has answered and it is only quiet, another's silence says nothing more.
    let wanted = all(&|v| &v.standing.expected);
    let expected = mizuno_core::spans::union(&difference(&wanted, &all(&|v| &v.quiet)), &intersection(&wanted, &held));
    let standing = Standing { expected, held, excused };
    Some(Whole { interval: first.row.key.interval, standing, due })
}

impl Whole {
    /// Figures over the slots in `span` that some source should have by now.
    pub(crate) fn completeness(&self, span: &Span) -> Completeness {
        completeness(self.interval, &self.standing, span.start..self.due.min(span.end).max(span.start))
    }

    /// What no source has.
    pub(crate) fn missing(&self) -> Spans {
        within(&self.standing.missing(), &(Slot(i64::MIN)..self.due))
    }
}

fn completeness(interval: Interval, standing: &Standing, span: Span) -> Completeness {
    let (due, held) = (|| standing.expected.within(&span), || standing.held.within(&span));
    let excused = only(both(due(), standing.excused.within(&span)), held());
    let (expected, held, excused) = (interval.count(due()), interval.count(both(due(), held())), interval.count(excused));
    Completeness { expected, held, excused, missing: expected - held - excused }
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
