//! Editions: made, published, copied, read by SQL engines and by another Mizuno.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test stops at once when something is not as it needs it")]

#[path = "../common/mod.rs"]
mod common;

mod copies;
mod handed_on;
mod making;
mod published;
mod sql;
