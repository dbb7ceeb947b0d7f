//! The store against real files.

mod common;

mod age;
mod editions;
mod folding;
mod keeping;
mod lists;
mod ranges;
mod trust;
