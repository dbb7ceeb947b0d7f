//! What researchers are answered: bars of one source or golden ones, what is doubted, what is missing, and where a bar came from.
//!
//! * [`golden`]: who takes part in a golden series, and its bars; [`whole`]: what it is expected to have.
//! * [`findings`]: what the checks find, [`noticed`]: as a person asks for it, `checking`: in all series together.
//! * [`gaps`]: gaps with what other sources say of them; [`excusing`]: what a person accepts.
//! * [`lineage`]: from a bar to the very line it stands on; [`comparison`]: two series side by side.
//! * [`chains`]: futures by their chains, and where they roll.
//! * [`universes`]: who belonged when, by lists or by a rule.
//! * [`editions`]: immutable sets of files made from saved questions.
//! * [`sql`]: questions as queries over the table that an edition publishes.
//! * [`reading`]: bars a piece at a time; [`encode`]: bars as files; [`drawing`]: bars as pictures.
//!
//! It asks no source and runs nothing, and knows nothing of HTTP or of the types that go over the wire.

mod accounting;
pub mod actions;
pub mod adjusting;
pub mod agreeing;
pub mod answer;
mod basis;
mod chains;
mod checking;
mod closes;
pub mod comparison;
mod concerns;
pub mod drawing;
pub mod editions;
pub mod encode;
pub mod excusing;
pub mod explain;
pub mod findings;
pub mod gaps;
pub mod golden;
pub mod lineage;
pub mod noticed;
pub mod question;
pub mod reading;
pub mod rolled;
mod rulings;
pub mod sql;
pub mod unclear;
pub mod universes;
pub mod whole;
mod worth;

use mizuno_core::Timestamp;
use mizuno_desk::{
    Desk,
    lately::{Lately, OfSeries},
    universes::Universe,
};
use std::sync::Arc;

/// The room that answers researchers.
pub struct Research {
    /// The setup at work, the store, and what is known of every series.
    pub desk: Arc<Desk>,
    /// What the checks found, until bars change.
    examined: findings::Examined,
    /// How far the actions account for adjusted prices.
    accounted: OfSeries<accounting::FollowsFrom, basis::Accounted>,
    /// What findings were lately judged by: as of one instant it is the same for ever.
    known: Lately<(u64, Timestamp), findings::Known>,
    /// The actions that were lately asked for, until a list or a person changes them.
    acted: Lately<(u64, Timestamp), actions::Actions>,
    /// What was lately ruled of bars, until more is.
    ruled: Lately<Timestamp, rulings::Rulings>,
    /// Universes that were lately asked for, until a list changes.
    universes: Lately<universes::FollowsFrom, Universe>,
    /// Of strict rules that were lately asked for, what came of reviews that are over.
    settled: Lately<(u64, String), universes::Settled>,
    /// Chains that were lately rolled.
    chains: Lately<chains::FollowsFrom, rolled::Chain>,
    /// Held while many series are examined.
    examining: tokio::sync::Mutex<()>,
    /// Editions under way.
    at_work: editions::AtWork,
}

impl Research {
    /// A room that has examined nothing yet.
    #[must_use]
    pub fn new(desk: Arc<Desk>) -> Arc<Research> {
        Arc::new(Research {
            desk,
            examined: findings::Examined::default(),
            accounted: OfSeries::default(),
            known: Lately::of(findings::REMEMBERED),
            acted: Lately::of(actions::REMEMBERED),
            ruled: Lately::of(rulings::REMEMBERED),
            universes: Lately::of(universes::REMEMBERED),
            settled: Lately::of(universes::REMEMBERED),
            chains: Lately::of(chains::REMEMBERED),
            examining: tokio::sync::Mutex::default(),
            at_work: editions::AtWork::default(),
        })
    }
}
