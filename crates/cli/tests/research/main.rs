//! What researchers ask for: each answer against a calculation of the test's own, and as of an instant.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test stops at once when something is not as it needs it")]

#[path = "../common/mod.rs"]
mod common;

mod actions;
mod brought;
mod changes;
mod coarser;
mod derived;
mod formats;
mod futures;
mod golden;
mod history;
mod known;
mod members;
mod questions;
mod trust;
