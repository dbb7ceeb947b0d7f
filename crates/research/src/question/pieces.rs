//! Bars of a coarser interval than the collected ones.

use super::Question;
use mizuno_core::{
    Calendar, Interval,
    resample::{Align, Grid, Length},
};
use mizuno_desk::DeskError;

/// How bars are made of finer ones.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Pieces {
    /// The interval that they are made of; the coarsest that is collected and divides them when absent.
    pub made_from: Option<Interval>,
    /// The zone on whose clock pieces of a session begin; at its open, and anew after each break, when absent.
    pub align: Option<String>,
    /// Whether weeks and longer are labelled by their last session; else by their first.
    pub by_last: bool,
    /// Whether pieces that are not complete are left out.
    pub dropped: bool,
}

impl Question {
    /// How much time a row covers.
    #[must_use]
    pub fn length(&self) -> Length {
        self.longer.unwrap_or(Length::Interval(self.interval))
    }

    /// The interval as it is written.
    #[must_use]
    pub fn interval_word(&self) -> String {
        let word = Length::WORDS.iter().find(|(_, length)| Some(*length) == self.longer).map(|(word, _)| (*word).to_owned());
        word.unwrap_or_else(|| self.interval.to_string())
    }

    /// How time is cut for bars of `finer` on a calendar; `None` where they are used as they are collected.
    ///
    /// # Errors
    /// When the zone of the clock is not known any more.
    pub fn grid<'c>(&self, finer: Interval, calendar: &'c Calendar) -> Result<Option<Grid<'c>>, DeskError> {
        let length = self.length();
        if length == Length::Interval(finer) {
            return Ok(None);
        }
        let zone = |name: &String| jiff::tz::TimeZone::get(name).map_err(|e| DeskError::Invalid(format!("align: {e}")));
        let align = self.pieces.align.as_ref().map(zone).transpose()?.map_or(Align::Session, Align::Clock);
        Ok(Some(Grid { calendar, finer, length, align, by_last: self.pieces.by_last }))
    }
}
