//! Instants and trade dates, intervals, slots, and sets of slots.

pub mod clock;
mod instant;
pub mod interval;
pub mod slot;
pub mod spans;

pub use instant::*;
