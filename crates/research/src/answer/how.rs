//! How the bars of a member of an answer become rows.

use super::{Member, rows::Rows};
use crate::{adjusting::Adjusted, question::resolve::Resolved};
use mizuno_core::{Interval, resample::Length};
use mizuno_desk::DeskError;
use std::sync::Arc;

/// How the bars of a member become rows.
pub(super) fn how<'p>(resolved: &'p Resolved, member: &Member) -> Result<Rows<'p>, DeskError> {
    let resampled = resolved.question.length() != Length::Interval(member.wanted.key.interval);
    let adjusted = member.adjusted.clone().filter(|_| !resampled);
    rows_of(resolved, member, resolved.question.interval, adjusted)
}

/// How the bars that are read of a member become those of rows.
pub(super) fn finer<'p>(resolved: &'p Resolved, member: &Member) -> Result<Rows<'p>, DeskError> {
    rows_of(resolved, member, member.wanted.key.interval, member.adjusted.clone())
}

fn rows_of<'p>(
    resolved: &'p Resolved,
    member: &Member,
    interval: Interval,
    adjusted: Option<Arc<Adjusted>>,
) -> Result<Rows<'p>, DeskError> {
    let instrument = &member.wanted.instrument;
    let zone = resolved.setup.config.venues.get(&instrument.venue).map_or(jiff::tz::TimeZone::UTC, |v| v.zone.clone());
    Ok(Rows::new(&resolved.question, instrument, resolved.setup.calendar_of(instrument)?, zone, interval, adjusted))
}
