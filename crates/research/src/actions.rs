//! Corporate actions as they were known at an instant, and what they do to prices.
//!
//! They come from lists of sources and from people. What a person entered goes before every list; of the lists, the first by name
//! that tells of an action counts, and what another says otherwise is told as a conflict.

use crate::{
    Research,
    findings::{Known, Splits},
    golden::Lineup,
};
use mizuno_config::{GOLDEN, profile::ListKind};
use mizuno_core::{
    Action, Calendar, Decimal, Instrument, Interval, SeriesKey, Side, Slot, Timestamp, TradeDate,
    action::What,
    adjust::{self, Adjust, Anchor, Effect, Factors, Judged},
    finding::Split,
};
use mizuno_desk::{DeskError, Setup};
use mizuno_store::{actions::NewAction, blocks::Needed, lists::Columns};
use std::collections::BTreeMap;

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
        // One who tells of two on one day means two.
        let same = |other: &&KnownAction| {
            let (a, b) = (&other.action, &known.action);
            let near = (a.ex_date.0 - b.ex_date.0).abs() <= APART && a.what == b.what;
            other.from != known.from && a.kind() == b.kind() && (a.ex_date == b.ex_date || (a.is_of_shares() && near))
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

    /// Those that divide shares, as sources that adjust for splits take them out of their prices.
    pub(crate) fn splits(&self) -> Splits {
        let split = |k: &KnownAction| match k.action.what {
            What::Split { new, old } => Some(Split { ex_date: k.action.ex_date, new, old }),
            What::Bonus { new, old } => Some(Split { ex_date: k.action.ex_date, new: old + new, old }),
            _ => None,
        };
        let by_symbol = self.by_symbol.iter().map(|(symbol, all)| (symbol.clone(), all.iter().filter_map(split).collect()));
        Splits::new(by_symbol.collect(), self.venues.clone(), self.conflicts.clone())
    }
}

/// How prices of a question are adjusted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Adjustment {
    /// For which actions.
    pub which: Adjust,
    /// Where prices are as they were paid.
    pub anchor: Anchor,
}

/// The actions of one instrument at work.
pub struct Adjusted {
    /// Each action, with what it does.
    pub actions: Vec<(KnownAction, Judged)>,
    /// The factors that they make together.
    pub factors: Factors,
    /// What is told of each trade date on which some count.
    pub days: Vec<(TradeDate, String)>,
    /// Whether the closes come from bars of a minute, since no daily ones are held.
    pub by_minutes: bool,
}

/// The closes that actions are held against.
#[derive(Clone)]
pub(crate) struct Closes {
    lineup: Lineup,
    interval: Interval,
}

impl Closes {
    /// What changes when one of them may.
    pub(crate) fn state(&self, setup: &Setup, known: &Known, named: Option<Timestamp>) -> Result<Vec<u8>, DeskError> {
        self.lineup.state(setup, known, named)
    }
}

impl Research {
    /// The actions known at an instant.
    pub(crate) async fn read_actions(&self, setup: &Setup, as_of: Timestamp) -> Result<Actions, DeskError> {
        let mut out = Actions::default();
        // A list, and a person, may say another symbol of the instrument than the present one.
        let present = |symbol: &str| setup.instrument(symbol).map_or_else(|_| symbol.to_owned(), |i| i.symbol.clone());
        for row in self.desk.store.entered_actions().await?.into_iter().filter(|row| row.is_in_force(as_of)) {
            let from = Origin::Person { id: row.id, by: row.by, reason: row.reason };
            match Action::read(&row.kind, |column| row.columns.get(column).map(String::as_str)) {
                Ok(action) => out.take(&present(&row.symbol), KnownAction { action, learned: row.entered_at, from }),
                Err(why) => out.unread.push(format!("{}: action {} by {}: {why}", row.symbol, row.id, from.name())),
            }
        }
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
                    let Some(symbol) = said("symbol").map(present) else { continue };
                    let from = Origin::List(name.clone());
                    match Action::read(kind.or(said("kind")).unwrap_or_default(), said) {
                        Ok(action) => out.take(&symbol, KnownAction { action, learned: row.since, from }),
                        Err(why) => out.unread.push(format!("{symbol}: a row of {name}: {why}")),
                    }
                }
            }
        }
        Ok(out)
    }

    /// The closes of an instrument that its actions are held against: golden daily ones, or of minutes where there are none.
    pub(crate) async fn closes(&self, setup: &Setup, instrument: &Instrument, known: &Known) -> Result<Option<Closes>, DeskError> {
        for interval in [Interval::Daily, Interval::MINUTE] {
            let key = SeriesKey { symbol: instrument.symbol.clone(), interval, side: Side::Trade, source: GOLDEN.to_owned() };
            let lineup = self.unexamined(setup, &key, known).await?;
            if !lineup.parts.is_empty() {
                return Ok(Some(Closes { lineup, interval }));
            }
        }
        Ok(None)
    }

    /// The close of each session, in order.
    async fn read_closes(
        &self,
        setup: &Setup,
        closes: &Closes,
        calendar: &Calendar,
        known: &Known,
        as_of: Timestamp,
    ) -> Result<Vec<(TradeDate, Decimal)>, DeskError> {
        let mut lineup = closes.lineup.clone();
        self.examine_lineup(setup, &mut lineup, known).await?;
        let extent = self.desk.store.held(&lineup.parts.iter().map(|p| p.row.clone()).collect::<Vec<_>>(), as_of).await?;
        let extent = extent.values().filter_map(mizuno_core::spans::hull).reduce(|a, b| a.start.min(b.start)..a.end.max(b.end));
        let Some(extent) = extent else { return Ok(vec![]) };
        let only_close = Needed { open: false, high: false, low: false, volume: false };
        let mut reading = self.golden_over(lineup, calendar, extent, as_of, only_close);
        let mut out: Vec<(TradeDate, Decimal)> = vec![];
        while let Some(made) = reading.next().await? {
            for bar in &made.bars.rows {
                let date = match closes.interval {
                    Interval::Daily => bar.slot.date(),
                    interval => calendar.session_of(interval, bar.slot).map_or_else(|| bar.slot.date(), |s| s.date),
                };
                match out.last_mut() {
                    Some((last, close)) if *last == date => *close = bar.close(),
                    _ => out.push((date, bar.close())),
                }
            }
        }
        Ok(out)
    }

    /// What the actions of an instrument do to its prices of an interval. `first` and `last` are the trade dates of its oldest and newest
    /// bar, to which anchors refer.
    ///
    /// # Errors
    /// When the store cannot be read, or the venue is no longer configured.
    pub(crate) async fn adjusted(
        &self,
        setup: &Setup,
        instrument: &Instrument,
        interval: Interval,
        adjustment: Adjustment,
        (first, last): (TradeDate, TradeDate),
        known: &Known,
        closes: Option<&Closes>,
    ) -> Result<Adjusted, DeskError> {
        let calendar = setup.calendar_of(instrument)?;
        let all = known.actions.of(&instrument.symbol);
        let wanted = adjustment.which == Adjust::All && all.iter().any(|k| !k.action.is_of_shares());
        let read = match closes.filter(|_| wanted) {
            Some(closes) => self.read_closes(setup, closes, calendar, known, known.as_of).await?,
            None => vec![],
        };
        let until = match adjustment.anchor {
            Anchor::Date(date) => date.min(last),
            Anchor::Newest | Anchor::Oldest => last,
        };
        let sessions = calendar.sessions();
        let session = |date: TradeDate| sessions.get(sessions.partition_point(|s| s.date < date)).map_or(date, |s| s.date);
        let close = |before: TradeDate| read.partition_point(|(date, _)| *date < before).checked_sub(1).map(|at| read[at]);
        let actions = all.iter().map(|k| k.action.clone()).collect();
        let judged = adjust::judge(actions, adjustment.which, until, &instrument.currency, session, close);
        let start = |date: TradeDate| match interval {
            Interval::Daily => Slot::on(date),
            interval => calendar.span_of_dates(interval, date..TradeDate(i32::MAX)).start,
        };
        let anchor = (adjustment.anchor == Anchor::Oldest).then(|| start(first));
        let factors = Factors::of(&judged, start, anchor);
        // Each judged action beside what is known of it: the two are in another order where an ex-date has no session.
        let mut rest: Vec<&KnownAction> = all.iter().collect();
        let mut actions = vec![];
        for judged in judged {
            if let Some(at) = rest.iter().position(|k| k.action == judged.action) {
                actions.push((rest.remove(at).clone(), judged));
            }
        }
        Ok(Adjusted { days: days(&actions), actions, factors, by_minutes: wanted && closes.is_some_and(|c| c.interval != Interval::Daily) })
    }

    /// The actions of an instrument and what each does to daily prices, as of an instant; with what lists say otherwise.
    ///
    /// # Errors
    /// When the instrument is not known, or the store cannot be read.
    pub async fn actions_of(&self, setup: &Setup, symbol: &str, as_of: Timestamp) -> Result<(Adjusted, Vec<String>), DeskError> {
        let known = self.known(setup, as_of).await?;
        let instrument = setup.instrument(symbol)?;
        let closes = self.closes(setup, instrument, &known).await?;
        let dates = (TradeDate(i32::MIN), setup.calendar_of(instrument)?.last_closed(as_of).map_or(TradeDate(0), |s| s.date));
        let adjustment = Adjustment { which: Adjust::All, anchor: Anchor::Newest };
        let adjusted = self.adjusted(setup, instrument, Interval::Daily, adjustment, dates, &known, closes.as_ref()).await?;
        let mine = |sentence: &&String| sentence.starts_with(&format!("{}: ", instrument.symbol));
        let told = known.actions.conflicts.iter().chain(&known.actions.unread).filter(mine).cloned().collect();
        Ok((adjusted, told))
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
            match (setup.instrument(&symbol), Action::read(&kind, |column| columns.get(column).map(String::as_str))) {
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

/// The texts of the actions of each trade date, one after another.
fn days(actions: &[(KnownAction, Judged)]) -> Vec<(TradeDate, String)> {
    let text = |judged: &Judged| match &judged.effect {
        Effect::Not(_) => format!("{} (not applied)", judged.action),
        _ => judged.action.to_string(),
    };
    let day = |all: &[(KnownAction, Judged)]| (all[0].1.counts_on, all.iter().map(|(_, j)| text(j)).collect::<Vec<_>>().join("; "));
    actions.chunk_by(|(_, a), (_, b)| a.counts_on == b.counts_on).map(day).collect()
}

impl Adjusted {
    /// What could not be applied, each with the reason.
    pub fn doubtful(&self) -> impl Iterator<Item = (&KnownAction, &str)> {
        self.actions.iter().filter_map(|(known, judged)| match &judged.effect {
            Effect::Not(why) => Some((known, why.as_str())),
            _ => None,
        })
    }
}
