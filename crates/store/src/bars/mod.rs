//! Every version of every bar: sealed history as Parquet files in blobs, the newest in a small row table.

pub mod blocks;
mod learned;
pub(crate) mod news;
pub mod ranges;
pub mod reading;
pub(crate) mod roster;
pub mod series;
pub(crate) mod spans;
pub mod table;
