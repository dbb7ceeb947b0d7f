//! What goes over the wire under `/api/v1`: the types shared by service and client, and nothing else.
//!
//! Instants are RFC 3339 in UTC, dates ISO 8601. A moment of a series
//! (`from`, `to`, `first`, `last`) is an instant for intraday series and a
//! trade date for daily ones. Spans are half-open: `from` is in, `to` is not.

mod actions;
mod chains;
mod editions;
mod findings;
mod history;
mod questions;
mod sources;
mod trust;
mod universes;
pub mod words;

pub use actions::*;
pub use chains::*;
pub use editions::*;
pub use findings::*;
pub use history::*;
pub use questions::*;
pub use sources::*;
pub use trust::*;
pub use universes::*;

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// How everything stands, on one screen.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Status {
    /// Whose service this is.
    pub desk: String,
    /// Version of the service.
    pub version: String,
    /// Service time.
    pub now: String,
    /// Service seconds per wall second; 1 but for demos and tests.
    pub speed: f64,
    /// Whether nothing is late, failed, missing or in quarantine.
    pub all_clear: bool,
    /// What needs a person, worst first, and then what is only to be known; empty exactly when `all_clear`.
    pub concerns: Vec<Concern>,
    /// The venues.
    pub venues: Vec<VenueStatus>,
    /// The sources.
    pub sources: Vec<SourceStatus>,
    /// The collectors.
    pub collectors: Vec<CollectorStatus>,
    /// Sums over everything held.
    pub totals: Totals,
}

/// One thing that needs a person.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Concern {
    /// `not-writing`, `damaged`, `late`, `failed`, `paused`, `limit`, `slow-source`, `new-basis`, `list-held-back`, `conflict`, `universe`, `missing`,
    /// `quarantined`, `suspicious`, `held-back`, `checking` or `restated`.
    pub kind: String,
    /// Whether it needs a person; otherwise it is only to be known.
    pub needs_a_person: bool,
    /// How many.
    pub count: u64,
    /// What it is, in a sentence.
    pub what: String,
    /// What to do next, in a sentence.
    pub next: String,
    /// The command that shows it.
    pub command: String,
    /// The kind of thing it is about: `service`, `collectors`, `fetches`, `series`, `lists`, `gaps`, `quarantine`, `findings`,
    /// `restatements`, `universes` or `editions`.
    pub of: String,
    /// Which one, where it is one: a collector, a source of fetches, a series, a list (SOURCE/LIST), a cause of gaps.
    pub which: Option<String>,
}

/// A venue now.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct VenueStatus {
    /// Its code.
    pub code: String,
    /// Its name.
    pub name: String,
    /// IANA name of its zone.
    pub zone: String,
    /// Whether it trades now.
    pub open: bool,
    /// Trade date of the session in progress or next to open.
    pub session: Option<String>,
    /// When that session opens.
    pub opens: Option<String>,
    /// When it closes.
    pub closes: Option<String>,
}

/// A source now.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SourceStatus {
    /// Its name.
    pub name: String,
    /// Its title.
    pub title: String,
    /// `ready`, `left-alone` (its quiet hours, or it asked us to wait), `used-up` (its calls of the day) or `paused` (it kept failing).
    pub state: String,
    /// Until when, when it is not ready.
    pub until: Option<String>,
    /// Whether its key is in the environment; absent for sources without keys.
    pub key: Option<bool>,
    /// Calls sent in the last sixty seconds.
    pub calls_in_last_minute: u32,
    /// Calls it allows in sixty seconds.
    pub calls_a_minute: u32,
    /// Calls of its present day, where days are counted.
    pub calls_today: Option<u32>,
    /// Calls it allows in a day, with the key we have or without.
    pub calls_a_day: Option<u32>,
    /// Sources of the same provider, whose calls are counted together with its own.
    #[serde(default)]
    pub limits_shared_with: Vec<String>,
    /// At how many calls a minute it said that there are too many, while it is asked more slowly for that.
    #[serde(default)]
    pub slowed_at: Option<u32>,
    /// How complete its series are, all together.
    pub completeness: Completeness,
}

/// A collector now.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CollectorStatus {
    /// Its name.
    pub name: String,
    /// What it is for.
    pub about: String,
    /// The source it asks.
    pub source: String,
    /// The venue it follows.
    pub venue: String,
    /// The interval of its bars.
    pub interval: String,
    /// How many instruments it collects.
    pub instruments: u64,
    /// Its schedule in words.
    pub schedule: String,
    /// IANA name of the venue's zone, in which the schedule is read.
    pub zone: String,
    /// When it runs next by itself.
    pub next: Option<String>,
    /// When it runs after that.
    pub then: Vec<String>,
    /// Whether it has a schedule and nevertheless never runs again.
    #[serde(default)]
    pub has_no_next: bool,
    /// Whether it should have run by now and has not.
    pub late: bool,
    /// Its newest run.
    pub last: Option<Run>,
    /// Expected, held, excused and missing slots of its series that are due.
    pub completeness: Completeness,
}

/// Slots of one or more series.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Completeness {
    /// Slots due by now.
    pub expected: u64,
    /// Of these, with a bar.
    pub held: u64,
    /// Of these, accepted as absent.
    pub excused: u64,
    /// Of these, neither.
    pub missing: u64,
    /// Slots beside these that the source answered without a bar, as is usual for an instrument that is traded now and then.
    #[serde(default)]
    pub quiet: u64,
}

/// Sums over everything held.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Totals {
    /// Instruments known.
    pub instruments: u64,
    /// Series with or awaiting bars.
    pub series: u64,
    /// Bars held.
    pub bars: u64,
    /// Bytes of the database.
    pub database_bytes: u64,
}

/// Something that trades.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Instrument {
    /// Present symbol.
    pub symbol: String,
    /// Full name.
    pub name: String,
    /// `share`, `fund`, `future` or `pair`.
    pub kind: String,
    /// Code of its venue.
    pub venue: String,
    /// ISO 4217 code of its currency.
    pub currency: String,
    /// Smallest step of its price, as a decimal.
    pub tick_size: Option<String>,
    /// First trade date.
    pub listed: Option<String>,
    /// Last trade date, when it no longer trades.
    pub last_traded: Option<String>,
    /// Value of one point, as a decimal.
    pub multiplier: Option<String>,
    /// Day of expiry, for contracts.
    pub expiry: Option<String>,
    /// Strike price, for options.
    pub strike: Option<String>,
    /// Symbols it had before.
    pub former: Vec<FormerSymbol>,
    /// Its splits that lists of sources know, by date.
    #[serde(default)]
    pub splits: Vec<KnownSplit>,
    /// Names of its series.
    pub series: Vec<String>,
}

/// So many new shares for so many old ones.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct KnownSplit {
    /// The first trade date at the new price.
    pub ex_date: String,
    /// New shares ...
    pub new: i64,
    /// ... for old ones, in lowest terms.
    pub old: i64,
}

/// A symbol an instrument had before.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FormerSymbol {
    /// The symbol.
    pub symbol: String,
    /// First trade date under the next one.
    pub until: String,
}

/// One instrument, interval and side from one source.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Series {
    /// Its name, as in `KBF/1m/harbour`.
    pub name: String,
    /// Symbol of its instrument.
    pub symbol: String,
    /// Code of its venue.
    pub venue: String,
    /// Interval of its bars.
    pub interval: String,
    /// `trade`, `bid`, `ask` or `mid`.
    pub side: String,
    /// Its source.
    pub source: String,
    /// Moment of its first bar.
    pub first: Option<String>,
    /// Moment of its last bar.
    pub last: Option<String>,
    /// Bars held.
    pub bars: u64,
    /// Slots due by now.
    pub completeness: Completeness,
}

/// A maximal stretch of missing slots with one cause.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Gap {
    /// What to call it in a repair or an excuse, as in `KBF/1d/harbour@2025-04-03`.
    pub id: String,
    /// The series it is in.
    pub series: String,
    /// First missing slot.
    pub from: String,
    /// End of the last missing slot.
    pub to: String,
    /// The stretch as a person at the venue would say it.
    pub when: String,
    /// Missing slots in it.
    pub slots: u64,
    /// `never-asked`, `beyond-reach`, `source-had-nothing`, `left-out`, `fetch-failed`, `quarantined` or `not-yet-due`.
    pub cause: String,
    /// The cause in a sentence, with the source's own words where there are any.
    pub because: String,
    /// The latest fetch that asked for it.
    pub fetch: Option<i64>,
    /// How many fetches asked for its first slot.
    pub asked: u32,
    /// What the other sources of this instrument say of it, in a sentence.
    pub evidence: String,
    /// `refetch`, `fill` (the golden series has it from another source; excuse it here, or leave it), `excuse` or `wait`.
    pub suggestion: String,
}

/// Held against expected, series by session or month.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Coverage {
    /// `session` or `month`.
    pub by: String,
    /// The columns: trade dates, or months as `2025-04`.
    pub columns: Vec<String>,
    /// A row a series.
    pub rows: Vec<CoverageRow>,
}

/// One series in a coverage table; each list has an entry a column.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CoverageRow {
    /// Name of the series.
    pub series: String,
    /// Symbol of its instrument.
    pub symbol: String,
    /// Slots due by now.
    pub expected: Vec<u64>,
    /// Of these, with a bar.
    pub held: Vec<u64>,
    /// Of these, accepted as absent.
    pub excused: Vec<u64>,
    /// Slots beside these that were answered without a bar, as is usual for the instrument.
    #[serde(default)]
    pub quiet: Vec<u64>,
}

/// One execution of a collector.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Run {
    /// Its number.
    pub id: i64,
    /// Its collector.
    pub collector: String,
    /// `schedule`, `request`, `repair` or `recovery`.
    pub reason: String,
    /// `running`, `complete`, `incomplete`, `cancelled` or `interrupted`.
    pub state: String,
    /// When it began.
    pub started_at: String,
    /// When it ended.
    pub ended_at: Option<String>,
    /// Windows planned.
    pub windows: u64,
    /// Windows stored.
    pub done: u64,
    /// How many of these brought nothing new and are folded; they are not listed with the fetches.
    #[serde(default)]
    pub folded: u64,
    /// Windows that failed.
    pub failed: u64,
    /// Bars new to us.
    pub bars_new: u64,
    /// Bars equal to what was known.
    pub bars_same: u64,
    /// Bars that differ from what was known.
    pub restated: u64,
    /// Rows put in quarantine.
    pub refused: u64,
    /// Bytes of answers.
    pub bytes: u64,
    /// Requests sent.
    pub calls: u64,
    /// While it runs: requests its source saw from us in the last sixty seconds, all collectors together.
    pub calls_in_last_minute: Option<u32>,
    /// While it runs: how many the source allows.
    pub calls_a_minute: Option<u32>,
    /// While it runs: windows a second on the wall.
    pub rate: Option<f64>,
    /// While it runs: seconds left on the wall, as far as one can tell.
    pub seconds_left: Option<f64>,
    /// While it has no windows yet: what it waits for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub waits_for: Option<String>,
    /// Failed windows by class of failure.
    pub failures: BTreeMap<String, u64>,
}

/// What to collect now.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct StartRun {
    /// The collector.
    pub collector: String,
    /// Only these symbols of its instruments.
    #[serde(default)]
    pub instruments: Vec<String>,
    /// First trade date, when not the collector's own.
    #[serde(default)]
    pub from: Option<String>,
    /// Last trade date, included.
    #[serde(default)]
    pub to: Option<String>,
    /// Ask also for what is held already.
    #[serde(default)]
    pub again: bool,
}

/// What to ask for again, to see whether a source still says the same.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct StartAudit {
    /// The collector.
    pub collector: String,
    /// So many windows of what it holds, taken at random.
    pub windows: u32,
}

/// How to take a run up again.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Resume {
    /// Ask only for the windows that failed.
    #[serde(default)]
    pub failed_only: bool,
}

/// Which gaps to fetch again.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Repair {
    /// Ids of gaps.
    pub gaps: Vec<String>,
}

/// Absences to accept: gaps by their ids, or a stretch of a series.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewExcuse {
    /// Ids of gaps.
    #[serde(default)]
    pub gaps: Vec<String>,
    /// Ids of findings.
    #[serde(default)]
    pub findings: Vec<String>,
    /// Name of a series, with `from` and `to`.
    #[serde(default)]
    pub series: Option<String>,
    /// First trade date or instant.
    #[serde(default)]
    pub from: Option<String>,
    /// Last trade date, included, or an instant, not included.
    #[serde(default)]
    pub to: Option<String>,
    /// Who accepts it.
    pub by: String,
    /// Why.
    pub note: String,
}

/// An accepted absence.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Excuse {
    /// Its number.
    pub id: i64,
    /// The series.
    pub series: String,
    /// First excused moment.
    pub from: String,
    /// End of the excused stretch.
    pub to: String,
    /// Who accepted it.
    pub by: String,
    /// Why.
    pub note: String,
    /// When.
    pub given_at: String,
    /// When it was taken back.
    pub revoked_at: Option<String>,
    /// The check whose finding is accepted; absent for an absence.
    pub finding: Option<String>,
}

/// One window asked for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Fetch {
    /// Its number.
    pub id: i64,
    /// Its run.
    pub run: i64,
    /// The series asked for.
    pub series: String,
    /// First moment asked for.
    pub from: String,
    /// End of the window.
    pub to: String,
    /// `answered` (bars still to be stored), `stored` or `failed`.
    pub state: String,
    /// When the last attempt was sent.
    pub asked_at: String,
    /// When the answer, or failure, was complete.
    pub answered_at: String,
    /// How often it was tried.
    pub attempts: u64,
    /// Method and address, without secrets.
    pub request: String,
    /// HTTP status.
    pub status: Option<u16>,
    /// SHA-256 of the kept bytes.
    pub payload: Option<String>,
    /// Bytes of the answer.
    pub payload_bytes: u64,
    /// Rows in it.
    pub rows: u64,
    /// Bars new to us.
    pub bars_new: u64,
    /// Bars equal to what was known.
    pub bars_same: u64,
    /// Bars that differ from what was known.
    pub restated: u64,
    /// Rows put in quarantine.
    pub refused: u64,
    /// Bars dropped because they were not finished.
    pub unfinished: u64,
    /// Bars that were not asked for and not held either; not stored.
    #[serde(default)]
    pub outside: u64,
    /// Whether it is older than thirty days, brought nothing new and was folded: its request and its bytes are not kept any more.
    #[serde(default)]
    pub folded: bool,
    /// Class of failure.
    pub failure: Option<String>,
    /// What went wrong, in words.
    pub message: Option<String>,
    /// The answer's first lines, when one fetch is asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first_lines: Option<Vec<String>>,
    /// The pages of the answer, when one fetch is asked for.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub pages: Vec<FetchPage>,
}

/// One page of an answer.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FetchPage {
    /// `bid` or `ask`, where an answer has parts.
    pub part: Option<String>,
    /// Method and address, without secrets.
    pub request: String,
    /// HTTP status.
    pub status: Option<u16>,
    /// Media type.
    pub media_type: Option<String>,
    /// SHA-256 of the kept bytes.
    pub payload: Option<String>,
    /// Bytes of it.
    pub bytes: u64,
}

/// A row that is not believed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Quarantined {
    /// Its number.
    pub id: i64,
    /// The series it came for.
    pub series: String,
    /// The fetch that first brought it.
    pub fetch: i64,
    /// The moment it claims.
    pub at: Option<String>,
    /// The page of the answer, from 1.
    pub page: u32,
    /// Its line or element in that page, from 1.
    pub line: u64,
    /// What is wrong, one word.
    pub flaw: String,
    /// How many rows of that answer with this flaw it stands for; `text` then has some of them.
    #[serde(default)]
    pub rows: u64,
    /// What is wrong, in a sentence.
    pub because: String,
    /// The row itself.
    pub text: String,
    /// What was decided of it, by whom and when; only of bars that were held back.
    pub decision: Option<String>,
}

/// Something that happened, as sent on `/api/v1/events`.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub enum Event {
    /// A run began, moved on or ended.
    Run {
        /// The run.
        run: Run,
    },
    /// A fetch ended.
    Fetch {
        /// The fetch.
        fetch: Fetch,
    },
    /// Something was excused, or an excuse was taken back.
    Excuses,
    /// A list was collected.
    Lists,
    /// An edition was begun, ended, withdrawn or taken away.
    Editions,
}

/// A problem, as RFC 9457 has it (`application/problem+json`).
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// What kind of problem: a path under `/problems/`.
    #[serde(rename = "type")]
    pub kind: String,
    /// The kind in words.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// This occurrence: the thing, the value, the way out.
    pub detail: String,
    /// Where to look, as a path of the interface such as `/api/v1/gaps`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub see: Option<String>,
}

/// Lets readers see a series as it is, though its past is not all collected again on its new basis.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Settle {
    /// Name of the series.
    pub series: String,
    /// Who decides that.
    pub by: String,
}
