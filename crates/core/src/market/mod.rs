//! Venues and their calendars, instruments and their names, series.

pub mod action;
pub mod calendar;
pub mod instrument;
pub mod membership;
pub mod review;
pub mod search;
pub mod series;
pub mod venue;
