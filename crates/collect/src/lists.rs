//! Lists that sources keep, collected daily: what is new, renamed, gone and changed.

use crate::{Collect, basis::named, listing::next_due};
use mizuno_config::profile::{List, ListKind};
use mizuno_core::{Instrument, Timestamp, TradeDate, instrument::FormerSymbol};
use mizuno_desk::{DeskError, Event, Setup, universes::lists_followed};
use mizuno_sources::{Stop, Ticket};
use mizuno_store::{
    StoreError,
    fetch::Failed,
    lists::{Columns, ListFetchRow, ListRow, NewListFetch},
};
use serde_json::{Map, Value};
use std::collections::BTreeMap;

/// Entries that a list would end and are named, at most.
const ENDING: usize = 20;

/// A list that a source keeps, with how its newest collection went.
#[derive(Clone, Debug)]
pub struct ListStanding {
    /// The source.
    pub source: String,
    /// The list.
    pub list: String,
    /// What its rows are.
    pub of: ListKind,
    /// The venue it is about.
    pub venue: String,
    /// When it is collected next.
    pub next: Timestamp,
    /// Its newest collection, with the request free of secrets.
    pub last: Option<ListFetchRow>,
    /// While it is held back: the first entries that it would end, at most twenty, by their keys.
    pub ending: Vec<String>,
}

impl ListStanding {
    /// As SOURCE/LIST.
    #[must_use]
    pub fn name(&self) -> String {
        format!("{}/{}", self.source, self.list)
    }
}

/// How an entry of a list changed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Change {
    /// It was not there before.
    New,
    /// It says something else.
    Changed,
    /// It is there no longer.
    Gone,
    /// It is called otherwise; its id is the same.
    Renamed,
}

/// Something a list said that it had not said before.
#[derive(Clone, Debug)]
pub struct Said {
    /// The source.
    pub source: String,
    /// The list.
    pub list: String,
    /// When it said so.
    pub at: Timestamp,
    /// How the entry changed.
    pub change: Change,
    /// Its key.
    pub key: String,
    /// What it was called before.
    pub was_key: Option<String>,
    /// What it said before.
    pub was: Option<Columns>,
    /// What it says now.
    pub is: Option<Columns>,
}

/// The collection, source, list and key of a change.
type Place = (i64, String, String, String);
/// What a list said before a change and after it.
type Pair<'r> = (Option<&'r ListRow>, Option<&'r ListRow>);

impl Collect {
    /// Collects one list of one source now, and takes in what it says.
    pub async fn collect_list(&self, source: &str, list: &str) -> Result<ListStanding, DeskError> {
        let turn = self.listing.turn_of(source);
        let _one_of_its_source = turn.lock().await;
        self.collect_in_turn(source, list).await
    }

    /// The same for who has the turn of the source.
    pub(crate) async fn collect_in_turn(&self, source: &str, list: &str) -> Result<ListStanding, DeskError> {
        let setup = self.desk.setup();
        let names = setup.sources.keys().map(String::as_str);
        let at = setup.sources.get(source).ok_or_else(|| DeskError::unknown("source", source, names))?;
        let lists = at.profile.lists.iter().map(|l| l.name.as_str());
        let kept = at.profile.list(list).ok_or_else(|| DeskError::unknown("list", list, lists))?;
        let ticket = Ticket { who: format!("list {list}"), newest: true };
        let asked_at = self.desk.clock.now();
        let answer = tokio::select! {
            answer = at.ask_list(kept, &ticket, Stop::default()) => answer.ok_or(DeskError::Stopping)?,
            // Whoever mends the address of a dead source is not kept waiting by what the old one was asked.
            () = self.replaced(&at.profile) => {
                return Err(DeskError::Over(format!("{source}/{list} was not collected: the profile of {source} has changed meanwhile")));
            }
        };
        let _one_at_a_time = self.listing.taking_in.lock().await;
        let request = answer.pages.first().map(|p| p.request.clone()).unwrap_or_default();
        let body: Vec<u8> = answer.pages.iter().filter_map(|p| p.body.clone()).flatten().collect();
        let (rows, refused) = match answer.outcome {
            Ok((rows, refused)) => (Ok(rows), refused.len() as u64),
            Err(failure) => (Err(Failed { class: failure.class.word().to_owned(), message: failure.message }), 0),
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
        let rows = spelled.map(|rows| keyed(kept.of, &rows));
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
        let (_, changes) = self.desk.store.keep_list(fetch).await?;
        if changes.held_back {
            tracing::warn!(source, list, gone = changes.gone, "the list is much shorter than before; it waits for a person");
        } else {
            self.take_in(added, format!("{source}/{list}")).await?;
        }
        if is_followed(&setup, source, kept) && changes != mizuno_store::lists::ListChanges::default() {
            self.renew().await?;
        }
        self.desk.events.tell(Event::Lists);
        let mut all = self.list_standings().await?;
        all.retain(|s| s.source == source && s.list == list);
        all.pop().ok_or(DeskError::Stopping)
    }

    /// Takes a list that was held back, from now on, or refuses it.
    pub async fn decide_list(&self, source: &str, list: &str, taken: bool, by: &str) -> Result<(), DeskError> {
        let by = named(by)?;
        let _one_at_a_time = self.listing.taking_in.lock().await;
        let setup = self.desk.setup();
        let rows = self.desk.store.decide_list(source.to_owned(), list.to_owned(), taken).await.map_err(|e| match e {
            StoreError::Unknown { .. } => DeskError::Over(format!("{source}/{list} is not held back")),
            other => other.into(),
        })?;
        if let Some(kept) = setup.sources.get(source).and_then(|s| s.profile.list(list)).filter(|l| l.adds) {
            let columns = |body: &String| serde_json::from_str::<BTreeMap<String, String>>(body).unwrap_or_default();
            let added = rows.iter().filter_map(|(_, body)| instrument(kept, &columns(body))).collect();
            self.take_in(added, format!("{source}/{list}")).await?;
        }
        if setup.sources.get(source).and_then(|s| s.profile.list(list)).is_some_and(|kept| is_followed(&setup, source, kept)) {
            self.renew().await?;
        }
        tracing::info!(source, list, taken, by, "a list that was held back is decided on");
        self.desk.events.tell(Event::Lists);
        Ok(())
    }

    /// Takes in instruments that nobody knows, and brings up to date those that the list itself named first; what the configuration says of an
    /// instrument, or another list, stands.
    async fn take_in(&self, mut added: Vec<Instrument>, list: String) -> Result<(), DeskError> {
        if added.is_empty() {
            return Ok(());
        }
        // As it is now: other lists may have named some while this one was asked for.
        let setup = self.desk.setup();
        let own = self.desk.store.symbols_of(&list).await?;
        added.retain(|i| setup.known(&i.symbol).is_none() || own.contains(&i.symbol));
        Ok(self.desk.store.put_instruments(added, Some(list)).await?)
    }

    /// Tells instruments that their list now calls otherwise, by the id they kept, what they were called before.
    async fn note_renames(
        &self,
        source: &str,
        list: &str,
        rows: &[BTreeMap<String, String>],
        today: TradeDate,
        added: &mut [Instrument],
    ) -> Result<(), DeskError> {
        let named = |row: &BTreeMap<String, String>| Some((row.get("id")?.clone(), row.get("symbol")?.clone()));
        let now: BTreeMap<String, String> = rows.iter().filter_map(named).collect();
        for before in self.desk.store.list_rows(Some(source), Some(list)).await? {
            let (Some(id), Some(was)) = (before.columns.get("id"), before.columns.get("symbol")) else { continue };
            let Some(is) = now.get(id).filter(|is| *is != was && !now.values().any(|s| s == was)) else { continue };
            if let Some(instrument) = added.iter_mut().find(|i| i.symbol == *is) {
                instrument.former.push(FormerSymbol { symbol: was.to_owned(), until: today });
            }
        }
        Ok(())
    }

    /// Every list, with how its newest collection went.
    pub async fn list_standings(&self) -> Result<Vec<ListStanding>, DeskError> {
        let setup = self.desk.setup();
        let now = self.desk.clock.now();
        let newest = self.desk.store.list_fetches().await?;
        let mut out = vec![];
        for (name, source) in &setup.sources {
            for list in &source.profile.lists {
                let Some(venue) = setup.config.venues.get(&list.venue) else { continue };
                let last = newest.iter().find(|f| f.source == *name && f.list == list.name);
                let mut ending = match last.filter(|f| f.would_end.is_some()) {
                    Some(held_back) => self.desk.store.would_end(held_back.id).await?,
                    None => vec![],
                };
                ending.truncate(ENDING);
                let last = last.map(|f| ListFetchRow { request: setup.without_secrets(&f.request), ..f.clone() });
                out.push(ListStanding {
                    source: name.clone(),
                    list: list.name.clone(),
                    of: list.of,
                    venue: list.venue.clone(),
                    next: next_due(list, venue, last.as_ref()).unwrap_or(now).max(now),
                    last,
                    ending,
                });
            }
        }
        Ok(out)
    }

    /// What lists said that they had not said before, since some moment.
    pub async fn list_changes(&self, since: Timestamp) -> Result<Vec<Said>, DeskError> {
        let rows = self.desk.store.list_changes(since).await?;
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
        let id = |row: &ListRow| row.columns.get("id").cloned();
        let mut out: Vec<Said> = vec![];
        for ((fetch, source, list, key), (was, is)) in &events {
            let at = is.map(|r| r.since).or(was.and_then(|r| r.until)).unwrap_or(since);
            let kind = match (was, is) {
                (Some(_), Some(_)) => Change::Changed,
                (Some(_), None) => Change::Gone,
                _ => Change::New,
            };
            // A key that is gone and one that is new under the same id, in one answer, are one thing renamed.
            let renamed = is.filter(|_| was.is_none()).and_then(|is| {
                let wanted = id(is)?;
                let mut others = events.iter().filter(|((f, s, l, _), pair)| (f, s, l) == (fetch, source, list) && pair.1.is_none());
                others.find(|(_, pair)| pair.0.and_then(id).as_deref() == Some(&wanted)).map(|(k, pair)| (k.3.clone(), pair.0))
            });
            let (kind, was_key, was) = match renamed {
                Some((before, row)) => (Change::Renamed, Some(before), row),
                None => (kind, None, *was),
            };
            out.push(Said {
                source: source.clone(),
                list: list.clone(),
                at,
                change: kind,
                key: key.clone(),
                was_key,
                was: was.map(|r| r.columns.clone()),
                is: is.map(|r| r.columns.clone()),
            });
        }
        let renamed: Vec<_> = out.iter().filter_map(|c| Some((c.source.clone(), c.list.clone(), c.at, c.was_key.clone()?))).collect();
        out.retain(|c| c.change != Change::Gone || !renamed.contains(&(c.source.clone(), c.list.clone(), c.at, c.key.clone())));
        out.reverse();
        Ok(out)
    }
}

/// Whether collectors may take other instruments when a list changes: what it has added, or who has joined a universe.
fn is_followed(setup: &Setup, source: &str, list: &List) -> bool {
    match list.of {
        ListKind::Instruments => true,
        ListKind::Members | ListKind::MemberChanges => lists_followed(&setup.config).contains(&format!("{source}/{}", list.name)),
        _ => false,
    }
}

/// A row with symbols spelled our way.
fn in_our_words(list: &List, symbols: mizuno_config::profile::Spelling, mut row: BTreeMap<String, String>) -> BTreeMap<String, String> {
    if let (Some(symbol), true) = (row.get_mut("symbol"), list.of != ListKind::Members) {
        *symbol = symbols.back(symbol);
    }
    row
}

/// The rows under their keys. An action of the same instrument, date and kind as one before it is another one, unless it says the same.
fn keyed(of: ListKind, rows: &[BTreeMap<String, String>]) -> Vec<(String, String)> {
    let mut said: BTreeMap<String, Vec<String>> = BTreeMap::new();
    let several = matches!(of, ListKind::Splits | ListKind::Dividends | ListKind::Actions);
    let one = |row: &BTreeMap<String, String>| {
        let (key, text) = (of.key(row), json(row));
        let before = said.entry(key.clone()).or_default();
        let place = before.iter().position(|t| *t == text).unwrap_or_else(|| {
            before.push(text.clone());
            before.len() - 1
        });
        (if several && place > 0 { format!("{key} #{}", place + 1) } else { key }, text)
    };
    rows.iter().map(one).collect()
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
        product: text("product"),
        first_notice: date("first_notice"),
        leverage: number("leverage"),
        former: vec![],
    })
}
