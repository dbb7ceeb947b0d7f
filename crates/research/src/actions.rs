//! Corporate actions as they were known at an instant, and what they do to prices.
//!
//! They come from lists of sources and from people. What a person entered goes before every list. Of the lists, that of the source whose
//! daily bars rank best on the ex-date counts; those of sources without a rank follow by name. What another says otherwise is told as a
//! conflict.

use crate::Research;
use mizuno_config::{profile::ListKind, ranking::place};
use mizuno_core::{Action, Interval, Side, Timestamp, action::What, finding::Split};
use mizuno_desk::{DeskError, Setup};
use mizuno_store::{actions::NewAction, lists::Columns};
use std::{collections::BTreeMap, sync::Arc};

/// Who told of an action.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Origin {
    /// A list, as SOURCE/LIST.
    List(String),
    /// A person.
    Person {
        /// The number under which it was entered.
        id: i64,
        /// Who entered it.
        by: String,
        /// Why.
        reason: String,
    },
}

impl Origin {
    /// It in a few words.
    #[must_use]
    pub fn name(&self) -> &str {
        match self {
            Origin::List(name) => name,
            Origin::Person { by, .. } => by,
        }
    }
}

/// An action, with when it was learned and from where.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KnownAction {
    /// The action.
    pub action: Action,
    /// When it was learned, as it stands.
    pub learned: Timestamp,
    /// From where.
    pub from: Origin,
}

/// The actions known at an instant.
#[derive(Clone, Debug, Default)]
pub struct Actions {
    by_symbol: BTreeMap<String, Vec<KnownAction>>,
    /// Those that divide shares.
    pub splits: Arc<Splits>,
    /// Venues with a list of splits.
    venues: Vec<String>,
    /// What two of those who tell say otherwise, in sentences; what the first of them says counts.
    pub conflicts: Vec<String>,
    /// Rows that could not be understood, in sentences.
    pub unread: Vec<String>,
}

/// Two lists that give one split so many days apart mean the same one.
const APART: i32 = 4;

impl Actions {
    fn take(&mut self, symbol: &str, known: KnownAction) {
        let all = self.by_symbol.entry(symbol.to_owned()).or_default();
        if all.iter().any(|other| other.action == known.action) {
            return;
        }
        // One list that tells of two on one day means two, and so do people: they saw what was known before they entered more.
        let by_one = |a: &Origin, b: &Origin| match (a, b) {
            (Origin::Person { .. }, Origin::Person { .. }) => true,
            (a, b) => a == b,
        };
        let same = |other: &&KnownAction| {
            let (a, b) = (&other.action, &known.action);
            let near = (a.ex_date.0 - b.ex_date.0).abs() <= APART && a.what == b.what;
            !by_one(&other.from, &known.from) && a.kind() == b.kind() && (a.ex_date == b.ex_date || (a.is_of_shares() && near))
        };
        match all.iter().find(same) {
            Some(other) => {
                let (first, list) = (other.from.name(), known.from.name());
                let (a, b) = (&other.action, &known.action);
                self.conflicts.push(format!(
                    "{symbol}: {a} on {} by {first}, and {b} on {} by {list}; what {first} says counts",
                    a.ex_date, b.ex_date
                ));
            }
            None => {
                all.push(known);
                all.sort_by_key(|k| (k.action.ex_date, k.action.order()));
            }
        }
    }

    /// Those of an instrument, by ex-date.
    #[must_use]
    pub fn of(&self, symbol: &str) -> &[KnownAction] {
        self.by_symbol.get(symbol).map_or(&[], Vec::as_slice)
    }

    /// The last delisting of an instrument.
    #[must_use]
    pub fn delisting(&self, symbol: &str) -> Option<&Action> {
        self.of(symbol).iter().map(|known| &known.action).rfind(|action| action.is_a_delisting())
    }

    /// Those that divide shares, as sources that adjust for splits take them out of their prices.
    fn splits(&self) -> Splits {
        let split = |k: &KnownAction| match k.action.what {
            What::Split { new, old } => Some(Split { ex_date: k.action.ex_date, new, old }),
            What::Bonus { new, old } => Some(Split { ex_date: k.action.ex_date, new: old + new, old }),
            _ => None,
        };
        let by_symbol = self.by_symbol.iter().map(|(symbol, all)| (symbol.clone(), all.iter().filter_map(split).collect()));
        Splits { by_symbol: by_symbol.collect(), venues: self.venues.clone() }
    }
}

/// The splits and bonus issues that are known, by symbol, and the venues that have such a list at all.
#[derive(Clone, Debug, Default)]
pub struct Splits {
    by_symbol: BTreeMap<String, Vec<Split>>,
    venues: Vec<String>,
}

impl Splits {
    /// The splits of an instrument; `None` when its venue has no list of them.
    pub fn of(&self, setup: &Setup, symbol: &str) -> Option<&[Split]> {
        let venue = &setup.known(symbol)?.venue;
        self.venues.contains(venue).then(|| self.by_symbol.get(symbol).map_or(&[][..], Vec::as_slice))
    }
}

/// Setups of which the actions are remembered.
pub(crate) const REMEMBERED: usize = 4;

impl Research {
    /// The actions known at an instant. Those as of an instant after their last change are read once.
    pub(crate) async fn known_actions(&self, setup: &Setup, as_of: Timestamp) -> Result<Arc<Actions>, DeskError> {
        let since = self.desk.store.told_since();
        if as_of < since {
            return Ok(Arc::new(self.read_actions(setup, as_of).await?));
        }
        let key = (setup.serial, since);
        self.acted.recall_or(key, self.read_actions(setup, as_of)).await
    }

    async fn read_actions(&self, setup: &Setup, as_of: Timestamp) -> Result<Actions, DeskError> {
        let mut out = Actions::default();
        // A list, and a person, may say another symbol of the instrument than the present one.
        let present =
            |symbol: &str, action: &Action| setup.meant_on(symbol, action.ex_date).map_or_else(|_| symbol.to_owned(), |i| i.symbol.clone());
        for row in self.desk.store.entered_actions().await?.into_iter().filter(|row| row.is_in_force(as_of)) {
            let from = Origin::Person { id: row.id, by: row.by, reason: row.reason };
            match Action::read(&row.kind, |column| row.columns.get(column).map(String::as_str)) {
                Ok(action) => out.take(&present(&row.symbol, &action), KnownAction { action, learned: row.entered_at, from }),
                Err(why) => out.unread.push(format!("{}: action {} by {}: {why}", row.symbol, row.id, from.name())),
            }
        }
        let mut listed: BTreeMap<String, Vec<(&String, KnownAction)>> = BTreeMap::new();
        for (source, profile) in &setup.config.sources {
            for list in &profile.lists {
                let kind = match list.of {
                    ListKind::Splits => Some("split"),
                    ListKind::Dividends => Some("dividend"),
                    ListKind::Actions => None,
                    _ => continue,
                };
                let name = format!("{source}/{}", list.name);
                let rows = self.desk.store.list_rows_as_of(source, &list.name, as_of).await?;
                if list.of != ListKind::Dividends && !rows.is_empty() {
                    out.venues.push(list.venue.clone());
                }
                for row in rows {
                    let said = |column: &str| row.columns.get(column).map(String::as_str);
                    let Some(symbol) = said("symbol") else { continue };
                    let from = Origin::List(name.clone());
                    match Action::read(kind.or(said("kind")).unwrap_or_default(), said) {
                        Ok(action) => {
                            let told = listed.entry(present(symbol, &action)).or_default();
                            told.push((source, KnownAction { action, learned: row.since, from }));
                        }
                        Err(why) => out.unread.push(format!("{symbol}: a row of {name}: {why}")),
                    }
                }
            }
        }
        for (symbol, mut told) in listed {
            if let Some(instrument) = setup.known(&symbol) {
                let ranks = setup.config.ranking.of(instrument, Interval::Daily, Side::Trade);
                told.sort_by_key(|(source, known)| place(&ranks, source, known.action.ex_date));
            }
            told.into_iter().for_each(|(_, known)| out.take(&symbol, known));
        }
        out.splits = Arc::new(out.splits());
        Ok(out)
    }

    /// Enters actions in a person's name, all or none; returns their numbers.
    ///
    /// # Errors
    /// Everything that is wrong with them, at once; when nobody is named, or the database cannot be written.
    pub async fn enter_actions(
        &self,
        setup: &Setup,
        rows: Vec<(String, String, Columns)>,
        by: &str,
        reason: &str,
    ) -> Result<Vec<i64>, DeskError> {
        let (by, reason) = (said("by", by, "name who enters it")?, said("reason", reason, "say why it is entered")?);
        let (mut actions, mut problems) = (vec![], vec![]);
        for (at, (symbol, kind, columns)) in rows.into_iter().enumerate() {
            let wrong = |why: String| format!("action {} ({symbol}): {why}", at + 1);
            let read = Action::read(&kind, |column| columns.get(column).map(String::as_str));
            let meant = read.as_ref().map_or_else(|_| setup.instrument(&symbol), |action| setup.meant_on(&symbol, action.ex_date));
            match (meant, read) {
                (Ok(instrument), Ok(_)) => actions.push(NewAction { symbol: instrument.symbol.clone(), kind, columns }),
                (Err(error), _) => problems.push(wrong(error.to_string())),
                (_, Err(why)) => problems.push(wrong(why)),
            }
        }
        match problems.is_empty() {
            true if actions.is_empty() => Err(DeskError::Invalid("there is no action to enter".to_owned())),
            true => Ok(self.desk.store.enter_actions(actions, by, reason).await?),
            false => Err(DeskError::Invalid(problems.join("; "))),
        }
    }

    /// Withdraws an action that a person entered.
    ///
    /// # Errors
    /// When there is none of that number in force, nobody is named, or the database cannot be written.
    pub async fn withdraw_action(&self, id: i64, by: &str, why: &str) -> Result<(), DeskError> {
        let (by, why) = (said("by", by, "name who withdraws it")?, said("why", why, "say why it is withdrawn")?);
        Ok(self.desk.store.withdraw_action(id, by, why).await?)
    }
}

fn said(key: &str, text: &str, wanted: &str) -> Result<String, DeskError> {
    match text.trim() {
        "" => Err(DeskError::Invalid(format!("{key}: {wanted}"))),
        text => Ok(text.to_owned()),
    }
}
