//! What is doubted: findings, comparisons, restatements, and changes of basis.

pub mod agreement;
pub mod basis;
pub mod compare;
pub mod diagnose;
pub mod finding;
pub mod restate;
