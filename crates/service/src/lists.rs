//! Lists that sources keep, collected daily: what is new, renamed, gone and changed.

use crate::{desk::Desk, error::ServiceError};
use mizuno_api::{Event, ListChange, ListStatus};
use mizuno_config::profile::{List, ListKind};
use mizuno_core::{Instrument, Timestamp, TradeDate, Venue, calendar::on_the_wall, instrument::FormerSymbol};
use mizuno_sources::{Stop, Ticket};
use mizuno_store::{
    StoreError,
    answers::Failure,
    lists::{ListRow, NewListFetch},
};
use serde_json::{Map, Value};
use std::{collections::BTreeMap, sync::Arc};

/// Entries that a list would end and are named, at most.
const ENDING: usize = 20;

/// The collection, source, list and key of a change.
type Place = (i64, String, String, String);
/// What a list said before a change and after it.
type Pair<'r> = (Option<&'r ListRow>, Option<&'r ListRow>);

impl Desk {
    /// Collects one list of one source now, and takes in what it says.
    pub(crate) async fn collect_list(&self, source: &str, list: &str) -> Result<ListStatus, ServiceError> {
        let _one_at_a_time = self.listing.lock().await;
        let setup = self.setup();
        let names = setup.sources.keys().map(String::as_str);
        let at = setup.sources.get(source).ok_or_else(|| ServiceError::unknown("source", source, names))?;
        let lists = at.profile.lists.iter().map(|l| l.name.as_str());
        let kept = at.profile.list(list).ok_or_else(|| ServiceError::unknown("list", list, lists))?;
        let ticket = Ticket { who: format!("list {list}"), newest: true };
        let asked_at = self.clock.now();
        let answer = at.ask_list(kept, &ticket, Stop::default()).await.ok_or(ServiceError::Stopping)?;
        let request = answer.pages.first().map(|p| p.request.clone()).unwrap_or_default();
        let body: Vec<u8> = answer.pages.iter().filter_map(|p| p.body.clone()).flatten().collect();
        let (rows, refused) = match answer.outcome {
            Ok((rows, refused)) => (Ok(rows), refused.len() as u64),
            Err(failure) => (Err(Failure { class: failure.class.word().to_owned(), message: failure.message }), 0),
        };
        let spelled =
            rows.map(|rows| rows.into_iter().map(|row| in_our_words(kept, at.profile.symbols.clone(), row.values)).collect::<Vec<_>>());
        let mut added: Vec<Instrument> = match &spelled {
            Ok(rows) if kept.adds => rows.iter().filter_map(|row| instrument(kept, row)).collect(),
            _ => vec![],
        };
        if let Ok(rows) = &spelled {
            let today = setup.config.venues.get(&kept.venue).map_or(TradeDate(0), |v| asked_at.date_in(&v.zone));
            self.note_renames(source, list, rows, today, &mut added).await?;
        }
        let rows = spelled.map(|rows| rows.iter().map(|row| (key(kept.of, row), json(row))).collect());
        let body = Some(body).filter(|b| !b.is_empty());
        let fetch = NewListFetch {
            source: source.to_owned(),
            list: list.to_owned(),
            asked_at,
            request,
            body,
            rows,
            refused,
            rolling: kept.rolling,
        };
        let (_, changes) = self.store.keep_list(fetch).await?;
        let new: Vec<Instrument> = added.into_iter().filter(|i| setup.known(&i.symbol).is_none()).collect();
        if changes.held_back {
            tracing::warn!(source, list, gone = changes.gone, "the list is much shorter than before; it waits for a person");
        } else if !new.is_empty() {
            self.store.put_instruments(new, Some(format!("{source}/{list}"))).await?;
        }
        if kept.of == ListKind::Instruments && changes != mizuno_store::lists::ListChanges::default() {
            self.renew().await?;
        }
        self.events.tell(Event::Lists);
        let mut all = self.list_statuses().await?;
        all.retain(|s| s.source == source && s.list == list);
        all.pop().ok_or(ServiceError::Stopping)
    }

    /// Takes a list that was held back, from now on, or refuses it.
    pub(crate) async fn decide_list(&self, source: &str, list: &str, taken: bool) -> Result<(), ServiceError> {
        let _one_at_a_time = self.listing.lock().await;
        let setup = self.setup();
        let rows = self.store.decide_list(source.to_owned(), list.to_owned(), taken).await.map_err(|e| match e {
            StoreError::Unknown { .. } => ServiceError::Over(format!("{source}/{list} is not held back")),
            other => other.into(),
        })?;
        if let Some(kept) = setup.sources.get(source).and_then(|s| s.profile.list(list)).filter(|l| l.adds) {
            let columns = |body: &String| serde_json::from_str::<BTreeMap<String, String>>(body).unwrap_or_default();
            let added = rows.iter().filter_map(|(_, body)| instrument(kept, &columns(body)));
            let new: Vec<Instrument> = added.filter(|i| setup.known(&i.symbol).is_none()).collect();
            self.store.put_instruments(new, Some(format!("{source}/{list}"))).await?;
            self.renew().await?;
        }
        self.events.tell(Event::Lists);
        Ok(())
    }

    /// Tells instruments that their list now calls otherwise, by the id they kept, what they were called before.
    async fn note_renames(
        &self,
        source: &str,
        list: &str,
        rows: &[BTreeMap<String, String>],
        today: TradeDate,
        added: &mut [Instrument],
    ) -> Result<(), ServiceError> {
        let named = |row: &BTreeMap<String, String>| Some((row.get("id")?.clone(), row.get("symbol")?.clone()));
        let now: BTreeMap<String, String> = rows.iter().filter_map(named).collect();
        for before in self.store.list_rows(Some(source), Some(list)).await? {
            let columns: Value = serde_json::from_str(&before.body).unwrap_or_default();
            let (Some(id), Some(was)) = (columns["id"].as_str(), columns["symbol"].as_str()) else { continue };
            let Some(is) = now.get(id).filter(|is| *is != was && !now.values().any(|s| s == was)) else { continue };
            if let Some(instrument) = added.iter_mut().find(|i| i.symbol == *is) {
                instrument.former.push(FormerSymbol { symbol: was.to_owned(), until: today });
            }
        }
        Ok(())
    }

    /// Collects the instrument lists of a collector's source that never were: without them nobody knows what it calls ours.
    pub(crate) async fn list_first(&self, collector: &str) {
        // One that is being collected is waited for, until what it says is at work.
        drop(self.listing.lock().await);
        let setup = self.setup();
        let Ok(post) = setup.post(collector) else { return };
        let name = &post.source.profile.name;
        let done = self.store.list_fetches().await.unwrap_or_default();
        for list in post.source.profile.lists.iter().filter(|l| l.of == ListKind::Instruments) {
            if !done.iter().any(|f| f.source == *name && f.list == list.name && f.failure.is_none())
                && let Err(error) = self.collect_list(name, &list.name).await
            {
                tracing::warn!(source = name, list = list.name, %error, "the list was not collected before the run");
            }
        }
    }

    /// Every list, with how its newest collection went.
    pub(crate) async fn list_statuses(&self) -> Result<Vec<ListStatus>, ServiceError> {
        let setup = self.setup();
        let now = self.clock.now();
        let newest = self.store.list_fetches().await?;
        let mut out = vec![];
        for (name, source) in &setup.sources {
            for list in &source.profile.lists {
                let Some(venue) = setup.config.venues.get(&list.venue) else { continue };
                let last = newest.iter().find(|f| f.source == *name && f.list == list.name);
                let mut ending = match last.filter(|f| f.would_end.is_some()) {
                    Some(held_back) => self.store.would_end(held_back.id).await?,
                    None => vec![],
                };
                ending.truncate(ENDING);
                out.push(ListStatus {
                    source: name.clone(),
                    list: list.name.clone(),
                    of: list.of.word().to_owned(),
                    venue: list.venue.clone(),
                    next: next_due(list, venue, now).to_string(),
                    last: last.map(|f| f.asked_at.to_string()),
                    request: last.map(|f| setup.without_secrets(&f.request)),
                    rows: last.map_or(0, |f| f.rows as u64),
                    refused: last.map_or(0, |f| f.refused as u64),
                    failure: last.and_then(|f| f.failure.as_ref()).map(|f| f.class.clone()),
                    message: last.and_then(|f| f.failure.as_ref()).map(|f| f.message.clone()),
                    repeated: last.map_or(0, |f| f.repeated as u64),
                    would_end: last.and_then(|f| f.would_end).map(|n| n as u64),
                    ending,
                });
            }
        }
        Ok(out)
    }

    /// What lists said that they had not said before, since some moment.
    pub(crate) async fn list_changes(&self, since: Timestamp) -> Result<Vec<ListChange>, ServiceError> {
        let rows = self.store.list_changes(since).await?;
        let mut events: BTreeMap<Place, Pair<'_>> = BTreeMap::new();
        for row in &rows {
            let of = |fetch: i64| (fetch, row.source.clone(), row.list.clone(), row.key.clone());
            if row.since > since {
                events.entry(of(row.first_of)).or_default().1 = Some(row);
            }
            if let (Some(until), Some(fetch)) = (row.until, row.ended_by)
                && until > since
            {
                events.entry(of(fetch)).or_default().0 = Some(row);
            }
        }
        let id = |row: &ListRow| serde_json::from_str::<Value>(&row.body).ok().and_then(|v| v["id"].as_str().map(str::to_owned));
        let mut out: Vec<ListChange> = vec![];
        for ((fetch, source, list, key), (was, is)) in &events {
            let at = is.map(|r| r.since).or(was.and_then(|r| r.until)).unwrap_or(since);
            let kind = match (was, is) {
                (Some(_), Some(_)) => "changed",
                (Some(_), None) => "gone",
                _ => "new",
            };
            // A key that is gone and one that is new under the same id, in one answer, are one thing renamed.
            let renamed = is.filter(|_| was.is_none()).and_then(|is| {
                let wanted = id(is)?;
                let mut others = events.iter().filter(|((f, s, l, _), pair)| (f, s, l) == (fetch, source, list) && pair.1.is_none());
                others.find(|(_, pair)| pair.0.and_then(id).as_deref() == Some(&wanted)).map(|(k, pair)| (k.3.clone(), pair.0))
            });
            let (kind, was_key, was) = match renamed {
                Some((before, row)) => ("renamed", Some(before), row),
                None => (kind, None, *was),
            };
            out.push(ListChange {
                source: source.clone(),
                list: list.clone(),
                at: at.to_string(),
                change: kind.to_owned(),
                key: key.clone(),
                was_key,
                was: was.map(|r| r.body.clone()),
                is: is.map(|r| r.body.clone()),
            });
        }
        let renamed: Vec<_> =
            out.iter().filter_map(|c| Some((c.source.clone(), c.list.clone(), c.at.clone(), c.was_key.clone()?))).collect();
        out.retain(|c| c.change != "gone" || !renamed.contains(&(c.source.clone(), c.list.clone(), c.at.clone(), c.key.clone())));
        out.reverse();
        Ok(out)
    }
}

/// Collects every list once a day, for as long as the setup holds.
pub(crate) fn start(desk: &Arc<Desk>) {
    let setup = desk.setup();
    for (name, source) in &setup.sources {
        for list in &source.profile.lists {
            tokio::spawn(keep(desk.clone(), name.clone(), list.clone()));
        }
    }
}

async fn keep(desk: Arc<Desk>, source: String, list: List) {
    let mut changes = desk.changes();
    let Some(venue) = desk.setup().config.venues.get(&list.venue).cloned() else { return };
    let last = desk.store.list_fetches().await.unwrap_or_default();
    let mut last = last.iter().find(|f| f.source == source && f.list == list.name).map(|f| f.asked_at);
    loop {
        let now = desk.clock.now();
        // What was missed while nobody ran is caught up once.
        let due = last.map_or(now, |at| next_due(&list, &venue, at));
        tokio::select! {
            () = desk.clock.sleep_until(due) => {}
            _ = changes.changed() => return,
        }
        last = Some(desk.clock.now());
        if let Err(error) = desk.collect_list(&source, &list.name).await {
            tracing::warn!(source, list = list.name, %error, "the list was not collected");
        }
    }
}

/// When a list is collected next after `after`.
fn next_due(list: &List, venue: &Venue, after: Timestamp) -> Timestamp {
    let today = after.date_in(&venue.zone);
    let at = |day: TradeDate| on_the_wall(&venue.zone, day, list.daily_at);
    if at(today) > after { at(today) } else { at(today.plus(1)) }
}

/// A row with symbols spelled our way.
fn in_our_words(list: &List, symbols: mizuno_config::profile::Spelling, mut row: BTreeMap<String, String>) -> BTreeMap<String, String> {
    if let (Some(symbol), true) = (row.get_mut("symbol"), list.of != ListKind::Members) {
        *symbol = symbols.back(symbol);
    }
    row
}

fn key(of: ListKind, row: &BTreeMap<String, String>) -> String {
    let (columns, keys) = of.columns();
    columns[..keys].iter().filter_map(|c| row.get(*c)).map(String::as_str).collect::<Vec<_>>().join(" ")
}

fn json(row: &BTreeMap<String, String>) -> String {
    Value::Object(row.iter().map(|(k, v)| (k.clone(), Value::String(v.clone()))).collect::<Map<_, _>>()).to_string()
}

/// The instrument a row of a list describes; `None` when it cannot be one of ours.
fn instrument(list: &List, row: &BTreeMap<String, String>) -> Option<Instrument> {
    let text = |name: &str| row.get(name).cloned();
    let date = |name: &str| row.get(name).and_then(|t| t.parse().ok());
    let number = |name: &str| row.get(name).and_then(|t| t.parse().ok());
    let symbol = text("symbol").filter(|s| mizuno_config::sound_symbol(s).is_ok())?;
    Some(Instrument {
        name: text("name").unwrap_or_else(|| symbol.clone()),
        symbol,
        kind: text("kind").unwrap_or_else(|| "share".to_owned()),
        venue: list.venue.clone(),
        currency: text("currency").unwrap_or_default(),
        tick_size: number("tick_size"),
        multiplier: number("multiplier"),
        listed: date("listed"),
        last_traded: date("last_traded"),
        expiry: date("expiry"),
        strike: number("strike"),
        former: vec![],
    })
}
