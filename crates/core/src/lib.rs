//! The nouns of the job and the rules between them.
//!
//! Everything here is a pure function of its arguments: no async, no I/O, no
//! clock, no wire format. A service, a test or a notebook can call it alike.
//!
//! Start with [`plan`], which holds the one equation everything else serves:
//!
//! ```text
//! missing = expected − held − excused
//! plan    = (missing ∪ second look) ∩ reach, cut into the windows a source accepts
//! ```
//!
//! The folders are the trade's nouns, and each module is reached by its own name (`mizuno_core::gap`):
//!
//! * [`time`]: instants, trade dates, [`interval`]s, [`slot`]s, and sets of them ([`spans`]).
//! * market: [`venue`]s, [`calendar`]s that say what is expected, [`instrument`]s, [`series`], [`membership`] in universes and the [`review`]s of those by a rule.
//! * bars: a [`bar`] and its exact [`decimal`]s, columns of [`numbers`], [`versions`], and [`check`], which decides what may be held at all.
//! * missing: [`plan`], [`gap`]s with their causes, [`hole`]s that tell of many gaps as one, [`quiet`] slots that are not
//!   missed, [`completeness`] in figures.
//! * trust: [`finding`]s that doubt a bar, [`agreement`] of actions with adjusted prices, [`compare`] and [`diagnose`] for two series, [`restate`] and [`basis`] for a series
//!   and its own past.
//! * derive: [`resample`] makes coarser bars, [`adjust`] makes prices comparable across corporate [`action`]s, [`derived`] works numbers out of bars, [`golden`] makes the best of several series, [`roll`] one of a chain of contracts; [`change`] says why an answer differs from what it was.

mod bars;
mod derive;
mod market;
mod missing;
pub mod time;
mod trust;

pub use bars::{aligned, bar, check, decimal, numbers, versions};
pub use derive::{adjust, change, derived, golden, resample, roll};
pub use market::{action, calendar, instrument, membership, review, search, series, venue};
pub use missing::{completeness, gap, hole, plan, quiet, standing};
pub use time::{clock, interval, slot, spans};
pub use trust::{agreement, basis, compare, diagnose, finding, restate};

pub use action::Action;
pub use aligned::{Aligned, AlignedBar};
pub use bar::{Bar, Bars};
pub use calendar::{Calendar, Session};
pub use completeness::Completeness;
pub use decimal::Decimal;
pub use gap::{Cause, Gap};
pub use instrument::Instrument;
pub use interval::Interval;
pub use series::{SeriesKey, Side};
pub use slot::{Overlap, Slot, Span};
pub use spans::Spans;
pub use standing::Standing;
pub use time::{Timestamp, TradeDate};
pub use venue::Venue;
pub use versions::{Version, Versions};
