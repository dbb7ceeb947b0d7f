//! What researchers ask for: each answer against a calculation of the test's own, and as of an instant.

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
