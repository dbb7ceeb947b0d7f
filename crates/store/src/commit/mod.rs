//! One writer, one process, and stamps in the order of commits.

pub mod knowledge;
pub(crate) mod lock;
pub(crate) mod writer;
