//! What was asked, what came back, byte for byte, what of it is not believed, and what a person accepted.

pub mod answers;
pub mod excuses;
pub mod fetch;
pub mod fetches;
pub mod folded;
pub mod payloads;
pub mod quarantine;
pub mod rebasing;
pub mod runs;
