//! The doors: console, command line, network interface; and the house they belong to.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test stops at once when something is not as it needs it")]

#[path = "../common/mod.rs"]
mod common;

mod console;
mod house;
mod interface;
mod pasted;
mod pictures;
mod refusals;
mod strangers;
mod terminal;
mod tour;
