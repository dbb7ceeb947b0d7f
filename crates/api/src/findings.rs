//! What checks found, how sources rank, and gaps of many series told as one.

use crate::Completeness;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Something a check noticed about a bar or a stretch of bars.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Finding {
    /// What to call it in an excuse, as in `KBF/1m/lodestar@2025-04-08T00:15:00Z#spike`.
    pub id: String,
    /// The series it is about.
    pub series: String,
    /// The check.
    pub check: String,
    /// `doubt` (the golden series prefers another source's bars) or `notice`.
    pub severity: String,
    /// What such a finding means and what to do, in a sentence or two.
    pub explanation: String,
    /// The first bar.
    pub from: String,
    /// The end of the last.
    pub to: String,
    /// The stretch as a person at the venue would say it.
    pub when: String,
    /// How many bars it is about.
    pub bars: u64,
    /// The figures that gave it away.
    pub detail: String,
    /// What the other sources of this instrument have there, in a sentence.
    pub evidence: String,
    /// Whether a person accepted it.
    pub accepted: bool,
}

/// A check, and how it looks when nobody says otherwise.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CheckInfo {
    /// Its name.
    pub name: String,
    /// What its findings mean.
    pub explanation: String,
    /// `doubt` or `notice`.
    pub severity: String,
    /// Its limit.
    pub limit: f64,
    /// What the limit counts.
    pub unit: String,
}

/// The sources of a golden series.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Lineup {
    /// The golden series.
    pub series: String,
    /// How complete it is.
    pub completeness: Completeness,
    /// How its sources rank, best first, from a trade date on.
    pub ranks: Vec<RankedFrom>,
    /// The sources that take part.
    pub sources: Vec<LineupSource>,
    /// Those that do not, and why.
    pub left_out: Vec<LeftOut>,
}

/// Sources in order of rank.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RankedFrom {
    /// First trade date; absent for the beginning.
    pub from: Option<String>,
    /// Best first.
    pub sources: Vec<String>,
}

/// A source of a golden series.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LineupSource {
    /// The source.
    pub source: String,
    /// How its prices come to be as traded, in words.
    pub basis: String,
    /// Its bars that are doubted, so that another source goes before it.
    pub doubted: u64,
    /// Its bars that are left out: it adjusts for splits, and what was paid does not follow from the digits that it told.
    pub unclear: u64,
    /// How complete it is.
    pub completeness: Completeness,
}

/// A source without a part in a golden series.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LeftOut {
    /// The source.
    pub source: String,
    /// Why.
    pub why: String,
}

/// Gaps of one cause over the same stretch, in one series or in many of one venue, source, interval and side.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Hole {
    /// The venue.
    pub venue: String,
    /// The source.
    pub source: String,
    /// The interval.
    pub interval: String,
    /// `trade`, `bid`, `ask` or `mid`.
    #[serde(default)]
    pub side: String,
    /// First missing slot.
    pub from: String,
    /// End of the last missing slot.
    pub to: String,
    /// The stretch as a person at the venue would say it.
    pub when: String,
    /// Missing slots in all series.
    pub slots: u64,
    /// How many series miss it.
    pub series: u64,
    /// Of how many of this venue, source, interval and side.
    pub of: u64,
    /// The cause.
    pub cause: String,
    /// The cause in a sentence.
    pub because: String,
    /// The ids of its gaps.
    pub gaps: Vec<String>,
}

/// What a person decides of a bar that was held back.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Decide {
    /// Whether to take it; otherwise the bar held before stays.
    pub take: bool,
    /// Who decides.
    pub by: String,
}
