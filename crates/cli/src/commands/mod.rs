//! The client commands, a file each, or one for a few that belong together.

pub mod actions;
pub mod bars;
pub mod chain;
pub mod copying;
pub mod coverage;
pub mod editions;
pub mod excuses;
pub mod explain;
pub mod fetches;
pub mod findings;
pub mod gaps;
pub mod history;
pub mod instruments;
pub mod picture;
pub mod questions;
pub mod runs;
pub mod sources;
pub mod status;
pub mod trust;
pub mod universe;
pub mod watch;
pub mod whose;
