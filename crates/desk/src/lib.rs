//! The desk at work: one checked configuration, the store, the clock, and what is known of every series.
//!
//! Two rooms stand on it: the one that collects and the one that answers researchers. What both must say alike stands here:
//!
//! * [`setup`]: the configuration at work, with its sources and calendars; [`past`]: as it was at an instant; [`history`]: what changed
//!   in it when; [`timetable`]: when collectors run.
//! * [`views`]: series as they stand at an instant, with gaps and causes; [`sight`] keeps that in memory until it changes.
//! * [`universes`]: who belonged when, as lists, files and other universes tell it.
//! * [`order`]: what a run is to do.
//! * [`moments`]: dates, instants and ids of gaps as people write and read them.
//! * [`lately`]: what was worked out lately, by one for all who want it.
//! * [`events`]: what happens, told to whoever listens; [`concern`]: what a person should know of this morning.
//!
//! It asks no source, runs nothing by itself, and knows nothing of HTTP or of the types that go over the wire.

pub mod concern;
mod desk;
pub mod error;
pub mod events;
pub mod hands;
pub mod history;
pub mod kept;
pub mod lately;
pub mod lateness;
pub mod moments;
pub mod order;
pub mod past;
pub mod setup;
pub mod sight;
pub mod timetable;
pub mod universes;
mod usual;
mod view;
pub mod views;

pub use concern::Concern;
pub use desk::{Desk, secrets};
pub use error::DeskError;
pub use events::Event;
pub use setup::{Post, Setup};
pub use view::View;
