//! Series as seen at one moment: what is expected, held, excused, asked for and in reach.

use crate::{
    desk::Desk,
    error::ServiceError,
    golden::ranked_span,
    schedule,
    setup::{Post, Setup},
};
use mizuno_api::Completeness;
use mizuno_core::{
    Instrument, Interval, SeriesKey, Slot, Span, Spans, Timestamp, TradeDate,
    gap::{self, Asked, Evidence, Gap, Outcome},
    plan::{Reach, Standing},
    quiet::{is_lively, quiet},
    spans::{both, difference, intersection, only, within},
};
use mizuno_store::{quarantine::Slots, series::SeriesRow};
use std::collections::HashMap;

/// A scheduled run has this long to bring what it was due for, in microseconds.
const GRACE: i64 = 120 * mizuno_core::time::SECOND;

/// When series are looked at: what was known, and what was due.
#[derive(Clone, Copy)]
pub(crate) struct Seen {
    /// The instant of knowledge.
    pub known: Timestamp,
    /// The instant that what is due, late and in reach is counted from.
    pub now: Timestamp,
}

impl Seen {
    /// Both at one instant, as an answer needs it that is to be the same again.
    pub(crate) fn at(instant: Timestamp) -> Seen {
        Seen { known: instant, now: instant }
    }
}

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
    /// How much later than its profile says a bar may come before its absence counts, in microseconds.
    grace: i64,
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
        self.views_at(setup, rows, Seen { known: self.store.newest(), now: self.clock.now() }).await
    }

    /// The same as it was known, and as it was due, at an instant.
    pub(crate) async fn views_at<'s>(&self, setup: &'s Setup, rows: Vec<SeriesRow>, seen: Seen) -> Result<Vec<View<'s>>, ServiceError> {
        let Seen { known, now } = seen;
        let mut held = self.store.held(&rows, known).await?;
        let mut excused = self.store.excused(known).await?;
        let mut quarantined = self.quarantined_slots(&rows, known).await?;
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
            let grace = grace(post.offer.delay).max(self.late.of(&c.name));
            out.push(View { row, post, standing, evidence, quiet: Spans::new(), in_reach, grace });
        }
        // The ledger of years of polls is long; only what explains a missing slot, or tells when the newest
        // sessions were asked for, is read.
        let spans: Vec<(i64, Span)> = out.iter().flat_map(|v| v.spans_to_explain(now).into_iter().map(|s| (v.row.id, s))).collect();
        let mut asked = self.store.asked(&spans, known).await?;
        for view in &mut out {
            view.evidence.asked = asked.remove(&view.row.id).unwrap_or_default();
        }
        expect_what_is_usual(&mut out);
        Ok(out)
    }

    /// Views of every series that a collector keeps.
    pub(crate) async fn all_views<'s>(&self, setup: &'s Setup) -> Result<Vec<View<'s>>, ServiceError> {
        let rows = self.store.series().await?;
        self.views(setup, rows).await
    }

    async fn quarantined_slots(&self, rows: &[SeriesRow], known: Timestamp) -> Result<HashMap<i64, Spans>, ServiceError> {
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

/// Every slot from the collector's first date up to and with the session in progress.
fn expected_so_far(post: &Post<'_>, now: Timestamp) -> Spans {
    let today = post.calendar.at_or_after(now).filter(|s| s.open() <= now).or(post.calendar.last_closed(now));
    let end = today.map_or(post.collector.since, |s| s.date.plus(1));
    post.calendar.expected(post.collector.interval, post.collector.since..end)
}

/// A bar is waited for so long beyond its publishing delay before its absence counts, in microseconds.
fn grace(delay: i64) -> i64 {
    delay.clamp(300 * mizuno_core::time::SECOND, 6 * 3600 * mizuno_core::time::SECOND)
}

/// Takes out of what is expected the slots in which thinly traded instruments are only quiet. Series looked at
/// together are witnesses for each other: the same instrument at another source, and the lively ones of a venue at the same source.
fn expect_what_is_usual(views: &mut [View<'_>]) {
    let mut elsewhere: HashMap<(String, Interval, mizuno_core::Side), Vec<usize>> = HashMap::new();
    let mut together: HashMap<(String, String, Interval, mizuno_core::Side), Vec<usize>> = HashMap::new();
    let thin: Vec<usize> = (0..views.len())
        .filter(|at| {
            views[*at].row.key.interval.is_intraday()
                && !is_lively(views[*at].row.key.interval, &views[*at].standing, &views[*at].answered())
        })
        .collect();
    if thin.is_empty() {
        return;
    }
    for (at, view) in views.iter().enumerate() {
        let key = &view.row.key;
        elsewhere.entry((key.symbol.clone(), key.interval, key.side)).or_default().push(at);
        together.entry((view.post.venue.code.clone(), key.source.clone(), key.interval, key.side)).or_default().push(at);
    }
    let outages: HashMap<_, Spans> = together.into_iter().map(|(group, members)| (group, outage(views, &members))).collect();
    for at in thin {
        let view = &views[at];
        let key = &view.row.key;
        let others = elsewhere.get(&(key.symbol.clone(), key.interval, key.side)).into_iter().flatten().filter(|other| **other != at);
        let mut never: Vec<Span> = others.flat_map(|other| views[*other].standing.held.iter().cloned()).collect();
        never.extend(view.evidence.quarantined.iter().cloned());
        let group = (view.post.venue.code.clone(), key.source.clone(), key.interval, key.side);
        never.extend(outages.get(&group).into_iter().flatten().cloned());
        let found = quiet(view.post.calendar, key.interval, &view.standing, &view.answered(), &never.into_iter().collect());
        let view = &mut views[at];
        view.standing.expected = difference(&view.standing.expected, &found);
        view.quiet = found;
    }
}

/// The slots that none of the lively series of a group has, though all were asked for; of fewer than three it would say nothing.
fn outage(views: &[View<'_>], members: &[usize]) -> Spans {
    let lively = members.iter().map(|at| &views[*at]).filter(|v| is_lively(v.row.key.interval, &v.standing, &v.answered()));
    let mut missing = lively.map(|v| v.standing.missing());
    let (Some(first), Some(second), Some(third)) = (missing.next(), missing.next(), missing.next()) else { return Spans::new() };
    missing.fold(intersection(&intersection(&first, &second), &third), |all, more| intersection(&all, &more))
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

    /// What the source has answered for.
    fn answered(&self) -> Spans {
        self.evidence.asked.iter().filter(|a| a.outcome != Outcome::Failed).map(|a| a.window.clone()).collect()
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
        let (interval, delay) = (self.row.key.interval, self.post.offer.delay);
        let settled = |sent: Timestamp| self.post.calendar.due_until(interval, sent.plus(-self.grace), delay);
        difference(&reach, &gap::resting(&self.standing.missing(), asked, now, gap::FIRST_REST, gap::LONGEST_REST, settled))
    }
}

/// What a golden series is expected to have, and has: what any source that takes part in it does, on the dates for which it is ranked.
pub(crate) struct Whole {
    pub interval: Interval,
    pub standing: Standing,
    /// A slot at or after it is not due from any source.
    due: Slot,
}

/// The views of the sources that take part in a golden series as one; `None` of none.
pub(crate) fn union<'v, 'd: 'v, V: std::borrow::Borrow<View<'d>>>(setup: &Setup, views: &'v [V]) -> Option<Whole> {
    let views: Vec<(&View<'d>, Spans)> =
        views.iter().map(std::borrow::Borrow::borrow).map(|v| (v, ranked_span(setup, v.post.calendar, &v.row.key))).collect();
    let first = views.first()?.0;
    let all = |of: &dyn Fn(&View<'d>) -> Spans| -> Spans {
        views.iter().flat_map(|(v, ranked)| intersection(&of(v), ranked).into_iter()).collect()
    };
    let due = views.iter().filter_map(|(v, _)| v.evidence.reach.as_ref().map(|r| r.end)).max().unwrap_or(Slot(i64::MAX));
    let held = all(&|v| v.standing.held.clone());
    // Where one source has answered and it is only quiet, another's silence says nothing more.
    let wanted = all(&|v| v.standing.expected.clone());
    let expected = mizuno_core::spans::union(&difference(&wanted, &all(&|v| v.quiet.clone())), &intersection(&wanted, &held));
    // A person who accepts the absence of a golden bar accepts it at each of its sources; one source's excuse excuses no other.
    let still = all(&|v| difference(&difference(&v.standing.expected, &v.standing.held), &v.standing.excused));
    let excused = difference(&difference(&expected, &held), &still);
    let standing = Standing { expected, held, excused };
    Some(Whole { interval: first.row.key.interval, standing, due })
}

impl Whole {
    /// Figures over the slots in `span` that some source should have by now.
    pub(crate) fn completeness(&self, span: &Span) -> Completeness {
        completeness(self.interval, &self.standing, span.start..self.due.min(span.end).max(span.start))
    }

    /// The stretches that no source has, closed hours between them left aside, each with how many slots it is missing.
    pub(crate) fn gaps(&self) -> Vec<(Span, u64)> {
        let due = Standing { expected: within(&self.standing.expected, &(Slot(i64::MIN)..self.due)), ..self.standing.clone() };
        gap::gaps(self.interval, &due, &Evidence::default()).into_iter().map(|g| (g.span, g.slots)).collect()
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
