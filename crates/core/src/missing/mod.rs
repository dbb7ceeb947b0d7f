//! What is expected, held and missing, why, and what to ask for.

pub mod completeness;
pub mod gap;
pub mod hole;
pub mod plan;
pub mod quiet;
pub mod standing;
