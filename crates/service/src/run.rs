//! A run at work: plan, ask, keep, understand, keep, tell.

use crate::{
    basis::HELD_BACK,
    desk::Desk,
    error::ServiceError,
    http::wire,
    moments,
    setup::{Post, Setup},
    views::View,
};
use futures_util::{StreamExt, stream};
use mizuno_api::{Event, Run};
use mizuno_config::profile::Adjusted;
use mizuno_core::{
    Slot, Span, Spans, Timestamp,
    check::{self, Standards},
    plan::{self, MaxSpan, Standing},
    spans::{difference, intersection, union, within},
};
use mizuno_sources::{Answered, Decoded, Page, Place, Stop, Ticket, Wanted, decode};
use mizuno_store::{
    answers::{Answer, AnsweredPage, Failure, Understood},
    fetches::FetchRow,
    quarantine::Suspect,
    runs::{Figures, Reason, RunRow, State},
    series::SeriesRow,
};
use serde::{Deserialize, Serialize};
use std::{
    collections::{HashMap, hash_map::Entry},
    hash::{Hash, Hasher},
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::sync::watch;

/// What a run is to do; kept in the ledger, so that a run cut short can be taken up again.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Order {
    /// Only these symbols; all of the collector's when empty.
    #[serde(default)]
    pub symbols: Vec<String>,
    /// From this trade date or instant.
    #[serde(default)]
    pub from: Option<String>,
    /// To this trade date, included, or instant, not included.
    #[serde(default)]
    pub to: Option<String>,
    /// Ask also for what is held.
    #[serde(default)]
    pub again: bool,
    /// Only these gaps.
    #[serde(default)]
    pub gaps: Vec<String>,
    /// Only the windows that failed in this run.
    #[serde(default)]
    pub failed_of: Option<i64>,
    /// Ask again for so many windows of what is held, taken at random.
    #[serde(default)]
    pub audit: Option<u32>,
    /// The past of these series is collected again, since the source changed its basis.
    #[serde(default)]
    pub rebase: bool,
}

impl Order {
    /// The place a run of this order takes: there is one of each kind for a collector.
    pub(crate) fn place(&self, collector: &str) -> String {
        match self {
            Order { rebase: true, .. } => format!("the new basis of {collector}"),
            Order { audit: Some(_), .. } => format!("the audit of {collector}"),
            Order { gaps, .. } if !gaps.is_empty() => format!("the repair of {collector}"),
            _ => collector.to_owned(),
        }
    }
}

/// The runs under way. A collector has at most one, and one repair beside it.
#[derive(Default)]
pub(crate) struct LiveRuns {
    runs: Mutex<HashMap<String, Arc<Live>>>,
    stopping: AtomicBool,
}

/// A run under way.
pub(crate) struct Live {
    id: i64,
    /// Whether nobody asked for it: repairs then keep to the collector's budget.
    by_itself: bool,
    began: Instant,
    cancel: watch::Sender<Halt>,
    /// Tells those who wait for a turn at the source.
    stop: watch::Sender<bool>,
    ended: watch::Sender<bool>,
    shown: Mutex<Shown>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Halt {
    No,
    Cancelled,
    Stopping,
}

/// What is told of a run while it runs.
struct Shown {
    run: Run,
    told: Instant,
}

impl LiveRuns {
    fn lock(&self) -> std::sync::MutexGuard<'_, HashMap<String, Arc<Live>>> {
        self.runs.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The run that has a place now.
    fn at(&self, place: &str) -> Option<i64> {
        self.lock().get(place).map(|live| live.id)
    }

    /// Takes a place for a run; the run that has it already, when one has.
    fn take_place(&self, place: &str, live: &Arc<Live>) -> Result<(), i64> {
        match self.lock().entry(place.to_owned()) {
            Entry::Occupied(taken) => Err(taken.get().id),
            Entry::Vacant(free) => {
                free.insert(live.clone());
                Ok(())
            }
        }
    }

    fn find(&self, id: i64) -> Option<Arc<Live>> {
        self.lock().values().find(|l| l.id == id).cloned()
    }

    /// The figures of a run under way, fresher than the ledger's.
    pub(crate) fn figures(&self, id: i64) -> Option<Run> {
        self.find(id).map(|live| live.lock().run.clone())
    }

    /// Whether the collector has a run under way that is no repair.
    pub(crate) fn is_running(&self, collector: &str) -> bool {
        self.lock().contains_key(collector)
    }

    /// Waits until the collector's run, if it has one under way, has ended.
    pub(crate) async fn ended(&self, collector: &str) {
        let live = self.lock().get(collector).cloned();
        if let Some(live) = live {
            let _ = live.ended.subscribe().wait_for(|ended| *ended).await;
        }
    }

    /// Stops every run and waits until they have ended; none starts after this.
    pub(crate) async fn stop(&self) {
        self.stopping.store(true, Ordering::SeqCst);
        let all: Vec<Arc<Live>> = self.lock().values().cloned().collect();
        for live in all {
            live.halt(Halt::Stopping);
            let _ = live.ended.subscribe().wait_for(|ended| *ended).await;
        }
    }
}

impl Live {
    fn lock(&self) -> std::sync::MutexGuard<'_, Shown> {
        self.shown.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn halt(&self, halt: Halt) {
        self.cancel.send_replace(halt);
        self.stop.send_replace(true);
    }

    fn halted(&self) -> bool {
        *self.cancel.borrow() != Halt::No
    }

    /// Adds a fetch to the figures; says whether they should be told again.
    fn count(&self, fetch: &mizuno_api::Fetch) -> bool {
        let mut shown = self.lock();
        let run = &mut shown.run;
        match &fetch.failure {
            Some(class) => {
                run.failed += 1;
                *run.failures.entry(class.clone()).or_default() += 1;
            }
            None => run.done += 1,
        }
        run.bars_new += fetch.bars_new;
        run.bars_same += fetch.bars_same;
        run.restated += fetch.restated;
        run.refused += fetch.refused;
        run.bytes += fetch.payload_bytes;
        run.calls += fetch.attempts;
        (run.rate, run.seconds_left) = rate(self.began, run.done + run.failed, run.windows);
        let due = shown.told.elapsed() > Duration::from_millis(200);
        if due {
            shown.told = Instant::now();
        }
        due
    }
}

/// An answer of so many bytes is kept before what it says is stored: it took long to fetch.
const LARGE: usize = 1 << 20;

/// One window still to be asked for.
struct Task {
    series: SeriesRow,
    window: Span,
}

impl Desk {
    /// Starts a run and returns it; it goes on by itself.
    pub(crate) async fn start_run(self: &Arc<Self>, collector: &str, reason: Reason, order: Order) -> Result<Run, ServiceError> {
        let setup = self.setup();
        let post = setup.post(collector)?;
        for symbol in &order.symbols {
            if !setup.config.instruments_of(post.collector).any(|i| i.symbol == *symbol) {
                let known = setup.config.instruments_of(post.collector).map(|i| i.symbol.as_str());
                return Err(ServiceError::unknown("instrument of this collector", symbol, known));
            }
        }
        let asked = moments::Asked { from: order.from.as_deref(), to: order.to.as_deref() };
        moments::span(asked, post.collector.interval, post.calendar)?;
        if self.live.stopping.load(Ordering::SeqCst) {
            return Err(ServiceError::Stopping);
        }
        let place = order.place(collector);
        let scope = serde_json::to_string(&order).map_err(|e| ServiceError::Invalid(e.to_string()))?;
        if let Some(run) = self.live.at(&place) {
            return Err(ServiceError::Busy { what: place, run });
        }
        let id = self.store.begin_run(collector.to_owned(), reason, scope, self.clock.now()).await?;
        let run = wire::run(&self.store.run(id).await?, Figures::default());
        let live = Arc::new(Live {
            id,
            by_itself: matches!(reason, Reason::Schedule | Reason::Recovery),
            began: Instant::now(),
            cancel: watch::channel(Halt::No).0,
            stop: watch::channel(false).0,
            ended: watch::channel(false).0,
            shown: Mutex::new(Shown { run: run.clone(), told: Instant::now() }),
        });
        if let Err(run) = self.live.take_place(&place, &live) {
            // Two came at the same moment.
            self.store.end_run(id, State::Cancelled, self.clock.now()).await?;
            return Err(ServiceError::Busy { what: place, run });
        }
        self.events.tell(Event::Run { run: run.clone() });
        let (desk, collector) = (self.clone(), collector.to_owned());
        self.home.spawn(async move {
            desk.list_first(&collector).await;
            let setup = desk.setup();
            let state = match desk.work(&setup, &live, &collector, &order).await {
                Ok(state) => state,
                Err(error) => {
                    tracing::error!(run = id, collector, %error, "the run cannot go on");
                    State::Incomplete
                }
            };
            if let Err(error) = desk.store.end_run(id, state, desk.clock.now()).await {
                tracing::error!(run = id, %error, "the end of the run cannot be written down");
            }
            desk.live.lock().remove(&place);
            desk.tell_run(&live, true).await;
            live.ended.send_replace(true);
            if state != State::Interrupted
                && let Err(error) = desk.follow_basis(&setup, &collector, &order, state).await
            {
                tracing::error!(collector, %error, "a changed basis is not followed up");
            }
        });
        Ok(run)
    }

    /// Asks a run to stop; what it has under way is finished and kept.
    pub(crate) async fn cancel_run(&self, id: i64) -> Result<Run, ServiceError> {
        let row = self.store.run(id).await?;
        match self.live.find(id) {
            Some(live) => {
                live.halt(Halt::Cancelled);
                let _ = tokio::time::timeout(Duration::from_secs(30), live.ended.subscribe().wait_for(|ended| *ended)).await;
                self.shown_run(id).await
            }
            None => Err(ServiceError::Invalid(format!("run {id} is not running; it is {}", row.state.word()))),
        }
    }

    /// A run as the ledger has it, with what is known only while it runs.
    pub(crate) async fn shown_run(&self, id: i64) -> Result<Run, ServiceError> {
        match self.live.figures(id) {
            Some(run) => Ok(run),
            None => self.shown(&self.store.run(id).await?).await,
        }
    }

    /// The same for a row of the ledger. The ledger's figures are added up only where nobody has them.
    pub(crate) async fn shown(&self, row: &RunRow) -> Result<Run, ServiceError> {
        match self.live.figures(row.id) {
            Some(run) => Ok(run),
            None => Ok(wire::run(row, self.store.figures(row.id).await?)),
        }
    }

    async fn tell_run(&self, live: &Live, last: bool) {
        let run = if last { self.shown_run(live.id).await.ok() } else { Some(live.lock().run.clone()) };
        if let Some(run) = run {
            self.events.tell(Event::Run { run });
        }
    }

    async fn work(&self, setup: &Setup, live: &Live, collector: &str, order: &Order) -> Result<State, ServiceError> {
        let post = setup.post(collector)?;
        let tasks = self.plan(setup, &post, order, live).await?;
        self.store.plan_run(live.id, tasks.len() as u64).await?;
        live.lock().run.windows = tasks.len() as u64;
        self.tell_run(live, false).await;
        let at_once = post.source.profile.limits.at_once as usize;
        let mut results = stream::iter(tasks)
            .take_while(|_| std::future::ready(!live.halted()))
            .map(|task| self.collect(setup, live, post, task))
            .buffer_unordered(at_once);
        while let Some(result) = results.next().await {
            result?;
        }
        let failed = live.lock().run.failed;
        Ok(match *live.cancel.borrow() {
            Halt::Cancelled => State::Cancelled,
            Halt::Stopping => State::Interrupted,
            Halt::No if failed > 0 => State::Incomplete,
            Halt::No => State::Complete,
        })
    }

    /// The windows to ask for, newest first.
    async fn plan(&self, setup: &Setup, post: &Post<'_>, order: &Order, live: &Live) -> Result<Vec<Task>, ServiceError> {
        let now = self.clock.now();
        let mut rows = self.series_of(setup, post).await?;
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
        for view in self.views(setup, rows).await? {
            let wanted = gaps.get(&view.row.key.to_string());
            let slots = slots_to_ask(&view, order, wanted.map(Vec::as_slice), &range, now);
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
            let failed = self.store.fetches(filter, i64::MAX).await?;
            let touches =
                |t: &Task| failed.iter().any(|f| f.series == t.series.id && f.window.start < t.window.end && t.window.start < f.window.end);
            tasks.retain(touches);
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

    /// One window from the asking to the telling.
    async fn collect(&self, setup: &Setup, live: &Live, post: Post<'_>, task: Task) -> Result<(), ServiceError> {
        let Task { series, window } = task;
        let symbol = post.symbol_for(setup, &series.key.symbol, &window);
        let id = setup.id(&post.source.profile.name, &series.key.symbol);
        let ticket = Ticket { who: post.collector.name.clone(), newest: post.is_newest(&window, self.clock.now()) };
        let wanted = Wanted { symbol: &symbol, id, window: &window };
        let (stop, attempts) = (Stop::when(live.stop.subscribe()), post.source.profile.limits.attempts);
        let Some(asked) = post.source.ask(post.offer, post.venue, &wanted, &ticket, stop, attempts).await else {
            return Ok(());
        };
        let page = |p: &Answered| AnsweredPage {
            part: p.part.clone(),
            request: p.request.clone(),
            status: p.status,
            media_type: p.media_type.clone(),
            body: p.body.clone(),
        };
        let mut pages: Vec<AnsweredPage> = asked.pages.iter().map(page).collect();
        if pages.is_empty() {
            pages.push(AnsweredPage { request: "not sent".to_owned(), ..AnsweredPage::default() });
        }
        let answer = Answer {
            run: live.id,
            series: series.id,
            window,
            asked_at: asked.asked_at,
            answered_at: asked.answered_at,
            attempts: asked.attempts,
            pages,
        };
        let row = match asked.outcome {
            Ok(decoded) => {
                let pages: Vec<Page<'_>> = asked.pages.iter().map(Answered::page).collect();
                self.keep(&post, &series, answer, &decoded, &pages).await?
            }
            Err(failure) => {
                let failure = Failure { class: failure.class.word().to_owned(), message: failure.message };
                self.store.keep_failure(answer, failure).await?
            }
        };
        self.tell_fetch(live, &post, &wire::fetch(&row, &series.key)).await;
        Ok(())
    }

    /// Keeps an answer and what it says; the row with its figures.
    async fn keep(
        &self,
        post: &Post<'_>,
        series: &SeriesRow,
        answer: Answer,
        decoded: &Decoded,
        pages: &[Page<'_>],
    ) -> Result<FetchRow, ServiceError> {
        let interval = series.key.interval;
        let understood = match self.understand(post, series, (answer.run, answer.asked_at, answer.answered_at), decoded, pages).await {
            Err(ServiceError::Store(error)) if error.is_of_the_series() => {
                return Ok(self.store.keep_failure(answer, Failure::not_stored(&error)).await?);
            }
            understood => understood?,
        };
        if pages.iter().map(|p| p.body.len()).sum::<usize>() < LARGE {
            return Ok(self.store.keep(answer, interval, understood, self.clock.now()).await?);
        }
        let row = self.store.keep_answer(answer).await?;
        Ok(self.store.keep_understood(row, interval, understood, self.clock.now()).await?)
    }

    /// Sorts what an answer says into what to keep and what not to believe.
    pub(crate) async fn understand(
        &self,
        post: &Post<'_>,
        series: &SeriesRow,
        (run, asked_at, answered_at): (i64, Timestamp, Timestamp),
        decoded: &Decoded,
        pages: &[Page<'_>],
    ) -> Result<Understood, ServiceError> {
        let interval = series.key.interval;
        let standards = Standards { calendar: post.calendar, interval, asked_at, answered_at, any_price: post.offer.any_price };
        let mut sorted = check::sort(&decoded.bars, &standards);
        let held_back = self.hold_back(post, series, run, &mut sorted.sound).await?;
        let profile = &post.source.profile;
        let spelled = profile.symbols.of(&series.key.symbol);
        let text = |place: Place| decode::text_of(&post.offer.answer, &spelled, profile.limits.largest_answer(), pages, place);
        let place = |i: usize| decoded.places.get(i).copied().unwrap_or(Place { page: 0, row: 0 });
        let suspect =
            |slot, place: Place, flaw: &str, text| Suspect { slot, page: place.page, line: place.row, flaw: flaw.to_owned(), text };
        let flawed = sorted.flawed.iter().map(|&(i, flaw)| suspect(Some(decoded.bars.rows[i].slot), place(i), flaw.word(), text(place(i))));
        let held_back = held_back.into_iter().map(|slot| {
            let at = decoded.bars.rows.iter().position(|b| b.slot == slot).map_or(Place { page: 0, row: 0 }, place);
            suspect(Some(slot), at, HELD_BACK, text(at))
        });
        let refused = decoded.refused.iter().map(|r| suspect(None, r.place, "unreadable", format!("{} ({})", text(r.place), r.reason)));
        Ok(Understood {
            rows: decoded.rows,
            suspects: flawed.chain(held_back).chain(refused).collect(),
            bars: sorted.sound,
            unfinished: sorted.unfinished,
        })
    }

    async fn tell_fetch(&self, live: &Live, post: &Post<'_>, fetch: &mizuno_api::Fetch) {
        let due = live.count(fetch);
        if due {
            let run = &mut live.lock().run;
            run.calls_in_last_minute = Some(post.source.gate().used_this_minute());
            run.calls_a_minute = Some(post.source.profile.limits.calls_per_minute);
        }
        self.events.tell(Event::Fetch { fetch: fetch.clone() });
        if due {
            self.tell_run(live, false).await;
        }
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
            let wanted = view.gaps().into_iter().filter(|g| starts.contains(&g.span.start)).map(|g| g.span).collect();
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

/// Windows a second and seconds left, on the wall, once there is something to tell them from.
fn rate(began: Instant, finished: u64, planned: u64) -> (Option<f64>, Option<f64>) {
    let elapsed = began.elapsed();
    if finished == 0 || elapsed < Duration::from_millis(50) {
        return (None, None);
    }
    let rate = finished as f64 / elapsed.as_secs_f64();
    (Some(rate), Some(planned.saturating_sub(finished) as f64 / rate))
}
