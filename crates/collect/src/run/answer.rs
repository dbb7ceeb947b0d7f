//! One window, from the asking to the telling.

use super::{live::Live, plan::Task};
use crate::{Collect, basis::HELD_BACK};
use futures_util::FutureExt;
use mizuno_config::profile::OutsideHours;
use mizuno_core::{
    Bar, Bars, Interval, SeriesKey, Slot, Span, Timestamp,
    check::{self, Flaw, Standards},
    time::DAY,
};
use mizuno_desk::{DeskError, Event, Post, Setup, moments};
use mizuno_sources::{Answered, Class, Decoded, Page, Place, Stop, Ticket, Wanted, decode};
use mizuno_store::{
    answers::{Answer, Understood},
    fetch::FetchRow,
    fetch::{AnsweredPage, Failed},
    quarantine::Suspect,
    series::SeriesRow,
};
use std::{
    collections::{BTreeMap, HashMap, HashSet},
    panic::AssertUnwindSafe,
};

/// A failure, where a request said from when to when and most rows lie days away from that: a day taken for a month, or another range.
fn mostly_elsewhere(post: &Post<'_>, window: &Span, decoded: &Decoded) -> Option<Failed> {
    if !post.offer.request.iter().all(|r| r.says("from") && r.says("to")) {
        return None;
    }
    // A request by days brings the whole of them, and zones move a day's ends.
    let slack = match post.collector.interval {
        Interval::Daily => 3,
        Interval::Intraday { .. } => 2 * DAY,
    };
    let near = Slot(window.start.0.saturating_sub(slack))..Slot(window.end.0.saturating_add(slack));
    let outside: Vec<Slot> = decoded.bars.rows.iter().map(|b| b.slot).filter(|s| !near.contains(s)).collect();
    let (first, last) = (outside.iter().min()?, outside.iter().max()?);
    if outside.len() * 2 <= decoded.bars.rows.len() {
        return None;
    }
    let shown = |slot: Slot| moments::written(post.collector.interval, slot);
    let message = format!(
        "{} of {} rows lie outside what was asked for, {} to {}: they are from {} to {}. Look at `stamp` in the profile (day and month may be \
         the other way round), and at how the request writes `from` and `to`",
        outside.len(),
        decoded.bars.rows.len(),
        shown(window.start),
        shown(window.end),
        shown(*first),
        shown(*last)
    );
    Some(Failed { class: Class::NotAskedFor.word().to_owned(), message })
}

/// A row that is not believed: its slot and place, the flaw, and why it cannot be read.
type Doubtful<'a> = (Option<Slot>, Place, &'a str, Option<&'a String>);
/// More rows of one answer with one flaw than this are told of together ...
const FOLDED: usize = 20;
/// ... with so many of them as examples.
const EXAMPLES: usize = 3;

/// What a run heard of a window: the answer's pages, and what was read from them.
pub struct Heard<'a> {
    pub run: i64,
    pub window: &'a Span,
    pub decoded: &'a Decoded,
    pub pages: &'a [Page<'a>],
}

/// A window that failed with what may pass, and the class of that.
pub(super) struct Left {
    pub task: Task,
    pub class: String,
}

/// An answer of so many bytes is kept before what it says is stored: it took long to fetch.
const LARGE: usize = 1 << 20;

impl Collect {
    /// One window from the asking to the telling. What failed and may pass is handed back.
    ///
    /// A fault of ours in one answer ends neither its run nor goes without a trace: it is a failure in the ledger like any other.
    pub(super) async fn collect(&self, setup: &Setup, live: &Live, post: Post<'_>, task: Task) -> Option<Left> {
        let (series, window, asked_at) = (task.series.clone(), task.window.clone(), self.desk.clock.now());
        let worked = AssertUnwindSafe(self.ask_and_keep(setup, live, &post, task.clone())).catch_unwind().await;
        let problem = match worked {
            Ok(Ok(None)) => return None,
            Ok(Ok(Some(row))) => {
                self.tell_fetch(live, &post, &row, &series.key).await;
                let class = row.failure.map(|f| f.class)?;
                return Class::of_word(&class).is_some_and(Class::may_pass).then_some(Left { task, class });
            }
            Ok(Err(error)) => error.to_string(),
            Err(_) => "a fault in mizuno itself; the log says where".to_owned(),
        };
        tracing::error!(run = live.id, series = %series.key, problem, "an answer could not be kept");
        let pages = vec![AnsweredPage { request: "see the log".to_owned(), ..AnsweredPage::default() }];
        let answer = Answer { run: live.id, series: series.id, window, asked_at, answered_at: self.desk.clock.now(), attempts: 1, pages };
        let failure = Failed { class: "not-stored".to_owned(), message: problem };
        match self.desk.store.keep_failure(answer, failure).await {
            Ok(row) => self.tell_fetch(live, &post, &row, &series.key).await,
            Err(error) => tracing::error!(run = live.id, %error, "and neither could that"),
        }
        None
    }

    /// Asks for a window and keeps what came; nothing when the run was stopped meanwhile.
    async fn ask_and_keep(&self, setup: &Setup, live: &Live, post: &Post<'_>, task: Task) -> Result<Option<FetchRow>, DeskError> {
        let Task { series, window } = task;
        // What cannot be written down is not asked for: it would be lost, and the source's calls with it.
        if !self.can_write(live).await {
            return Ok(None);
        }
        let symbol = post.symbol_for(setup, &series.key.symbol, &window);
        let id = setup.id(&post.source.profile.name, &series.key.symbol);
        let ticket = Ticket { who: post.collector.name.clone(), newest: post.is_newest(&window, self.desk.clock.now()) };
        let wanted = Wanted { symbol: &symbol, id, window: &window };
        let (stop, attempts) = (Stop::when(live.stop.subscribe()), post.source.profile.limits.attempts);
        let Some(asked) = post.source.ask(post.offer, post.venue, &wanted, &ticket, stop, attempts).await else {
            return Ok(None);
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
        loop {
            let kept = match &asked.outcome {
                Ok(decoded) => {
                    let pages: Vec<Page<'_>> = asked.pages.iter().map(Answered::page).collect();
                    self.keep(post, &series, answer.clone(), decoded, &pages).await
                }
                Err(failure) => {
                    let failure = Failed { class: failure.class.word().to_owned(), message: failure.message.clone() };
                    self.desk.store.keep_failure(answer.clone(), failure).await.map_err(DeskError::from)
                }
            };
            match kept {
                // The answer is here: it waits until there is room for it again.
                Err(DeskError::Store(error)) if error.may_pass() => {
                    if !self.can_write(live).await {
                        return Err(error.into());
                    }
                }
                kept => return kept.map(Some),
            }
        }
    }

    /// Waits until the store can write; false when the run is told to stop before that.
    pub(super) async fn can_write(&self, live: &Live) -> bool {
        if self.desk.store.stopped_writing().is_none() {
            return true;
        }
        let mut told = live.stop.subscribe();
        tokio::select! {
            () = self.desk.store.writable() => true,
            _ = told.wait_for(|stop| *stop) => false,
        }
    }

    /// Keeps an answer and what it says; the row with its figures.
    async fn keep(
        &self,
        post: &Post<'_>,
        series: &SeriesRow,
        answer: Answer,
        decoded: &Decoded,
        pages: &[Page<'_>],
    ) -> Result<FetchRow, DeskError> {
        let interval = series.key.interval;
        let standards = post.standards(interval, answer.asked_at, answer.answered_at);
        if let Some(failure) = mostly_elsewhere(post, &answer.window, decoded) {
            return Ok(self.desk.store.keep_failure(answer, failure).await?);
        }
        let window = answer.window.clone();
        let understood = match self.understand(post, series, &standards, Heard { run: answer.run, window: &window, decoded, pages }).await {
            Err(DeskError::Store(error)) if error.is_of_the_series() => {
                return Ok(self.desk.store.keep_failure(answer, Failed::not_stored(&error)).await?);
            }
            understood => understood?,
        };
        if pages.iter().map(|p| p.body.len()).sum::<usize>() < LARGE {
            return Ok(self.desk.store.keep(answer, interval, understood).await?);
        }
        let row = self.desk.store.keep_answer(answer).await?;
        Ok(self.desk.store.keep_understood(row, interval, understood).await?)
    }

    /// Sorts what an answer says into what to keep and what not to believe.
    pub async fn understand(
        &self,
        post: &Post<'_>,
        series: &SeriesRow,
        standards: &Standards<'_>,
        heard: Heard<'_>,
    ) -> Result<Understood, DeskError> {
        let Heard { run, window, decoded, pages } = heard;
        let mut sorted = check::sort(&decoded.bars, standards);
        let mut left_out = 0;
        if post.offer.answer.outside_hours == OutsideHours::LeaveOut {
            let before = sorted.flawed.len();
            sorted.flawed.retain(|(_, flaw)| *flaw != Flaw::ClosedMarket);
            left_out = (before - sorted.flawed.len()) as u64;
        }
        let outside = self.compare_only(series, window, &mut sorted.sound).await?;
        let held_back = self.hold_back(post, series, run, &mut sorted.sound).await?;
        let profile = &post.source.profile;
        let spelled = profile.symbols.of(&series.key.symbol);
        let nowhere = Place { page: 0, row: 0 };
        let place = |i: usize| decoded.places.get(i).copied().unwrap_or(nowhere);
        let by_slot: HashMap<Slot, usize> = match held_back.is_empty() {
            true => HashMap::new(),
            false => decoded.bars.rows.iter().enumerate().rev().map(|(i, bar)| (bar.slot, i)).collect(),
        };
        let flawed = sorted.flawed.iter().map(|&(i, flaw)| (Some(decoded.bars.rows[i].slot), place(i), flaw.word(), None));
        let held_back = held_back.iter().map(|slot| (Some(*slot), by_slot.get(slot).map_or(nowhere, |i| place(*i)), HELD_BACK, None));
        let refused = decoded.refused.iter().map(|r| (None, r.place, "unreadable", Some(&r.reason)));
        let doubtful: Vec<Doubtful<'_>> = flawed.chain(held_back).chain(refused).collect();
        let mut by_flaw: BTreeMap<&str, Vec<Doubtful<'_>>> = BTreeMap::new();
        for one in doubtful {
            by_flaw.entry(one.2).or_default().push(one);
        }
        let is_folded = |flaw: &str, all: &Vec<Doubtful<'_>>| flaw != HELD_BACK && all.len() > FOLDED;
        let shown = |flaw: &str, all: &Vec<Doubtful<'_>>| if is_folded(flaw, all) { EXAMPLES } else { all.len() };
        let places = by_flaw.iter().flat_map(|(flaw, all)| all[..shown(flaw, all)].iter().map(|(_, place, ..)| *place)).collect();
        let texts = decode::texts_of(&post.offer.answer, &spelled, profile.limits.largest_answer(), pages, &places);
        let text = |(_, place, _, reason): &Doubtful<'_>| {
            let text = texts.get(place).cloned().unwrap_or_default();
            reason.map_or(text.clone(), |reason| format!("{text} ({reason})"))
        };
        let mut suspects = vec![];
        for (flaw, all) in &by_flaw {
            if !is_folded(flaw, all) {
                suspects.extend(all.iter().map(|one| Suspect::one(one.0, one.1.page, one.1.row, flaw, text(one))));
                continue;
            }
            let (first, examples) = (&all[0], all[..EXAMPLES].iter().map(text).collect::<Vec<_>>());
            let slots: Vec<Span> = all.iter().filter_map(|one| one.0).map(|slot| series.key.interval.span_of(slot)).collect();
            suspects.push(Suspect {
                count: all.len() as u64,
                slots: Some(slots.into_iter().collect()),
                ..Suspect::one(first.0, first.1.page, first.1.row, flaw, examples.join(" | "))
            });
        }
        Ok(Understood { rows: decoded.rows, suspects, bars: sorted.sound, unfinished: sorted.unfinished, outside: outside + left_out })
    }

    /// Takes out of `sound` the bars that were not asked for and of which nothing is held; how many there were.
    /// Those of held slots are compared, as in a second look: a source that says something else now has restated it.
    async fn compare_only(&self, series: &SeriesRow, window: &Span, sound: &mut Bars) -> Result<u64, DeskError> {
        let beyond = |b: &&Bar| !window.contains(&b.slot);
        let (Some(first), Some(last)) = (sound.rows.iter().find(beyond), sound.rows.iter().rev().find(beyond)) else { return Ok(0) };
        let span = first.slot..series.key.interval.span_of(last.slot).end;
        let held: HashSet<Slot> = self.desk.store.bars(series, span, Timestamp::MAX).await?.rows.iter().map(|b| b.slot).collect();
        let before = sound.rows.len();
        sound.rows.retain(|b| window.contains(&b.slot) || held.contains(&b.slot));
        Ok((before - sound.rows.len()) as u64)
    }

    async fn tell_fetch(&self, live: &Live, post: &Post<'_>, fetch: &FetchRow, series: &SeriesKey) {
        let due = live.count(fetch);
        if due {
            let calls = (post.source.gate().used_this_minute(), post.source.profile.limits.calls_per_minute);
            live.lock().run.pace.calls_a_minute = Some(calls);
        }
        self.desk.events.tell(Event::Fetch(Box::new(fetch.clone()), series.clone()));
        if due {
            self.tell_run(live, false).await;
        }
    }
}
