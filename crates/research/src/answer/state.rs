//! Whether an answer has changed, told without opening a block: its validator, and which series have nothing to tell to whoever asks for
//! changes.

use super::{
    Answer, Draft, Member, Prepared,
    changes::{self, Pairs},
    made::measures,
};
use crate::{
    findings::Known,
    question::{Missing, resolve::Resolved},
};
use mizuno_core::{SeriesKey, bar::Digits, derived::Quantity};
use mizuno_desk::DeskError;
use mizuno_store::payloads;
use std::collections::HashMap;

/// What changes when the rows of a member may, as a digest: the state of what it reads, which is revisions, lists and excuses. Nothing has to
/// be looked for to tell it.
pub(super) fn state(resolved: &Resolved, member: &Member, known: &Known) -> Result<String, DeskError> {
    let (wanted, named) = (&member.wanted, resolved.question.as_of);
    let mut state = wanted.key.to_string().into_bytes();
    state.extend(wanted.chain.iter().flat_map(|chain| chain.state.bytes()));
    state.extend(wanted.span.start.0.to_be_bytes());
    state.extend(wanted.span.end.0.to_be_bytes());
    let days = wanted.days.iter().flat_map(|days| days.iter()).flat_map(|s| [s.start.0, s.end.0]);
    days.for_each(|n| state.extend(n.to_be_bytes()));
    state.extend(member.subject.state(&resolved.setup, known, named)?);
    state.extend(acted_on(resolved, member, known)?);
    if let Some(other) = &member.other {
        state.extend(other.subject.state(&resolved.setup, known, named)?);
    }
    if resolved.question.minds_gaps() {
        let missing = member.beside.missing.iter().flat_map(|s| [s.start.0, s.end.0]);
        missing.for_each(|n| state.extend(n.to_be_bytes()));
    }
    // A row for every expected slot changes as slots become due, and so does what is said of how complete something is.
    if resolved.question.shape.missing == Missing::Rows || measures(&resolved.question) {
        let c = member.completeness.unwrap_or_default();
        [c.expected, c.quiet, c.held, c.excused].iter().for_each(|n| state.extend(n.to_be_bytes()));
    }
    Ok(payloads::digest(&state))
}

/// What changes when the adjusted prices of a member may: its actions, and what they are held against.
fn acted_on(resolved: &Resolved, member: &Member, known: &Known) -> Result<Vec<u8>, DeskError> {
    let (mut out, named) = (vec![], resolved.question.as_of);
    let Some(acted) = &member.acted else { return Ok(out) };
    let instrument = resolved.setup.instrument(&member.wanted.instrument.symbol)?;
    out.extend([acted.ends.0.0.to_be_bytes(), acted.ends.1.0.to_be_bytes()].concat());
    for known in known.actions.of(&instrument.symbol) {
        out.extend(known.action.ex_date.0.to_be_bytes());
        out.extend(known.action.to_string().bytes());
    }
    out.extend(instrument.currency.bytes());
    if let Some(closes) = &acted.closes {
        out.extend(closes.state(&resolved.setup, known, named)?);
    }
    out.extend(acted.worth.state(&resolved.setup, known, named)?);
    Ok(out)
}

impl Draft {
    /// What changes when the answer may: the resolved question with the configuration and what the rows of each series follow from.
    #[must_use]
    pub fn validator(&self) -> String {
        let Prepared { resolved, .. } = &self.prepared;
        let mut state = resolved.question.to_json().into_bytes();
        // The stamp and not the number: in a database that was restored, another configuration may have that number.
        state.extend(resolved.setup.kept.accepted_at.0.to_be_bytes());
        if resolved.question.works_out(Quantity::Age) {
            state.extend(resolved.instant.0.to_be_bytes());
        }
        state.extend(self.states.iter().flat_map(|state| state.bytes()));
        payloads::digest(&state)
    }

    /// Begins to tell what differs from the answer `then`, as [`Prepared::begin`] does.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn changes(self, then: Draft, typed: bool) -> Result<Answer, DeskError> {
        let (then, now, pairs) = self.paired(then).await?;
        let room = if typed { Some(changes::room(&then, &now).await?) } else { None };
        Ok(changes::begin(then, now, pairs, room))
    }

    /// The same with this room for the numbers of a file that has one type a column.
    pub(crate) async fn changes_with(self, then: Draft, room: Option<(Digits, Digits)>) -> Result<Answer, DeskError> {
        let (then, now, pairs) = self.paired(then).await?;
        Ok(changes::begin(then, now, pairs, room))
    }

    /// Both answers with the members that may differ, and these in pairs by their places.
    async fn paired(mut self, mut then: Draft) -> Result<(Prepared, Prepared, Pairs), DeskError> {
        let mut pairs = vec![];
        let (mut was, mut is) = (vec![], vec![]);
        let mut before: Vec<Option<Member>> = std::mem::take(&mut then.prepared.members).into_iter().map(Some).collect();
        let places: HashMap<SeriesKey, usize> =
            before.iter().flatten().enumerate().map(|(at, member)| (member.wanted.key.clone(), at)).collect();
        for member in std::mem::take(&mut self.prepared.members) {
            let old = places.get(&member.wanted.key).and_then(|at| before[*at].take());
            if let Some(old) = &old
                && self.is_still(&then, old, &member)?
            {
                continue;
            }
            pairs.push((old.is_some().then_some(was.len()), Some(is.len())));
            was.extend(old);
            is.push(member);
        }
        for gone in before.into_iter().flatten() {
            pairs.push((Some(was.len()), None));
            was.push(gone);
        }
        (then.prepared.members, self.prepared.members) = (was, is);
        Ok((then.prepare().await?, self.prepare().await?, pairs))
    }

    /// Whether nothing that the rows of a member follow from has changed.
    fn is_still(&self, then: &Draft, old: &Member, new: &Member) -> Result<bool, DeskError> {
        let (before, after) = (&then.prepared.resolved, &self.prepared.resolved);
        let shape = &after.question.shape;
        // What is due, and how complete it is, changes with time alone.
        let with_time = measures(&after.question) || after.question.minds_gaps() || after.question.works_out(Quantity::Age);
        if shape.missing == Missing::Rows || with_time || new.other.is_some() {
            return Ok(false);
        }
        let same_state = || -> Result<bool, DeskError> {
            Ok(old.subject.state(&before.setup, &then.known, None)? == new.subject.state(&after.setup, &self.known, None)?)
        };
        let same_actions = || -> Result<bool, DeskError> { Ok(acted_on(before, old, &then.known)? == acted_on(after, new, &self.known)?) };
        let mut learned = false;
        for row in new.subject.rows() {
            learned |= !then.known.is_still_so(&after.setup, &row)?;
        }
        Ok(!learned
            && before.setup.kept.id == after.setup.kept.id
            && old.wanted.span == new.wanted.span
            && old.wanted.days == new.wanted.days
            && old.wanted.chain.as_ref().map(|c| &c.rolled) == new.wanted.chain.as_ref().map(|c| &c.rolled)
            && same_state()?
            && same_actions()?)
    }
}
