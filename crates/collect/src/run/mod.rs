//! A run at work: plan, ask, understand, keep, tell.
//!
//! [`plan`] says which windows, [`answer`] what becomes of one; [`live`] is what is known of a run while it runs.

mod answer;
mod live;
mod plan;

pub(crate) use answer::Heard;
pub use live::LiveRuns;
pub use mizuno_desk::order::Order;

use crate::Collect;
use futures_util::{FutureExt, StreamExt, future::BoxFuture, stream};
use live::{Halt, Live};
use mizuno_desk::{
    DeskError, Event, Setup,
    events::{Pace, RunNow},
    moments,
};
use mizuno_store::runs::{Figures, Reason, RunRow, State};
use std::{panic::AssertUnwindSafe, sync::Arc, time::Duration};

/// Windows that failed with what may pass are asked for again at the end of their run, so many times.
const AGAIN: u32 = 2;

impl Collect {
    /// Starts a run and returns it; it goes on by itself.
    pub async fn start_run(self: &Arc<Self>, collector: &str, reason: Reason, order: Order) -> Result<RunNow, DeskError> {
        let setup = self.desk.setup();
        let post = setup.post(collector)?;
        let mut order = order;
        // An order from before a rename names an instrument as it was called then.
        for symbol in &mut order.symbols {
            if let Ok(instrument) = setup.instrument(symbol) {
                symbol.clone_from(&instrument.symbol);
            }
        }
        for symbol in &order.symbols {
            if !setup.config.instruments_of(post.collector).any(|i| i.symbol == *symbol) {
                let known = setup.config.instruments_of(post.collector).map(|i| i.symbol.as_str());
                return Err(DeskError::unknown("instrument of this collector", symbol, known));
            }
        }
        let asked = moments::Asked { from: order.from.as_deref(), to: order.to.as_deref() };
        moments::span(asked, post.collector.interval, post.calendar)?;
        if self.live.are_stopping() {
            return Err(DeskError::Stopping);
        }
        let place = order.place(collector);
        let scope = serde_json::to_string(&order).map_err(|e| DeskError::fault("writing down the order of a run", e))?;
        if let Some(run) = self.live.at(&place) {
            return Err(DeskError::Busy { what: place, run });
        }
        let id = self.desk.store.begin_run(collector.to_owned(), reason, scope).await?;
        let row = self.desk.store.run(id).await?;
        let run = RunNow { why: order.why(reason), row, figures: Figures::default(), pace: Pace::default(), waits_for: None };
        let live = Arc::new(Live::new(run.clone(), matches!(reason, Reason::Schedule | Reason::Recovery)));
        if let Err(run) = self.live.take_place(&place, &live) {
            // Two came at the same moment.
            self.desk.store.end_run(id, State::Cancelled).await?;
            return Err(DeskError::Busy { what: place, run });
        }
        self.desk.events.tell(Event::Run(Box::new(run.clone())));
        let (collect, collector) = (self.clone(), collector.to_owned());
        self.desk.home.spawn(async move {
            let mut told = live.stop.subscribe();
            let waits = |source: &str| {
                live.lock().run.waits_for = Some(format!("the instrument list of {source}"));
                collect.desk.events.tell(Event::Run(Box::new(live.lock().run.clone())));
            };
            tokio::select! {
                () = collect.list_first(&collector, waits) => {}
                // A list of a source that is paused may be waited for for minutes.
                _ = told.wait_for(|stop| *stop) => {}
            }
            live.lock().run.waits_for = None;
            let setup = collect.desk.setup();
            // A fault of ours in the middle of a run must not keep its place for ever.
            let work = AssertUnwindSafe(collect.work_when_writable(&setup, &live, &collector, &order)).catch_unwind();
            let state = match collect.unless_replaced(&setup, &live, &collector, work).await {
                Ok(Ok(state)) => state,
                Ok(Err(error)) => {
                    tracing::error!(run = id, collector, %error, "the run cannot go on");
                    State::Incomplete
                }
                Err(_) => {
                    tracing::error!(run = id, collector, "the run met a fault in mizuno itself; the lines above say where");
                    State::Incomplete
                }
            };
            collect.write_end(&live, state).await;
            // What follows has begun before anybody hears that this one has ended.
            if state != State::Interrupted {
                match AssertUnwindSafe(collect.follow_basis(&setup, &collector, &order, state, id)).catch_unwind().await {
                    Ok(Ok(())) => {}
                    Ok(Err(error)) => tracing::error!(collector, %error, "a changed basis is not followed up"),
                    Err(_) => tracing::error!(collector, "following a changed basis met a fault in mizuno itself"),
                }
            }
            collect.live.leave(&place);
            if state == State::Interrupted && !collect.live.are_stopping() {
                collect.take_up((id, &collector), order).await;
            }
            collect.tell_run(&live, true).await;
            live.ended.send_replace(true);
        });
        Ok(run)
    }

    /// Goes on with the order of a run that was cut short; where another has begun meanwhile, that one does.
    pub(crate) fn take_up<'a>(self: &'a Arc<Self>, (interrupted, collector): (i64, &'a str), order: Order) -> BoxFuture<'a, ()> {
        // Boxed, since it starts a run from within the end of one.
        Box::pin(async move {
            match self.start_run(collector, Reason::Recovery, order).await {
                Ok(again) => tracing::info!(interrupted, run = again.row.id, collector, "taking up the run that was cut short"),
                Err(DeskError::Busy { .. } | DeskError::Stopping) => {}
                Err(error) => tracing::warn!(interrupted, collector, %error, "the run that was cut short is not taken up"),
            }
        })
    }

    /// Asks a run to stop; what it has under way is finished and kept.
    pub async fn cancel_run(&self, id: i64) -> Result<RunNow, DeskError> {
        let row = self.desk.store.run(id).await?;
        match self.live.find(id) {
            Some(live) => {
                live.halt(Halt::Cancelled);
                let _ = tokio::time::timeout(Duration::from_secs(30), live.ended.subscribe().wait_for(|ended| *ended)).await;
                self.shown_run(id).await
            }
            None => Err(DeskError::Over(format!("run {id} is not running; it is {}", row.state.word()))),
        }
    }

    /// The newest run of a collector's whole order. A repair, an audit or a new basis is not one, and masks none that was missed.
    pub async fn newest_run(&self, collector: &str) -> Result<Option<RunRow>, DeskError> {
        let is_whole = |run: &RunRow| serde_json::from_str::<Order>(&run.scope).is_ok_and(|order| order.place(collector) == collector);
        Ok(self.desk.store.runs(Some(collector), 200).await?.into_iter().find(is_whole))
    }

    /// A run as the ledger has it, with what is known only while it runs.
    pub async fn shown_run(&self, id: i64) -> Result<RunNow, DeskError> {
        match self.live.figures(id) {
            Some(run) => Ok(run),
            None => self.shown(&self.desk.store.run(id).await?).await,
        }
    }

    /// The same for a row of the ledger. The ledger's figures are added up only where nobody has them.
    pub async fn shown(&self, row: &RunRow) -> Result<RunNow, DeskError> {
        match self.live.figures(row.id) {
            Some(run) => Ok(run),
            None => {
                // One that was at work when its row was read has ended since.
                let row = if row.state == State::Running { self.desk.store.run(row.id).await? } else { row.clone() };
                let (why, figures) = (Order::of(&row).why(row.reason), self.desk.store.figures(row.id).await?);
                Ok(RunNow { row, why, figures, pace: Pace::default(), waits_for: None })
            }
        }
    }

    async fn tell_run(&self, live: &Live, last: bool) {
        let run = if last { self.shown_run(live.id).await.ok() } else { Some(live.lock().run.clone()) };
        if let Some(run) = run {
            self.desk.events.tell(Event::Run(Box::new(run)));
        }
    }

    /// Works on a run, and stops it where its source gets another profile: what the old one is asked for may never come.
    async fn unless_replaced<T>(&self, setup: &Setup, live: &Live, collector: &str, work: impl Future<Output = T>) -> T {
        let replaced = async {
            if let Ok(post) = setup.post(collector) {
                self.replaced(&post.source.profile).await;
                live.halt(Halt::Replaced);
            }
            std::future::pending().await
        };
        tokio::select! {
            done = work => done,
            done = replaced => done,
        }
    }

    /// As [`Collect::work`]; a full disk before the first window only delays it.
    async fn work_when_writable(&self, setup: &Setup, live: &Live, collector: &str, order: &Order) -> Result<State, DeskError> {
        loop {
            match self.work(setup, live, collector, order).await {
                Err(DeskError::Store(error)) if error.may_pass() && self.can_write(live).await => {}
                done => return done,
            }
        }
    }

    /// Writes down how a run ended, as soon as that can be written. Where it cannot before the service stops, the next start does.
    async fn write_end(&self, live: &Live, state: State) {
        let mut told = live.cancel.subscribe();
        let mut stopping = false;
        loop {
            match self.desk.store.end_run(live.id, state).await {
                Err(error) if error.may_pass() && !stopping => {
                    stopping = tokio::select! {
                        () = self.desk.store.writable() => false,
                        _ = told.wait_for(|halt| *halt == Halt::Stopping) => true,
                    }
                }
                Err(error) => return tracing::error!(run = live.id, %error, "the end of the run cannot be written down"),
                Ok(()) => return,
            }
        }
    }

    async fn work(&self, setup: &Setup, live: &Live, collector: &str, order: &Order) -> Result<State, DeskError> {
        let post = setup.post(collector)?;
        let tasks = self.plan(setup, &post, order, live).await?;
        self.desk.store.plan_run(live.id, tasks.len() as u64).await?;
        live.lock().run.row.windows = tasks.len() as i64;
        self.tell_run(live, false).await;
        let at_once = post.source.profile.limits.at_once as usize;
        let mut tasks = tasks;
        for round in 0..=AGAIN {
            let mut results = stream::iter(tasks)
                .take_while(|_| std::future::ready(!live.halted()))
                .map(|task| self.collect(setup, live, post, task))
                .buffer_unordered(at_once);
            // What failed and may pass is asked for once more when all others have been.
            let mut again = vec![];
            while let Some(left) = results.next().await {
                again.extend(left);
            }
            drop(results);
            if again.is_empty() || round == AGAIN || live.halted() {
                break;
            }
            live.put_back(&again.iter().map(|l| l.class.as_str()).collect::<Vec<_>>());
            tasks = again.into_iter().map(|l| l.task).collect();
        }
        let failed = live.lock().run.figures.failed;
        Ok(match *live.cancel.borrow() {
            Halt::Cancelled => State::Cancelled,
            Halt::Stopping | Halt::Replaced => State::Interrupted,
            Halt::No if failed > 0 => State::Incomplete,
            Halt::No => State::Complete,
        })
    }
}
