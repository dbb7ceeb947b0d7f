//! How far before its first row an answer has to begin to read.

use super::{Member, how::finer, made::grid};
use crate::question::resolve::Resolved;
use mizuno_core::{Overlap, Slot, Span, derived::Needs, spans::within};
use mizuno_desk::DeskError;

/// The slot from which on bars are read, so that those before `first` are as many as are needed, or all there are.
pub(super) fn start(resolved: &Resolved, member: &Member, first: Slot, needs: Needs) -> Result<Slot, DeskError> {
    let whole = &member.whole;
    if whole.start >= first || needs == Needs::default() {
        return Ok(first);
    }
    let how = finer(resolved, member)?;
    let mut from = first;
    if needs.sessions > 0 {
        let number = how.session_number(first) - i64::from(needs.sessions);
        from = how.session_start(number).min(from);
    }
    // A bar that has to be brought back may turn out to be none.
    let bars = if member.may_lose_bars() { needs.bars * 2 + 10 } else { needs.bars };
    let before = whole.start..from.max(whole.start);
    let from = match grid(resolved, member)? {
        None if how.is_narrowed() => nth_slot(&how, &within(&member.beside.held, &before), bars, |slot| how.takes(slot)),
        None => nth_back(&member.beside.held, &before, how.interval.step(), bars),
        Some(grid) => {
            let held = &member.beside.held;
            let mut pieces = grid.pieces(&before);
            pieces.retain(|p| p.span.end <= first && held.overlaps(&p.span));
            let at = pieces.len().saturating_sub(bars as usize);
            pieces.get(at).map(|p| p.span.start)
        }
    }
    .map_or(from, |slot| slot.min(from));
    Ok(from)
}

/// The n-th slot of `within` from the end, or the first.
fn nth_back(held: &mizuno_core::Spans, within: &Span, step: i64, n: u32) -> Option<Slot> {
    let mut left = i64::from(n);
    for span in held.iter().rev().filter(|s| s.overlaps(within)) {
        let span = span.clip(within);
        let slots = (span.end.0 - span.start.0).div_euclid(step);
        if slots >= left {
            return Some(Slot(span.end.0 - left * step));
        }
        left -= slots;
    }
    held.iter().find(|s| s.overlaps(within)).map(|s| s.clip(within).start)
}

/// The same of slots that are taken.
fn nth_slot(how: &super::rows::Rows<'_>, held: &mizuno_core::Spans, n: u32, takes: impl Fn(Slot) -> bool) -> Option<Slot> {
    let (mut left, step) = (n, how.interval.step());
    let spans: Vec<Span> = held.iter().cloned().collect();
    for span in spans.iter().rev() {
        let mut at = span.end.0 - step;
        while at >= span.start.0 {
            left -= u32::from(takes(Slot(at)));
            if left == 0 {
                return Some(Slot(at));
            }
            at -= step;
        }
    }
    spans.first().map(|s| s.start)
}
