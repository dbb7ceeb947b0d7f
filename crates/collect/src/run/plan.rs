//! Which windows a run asks for.

use super::{Order, live::Live};
use crate::Collect;
use mizuno_config::profile::Adjusted;
use mizuno_core::{
    Slot, Span, Spans, Timestamp,
    gap::Outcome,
    plan::{self, MaxSpan},
    spans::{difference, intersection, union, within},
    standing::Standing,
};
use mizuno_desk::{DeskError, Post, Setup, View, moments};
use mizuno_sources::Wanted;
use mizuno_store::series::SeriesRow;
use std::{
    collections::HashMap,
    hash::{Hash, Hasher},
};

/// One window still to be asked for.
#[derive(Clone)]
pub(super) struct Task {
    pub series: SeriesRow,
    pub window: Span,
}

impl Collect {
    /// The windows to ask for, newest first.
    pub(super) async fn plan(&self, setup: &Setup, post: &Post<'_>, order: &Order, live: &Live) -> Result<Vec<Task>, DeskError> {
        let now = self.desk.clock.now();
        let mut rows = self.desk.series_of(setup, post).await?;
        let mut gaps: HashMap<String, Vec<Slot>> = HashMap::new();
        for id in &order.gaps {
            let (key, slot) = moments::parse_gap_id(id)?;
            gaps.entry(key.to_string()).or_default().push(slot);
        }
        rows.retain(|r| order.symbols.is_empty() || order.symbols.contains(&r.key.symbol));
        rows.retain(|r| gaps.is_empty() || gaps.contains_key(&r.key.to_string()));
        let asked = moments::Asked { from: order.from.as_deref(), to: order.to.as_deref() };
        let range = moments::span(asked, post.collector.interval, post.calendar)?;
        let mut tasks = vec![];
        let mut again = vec![];
        let on_new_basis = if order.rebase { self.answered_on_new_basis(&rows).await? } else { HashMap::new() };
        for view in self.desk.views(setup, rows).await? {
            let wanted = gaps.get(&view.row.key.to_string());
            let mut slots = slots_to_ask(&view, order, wanted.map(Vec::as_slice), &range, now);
            if let Some(answered) = on_new_basis.get(&view.row.id) {
                slots = difference(&slots, answered);
            }
            // Where it is only quiet, a window may run over.
            let expected = union(&view.standing.expected, &slots);
            let windows = plan::windows(post.calendar, view.row.key.interval, &expected, &slots, MaxSpan::Days(post.offer.span_days));
            let windows = windows.into_iter().flat_map(|window| at_renames(setup, post, &view.row, window));
            let (old, new): (Vec<Span>, Vec<Span>) = windows.partition(|w| live.by_itself && view.is_repair(w, now));
            tasks.extend(new.into_iter().map(|window| Task { series: view.row.clone(), window }));
            again.extend(old.into_iter().map(|window| Task { series: view.row.clone(), window }));
        }
        // Windows asked for in vain before are asked for again by themselves only within a budget, newest first.
        again.sort_by_key(|t| std::cmp::Reverse(t.window.end));
        tasks.extend(again.into_iter().take(post.collector.repair.windows_a_run as usize));
        if let Some(most) = order.audit {
            tasks = sample(tasks, live.id, most);
        }
        if let Some(run) = order.failed_of {
            let filter = mizuno_store::fetches::Filter { run: Some(run), state: Some("failed"), ..Default::default() };
            let failed = self.desk.store.fetches(filter, i64::MAX).await?;
            let mut windows: HashMap<i64, Vec<Span>> = HashMap::new();
            failed.into_iter().for_each(|f| windows.entry(f.series).or_default().push(f.window));
            let windows: HashMap<i64, Spans> = windows.into_iter().map(|(series, all)| (series, all.into_iter().collect())).collect();
            tasks.retain(|t| windows.get(&t.series.id).is_some_and(|failed| failed.overlaps(&t.window)));
        }
        if post.source.folder().is_some() {
            tasks.retain(|t| {
                let symbol = post.symbol_for(setup, &t.series.key.symbol, &t.window);
                post.source.may_have(post.offer, post.venue, &Wanted { symbol: &symbol, id: None, window: &t.window })
            });
        }
        tasks.sort_by_key(|t| std::cmp::Reverse(t.window.end));
        Ok(tasks)
    }
}

impl Collect {
    /// What each series was answered for since its basis changed: nothing is collected twice.
    async fn answered_on_new_basis(&self, rows: &[SeriesRow]) -> Result<HashMap<i64, Spans>, DeskError> {
        let mut out = HashMap::new();
        for rebasing in
            self.desk.store.rebasings(None).await?.into_iter().filter(|r| r.ended_at.is_none() && rows.iter().any(|s| s.id == r.series))
        {
            let whole = Slot(i64::MIN)..Slot(i64::MAX);
            let asked = self
                .desk
                .store
                .asked(&[(rebasing.series, whole)], self.desk.store.newest())
                .await?
                .remove(&rebasing.series)
                .unwrap_or_default();
            let since = asked.iter().filter(|a| a.outcome != Outcome::Failed && a.sent >= rebasing.began_at);
            out.insert(rebasing.series, since.map(|a| a.window.clone()).collect());
        }
        Ok(out)
    }
}

/// So many of the windows, taken at random from the number of the run.
fn sample(mut tasks: Vec<Task>, run: i64, most: u32) -> Vec<Task> {
    let lot = |t: &Task| {
        let mut hasher = std::hash::DefaultHasher::new();
        (run, t.series.id, t.window.start).hash(&mut hasher);
        hasher.finish()
    };
    tasks.sort_by_key(lot);
    tasks.truncate(most as usize);
    tasks
}

/// The plan of one series: the equation, with the arguments this order gives it.
fn slots_to_ask(view: &View<'_>, order: &Order, gaps: Option<&[Slot]>, range: &Span, now: Timestamp) -> Spans {
    let look = view.post.collector.second_look;
    let interval = view.row.key.interval;
    if order.audit.is_some() {
        // What is held, but for the sessions that every run looks at again.
        let recent = plan::second_look(view.post.calendar, interval, look.sessions, &[], now, view.post.offer.delay);
        return intersection(&difference(&within(&view.standing.held, range), &recent), &view.reach(now, true));
    }
    let second_look = match (order.again, gaps) {
        (true, _) => Spans::from([range.clone()]),
        (_, Some(_)) => Spans::new(),
        _ => {
            let usual = plan::second_look(view.post.calendar, interval, look.sessions, &view.evidence.asked, now, view.post.offer.delay);
            union(&usual, &overlap(view, now))
        }
    };
    // A person who asks for a range or a gap does not want to hear that it rests.
    let by_hand = view.post.source.folder().is_some()
        || order.failed_of.is_some()
        || order.again
        || gaps.is_some()
        || order.from.is_some()
        || order.to.is_some()
        || !order.symbols.is_empty();
    // Who trades rarely may be reported late: the second look is at every slot of the calendar.
    let looked_at = union(&view.standing.expected, &intersection(&view.quiet, &second_look));
    let standing = Standing { expected: looked_at, ..view.standing.clone() };
    let all = plan::plan(&standing, &second_look, &view.reach(now, by_hand));
    match gaps {
        None => within(&all, range),
        Some(starts) => {
            let wanted = view.gaps().iter().filter(|g| starts.contains(&g.span.start)).map(|g| g.span.clone()).collect();
            intersection(&all, &wanted)
        }
    }
}

/// What a source of adjusted days is to say again whenever it says something new: the last sessions held before that,
/// which show whether it has changed its basis.
fn overlap(view: &View<'_>, now: Timestamp) -> Spans {
    let interval = view.row.key.interval;
    if view.post.offer.adjusted == Adjusted::No || interval.is_intraday() {
        return Spans::new();
    }
    let due = intersection(&view.standing.missing(), &view.reach(now, true));
    let Some(newest) = view.standing.held.last().filter(|held| due.last().is_some_and(|m| m.start >= held.end)) else {
        return Spans::new();
    };
    let sessions = view.post.calendar.sessions();
    let ended = sessions.partition_point(|s| s.slots(interval).first().is_some_and(|first| first.start < newest.end));
    let again = (view.post.collector.second_look.sessions as usize).max(3);
    sessions[ended.saturating_sub(again)..ended].iter().flat_map(|s| s.slots(interval)).collect()
}

/// A window cut where its instrument was renamed, for sources that know the past only under the symbol of that time.
fn at_renames(setup: &Setup, post: &Post<'_>, series: &SeriesRow, window: Span) -> Vec<Span> {
    let interval = series.key.interval;
    let instrument = setup.known(&series.key.symbol).filter(|_| post.source.profile.symbols.dated);
    let mut out = vec![window];
    for former in instrument.into_iter().flat_map(|i| &i.former) {
        let cut = post.calendar.span_of_dates(interval, former.until..mizuno_core::TradeDate(i32::MAX)).start;
        if let Some(last) = out.pop() {
            match last.start < cut && cut < last.end {
                true => out.extend([last.start..cut, cut..last.end]),
                false => out.push(last),
            }
        }
    }
    out
}
