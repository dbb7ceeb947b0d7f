//! Editions: made, published, copied, read by SQL engines and by another Mizuno.

#[path = "../common/mod.rs"]
mod common;

mod copies;
mod handed_on;
mod making;
mod published;
mod sql;
