//! Universes: who belonged when.

use crate::Without;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A universe in short.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Universe {
    /// Its name.
    pub name: String,
    /// What people call it.
    pub title: String,
    /// What says who belongs: lists, its file, other universes, a rule.
    pub made_of: String,
    /// Members in the newest session.
    pub members: u64,
    /// Instruments that ever belonged to it.
    pub ever: u64,
    /// Names that are no instruments of ours.
    pub unresolved: u64,
    /// What those who tell say otherwise, and rows that cannot be true.
    pub doubts: u64,
}

/// A universe as it was known at an instant.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct UniverseTold {
    /// Its name.
    pub name: String,
    /// What people call it.
    pub title: String,
    /// What says who belongs.
    pub made_of: String,
    /// The instant.
    pub as_of: String,
    /// The newest session that had begun then, or the trade date that was asked for.
    pub on: String,
    /// The symbols of its members on that trade date.
    pub members: Vec<String>,
    /// The trade date before which nobody knows who belonged, where there is one.
    pub known_from: Option<String>,
    /// Every stay of every instrument, by symbol and date.
    pub memberships: Vec<Membership>,
    /// Who joined and left, by date, newest first.
    pub changes: Vec<MemberChange>,
    /// What those who tell say otherwise.
    pub conflicts: Vec<String>,
    /// Rows that cannot be true or understood.
    pub unread: Vec<String>,
    /// Names that are no instruments of ours.
    pub unresolved: Vec<Unresolved>,
    /// Instruments that ever belonged to it and have no daily bars.
    pub without: Vec<Without>,
}

/// A stay of an instrument.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Membership {
    /// Its symbol.
    pub instrument: String,
    /// Its name.
    pub name: String,
    /// Its first trade date as a member; absent where it always was one.
    pub from: Option<String>,
    /// The first trade date on which it is none; absent while it is one.
    pub to: Option<String>,
    /// The trade date of the last collection without it, where sessions lie between that and the first: it may have joined in any of them.
    pub joined_after: Option<String>,
    /// The same of its end: the last collection with it.
    pub left_after: Option<String>,
    /// What the one who says so calls it.
    pub called: String,
    /// Who says so.
    pub by: String,
    /// When that was learned; absent where it is configuration.
    pub learned_at: Option<String>,
    /// Why it joined, where that is told.
    pub joined: Option<String>,
    /// Why it left, where that is told.
    pub left: Option<String>,
}

/// Who joined and who left on a trade date.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MemberChange {
    /// The trade date.
    pub date: String,
    /// Those whose first day it is.
    pub joined: Vec<String>,
    /// Those who are members no longer.
    pub left: Vec<String>,
    /// Members from then on.
    pub members: u64,
}

/// A name that a list says and that is no instrument of ours.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Unresolved {
    /// What the list says.
    pub said: String,
    /// The list.
    pub by: String,
    /// Its days, in words.
    pub days: String,
    /// What it may be, and what to do.
    pub hint: String,
}
