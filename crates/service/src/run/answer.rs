//! One window, from the asking to the telling.

use super::{live::Live, plan::Task};
use crate::{
    basis::HELD_BACK,
    desk::Desk,
    error::ServiceError,
    http::wire,
    setup::{Post, Setup},
};
use mizuno_api::Event;
use mizuno_core::{
    Slot,
    check::{self, Standards},
};
use mizuno_sources::{Answered, Decoded, Page, Place, Stop, Ticket, Wanted, decode};
use mizuno_store::{
    answers::{Answer, AnsweredPage, Failure, Understood},
    fetches::FetchRow,
    quarantine::Suspect,
    series::SeriesRow,
};
use std::collections::HashMap;

/// An answer of so many bytes is kept before what it says is stored: it took long to fetch.
const LARGE: usize = 1 << 20;

impl Desk {
    /// One window from the asking to the telling.
    pub(super) async fn collect(&self, setup: &Setup, live: &Live, post: Post<'_>, task: Task) -> Result<(), ServiceError> {
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
        let standards = post.standards(interval, answer.asked_at, answer.answered_at);
        let understood = match self.understand(post, series, answer.run, &standards, decoded, pages).await {
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
        run: i64,
        standards: &Standards<'_>,
        decoded: &Decoded,
        pages: &[Page<'_>],
    ) -> Result<Understood, ServiceError> {
        let mut sorted = check::sort(&decoded.bars, standards);
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
        let doubtful: Vec<_> = flawed.chain(held_back).chain(refused).collect();
        let places = doubtful.iter().map(|(_, place, ..)| *place).collect();
        let texts = decode::texts_of(&post.offer.answer, &spelled, profile.limits.largest_answer(), pages, &places);
        let suspect = |(slot, place, flaw, reason): (Option<Slot>, Place, &str, Option<&String>)| {
            let text = texts.get(&place).cloned().unwrap_or_default();
            let text = reason.map_or(text.clone(), |reason| format!("{text} ({reason})"));
            Suspect { slot, page: place.page, line: place.row, flaw: flaw.to_owned(), text }
        };
        Ok(Understood {
            rows: decoded.rows,
            suspects: doubtful.into_iter().map(suspect).collect(),
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
