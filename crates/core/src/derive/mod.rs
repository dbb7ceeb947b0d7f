//! What is computed from the bars of several series.

pub mod adjust;
pub mod change;
pub mod golden;
pub mod resample;
