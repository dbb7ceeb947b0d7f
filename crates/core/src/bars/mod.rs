//! Bars and their exact numbers, every version of a bar, and what a bar is held to before it is kept.

pub mod aligned;
pub mod bar;
pub mod check;
pub mod decimal;
pub mod numbers;
pub mod versions;
