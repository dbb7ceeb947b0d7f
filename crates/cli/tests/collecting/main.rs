//! Collecting as it is: sources that fail, lie, change their mind or say too much; kills, full disks, many at once.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test stops at once when something is not as it needs it")]

#[path = "../common/mod.rs"]
mod common;

mod agreed;
mod faults;
mod hard;
mod hidden;
mod kill;
mod lists;
mod many;
mod odd;
mod own;
mod pressure;
mod restated;
mod schedule;
mod soak;
mod sources;
