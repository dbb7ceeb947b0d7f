//! How far before its first row an answer has to begin to read.

use super::{Member, how::finer, made::grid, rows::Rows};
use crate::question::resolve::Resolved;
use mizuno_core::{Overlap, Slot, Span, Spans, derived::Needs};
use mizuno_desk::DeskError;

/// The slot from which on bars are read, so that those before `first` are as many as are needed, or all there are; from the beginning of a
/// session on, where numbers go over sessions.
pub(super) fn start(resolved: &Resolved, member: &Member, first: Slot, needs: Needs, by_session: bool) -> Result<Slot, DeskError> {
    let whole = &member.whole;
    if whole.start >= first || (needs == Needs::default() && !by_session) {
        return Ok(first);
    }
    let how = finer(resolved, member)?;
    let mut from = first;
    if by_session {
        let number = how.session_number(first) - i64::from(needs.sessions);
        from = how.session_start(number).min(from);
    }
    // A bar that has to be brought back may turn out to be none.
    let bars = if member.may_lose_bars() { needs.bars * 2 + 10 } else { needs.bars };
    if bars == 0 {
        return Ok(from);
    }
    let before = whole.start..from.max(whole.start);
    let held = &member.beside.held;
    let from = match grid(resolved, member)? {
        None if how.is_narrowed() => nth_taken(&how, held, &before, bars),
        None => nth_back(held, &before, how.interval.step(), bars),
        Some(grid) => {
            let mut pieces = grid.pieces(&before);
            pieces.retain(|p| p.span.end <= first && held.overlaps(&p.span));
            let at = pieces.len().saturating_sub(bars as usize);
            pieces.get(at).map(|p| p.span.start)
        }
    }
    .map_or(from, |slot| slot.min(from));
    Ok(from)
}

/// What is held of a stretch, the newest first.
fn backwards<'h>(held: &'h Spans, within: &'h Span) -> impl Iterator<Item = Span> + 'h {
    held.iter().rev().filter(|s| s.overlaps(within)).map(|s| s.clip(within))
}

/// The n-th slot from the end, or the first.
fn nth_back(held: &Spans, within: &Span, step: i64, n: u32) -> Option<Slot> {
    let (mut left, mut first) = (i64::from(n), None);
    for span in backwards(held, within) {
        let slots = (span.end.0 - span.start.0).div_euclid(step);
        if slots >= left {
            return Some(Slot(span.end.0 - left * step));
        }
        left -= slots;
        first = Some(span.start);
    }
    first
}

/// The same of slots that lie in the hours that are asked for.
fn nth_taken(how: &Rows<'_>, held: &Spans, within: &Span, n: u32) -> Option<Slot> {
    let step = how.interval.step();
    let slots = |span: Span| (1..=(span.end.0 - span.start.0).div_euclid(step)).map(move |back| Slot(span.end.0 - back * step));
    let taken = backwards(held, within).flat_map(slots).filter(|slot| how.takes(*slot));
    taken.take(n as usize).last()
}
