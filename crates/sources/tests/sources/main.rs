//! Sources at work from outside: profiles that ask small servers, and answers in every form.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test stops at once when something is not as it needs it")]

mod common;

mod asking;
mod decode;
mod ftp;
mod hints;
mod pressure;
mod shapes;
