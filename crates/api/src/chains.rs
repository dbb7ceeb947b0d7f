//! Continuous series of futures: chains and their rolls.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A continuous series in short.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Chain {
    /// Its name, under which its bars are asked for.
    pub name: String,
    /// What people call it.
    pub title: String,
    /// What it is made of: the contracts of a product, or the instruments of a table.
    pub made_of: String,
    /// When it rolls.
    pub rule: String,
    /// Contracts that are known.
    pub contracts: u64,
    /// Rolls so far.
    pub rolls: u64,
    /// The contract of the newest session; absent while there is none.
    pub contract: Option<String>,
    /// Since when.
    pub since: Option<String>,
}

/// A continuous series as it was known at an instant.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChainTold {
    /// It in short.
    #[serde(flatten)]
    pub chain: Chain,
    /// The instant.
    pub as_of: String,
    /// Its contracts in order of expiry.
    pub chain_of: Vec<Contract>,
    /// Its rolls, newest first.
    pub rolled: Vec<Roll>,
    /// What is told of it: contracts without bars, rolls without two closes, closes without a ratio.
    pub notes: Vec<String>,
}

/// A contract.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Contract {
    /// Its symbol.
    pub instrument: String,
    /// The day of its expiry.
    pub expiry: Option<String>,
    /// Its first notice day.
    pub first_notice: Option<String>,
    /// Its last trading day.
    pub last_traded: Option<String>,
    /// The trade dates of its first and its newest daily bar.
    pub bars_from: Option<String>,
    /// The newest.
    pub bars_to: Option<String>,
    /// The first trade date on which it stands in the series; absent where it never does.
    pub from: Option<String>,
    /// The first one of the next; absent for the newest.
    pub to: Option<String>,
}

/// A change from one contract to the next.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Roll {
    /// The session on whose close it was decided.
    pub decided: String,
    /// The first session of the new contract.
    pub from: String,
    /// The old contract.
    pub old: String,
    /// The new one.
    pub new: String,
    /// The session of the two closes; absent where no session had both.
    pub closes_on: Option<String>,
    /// The close of the old contract.
    pub old_close: Option<String>,
    /// The close of the new one.
    pub new_close: Option<String>,
    /// The new close less the old one.
    pub difference: Option<String>,
    /// The new close over the old one, to twelve decimals; absent where one of them is not above nought.
    pub ratio: Option<String>,
    /// Whether it came so late only because the old contract was about to end.
    pub at_the_latest: bool,
    /// Why it was decided.
    pub why: String,
}
