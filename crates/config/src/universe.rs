//! Files in `universes/`: named sets of instruments with dated membership.

use crate::{Collector, Config, Problem, known, problem, profile::ListKind, text};
use mizuno_core::{Decimal, Interval, TradeDate, review::Every};
use serde::{Deserialize, Deserializer, de::Error};
use std::{
    collections::{BTreeMap, BTreeSet},
    path::Path,
};

/// A universe. Its members come from one of lists of sources, the file itself, other universes, or a rule.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Universe {
    /// The name of its file.
    #[serde(skip)]
    pub name: String,
    /// What people call it.
    #[serde(default)]
    pub title: String,
    /// Lists of sources, as SOURCE/LIST: the first that was collected counts, the others are held against it.
    #[serde(default)]
    pub lists: Vec<String>,
    /// Members given by hand.
    #[serde(default, rename = "member")]
    pub by_hand: Vec<ByHand>,
    /// Members of any of these universes ...
    #[serde(default)]
    pub any_of: Vec<String>,
    /// ... or of all of these at once.
    #[serde(default)]
    pub all_of: Vec<String>,
    /// Members by a rule.
    #[serde(default)]
    pub rule: Option<Rule>,
    /// Not while a member of one of these.
    #[serde(default)]
    pub except: Vec<String>,
    /// Symbols that belong to it on every day.
    #[serde(default)]
    pub always: Vec<String>,
    /// How lists spell what we call otherwise: their name, our symbol.
    #[serde(default)]
    pub spelling: BTreeMap<String, String>,
}

/// A stay given by hand.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ByHand {
    /// The symbol.
    pub symbol: String,
    /// The first day; always when left out.
    #[serde(default, deserialize_with = "text::parsed_if_there")]
    pub from: Option<TradeDate>,
    /// The first day on which it is no member; one still when left out.
    #[serde(default, deserialize_with = "text::parsed_if_there")]
    pub to: Option<TradeDate>,
    /// Why.
    #[serde(default)]
    pub why: Option<String>,
}

/// What an instrument has to be on a review date to be a member until the next.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Rule {
    /// The first trade date on which the universe has members.
    #[serde(deserialize_with = "text::parsed")]
    pub since: TradeDate,
    /// How often it is reviewed: at the close of the last session of each month, week or day.
    #[serde(deserialize_with = "review")]
    pub review: Every,
    /// The venue, whose calendar it is reviewed by.
    pub venue: String,
    /// Kinds of instrument; all when left out.
    #[serde(default)]
    pub kinds: Option<Vec<String>>,
    /// Currencies; all when left out.
    #[serde(default)]
    pub currencies: Option<Vec<String>>,
    /// Sessions of the venue since its listing, that of the review among them.
    #[serde(default)]
    pub listed_sessions: u32,
    /// The close of the review, as traded, at least.
    #[serde(default, deserialize_with = "text::parsed_if_there")]
    pub price_at_least: Option<Decimal>,
    /// The mean turnover of so many sessions up to the review, at least; a session without a bar counts as nought.
    #[serde(default, deserialize_with = "text::parsed_if_there")]
    pub turnover_at_least: Option<Decimal>,
    /// The sessions of that mean.
    #[serde(default = "twenty")]
    pub turnover_sessions: u32,
    /// Whether funds that multiply are left out: those with a leverage other than 1.
    #[serde(default)]
    pub without_leverage: bool,
    /// Whether only what had been learned by the close of a review counts in it.
    #[serde(default)]
    pub strict: bool,
}

fn twenty() -> u32 {
    20
}

fn review<'de, D: Deserializer<'de>>(d: D) -> Result<Every, D::Error> {
    match String::deserialize(d)?.as_str() {
        "daily" => Ok(Every::Day),
        "weekly" => Ok(Every::Week),
        "monthly" => Ok(Every::Month),
        other => Err(D::Error::custom(format!("`{other}` is no review; it is daily, weekly or monthly"))),
    }
}

/// The sessions that a mean may go over.
const MOST_SESSIONS: u32 = 1000;

impl Universe {
    pub(crate) fn parse(file: &Path, toml: &str) -> Result<Universe, Vec<Problem>> {
        let mut read: Universe = problem::toml(file, toml)?;
        read.name = text::stem(file);
        if read.title.is_empty() {
            read.title = read.name.clone();
        }
        let mut wrong: Vec<String> = vec![];
        if !text::is_name(&read.name) {
            wrong.push(format!("`{}` cannot be a universe's name; call the file by letters, digits and hyphens", read.name));
        }
        let ways =
            [!read.lists.is_empty(), !read.by_hand.is_empty(), !read.any_of.is_empty(), !read.all_of.is_empty(), read.rule.is_some()];
        if ways.iter().filter(|given| **given).count() != 1 {
            wrong.push("say who belongs in one way: lists, [[member]], any_of, all_of, or [rule]".to_owned());
        }
        if !read.spelling.is_empty() && read.lists.is_empty() {
            wrong.push("spelling: only lists spell names; leave it out, or name lists".to_owned());
        }
        for stay in &read.by_hand {
            if let (Some(from), Some(to)) = (stay.from, stay.to)
                && from >= to
            {
                let symbol = &stay.symbol;
                wrong.push(format!("{symbol}: `to` is the first day on which it is no member, and {to} does not come after {from}"));
            }
        }
        if let Some(rule) = &read.rule
            && !(1..=MOST_SESSIONS).contains(&rule.turnover_sessions)
        {
            wrong.push(format!("turnover_sessions: {} is not from 1 to {MOST_SESSIONS}", rule.turnover_sessions));
        }
        if wrong.is_empty() { Ok(read) } else { Err(wrong.into_iter().map(|what| Problem::whole(file, what)).collect()) }
    }

    /// What says who belongs, in a few words.
    #[must_use]
    pub fn made_of(&self) -> String {
        let mut out = match (&self.rule, &self.lists[..], &self.any_of[..]) {
            (Some(_), ..) => "a rule".to_owned(),
            (None, [only], _) => format!("list {only}"),
            (None, [first, rest @ ..], _) => format!("list {first}, held against {}", rest.join(", ")),
            (None, [], []) if !self.by_hand.is_empty() => "dates given by hand".to_owned(),
            (None, [], []) => format!("all of {}", self.all_of.join(", ")),
            (None, [], any) => format!("any of {}", any.join(", ")),
        };
        if !self.except.is_empty() {
            out.push_str(&format!(", except {}", self.except.join(", ")));
        }
        if !self.always.is_empty() {
            out.push_str(&format!(", and always {}", self.always.join(", ")));
        }
        out
    }

    /// The universes it is made of, and those it leaves out.
    pub fn named(&self) -> impl Iterator<Item = &String> {
        self.any_of.iter().chain(&self.all_of).chain(&self.except)
    }
}

impl Config {
    /// A universe and those that it is made of or leaves out, each once.
    #[must_use]
    pub fn behind<'c>(&'c self, universe: &'c str) -> BTreeSet<&'c str> {
        let (mut out, mut to_come) = (BTreeSet::new(), vec![universe]);
        while let Some(name) = to_come.pop() {
            if out.insert(name) {
                to_come.extend(self.universes.get(name).into_iter().flat_map(Universe::named).map(String::as_str));
            }
        }
        out
    }

    /// The lists that some universes follow from, as SOURCE/LIST.
    #[must_use]
    pub fn lists_behind<'c>(&'c self, universes: impl IntoIterator<Item = &'c str>) -> BTreeSet<&'c str> {
        let all = universes.into_iter().flat_map(|name| self.behind(name)).filter_map(|name| self.universes.get(name));
        all.flat_map(|universe| &universe.lists).map(String::as_str).collect()
    }

    /// The universes that collectors follow.
    #[must_use]
    pub fn followed(&self) -> BTreeSet<&str> {
        self.collectors.values().filter_map(|c| c.universe.as_deref()).collect()
    }

    /// Whether a universe follows from a rule somewhere: it then needs bars to be known.
    #[must_use]
    pub fn is_by_rule(&self, universe: &str) -> bool {
        self.behind(universe).into_iter().filter_map(|name| self.universes.get(name)).any(|u| u.rule.is_some())
    }

    /// The venue of a rule behind a universe that needs daily bars, where no collector keeps them but for whom a rule has found.
    fn lacks_days(&self, universe: &str) -> Option<&String> {
        let behind = self.behind(universe).into_iter().filter_map(|name| self.universes.get(name)?.rule.as_ref());
        let mut needing = behind.filter(|rule| rule.price_at_least.is_some() || rule.turnover_at_least.is_some());
        let is_kept = |venue: &String| {
            let free = |c: &&Collector| c.universe.as_ref().is_none_or(|followed| !self.is_by_rule(followed));
            let mut daily = self.collectors.values().filter(|c| c.interval == Interval::Daily && c.venue == *venue);
            daily.any(|c| free(&c))
        };
        needing.find(|rule| !is_kept(&rule.venue)).map(|rule| &rule.venue)
    }

    /// What is wrong with what universes say of lists, venues and each other.
    pub(crate) fn check_universes(&self) -> Vec<Problem> {
        let mut problems = vec![];
        for universe in self.universes.values() {
            let file = Path::new("universes").join(format!("{}.toml", universe.name));
            let mut wrong = |what: String| problems.push(Problem::whole(&file, what));
            for list in &universe.lists {
                let found = list.split_once('/').and_then(|(source, list)| self.sources.get(source)?.list(list));
                match found {
                    None => wrong(format!("there is no list {list}; write SOURCE/LIST")),
                    Some(found) if !matches!(found.of, ListKind::Members | ListKind::MemberChanges) => {
                        wrong(format!("{list} is a list of {}, and one of members or member-changes is wanted", found.of.word()));
                    }
                    Some(_) => {}
                }
            }
            for name in universe.named().filter(|name| !self.universes.contains_key(*name)) {
                wrong(format!("there is no universe {name}; {}", known(self.universes.keys())));
            }
            if let Some(rule) = universe.rule.as_ref().filter(|rule| !self.venues.contains_key(&rule.venue)) {
                wrong(format!("there is no venue {}; {}", rule.venue, known(self.venues.keys())));
            }
            if universe.named().any(|name| self.behind(name).contains(universe.name.as_str())) {
                wrong("it is made of itself, by way of the universes that it names; leave one of them out".to_owned());
            }
        }
        for collector in self.collectors.values() {
            let Some(name) = &collector.universe else { continue };
            let file = Path::new("collectors").join(format!("{}.toml", collector.name));
            if !self.universes.contains_key(name) {
                problems.push(Problem::whole(&file, format!("there is no universe {name}; {}", known(self.universes.keys()))));
            } else if let Some(venue) = self.lacks_days(name) {
                let what = format!(
                    "the universe {name} follows from a rule over daily bars of {venue}; let another collector keep those of all its \
                     instruments"
                );
                problems.push(Problem::whole(&file, what));
            }
        }
        problems
    }
}
