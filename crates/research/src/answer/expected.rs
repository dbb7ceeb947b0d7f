//! The slots in which a row is expected, for a question that gives every one of them a row.

use super::{
    Member,
    how::how,
    made::{grid, labels},
};
use crate::question::resolve::Resolved;
use mizuno_core::{Slot, Span};
use mizuno_desk::DeskError;

/// The slots in which a row is expected and due.
pub(super) fn expected(resolved: &Resolved, member: &Member, span: &Span) -> Result<Vec<Slot>, DeskError> {
    let wanted = &member.wanted;
    Ok(match grid(resolved, member)? {
        None => {
            let mut slots = how(resolved, member)?.expected(&wanted.instrument, span, resolved.instant);
            slots.retain(|slot| wanted.days.as_ref().is_none_or(|days| days.contains(slot)));
            slots
        }
        Some(grid) => labels(&grid, wanted, span, resolved.instant),
    })
}

/// The same of rows whose slots lie in `rows`: where these are made of finer bars, those are others.
pub(super) fn expected_rows(resolved: &Resolved, member: &Member, rows: &Span) -> Result<Vec<Slot>, DeskError> {
    Ok(match grid(resolved, member)? {
        None => expected(resolved, member, rows)?,
        Some(_) => {
            let mut slots = expected(resolved, member, &member.wanted.span)?;
            slots.retain(|slot| rows.contains(slot));
            slots
        }
    })
}
