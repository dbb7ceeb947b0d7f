//! Questions, and what their answers would be.

use crate::{Completeness, ConfigurationTold, LeftOut};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// The keys of a question; docs/questions.md tells of each.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct AnyQuestion {
    /// Symbols of instruments, present or former, and patterns as `AL*`; the answer keeps their order.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub instruments: Option<Vec<String>>,
    /// Words that instruments are found by, beside those named.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub search: Option<String>,
    /// A universe, whose members are asked for, beside those named.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub universe: Option<String>,
    /// Of a universe: `masked` (also when left out) or `whole`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub members: Option<String>,
    /// The name of one series, instead of instruments, interval, side and source.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub series: Option<String>,
    /// Interval, as collected; 1d when left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub interval: Option<String>,
    /// `trade`, `bid`, `ask` or `mid`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub side: Option<String>,
    /// Source; golden when left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
    /// First trade date or instant.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Last trade date, included, or an instant, not included.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// Only what was known at this instant.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub as_of: Option<String>,
    /// `long` or `wide`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub layout: Option<String>,
    /// Columns in order.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub columns: Option<Vec<String>>,
    /// Other names for columns.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub names: Option<BTreeMap<String, String>>,
    /// `csv`, `ndjson`, `json`, `parquet` or `xlsx`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub format: Option<String>,
}

/// What a question is, and what its answer would be.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Explanation {
    /// The instant the answer stands for.
    pub as_of: String,
    /// The configuration that counted at that instant.
    pub configuration: ConfigurationTold,
    /// SHA-256 of the question as asked: of its canonical JSON.
    pub question: String,
    /// SHA-256 of the question as resolved: absolute range, instant, instruments.
    pub resolved: String,
    /// The columns of the answer.
    pub columns: Vec<ColumnTold>,
    /// Its series.
    pub series: Vec<SeriesTold>,
    /// Instruments that a pattern, a search or a universe found and that have no such series.
    pub without: Vec<Without>,
    /// The universe whose members were asked for.
    pub universe: Option<String>,
    /// How complete all of it is, together.
    pub completeness: Option<Completeness>,
    /// Blocks that are opened, at most: those of every source that takes part.
    pub blocks: u64,
    /// Their bytes.
    pub bytes: u64,
    /// How the prices come to be what they are.
    pub adjustment: String,
    /// What the numbers mean.
    pub units: String,
    /// What the stamps mean.
    pub stamps: String,
    /// The same question in other forms.
    pub forms: Forms,
}

/// A column of an answer.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ColumnTold {
    /// Its name.
    pub name: String,
    /// What it holds: `instant`, `date`, `number`, `word`, `flag` or `whole`.
    pub holds: String,
    /// Whether a cell may be empty.
    pub optional: bool,
}

/// A series of an answer.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SeriesTold {
    /// Its name.
    pub series: String,
    /// First moment of the range; absent where it is open.
    pub from: Option<String>,
    /// End of the range, not included; absent where it is open or still to come.
    pub to: Option<String>,
    /// Bars held in the range; of a golden series, slots that any source has.
    pub bars: u64,
    /// How complete it is there; absent when no collector keeps it any more.
    pub completeness: Option<Completeness>,
    /// Its sources in the order of their newest rank.
    pub sources: Vec<SourceTold>,
    /// Sources that do not take part.
    pub left_out: Vec<LeftOut>,
    /// The chain whose contracts it is made of, where it is a continuous series.
    pub chain: Option<String>,
    /// Its corporate actions with what each does, where the question adjusts for them or has the column `action`.
    pub actions: Vec<crate::Action>,
    /// Blocks that are opened for it.
    pub blocks: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// An instrument without the series that was asked for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Without {
    /// Its symbol.
    pub instrument: String,
    /// Why there is none.
    pub why: String,
}

/// A source of a series.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SourceTold {
    /// Its name.
    pub source: String,
    /// How its prices come to be as traded.
    pub basis: String,
}

/// One question in several forms.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Forms {
    /// The canonical text as TOML.
    pub toml: String,
    /// The canonical text as JSON.
    pub json: String,
    /// The command that asks it.
    pub command: String,
    /// The address that asks it, from `/api/v1` on.
    pub address: String,
    /// Python that reads the answer into a data frame; `{service}` stands for the service's address.
    pub data_frame: String,
    /// What a spreadsheet's web import takes: the address of the answer as CSV; `{service}` stands for the service's address.
    pub spreadsheet: String,
}

/// A question under a name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SavedQuestion {
    /// Its name.
    pub name: String,
    /// Its text, as TOML; absent where the name was taken away.
    pub toml: Option<String>,
    /// Who saved it; absent where it is a file of the configuration.
    pub by: Option<String>,
    /// When; absent where it is a file of the configuration.
    pub saved_at: Option<String>,
}

/// A question to save.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SaveQuestion {
    /// Its text, as TOML or JSON.
    pub text: String,
    /// Who saves it.
    pub by: String,
}
