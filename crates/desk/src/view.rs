//! One series as it stands at a moment.

use crate::{setup::Post, sight::Sight};
use mizuno_core::{
    Overlap, Span, Spans, Timestamp,
    gap::{self, Asked},
    spans::difference,
};
use mizuno_store::series::SeriesRow;
use std::sync::Arc;

/// One series, everything known of it that gaps and plans need.
pub struct View<'d> {
    /// Its row.
    pub row: SeriesRow,
    /// Who collects it.
    pub post: Post<'d>,
    /// What is expected, held and missing of it.
    pub sight: Arc<Sight>,
}

impl std::ops::Deref for View<'_> {
    type Target = Sight;

    fn deref(&self) -> &Sight {
        &self.sight
    }
}

impl View<'_> {
    /// The series and what is known of it.
    pub fn sighted(&self) -> (&SeriesRow, &Sight) {
        (&self.row, &self.sight)
    }

    /// Whether a window is a repair: asked for before, and not of the newest sessions.
    pub fn is_repair(&self, window: &Span, now: Timestamp) -> bool {
        let overlaps = |a: &Asked| a.window.overlaps(window);
        !self.post.is_newest(window, now) && self.evidence.asked.iter().any(overlaps) && !self.standing.held.overlaps(window)
    }

    /// What the source can be asked for now, less what it answered without only lately.
    pub fn reach(&self, now: Timestamp, rested: bool) -> Spans {
        let reach: Spans = Some(self.in_reach.clone()).into_iter().filter(|r| r.start < r.end).collect();
        if rested {
            return reach;
        }
        let asked: &[Asked] = &self.evidence.asked;
        let (interval, delay) = (self.row.key.interval, self.post.offer.delay);
        let settled = |sent: Timestamp| self.post.calendar.due_until(interval, sent.plus(-self.grace), delay);
        difference(&reach, &gap::resting(&self.standing.missing(), asked, now, gap::FIRST_REST, gap::LONGEST_REST, settled))
    }
}
