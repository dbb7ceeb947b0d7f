//! Collecting as it is: sources that fail, lie, change their mind or say too much; kills, full disks, many at once.

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
