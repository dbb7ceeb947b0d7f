//! What is computed from bars.

pub mod adjust;
pub mod change;
pub mod derived;
pub mod golden;
pub mod resample;
pub mod roll;
