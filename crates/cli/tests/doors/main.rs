//! The doors: console, command line, network interface; and the house they belong to.

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
