//! The store against real files.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test stops at once when something is not as it needs it")]

mod common;

mod age;
mod editions;
mod folding;
mod keeping;
mod lists;
mod ranges;
mod reading;
mod trust;
