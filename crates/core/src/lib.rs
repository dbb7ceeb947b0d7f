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
//! [`calendar`] says what is expected and [`quiet`] what of it is not usual,
//! [`gap`] explains what is missing and [`hole`] tells of many gaps as one.
//! [`check`] decides what may be held at all, [`finding`] what is doubted.
//! [`compare`] and [`diagnose`] hold series against each other, [`restate`]
//! a series against its own past, and [`golden`] makes the best of several.

pub mod aligned;
pub mod bar;
pub mod basis;
pub mod calendar;
pub mod check;
pub mod clock;
pub mod compare;
pub mod completeness;
pub mod decimal;
pub mod diagnose;
pub mod finding;
pub mod gap;
pub mod golden;
pub mod hole;
pub mod instrument;
pub mod interval;
pub mod plan;
pub mod quiet;
pub mod restate;
pub mod search;
pub mod series;
pub mod slot;
pub mod spans;
pub mod time;
pub mod venue;
pub mod versions;

pub use aligned::{Aligned, AlignedBar};
pub use bar::{Bar, Bars};
pub use calendar::{Calendar, Session};
pub use completeness::Completeness;
pub use decimal::Decimal;
pub use gap::{Cause, Gap};
pub use instrument::Instrument;
pub use interval::Interval;
pub use series::{SeriesKey, Side};
pub use slot::{Slot, Span};
pub use spans::Spans;
pub use time::{Timestamp, TradeDate};
pub use venue::Venue;
pub use versions::{Version, Versions};
