//! Corporate actions over the wire.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// The corporate actions of an instrument, as of an instant.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Actions {
    /// The instrument.
    pub instrument: String,
    /// The instant.
    pub as_of: String,
    /// Each action, by ex-date, with what it does to daily prices adjusted for all actions.
    pub actions: Vec<Action>,
    /// Listings, other symbols and last trade dates.
    pub events: Vec<InstrumentEvent>,
    /// What lists say otherwise, or what could not be understood, in sentences.
    pub conflicts: Vec<String>,
    /// What the sources say that publish adjusted daily prices.
    pub checked: Vec<ActionCheck>,
}

/// The actions held against a source that publishes adjusted daily prices.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ActionCheck {
    /// The source.
    pub source: String,
    /// What it adjusts for: `splits`, or `splits and dividends`.
    pub adjusted_for: String,
    /// Sessions in which its prices were held against those traded; absent where no other source tells these.
    pub sessions: Option<u64>,
    /// Where its prices step and the actions do not account for it.
    pub steps: Vec<ActionStep>,
}

/// A step of a source's adjusted prices that the actions do not account for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ActionStep {
    /// The last session before it.
    pub before: String,
    /// The first session after it.
    pub on: String,
    /// What the source multiplies the prices before it by.
    pub theirs: f64,
    /// What the actions do.
    pub ours: f64,
    /// What would explain it, in a sentence.
    pub says: String,
}

/// A corporate action.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Action {
    /// Its number, where a person entered it.
    pub id: Option<i64>,
    /// The first trade date on which whoever buys has no part in it.
    pub ex_date: String,
    /// The session at which it counts: that of the ex-date, or the next one.
    pub counts_on: String,
    /// `split`, `bonus`, `dividend`, `special`, `rights`, `spin-off` or `delisting`.
    pub kind: String,
    /// Its kind and terms in words.
    pub terms: String,
    /// SOURCE/LIST, or who entered it.
    pub from: String,
    /// Why a person entered it.
    pub reason: Option<String>,
    /// When it was learned as it stands.
    pub learned_at: String,
    /// `applied`, `not-asked`, `after-anchor` or `not-applied`.
    pub effect: String,
    /// Why it is not applied.
    pub why: Option<String>,
    /// The date of the close that it is held against.
    pub close_on: Option<String>,
    /// That close, as traded.
    pub close: Option<String>,
    /// What one unit of its currency was worth, by the pairs of `rates.toml`, where nobody who tells of it says so.
    pub rate: Option<String>,
    /// What prices before it are multiplied by, as a fraction.
    pub price_factor: Option<String>,
    /// What volumes before it are multiplied by, as a fraction.
    pub volume_factor: Option<String>,
}

/// Something that happened to an instrument, and not to its price.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct InstrumentEvent {
    /// The trade date.
    pub date: String,
    /// What happened, in words.
    pub what: String,
}

/// Actions that a person enters, all or none.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct EnterActions {
    /// The actions.
    pub actions: Vec<NewAction>,
    /// Who enters them.
    pub by: String,
    /// Why.
    pub reason: String,
}

/// An action about to be entered.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewAction {
    /// The instrument.
    pub instrument: String,
    /// The kind.
    pub kind: String,
    /// Its terms: `ex_date`; `new` and `old`; `amount`, `currency`, `rate` and `before_split` of a dividend; `price` of rights and of a delisting; `value` of
    /// a spin-off.
    pub terms: BTreeMap<String, String>,
}
