//! Universes: who belonged when, as lists of sources, files and other universes tell it.
//!
//! Nothing of it is stored. A universe is worked out from the rows that lists had by an instant, with the instruments and the file that
//! counted then. Members by a rule need bars; whoever answers researchers works those out and hands them in.

use crate::{DeskError, Setup};
use mizuno_config::{
    Config, Universe as Described,
    profile::{Left, List, ListKind, Profile},
};
use mizuno_core::{
    Calendar, Instrument, Slot, Spans, Timestamp, TradeDate,
    membership::{ALWAYS, Move, STILL, Stay, days, logged, plain},
    spans,
};
use mizuno_store::{Store, lists::ListRow, payloads};
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// A stay of a member, with who says so.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Membership {
    /// Its days.
    pub stay: Stay,
    /// What the one who says so calls it.
    pub called: String,
    /// Who says so: a list as SOURCE/LIST, a file, a rule.
    pub by: String,
    /// When that was learned; `None` where it is configuration.
    pub learned: Option<Timestamp>,
    /// Why it joined.
    pub joined: Option<String>,
    /// Why it left.
    pub left: Option<String>,
}

/// A name that a list says and that is no instrument of ours.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unresolved {
    /// What the list says.
    pub said: String,
    /// The list.
    pub by: String,
    /// Its days, as far as they are told.
    pub stay: Stay,
    /// What it may be, and what to do.
    pub hint: String,
}

/// The members of a universe by their present symbols, in the order of their stays.
pub type Members = BTreeMap<String, Vec<Membership>>;

/// A universe as it was known at an instant.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Universe {
    /// Its name.
    pub name: String,
    /// Its members.
    pub members: Members,
    /// What two lists say otherwise, in sentences.
    pub conflicts: Vec<String>,
    /// Rows that cannot be true or understood, in sentences.
    pub unread: Vec<String>,
    /// Names that are no instruments of ours.
    pub unresolved: Vec<Unresolved>,
    /// The trade date before which nobody knows who belonged.
    pub known_from: Option<TradeDate>,
}

/// Who joined and who left on a trade date.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Change {
    /// The trade date.
    pub date: TradeDate,
    /// Those whose first day it is, by their present symbols.
    pub joined: Vec<String>,
    /// Those who are members no longer.
    pub left: Vec<String>,
    /// How many are members from then on.
    pub members: usize,
}

impl Universe {
    /// The days of a member, as slots of a daily series; empty for what is none.
    #[must_use]
    pub fn days(&self, symbol: &str) -> Spans {
        self.members.get(symbol).map(|stays| days(stays.iter().map(|m| &m.stay))).unwrap_or_default()
    }

    /// The members on a trade date, by symbol.
    #[must_use]
    pub fn on(&self, date: TradeDate) -> Vec<&str> {
        let is = |stays: &[Membership]| stays.iter().any(|m| m.stay.days.contains(&date));
        self.members.iter().filter(|(_, stays)| is(stays)).map(|(symbol, _)| symbol.as_str()).collect()
    }

    /// Who joined and who left, by date; nobody joins who always was a member.
    #[must_use]
    pub fn changes(&self) -> Vec<Change> {
        let mut by_date: BTreeMap<TradeDate, (Vec<String>, Vec<String>)> = BTreeMap::new();
        let mut members = 0;
        for symbol in self.members.keys() {
            let days = self.days(symbol);
            members += usize::from(days.first().is_some_and(|s| s.start.date() == ALWAYS));
            for span in days.iter() {
                let (from, to) = (span.start.date(), span.end.date());
                if from != ALWAYS {
                    by_date.entry(from).or_default().0.push(symbol.clone());
                }
                if to != STILL {
                    by_date.entry(to).or_default().1.push(symbol.clone());
                }
            }
        }
        let change = |(date, (joined, left)): (TradeDate, (Vec<String>, Vec<String>))| {
            members = members + joined.len() - left.len();
            Change { date, joined, left, members }
        };
        by_date.into_iter().map(change).collect()
    }

    fn set(&mut self, symbol: &str, days: &Spans) {
        let stays = self.members.remove(symbol).unwrap_or_default();
        let clipped = stays.iter().flat_map(|m| {
            days.within(&m.stay.slots()).map(|span| {
                let (from, to) = (span.start.date(), span.end.date());
                let cut = Stay {
                    days: from..to,
                    joined_after: m.stay.joined_after.filter(|_| from == m.stay.days.start),
                    left_after: m.stay.left_after.filter(|_| to == m.stay.days.end),
                };
                Membership { stay: cut, ..m.clone() }
            })
        });
        let clipped: Vec<Membership> = clipped.collect();
        if !clipped.is_empty() {
            self.members.insert(symbol.to_owned(), clipped);
        }
    }
}

/// What a list said of members by an instant.
#[derive(Clone, Debug, Default)]
pub struct History {
    /// Its rows, those among them that ended before.
    pub rows: Vec<ListRow>,
    /// When it was collected, in order.
    pub collections: Vec<Timestamp>,
}

/// The histories of lists that universes name, by SOURCE/LIST.
pub type Told = BTreeMap<String, History>;

/// Under this source it is kept whom a rule has found, beside the lists of sources.
const BY_RULE: &str = "by rule";

/// The list of whom a universe that follows from a rule has had as members so far, as SOURCE/LIST. With other words in its files it is another
/// list, so that whom an earlier rule found is not followed any more.
#[must_use]
pub fn found_by_rule(config: &Config, universe: &str) -> (&'static str, String) {
    let text = |name: &str| config.texts.0.get(&format!("universes/{name}.toml"));
    let all: Vec<&str> = config.behind(universe).into_iter().filter_map(text).map(String::as_str).collect();
    (BY_RULE, format!("{universe} {}", &payloads::digest(all.join("\n").as_bytes())[..8]))
}

/// The lists that the universes of collectors follow from.
#[must_use]
pub fn lists_followed(config: &Config) -> BTreeSet<String> {
    let of = |name: &str| match config.is_by_rule(name) {
        true => {
            let (source, list) = found_by_rule(config, name);
            vec![format!("{source}/{list}")]
        }
        false => config.lists_behind([name]).into_iter().map(str::to_owned).collect(),
    };
    config.followed().into_iter().flat_map(of).collect()
}

/// What some lists had said by an instant.
///
/// # Errors
/// When the store cannot be read.
pub async fn told(store: &Store, lists: impl IntoIterator<Item = impl AsRef<str>>, as_of: Timestamp) -> Result<Told, DeskError> {
    let mut out = Told::new();
    for name in lists {
        let Some((source, list)) = name.as_ref().split_once('/') else { continue };
        let rows = store.list_history(source, list, as_of).await?;
        let collections = store.list_collections(source, list, as_of).await?;
        out.insert(name.as_ref().to_owned(), History { rows, collections });
    }
    Ok(out)
}

impl Setup {
    /// A universe as the lists tell it. `rules` are the members of those that follow from a rule, by their names.
    ///
    /// # Errors
    /// When there is none of that name.
    pub fn universe(&self, name: &str, told: &Told, rules: &BTreeMap<String, Members>) -> Result<Universe, DeskError> {
        let all = &self.config.universes;
        let described = all.get(name).ok_or_else(|| DeskError::unknown("universe", name, all.keys().map(String::as_str)))?;
        let mut out = match &described.rule {
            Some(_) => Universe { members: rules.get(name).cloned().unwrap_or_default(), ..Universe::default() },
            None if !described.lists.is_empty() => self.listed(described, told),
            None if !described.by_hand.is_empty() => self.by_hand(described),
            None => self.combined(described, told, rules)?,
        };
        name.clone_into(&mut out.name);
        for other in &described.except {
            let other = self.universe(other, told, rules)?;
            for symbol in other.members.keys() {
                let left = spans::difference(&out.days(symbol), &other.days(symbol));
                out.set(symbol, &left);
            }
        }
        for symbol in &described.always {
            let whole = Stay::of(ALWAYS..STILL);
            match self.instrument(symbol) {
                Ok(i) => drop(out.members.insert(i.symbol.clone(), vec![given(whole, symbol, "always", None)])),
                Err(error) => out.unresolved.push(unresolved(symbol, "always", whole, error.to_string())),
            }
        }
        Ok(out)
    }

    /// Works out who ever belonged to the universes that collectors follow.
    pub(crate) fn follow_universes(&mut self, told: &Told) -> Result<(), DeskError> {
        let mut belonged = BTreeMap::new();
        for name in self.config.followed() {
            let members = match self.config.is_by_rule(name) {
                true => {
                    let (source, list) = found_by_rule(&self.config, name);
                    let found = told.get(&format!("{source}/{list}")).into_iter().flat_map(|history| &history.rows);
                    found.filter_map(|row| Some(self.instrument(&row.key).ok()?.symbol.clone())).collect()
                }
                false => self.universe(name, told, &BTreeMap::new())?.members.into_keys().collect(),
            };
            belonged.insert(name.to_owned(), members);
        }
        self.config.belonged = belonged;
        Ok(())
    }

    fn by_hand(&self, described: &Described) -> Universe {
        let mut out = Universe::default();
        for stay in &described.by_hand {
            let days = Stay::of(stay.from.unwrap_or(ALWAYS)..stay.to.unwrap_or(STILL));
            let by = format!("universes/{}.toml", described.name);
            let meant = match (stay.from, stay.to) {
                (Some(from), _) => self.meant_on(&stay.symbol, from),
                (None, Some(to)) => self.meant_on(&stay.symbol, to.plus(-1)),
                (None, None) => self.instrument(&stay.symbol),
            };
            match meant {
                Ok(i) => {
                    out.members.entry(i.symbol.clone()).or_default().push(given(days, &stay.symbol, &by, stay.why.clone()));
                }
                Err(error) => out.unresolved.push(unresolved(&stay.symbol, &by, days, error.to_string())),
            }
        }
        out.in_order()
    }

    fn combined(&self, described: &Described, told: &Told, rules: &BTreeMap<String, Members>) -> Result<Universe, DeskError> {
        let names = if described.any_of.is_empty() { &described.all_of } else { &described.any_of };
        let all = names.iter().map(|name| self.universe(name, told, rules)).collect::<Result<Vec<_>, _>>()?;
        let mut out = Universe { known_from: all.iter().filter_map(|u| u.known_from).max(), ..Universe::default() };
        let symbols: BTreeSet<&String> = all.iter().flat_map(|u| u.members.keys()).collect();
        for symbol in symbols {
            let each = all.iter().map(|u| u.days(symbol));
            let together = if described.any_of.is_empty() {
                |a: Spans, b: Spans| spans::intersection(&a, &b)
            } else {
                |a: Spans, b: Spans| spans::union(&a, &b)
            };
            let Some(days) = each.reduce(together) else { continue };
            // Where stays of several meet, one of them tells why.
            let whose: Vec<Membership> = all.iter().flat_map(|u| u.members.get(symbol).into_iter().flatten().cloned()).collect();
            let first = |date: TradeDate| whose.iter().find(|m| m.stay.days.start == date);
            let last = |date: TradeDate| whose.iter().find(|m| m.stay.days.end == date);
            let stays = days.iter().map(|span| {
                let (from, to) = (span.start.date(), span.end.date());
                let (joined, left) = (first(from), last(to));
                Membership {
                    stay: Stay {
                        days: from..to,
                        joined_after: joined.and_then(|m| m.stay.joined_after),
                        left_after: left.and_then(|m| m.stay.left_after),
                    },
                    called: joined.map_or_else(|| symbol.clone(), |m| m.called.clone()),
                    by: names.join(", "),
                    learned: whose.iter().filter_map(|m| m.learned).max(),
                    joined: joined.and_then(|m| m.joined.clone()),
                    left: left.and_then(|m| m.left.clone()),
                }
            });
            let stays: Vec<Membership> = stays.collect();
            if !stays.is_empty() {
                out.members.insert(symbol.clone(), stays);
            }
        }
        for universe in all {
            out.conflicts.extend(universe.conflicts);
            out.unread.extend(universe.unread);
            out.unresolved.extend(universe.unresolved);
        }
        Ok(out)
    }

    /// The members by the first list that was collected; the others are held against it.
    fn listed(&self, described: &Described, told: &Told) -> Universe {
        let mut names = Names { setup: self, by_name: None };
        let mut out: Option<(&String, Universe, Knows)> = None;
        for name in &described.lists {
            let Some(history) = told.get(name).filter(|h| !h.collections.is_empty()) else { continue };
            let Some((source, list)) = name.split_once('/') else { continue };
            let Some(profile) = self.config.sources.get(source) else { continue };
            let Some(list) = profile.list(list) else { continue };
            let (universe, knows) = names.read(described, (name, profile, list), history);
            match &mut out {
                None => out = Some((name, universe, knows)),
                Some((first, counts, first_knows)) => {
                    let found = conflicts((counts, first, first_knows), (&universe, name, &knows));
                    counts.conflicts.extend(found);
                    counts.unread.extend(universe.unread);
                    counts.unresolved.extend(universe.unresolved);
                }
            }
        }
        out.map(|(_, universe, _)| universe).unwrap_or_default()
    }
}

impl Universe {
    fn in_order(mut self) -> Universe {
        self.members.values_mut().for_each(|stays| stays.sort_by_key(|m| (m.stay.days.start, m.stay.days.end)));
        self
    }
}

fn given(stay: Stay, called: &str, by: &str, joined: Option<String>) -> Membership {
    Membership { stay, called: called.to_owned(), by: by.to_owned(), learned: None, joined, left: None }
}

fn unresolved(said: &str, by: &str, stay: Stay, hint: String) -> Unresolved {
    Unresolved { said: said.to_owned(), by: by.to_owned(), stay, hint }
}

/// What a list knows.
struct Knows {
    /// From this trade date on.
    since: TradeDate,
    /// Only of those who joined or left since.
    moves_only: bool,
}

/// What a second list says otherwise of what both know.
fn conflicts((first, counts, knows): (&Universe, &str, &Knows), (second, other, also): (&Universe, &str, &Knows)) -> Vec<String> {
    let known = [Slot::on(knows.since.max(also.since))..Slot::on(STILL)].into_iter().collect();
    let told_by = |(universe, knows): (&Universe, &Knows), symbol: &String| !knows.moves_only || universe.members.contains_key(symbol);
    let symbols: BTreeSet<&String> = first.members.keys().chain(second.members.keys()).collect();
    let symbols = symbols.into_iter().filter(|s| told_by((first, knows), s) && told_by((second, also), s));
    let told = |days: &Spans| match days.is_empty() {
        true => "no member".to_owned(),
        false => format!("a member {}", days.iter().map(|s| stretch(s.start.date(), s.end.date())).collect::<Vec<_>>().join(" and ")),
    };
    let of = |symbol: &String| {
        let (a, b) = (spans::intersection(&first.days(symbol), &known), spans::intersection(&second.days(symbol), &known));
        (a != b).then(|| format!("{symbol}: {} by {counts}, {} by {other}; what {counts} says counts", told(&a), told(&b)))
    };
    symbols.filter_map(of).collect()
}

/// Days in words, as `from 2016-01-04 until 2025-03-17`; the second is the first day out.
#[must_use]
pub fn stretch(from: TradeDate, to: TradeDate) -> String {
    match (from == ALWAYS, to == STILL) {
        (true, true) => "always".to_owned(),
        (false, true) => format!("from {from}"),
        (true, false) => format!("until {to}"),
        (false, false) => format!("from {from} until {to}"),
    }
}

/// Finds the instruments that lists mean.
struct Names<'s> {
    setup: &'s Setup,
    by_name: Option<HashMap<String, Vec<&'s Instrument>>>,
}

/// What a list says of one member.
struct Said<'r> {
    symbol: Option<&'r str>,
    name: Option<&'r str>,
    row: &'r ListRow,
}

impl<'s> Names<'s> {
    fn read(&mut self, described: &Described, (name, profile, list): (&str, &Profile, &List), history: &History) -> (Universe, Knows) {
        let mut out = Universe::default();
        let mut knows = Knows { since: ALWAYS, moves_only: list.of == ListKind::MemberChanges };
        let Some(calendar) = self.setup.calendars.get(&list.venue) else { return (out, knows) };
        let stays = match list.of {
            ListKind::MemberChanges => changes(history, &mut out.unread),
            _ if list.columns.contains_key("from") => dated(list, history, &mut out.unread),
            _ => {
                let dates: Vec<TradeDate> = history.collections.iter().filter_map(|at| Some(calendar.at_or_after(*at)?.date)).collect();
                out.known_from = dates.first().copied();
                knows.since = out.known_from.unwrap_or(ALWAYS);
                of_the_day(calendar, &dates, history)
            }
        };
        // A log is read member by member, so whose lines are whose has to be known before.
        let mut moves: BTreeMap<String, Vec<(TradeDate, Move, &ListRow, &str)>> = BTreeMap::new();
        for (said, told) in stays {
            let date = told.date();
            let called = said.name.or(said.symbol).unwrap_or_default();
            match (self.find(described, profile, &said, date), told) {
                (Err(hint), told) => {
                    // One name is told of once, however many rows have it.
                    if !out.unresolved.iter().any(|u| u.said == called) {
                        out.unresolved.push(unresolved(called, name, told.stay(), hint));
                    }
                }
                (Ok(instrument), Saying::Stay(stay)) if stay.days.start < stay.days.end => {
                    out.members.entry(instrument.symbol.clone()).or_default().push(Membership {
                        stay,
                        called: called.to_owned(),
                        by: name.to_owned(),
                        learned: Some(said.row.since),
                        joined: None,
                        left: None,
                    });
                }
                // It came and went between two sessions.
                (Ok(_), Saying::Stay(_)) => {}
                (Ok(instrument), Saying::Move(date, what)) => {
                    moves.entry(instrument.symbol.clone()).or_default().push((date, what, said.row, called));
                }
            }
        }
        if let Some(first) = moves.values().flatten().map(|(date, ..)| *date).min() {
            knows.since = first;
        }
        for (symbol, lines) in moves {
            let (stays, wrong) = logged(lines.iter().map(|(date, what, ..)| (*date, *what)).collect());
            out.unread.extend(wrong.into_iter().map(|why| format!("{symbol} by {name}: {why}")));
            let learned = lines.iter().map(|(_, _, row, _)| row.since).max();
            let called = lines.last().map_or("", |(.., called)| called);
            let one = |stay| Membership { learned, ..given(stay, called, name, None) };
            out.members.insert(symbol, stays.into_iter().map(one).collect());
        }
        (out.in_order(), knows)
    }

    /// The instrument that a list means on a date, or what it may mean.
    fn find(&mut self, described: &Described, profile: &Profile, said: &Said<'_>, date: TradeDate) -> Result<&'s Instrument, String> {
        let setup = self.setup;
        for text in said.name.iter().chain(&said.symbol) {
            if let Some(ours) = described.spelling.get(*text) {
                return setup.instrument(ours).map_err(|e| format!("spelling says {ours}, and {e}"));
            }
        }
        let spell = format!("write its symbol under [spelling] in universes/{}.toml", described.name);
        if let Some(theirs) = said.symbol {
            let ours = profile.symbols.back(theirs);
            let by_id = || {
                let (ours, _) = setup.ids.get(&profile.name)?.iter().find(|(_, id)| *id == theirs)?;
                setup.known(ours)
            };
            let found = setup.carried_on(&ours, date).or_else(|| setup.known(&ours)).or_else(by_id);
            let found = found.or_else(|| setup.instrument(&ours).ok());
            match found {
                Some(instrument) => return Ok(instrument),
                None if said.name.is_none() => return Err(format!("no instrument has this symbol; {spell}")),
                None => {}
            }
        }
        let name = said.name.unwrap_or_default();
        let by_name = self.by_name.get_or_insert_with(|| {
            let mut out: HashMap<String, Vec<&Instrument>> = HashMap::new();
            setup.config.instruments.iter().for_each(|i| out.entry(plain(&i.name)).or_default().push(i));
            out
        });
        let wanted = plain(name);
        match by_name.get(&wanted).map_or(&[][..], Vec::as_slice) {
            [one] => Ok(one),
            [] => {
                let shared = |other: &str| other.chars().zip(wanted.chars()).take_while(|(a, b)| a == b).count();
                let near =
                    by_name.iter().map(|(other, all)| (shared(other), all[0])).max_by(|a, b| (a.0, &b.1.symbol).cmp(&(b.0, &a.1.symbol)));
                let near = near.filter(|(shared, _)| *shared > 3).map(|(_, i)| format!("it may be {} ({}); ", i.symbol, i.name));
                Err(format!("{}{spell}", near.unwrap_or_else(|| "no instrument has this name; ".to_owned())))
            }
            several => match several.iter().filter(|i| i.trades_on(date)).collect::<Vec<_>>()[..] {
                [one] => Ok(one),
                _ => Err(format!("{} instruments have this name; {spell}", several.len())),
            },
        }
    }
}

/// What a row says.
enum Saying {
    Stay(Stay),
    Move(TradeDate, Move),
}

impl Saying {
    /// A day on which it had the name that the row says.
    fn date(&self) -> TradeDate {
        match self {
            Saying::Stay(stay) if stay.days.start == ALWAYS && stay.days.end < STILL => stay.days.end.plus(-1),
            Saying::Stay(stay) => stay.days.start,
            Saying::Move(date, Move::In) => *date,
            Saying::Move(date, Move::Out) => date.plus(-1),
        }
    }

    fn stay(self) -> Stay {
        match self {
            Saying::Stay(stay) => stay,
            Saying::Move(date, Move::In) => Stay::of(date..STILL),
            Saying::Move(date, Move::Out) => Stay::of(ALWAYS..date),
        }
    }
}

fn said(row: &ListRow) -> Said<'_> {
    let of = |column: &str| row.columns.get(column).map(String::as_str);
    Said { symbol: of("symbol"), name: of("name"), row }
}

/// The stays of a list that shows the members of the day: rows that came and went.
fn of_the_day<'h>(calendar: &Calendar, collections: &[TradeDate], history: &'h History) -> Vec<(Said<'h>, Saying)> {
    let date = |at: Timestamp| calendar.at_or_after(at).map(|s| s.date);
    // What lies between two collections is in doubt only where a session does.
    let between = |after: Option<TradeDate>, to: TradeDate| after.filter(|after| !calendar.between(after.plus(1)..to).is_empty());
    let stay = |row: &'h ListRow| {
        let seen = Stay::seen(collections, date(row.since)?, row.until.and_then(date));
        let (joined_after, left_after) = (between(seen.joined_after, seen.days.start), between(seen.left_after, seen.days.end));
        Some((said(row), Saying::Stay(Stay { joined_after, left_after, ..seen })))
    };
    history.rows.iter().filter_map(stay).collect()
}

/// The stays of a list with dates in it, by what it says last.
fn dated<'h>(list: &List, history: &'h History, unread: &mut Vec<String>) -> Vec<(Said<'h>, Saying)> {
    let mut out = vec![];
    for row in history.rows.iter().filter(|row| row.until.is_none()) {
        let date = |column: &str, without: TradeDate| match row.columns.get(column).map(|t| t.trim()).filter(|t| !t.is_empty()) {
            None => Ok(without),
            Some(text) => text.parse::<TradeDate>().map_err(|e| format!("`{}`: {column}: {e}", row.key)),
        };
        let read = date("from", ALWAYS).and_then(|from| Ok(from..date("to", STILL)?));
        let days = match read {
            Ok(days) if list.left == Left::LastDayIn && days.end < STILL => days.start..days.end.plus(1),
            Ok(days) => days,
            Err(why) => {
                unread.push(why);
                continue;
            }
        };
        if days.start >= days.end {
            unread.push(format!("`{}`: it left on {}, which does not come after the day it joined", row.key, days.end));
            continue;
        }
        out.push((said(row), Saying::Stay(Stay::of(days))));
    }
    out
}

/// The lines of a log of changes.
fn changes<'h>(history: &'h History, unread: &mut Vec<String>) -> Vec<(Said<'h>, Saying)> {
    let mut out = vec![];
    for row in history.rows.iter().filter(|row| row.until.is_none()) {
        let date = match row.columns.get("date").map_or("", |text| text.trim()).parse::<TradeDate>() {
            Ok(date) => date,
            Err(e) => {
                unread.push(format!("`{}`: date: {e}", row.key));
                continue;
            }
        };
        for (column, what) in [("left", Move::Out), ("joined", Move::In)] {
            let Some(text) = row.columns.get(column).map(|t| t.trim()).filter(|t| !t.is_empty()) else { continue };
            // A log names members by their symbols or by their names.
            out.push((Said { symbol: Some(text), name: Some(text), row }, Saying::Move(date, what)));
        }
    }
    out
}
