//! One errand to a source: all requests and pages that a window or a list takes, tried again while that can help.

use crate::{
    Failure, Source,
    credentials::Token,
    decode::{self, Decoded, ListRow, Page, Refused},
    failure::Class,
    gate::{self, Ticket},
    request::{self, Wanted, Words},
    shared::Kept,
    transport::{Attempt, Call},
};
use mizuno_config::profile::{List, Offer, Pages, Request};
use mizuno_core::{Slot, Span, Timestamp, Venue};
use rand::Rng;
use std::{borrow::Cow, sync::Arc};
use tokio::sync::watch;

/// Pages of one answer at most; a source that never ends is not followed for ever.
const MOST_PAGES: usize = 5_000;

/// The pages of one answer are held together, so all of them take no more than this many times the largest answer.
const MOST_ANSWERS: usize = 4;
/// What is under way when a run is told to stop has this long to come to an end.
const LAST_WAIT: std::time::Duration = std::time::Duration::from_secs(3);

/// Says when whoever asked no longer wants to wait.
#[derive(Clone, Debug, Default)]
pub struct Stop(Option<watch::Receiver<bool>>);

impl Stop {
    /// Stops when the value becomes true.
    #[must_use]
    pub fn when(told: watch::Receiver<bool>) -> Stop {
        Stop(Some(told))
    }

    async fn told(&mut self) {
        if let Some(told) = &mut self.0
            && told.wait_for(|stop| *stop).await.is_ok()
        {
            return;
        }
        std::future::pending().await
    }
}

/// One page that came back.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answered {
    /// Which part it brings, where an answer has several.
    pub part: Option<String>,
    /// Method and address, without secrets.
    pub request: String,
    /// HTTP status.
    pub status: Option<u16>,
    /// Media type.
    pub media_type: Option<String>,
    /// Its bytes, with every secret covered; none when no answer came.
    pub body: Option<Vec<u8>>,
}

impl Answered {
    /// The page as the decoder takes it.
    #[must_use]
    pub fn page(&self) -> Page<'_> {
        Page { part: self.part.as_deref(), media_type: self.media_type.as_deref(), body: self.body.as_deref().unwrap_or_default() }
    }
}

/// How asking for one window ended, after as many attempts as it took.
#[derive(Debug)]
pub struct Asked {
    /// The pages that came, in order.
    pub pages: Vec<Answered>,
    /// Requests sent.
    pub attempts: u32,
    /// When the last request was sent.
    pub asked_at: Timestamp,
    /// When its answer, or failure, was complete.
    pub answered_at: Timestamp,
    /// What the answer says, or why there is none to use.
    pub outcome: Result<Decoded, Failure>,
}

/// How asking for a list ended.
#[derive(Debug)]
pub struct Listed {
    /// The pages that came, in order.
    pub pages: Vec<Answered>,
    /// Its rows and the rows refused, or why there are none.
    pub outcome: Result<(Vec<ListRow>, Vec<Refused>), Failure>,
}

impl Source {
    /// Asks for one window of one instrument, and again while that can help, `attempts` times in all.
    /// `None` when told to stop while it waited for its turn.
    pub async fn ask(
        &self,
        offer: &Offer,
        venue: &Venue,
        wanted: &Wanted<'_>,
        ticket: &Ticket,
        stop: Stop,
        attempts: u32,
    ) -> Option<Asked> {
        let mut errand = Errand::new(self, ticket, stop, attempts);
        let spelled = self.profile.symbols.of(wanted.symbol);
        let most = self.profile.limits.largest_answer();
        let outcome = loop {
            errand.pages.clear();
            let outcome = match errand.window(offer, venue, wanted).await {
                Err(Halt::Stopped) => return None,
                Err(Halt::Failed(failure)) => break Err(failure),
                Ok(()) => {
                    let pages: Vec<Page<'_>> = errand.pages.iter().map(Answered::page).collect();
                    decode::decode(offer, venue, &spelled, most, &pages)
                        .and_then(|decoded| not_stale(decoded, wanted.window, errand.asked_at))
                }
            };
            match outcome {
                Err(failure) if failure.class.may_pass() && errand.try_again(&failure, None).await => errand.forget_shared().await,
                done => break done,
            }
        };
        if outcome.as_ref().is_err_and(|f| f.class.may_pass()) {
            errand.forget_shared().await;
        }
        let outcome = outcome.map_err(|f| self.without_secrets(f));
        Some(Asked { pages: errand.pages, attempts: errand.sent, asked_at: errand.asked_at, answered_at: errand.answered_at, outcome })
    }

    /// Asks for a list. `None` when told to stop.
    pub async fn ask_list(&self, list: &List, ticket: &Ticket, stop: Stop) -> Option<Listed> {
        let mut errand = Errand::new(self, ticket, stop, self.profile.limits.attempts);
        let most = self.profile.limits.largest_answer();
        let outcome = loop {
            errand.pages.clear();
            let mut words = Words::default();
            list.request.with.iter().for_each(|(name, value)| words.set(name, value.as_str()));
            let outcome = match errand.request(&list.request, words, None, None).await {
                Err(Halt::Stopped) => return None,
                Err(Halt::Failed(failure)) => break Err(failure),
                Ok(()) => {
                    let pages: Vec<Page<'_>> = errand.pages.iter().map(Answered::page).collect();
                    decode::decode_list(list, most, &pages)
                }
            };
            match outcome {
                Err(failure) if errand.try_again(&failure, None).await => {}
                done => break done,
            }
        };
        Some(Listed { pages: errand.pages, outcome: outcome.map_err(|f| self.without_secrets(f)) })
    }

    fn without_secrets(&self, failure: Failure) -> Failure {
        Failure { class: failure.class, message: self.covered().text(&failure.message) }
    }
}

/// Bars that all lie before what was asked for are yesterday's answer again.
fn not_stale(decoded: Decoded, window: &Span, asked_at: Timestamp) -> Result<Decoded, Failure> {
    let newest = decoded.bars.rows.iter().map(|b| b.slot).max();
    match newest.filter(|newest| *newest < window.start) {
        Some(newest) => {
            let moment = |slot: Slot| if slot.0.abs() > 10_000_000 { slot.instant().to_string() } else { slot.date().to_string() };
            Err(Failure::new(
                Class::Stale,
                format!(
                    "asked at {asked_at} for {} and later, and got bars up to {} only: an old answer again",
                    moment(window.start),
                    moment(newest)
                ),
            ))
        }
        None => Ok(decoded),
    }
}

enum Halt {
    Stopped,
    Failed(Failure),
}

impl From<Failure> for Halt {
    fn from(failure: Failure) -> Halt {
        Halt::Failed(failure)
    }
}

/// What a request that moves through a range of time needs to know.
struct Range<'a> {
    offer: &'a Offer,
    venue: &'a Venue,
    symbol: &'a str,
    window: Span,
}

struct Errand<'s> {
    source: &'s Source,
    ticket: &'s Ticket,
    stop: Stop,
    attempts: u32,
    failed: u32,
    pause: i64,
    pages: Vec<Answered>,
    /// Shared answers it has used, by address, and when each was fetched.
    shared: Vec<(String, Timestamp)>,
    /// The token that the last call carried.
    token: Option<String>,
    sent: u32,
    asked_at: Timestamp,
    answered_at: Timestamp,
}

impl<'s> Errand<'s> {
    fn new(source: &'s Source, ticket: &'s Ticket, stop: Stop, attempts: u32) -> Errand<'s> {
        let (now, pause) = (source.clock.now(), source.profile.limits.first_pause);
        Errand {
            source,
            ticket,
            stop,
            attempts,
            failed: 0,
            pause,
            pages: vec![],
            shared: vec![],
            token: None,
            sent: 0,
            asked_at: now,
            answered_at: now,
        }
    }

    /// Waits before another try, when that can help and there are tries left; whether to try again.
    async fn try_again(&mut self, failure: &Failure, retry_after: Option<i64>) -> bool {
        self.failed += 1;
        if !failure.class.may_pass() || self.failed >= self.attempts {
            return false;
        }
        let wait = retry_after.unwrap_or_else(|| rand::rng().random_range(self.pause / 2..=self.pause));
        tracing::debug!(
            source = self.source.profile.name,
            class = failure.class.word(),
            failed = self.failed,
            "asking again after a pause"
        );
        self.pause = (self.pause.saturating_mul(2)).min(self.source.profile.limits.longest_pause);
        tokio::select! {
            () = self.source.clock.sleep(wait) => true,
            () = self.stop.told() => false,
        }
    }

    /// Lets the shared answers that were of no use be fetched afresh, by whoever needs them next.
    async fn forget_shared(&mut self) {
        for (address, at) in self.shared.drain(..) {
            self.source.shared.forget(&address, at).await;
        }
    }

    /// Every request of a window.
    async fn window(&mut self, offer: &Offer, venue: &Venue, wanted: &Wanted<'_>) -> Result<(), Halt> {
        let profile = &self.source.profile;
        for request in request::choose(offer, venue, wanted.window)? {
            let words = request::words(profile, offer, venue, request, wanted)?;
            let range = Range { offer, venue, symbol: wanted.symbol, window: wanted.window.clone() };
            self.request(request, words, request.part.clone(), Some(range)).await?;
        }
        Ok(())
    }

    /// Every page of one request.
    async fn request(&mut self, request: &Request, mut words: Words, part: Option<String>, range: Option<Range<'_>>) -> Result<(), Halt> {
        let base = self.source.profile.base.clone();
        let path = request.path().ok_or_else(|| Failure::new(Class::BadRequest, "the request has no path"))?;
        if let Some(listed_at) = &request.listed_at {
            self.is_listed(&words.address(&base, listed_at)?, &words.address(&base, path)?).await?;
        }
        let mut cursors = std::collections::HashSet::new();
        let mut bytes = 0;
        let (mut number, mut window) = (1u32, range.as_ref().map(|r| r.window.clone()));
        match &request.pages {
            Some(Pages::Number { variable, first, .. }) => {
                number = *first;
                words.set(variable, number.to_string());
            }
            Some(Pages::Cursor { variable, .. }) => words.set(variable, ""),
            _ => {}
        }
        let mut address = words.address(&base, path)?;
        loop {
            let body = match (&request.body, &request.post) {
                (Some(body), Some(_)) => Some(words.json(body)),
                (None, Some(_)) => Some("{}".to_owned()),
                _ => None,
            };
            let attempt = self.page(address.clone(), body.clone(), part.clone(), request.shared).await?;
            let Some(pages) = &request.pages else { return Ok(()) };
            // A page that cannot be understood is asked for again; those before it are not.
            if let (Some(range), Some(page)) = (&range, self.pages.last()) {
                let symbol = self.source.profile.symbols.of(range.symbol);
                let most = self.source.profile.limits.largest_answer();
                if let Err(failure) = decode::count(range.offer, &symbol, most, &page.page()) {
                    if failure.class.may_pass() && self.try_again(&failure, None).await {
                        self.pages.pop();
                        continue;
                    }
                    return Err(failure.into());
                }
            }
            if self.pages.len() >= MOST_PAGES {
                return Err(Failure::new(Class::TooLarge, format!("the answer does not end after {MOST_PAGES} pages")).into());
            }
            bytes += attempt.body.as_ref().map_or(0, Vec::len);
            let most = self.source.profile.limits.largest_answer() * MOST_ANSWERS;
            if bytes > most {
                let said = format!(
                    "its pages are larger than {} MiB together, {MOST_ANSWERS} times the profile's largest_answer_mib; ask for shorter windows with span_days",
                    most >> 20
                );
                return Err(Failure::new(Class::TooLarge, said).into());
            }
            let rows = |full: u32| -> Result<bool, Failure> {
                let (Some(range), Some(page)) = (&range, self.pages.last()) else { return Ok(false) };
                let symbol = self.source.profile.symbols.of(range.symbol);
                let most = self.source.profile.limits.largest_answer();
                Ok(decode::count(range.offer, &symbol, most, &page.page())? >= u64::from(full.max(1)))
            };
            match pages {
                Pages::Cursor { at, variable } => {
                    match attempt.body.as_deref().and_then(|body| decode::text_at(body, at)) {
                        Some(cursor) if cursors.insert(cursor.clone()) => words.set(variable, cursor),
                        Some(cursor) => {
                            let said = format!(
                                "the cursor `{cursor}` comes a second time after {} pages: the answer goes round in a circle",
                                self.pages.len()
                            );
                            return Err(Failure::new(Class::TooLarge, said).into());
                        }
                        None => return Ok(()),
                    }
                    address = words.address(&base, path)?;
                }
                Pages::Number { variable, full, .. } => {
                    if !rows(*full)? {
                        return Ok(());
                    }
                    number += 1;
                    words.set(variable, number.to_string());
                    address = words.address(&base, path)?;
                }
                Pages::Link {} => match attempt.next {
                    Some(next) => address = beside(&address, &next)?,
                    None => return Ok(()),
                },
                Pages::Older { full } | Pages::Newer { full } => {
                    let (Some(range), Some(span)) = (&range, &mut window) else { return Ok(()) };
                    if !rows(*full)? || !self.narrow(range, span, matches!(pages, Pages::Older { .. }))? {
                        return Ok(());
                    }
                    request::span(&mut words, range.offer.interval, range.venue, request, span);
                    address = words.address(&base, path)?;
                }
            }
        }
    }

    /// Leaves out of `span` what the last page has brought; whether there is anything left to ask for.
    fn narrow(&self, range: &Range<'_>, span: &mut Span, older: bool) -> Result<bool, Failure> {
        let symbol = self.source.profile.symbols.of(range.symbol);
        let most = self.source.profile.limits.largest_answer();
        let last: Vec<Page<'_>> = self.pages.last().map(|p| Page { part: None, ..p.page() }).into_iter().collect();
        let mut plain = range.offer.clone();
        plain.side = mizuno_core::Side::Trade;
        let bars = decode::decode(&plain, range.venue, &symbol, most, &last)?.bars.rows;
        let (Some(first), Some(newest)) = (bars.iter().map(|b| b.slot).min(), bars.iter().map(|b| b.slot).max()) else { return Ok(false) };
        let before = span.clone();
        if older {
            span.end = first.min(span.end);
        } else {
            span.start = Slot(newest.0 + range.offer.interval.step()).max(span.start);
        }
        Ok(*span != before && span.start < span.end)
    }

    /// One page, tried again while that can help, and noted.
    async fn page(&mut self, address: String, body: Option<String>, part: Option<String>, shared: bool) -> Result<Attempt, Halt> {
        let covered = self.source.covered();
        let shown = match &body {
            None => format!("GET {address}"),
            Some(body) => format!("POST {address} {body}"),
        };
        let call = Call { url: address, body, ..Call::default() };
        let mut renewed = false;
        loop {
            let attempt = match shared {
                true => self.fetch_shared(&call, false).await?.attempt,
                false => self.fetch(call.clone(), false).await?.attempt,
            };
            let failure = attempt.failure.clone();
            if let (Some(Class::Denied), Some(token), false) = (failure.as_ref().map(|f| f.class), self.token.clone(), renewed) {
                self.source.credentials.forget(&token).await;
                renewed = true;
                continue;
            }
            let retry_after = attempt.retry_after;
            if let Some(failure) = &failure
                && self.try_again(failure, retry_after).await
            {
                continue;
            }
            let mut kept = attempt.body.clone();
            self.source.covered().bytes(kept.as_deref_mut().unwrap_or_default());
            let (status, media_type) = (attempt.status, attempt.media_type.clone());
            if kept.is_some() || failure.is_some() {
                self.pages.push(Answered { part, request: covered.text(&shown), status, media_type, body: kept });
            }
            return match failure {
                Some(failure) => Err(Halt::Failed(failure)),
                None => Ok(attempt),
            };
        }
    }

    /// Waits for a turn.
    async fn turn(&mut self) -> Result<gate::Turn, Halt> {
        tokio::select! {
            turn = self.source.gate.turn(self.ticket.clone()) => turn.ok_or(Halt::Stopped),
            () = self.stop.told() => Err(Halt::Stopped),
        }
    }

    /// Sends a call when its turn has come, logging in before it where that is needed.
    async fn fetch(&mut self, mut call: Call, names: bool) -> Result<Kept, Halt> {
        let source = self.source;
        let limits = &source.profile.limits;
        let mut turn = self.turn().await?;
        // A login is a call like any other, and uses up the turn of who makes it.
        self.token = match source.credentials.log_in(&source.profile.base, &source.transport, limits, &source.clock).await {
            Ok(Some(Token { value, fresh: true })) => {
                self.sent += 1;
                turn.report(None, None);
                drop(turn);
                turn = self.turn().await?;
                Some(value)
            }
            Ok(kept) => kept.map(|token| token.value),
            Err(failure) => {
                self.sent += 1;
                turn.report(Some(&failure), None);
                return Err(failure.into());
            }
        };
        self.sent += 1;
        self.asked_at = source.clock.now();
        // What was logged in for is what is carried: a look for a newer one could send a second login, without a turn.
        if let Err(failure) = source.credentials.carry(&mut call, self.token.as_deref()) {
            turn.report(Some(&failure), None);
            return Err(failure.into());
        }
        if let Some(path) = source.profile.folder().and_then(|_| call.url.strip_prefix(source.profile.base.as_str())) {
            call.url = path.to_owned();
        }
        let asked_at = self.asked_at;
        let send = async {
            match names {
                true => source.transport.names(limits, &call, asked_at).await,
                false => (source.transport.send(limits, &call, asked_at).await, vec![]),
            }
        };
        // Whatever a source does, who is told to stop does not wait for it for long.
        let (attempt, names) = tokio::select! {
            answer = send => answer,
            () = async { self.stop.told().await; tokio::time::sleep(LAST_WAIT).await } => return Err(Halt::Stopped),
        };
        turn.report(attempt.failure.as_ref(), attempt.retry_after);
        self.answered_at = source.clock.now();
        Ok(Kept { attempt, names: Arc::new(names), at: self.answered_at })
    }

    /// The same for an answer that others may have fetched just now.
    async fn fetch_shared(&mut self, call: &Call, names: bool) -> Result<Kept, Halt> {
        let source = self.source;
        match source.shared.get(&call.url, source.clock.now()).await {
            Ok(kept) => {
                self.asked_at = kept.at;
                self.answered_at = source.clock.now();
                self.shared.push((call.url.clone(), kept.at));
                Ok(kept)
            }
            Err(mut place) => {
                let kept = self.fetch(call.clone(), names).await?;
                self.shared.push((call.url.clone(), kept.at));
                // A failure that may pass is not handed on: the next window asks for itself.
                *place = Some(kept.clone()).filter(|k| k.attempt.failure.as_ref().is_none_or(|f| !f.class.may_pass()));
                Ok(kept)
            }
        }
    }

    /// Whether a page or directory lists the file we are about to ask for.
    async fn is_listed(&mut self, at: &str, file: &str) -> Result<(), Halt> {
        let call = Call { url: at.to_owned(), ..Call::default() };
        let kept = loop {
            let kept = self.fetch_shared(&call, true).await?;
            match kept.attempt.failure.clone() {
                None => break kept,
                Some(failure) if self.try_again(&failure, kept.attempt.retry_after).await => {}
                Some(failure) => return Err(failure.into()),
            }
        };
        let name = |path: &str| path.split(['?', '#']).next().unwrap_or_default().rsplit('/').next().unwrap_or_default().to_owned();
        let wanted = name(file);
        if kept.names.iter().any(|listed| name(listed) == wanted) {
            return Ok(());
        }
        let newest: Vec<Cow<'_, str>> = kept.names.iter().rev().take(3).map(|n| Cow::Borrowed(n.as_str())).collect();
        let message = format!(
            "{at} lists {} files and not {wanted}; it may be late, or not come at all (the last ones listed: {})",
            kept.names.len(),
            newest.join(", ")
        );
        Err(Failure::new(Class::NotListed, message).into())
    }
}

/// An address that a page names, seen from the page; only on the same host.
fn beside(page: &str, next: &str) -> Result<String, Failure> {
    let here = reqwest::Url::parse(page).map_err(|e| Failure::new(Class::BadRequest, format!("not an address: {e}")))?;
    let there = here.join(next).map_err(|e| Failure::new(Class::Unreadable, format!("the next page `{next}` is no address: {e}")))?;
    if !request::same_server(page, there.as_str()) {
        return Err(Failure::new(Class::Redirected, format!("the next page is on another host, {there}; it is not followed")));
    }
    Ok(there.to_string())
}
