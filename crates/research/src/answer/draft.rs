//! What a question is answered from, before any doubts are looked for: enough to say whether the answer has changed.

use super::{
    Acted, Member, Prepared,
    ending::{ending, to_its_delisting, with_last_price},
    how::finer,
    made::measures,
    standing::stands,
    state::state,
    worked::Beside,
};
use crate::{
    Research,
    adjusting::{Adjusted, Asked},
    findings::Known,
    question::{
        Column, Joined, Layout, Question,
        resolve::{Resolved, Wanted},
    },
    reading::Subject,
    unclear::Unclear,
    universes::{Sights, why_without},
};
use futures_util::TryStreamExt;
use mizuno_core::{
    Overlap, Side, Slot, Span, Spans, Timestamp, TradeDate,
    adjust::{Adjust, Adjustment, Anchor},
    derived::Quantity,
    roll::Join,
    spans::{self, difference, hull},
};
use mizuno_desk::{DeskError, Setup};
use mizuno_store::series::SeriesRow;
use std::sync::Arc;

/// A question whose series are looked up. No block was opened for it.
pub struct Draft {
    pub(super) prepared: Prepared,
    pub(super) known: Arc<Known>,
    /// What changes when the rows of each series may, as digests.
    pub(super) states: Vec<String>,
}

/// What was wanted, its series or why there is none, and that of the other side.
type Found = (Wanted, Result<Subject, DeskError>, Option<Subject>);

impl Research {
    /// Looks up what a resolved question is answered from.
    ///
    /// # Errors
    /// When no source has a part in one of its series, or the store cannot be read.
    pub async fn draft(self: &Arc<Self>, resolved: Resolved) -> Result<Draft, DeskError> {
        self.drafted(resolved, false).await
    }

    /// The same question as it was answered at an earlier instant. What had no answer then is left out.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn draft_then(self: &Arc<Self>, question: &Question, instant: Timestamp) -> Result<Draft, DeskError> {
        let instant = self.desk.pinned("since", Some(&instant.to_string())).await?;
        let resolved = self.resolve_then(question, instant).await?;
        self.drafted(resolved, true).await
    }

    async fn drafted(self: &Arc<Self>, mut resolved: Resolved, then: bool) -> Result<Draft, DeskError> {
        let setup = resolved.setup.clone();
        let known = self.known(&setup, resolved.instant).await?;
        let asked = std::mem::take(&mut resolved.series);
        let resolved = Arc::new(resolved);
        let (mut found, mut without) = (vec![], vec![]);
        for (wanted, subject, other) in self.look_up(&resolved, asked, &known).await? {
            match subject {
                Ok(subject) => found.push((wanted, subject, other)),
                Err(DeskError::Invalid(_) | DeskError::Unknown { .. }) if then => {}
                // One member of many of which no source tells is told of, and the others are served.
                Err(DeskError::Invalid(why)) if wanted.days.is_some() => without.push((wanted.key.symbol, why)),
                Err(error) => return Err(error),
            }
        }
        let rows = found.iter().flat_map(|(_, subject, other)| subject.rows().into_iter().chain(other.iter().flat_map(Subject::rows)));
        let rows: Vec<SeriesRow> = rows.collect();
        let sights = Arc::new(self.sights(&setup, rows.clone(), resolved.instant).await?);
        let unclear = Arc::new(self.unclear(&setup, &known, rows.iter().filter(|row| sights.contains_key(&row.id))).await?);
        let looked_at = self.look_at(&resolved, found, (&sights, &unclear, &known)).await?;
        let (series, (members, states)): (Vec<Wanted>, (Vec<Member>, Vec<String>)) = looked_at.into_iter().unzip();
        let mut resolved = Arc::unwrap_or_clone(resolved);
        resolved.series = series;
        let empty = members.iter().filter(|m| m.whole.start >= m.whole.end).map(|m| {
            let universe = m.wanted.days.as_ref().and(resolved.question.universe.as_deref());
            (m.wanted.key.symbol.clone(), why_nothing(&setup, m, &sights, universe))
        });
        without.extend(empty);
        resolved.without.extend(without);
        resolved.without.sort();
        resolved.without.dedup();
        let several = resolved.is_of_several();
        Ok(Draft { prepared: Prepared { research: self.clone(), resolved: Arc::new(resolved), members, several }, known, states })
    }

    /// The series that are wanted, or why there is none, and those of the other side where one is wanted, too.
    async fn look_up(self: &Arc<Self>, resolved: &Arc<Resolved>, asked: Vec<Wanted>, known: &Arc<Known>) -> Result<Vec<Found>, DeskError> {
        let given = (self.clone(), resolved.clone(), known.clone());
        let one = move |wanted: Wanted| {
            let (research, resolved, known) = given.clone();
            async move {
                let subject = research.subject_of(&resolved, &wanted, &known).await;
                let other = match &wanted.other {
                    Some(key) if subject.is_ok() => Some(research.unexamined_subject(&resolved.setup, key, &known).await?),
                    _ => None,
                };
                Ok((wanted, subject, other))
            }
        };
        self.desk.hands.side_by_side("looking up a series", asked, one).try_collect().await
    }

    /// What is known of the series that were found, each with what was wanted and what changes when its rows may.
    async fn look_at(
        self: &Arc<Self>,
        resolved: &Arc<Resolved>,
        found: Vec<(Wanted, Subject, Option<Subject>)>,
        (sights, unclear, known): (&Arc<Sights>, &Arc<Unclear>, &Arc<Known>),
    ) -> Result<Vec<(Wanted, (Member, String))>, DeskError> {
        let given = (self.clone(), resolved.clone(), sights.clone(), unclear.clone(), known.clone());
        let one = move |(wanted, subject, other): (Wanted, Subject, Option<Subject>)| {
            let (research, resolved, sights, unclear, known) = given.clone();
            async move {
                let question = &resolved.question;
                let mut member = research.member(&resolved, wanted.clone(), subject, (&sights, &unclear, &known)).await?;
                if let (Some(key), Some(subject)) = (&wanted.other, other) {
                    let wanted = Wanted { key: key.clone(), other: None, ..wanted.clone() };
                    member.other = Some(Box::new(research.member(&resolved, wanted, subject, (&sights, &unclear, &known)).await?));
                }
                let acts = question.adjust.is_some()
                    || question.shape.columns.contains(&Column::Action)
                    || question.works_out(Quantity::TotalReturn);
                if acts && wanted.chain.is_none() && member.whole.start < member.whole.end {
                    member.acted = Some(research.acted(&resolved.setup, &wanted, &member.whole, &known).await?);
                }
                let state = state(&resolved, &member, &known)?;
                Ok((wanted, (member, state)))
            }
        };
        self.desk.hands.side_by_side("looking at a series", found, one).try_collect().await
    }

    /// A series of the answer with what is known of it before its doubts are looked for.
    async fn member(
        &self,
        resolved: &Resolved,
        wanted: Wanted,
        mut subject: Subject,
        (sights, unclear, known): (&Sights, &Unclear, &Known),
    ) -> Result<Member, DeskError> {
        let (setup, question) = (&resolved.setup, &resolved.question);
        subject.each_lineup(&mut |lineup| {
            lineup.parts.iter_mut().for_each(|part| part.sight = sights.get(&part.row.id).cloned());
        });
        unclear.tell(&mut subject);
        let rows = subject.rows();
        let (delisted, mut wanted) = (known.actions.delisting(&wanted.instrument.symbol).filter(|_| question.delisting), wanted);
        let standing = stands(setup, &subject, (sights, unclear));
        let completeness = standing.as_ref().map(|s| wanted.within(&wanted.span).iter().map(|span| s.measured.over(span)).sum());
        // Of a series that nobody keeps any more nothing is known, and it may have bars all the same.
        let is_kept = rows.iter().all(|row| sights.contains_key(&row.id));
        let whole = match (is_kept, &standing) {
            (true, Some(standing)) => standing.extent.clone(),
            _ => self.extent(&subject, resolved.instant).await?,
        };
        let last = delisted.zip(whole.as_ref()).map(|(action, whole)| ending(setup, &wanted, whole, action)).transpose()?.flatten();
        let whole = whole.map(|whole| last.as_ref().map_or(whole.clone(), |(_, span)| whole.hull(span)));
        if let Some((bar, span)) = &last {
            subject = with_last_price(subject, &wanted, *bar, span);
            wanted = to_its_delisting(wanted, span);
        }
        let empty = wanted.span.start..wanted.span.start;
        let extent = whole.as_ref().map_or(empty.clone(), |w| w.clip(&wanted.span));
        let worked = question.worked_out();
        let mut beside = Beside::default();
        let looks_for_the_last = question.shape.picking.keep.is_some() || question.shape.layout == Layout::Latest;
        if !worked.is_empty() || looks_for_the_last {
            let standing = standing.as_ref().filter(|_| is_kept);
            let held = match standing {
                Some(standing) => standing.held.clone(),
                None => {
                    let held = self.desk.store.held(&rows, resolved.instant).await?;
                    held.into_values().reduce(|a, b| spans::union(&a, &b)).unwrap_or_default()
                }
            };
            let missing = match (question.minds_gaps(), standing) {
                (false, _) => Spans::new(),
                (true, Some(standing)) => standing.missing.clone(),
                (true, None) => {
                    let calendar = setup.calendar_of(&wanted.instrument)?;
                    let expected = calendar.expected(wanted.key.interval, TradeDate(i32::MIN)..TradeDate(i32::MAX));
                    difference(&expected, &held)
                }
            };
            let held = last.as_ref().map_or(held.clone(), |(_, span)| spans::union(&held, &[span.clone()].into_iter().collect()));
            beside = Beside { missing: Arc::new(missing), held: Arc::new(held), payouts: Arc::default() };
        }
        let standing = standing.map(|standing| Arc::new(standing.measured));
        let measured = standing.clone().filter(|_| measures(question));
        let whole = whole.unwrap_or(empty);
        let (doubted, acted, other) = (vec![], None, None);
        let adjusted = by_ratio(resolved, &wanted)?.map(Arc::new);
        let mut member =
            Member { wanted, subject, completeness, extent, whole, worked, beside, doubted, standing, measured, acted, adjusted, other };
        let how = finer(resolved, &member)?;
        if how.is_narrowed() && !member.beside.missing.is_empty() {
            // What is missing outside the hours that are asked for is missed by nobody.
            let step = how.interval.step() as usize;
            let slots = member.beside.missing.iter().flat_map(|s| (s.start.0..s.end.0).step_by(step)).map(Slot);
            let asked = slots.filter(|slot| how.takes(*slot)).map(|slot| how.interval.span_of(slot)).collect();
            member.beside.missing = Arc::new(asked);
        }
        Ok(member)
    }

    /// The series of what is wanted, or those of its contracts.
    async fn subject_of(&self, resolved: &Resolved, wanted: &Wanted, known: &Known) -> Result<Subject, DeskError> {
        let Some(chain) = &wanted.chain else {
            return match self.unexamined_subject(&resolved.setup, &wanted.key, known).await? {
                // Of one source, what is adjusted has to be as traded before.
                Subject::One(row) if resolved.question.adjust.is_some() => {
                    self.alone(&resolved.setup, row, known).await.map(Subject::Golden)
                }
                subject => Ok(subject),
            };
        };
        let shifts = match resolved.question.rolls {
            Some(Joined { by: Join::Difference, oldest }) => Some(chain.shifts(oldest)?),
            _ => None,
        };
        let all = Slot(i64::MIN)..Slot(i64::MAX);
        let legs = self.legs(&resolved.setup, chain, (&wanted.key, &all), shifts.as_deref(), known).await?;
        match legs.is_empty() {
            true => Err(self.desk.no_series(&wanted.key.to_string()).await?),
            false => Ok(Subject::Chain(legs)),
        }
    }

    /// What the actions of a member follow from, whose bars lie in `whole`.
    async fn acted(&self, setup: &Setup, wanted: &Wanted, whole: &Span, known: &Known) -> Result<Acted, DeskError> {
        let instrument = setup.instrument(&wanted.instrument.symbol)?;
        let (calendar, interval) = (setup.calendar_of(instrument)?, wanted.key.interval);
        let date = |slot: Slot| calendar.date_of(interval, slot);
        let closes = self.closes(setup, instrument, &[Side::Trade], known).await?;
        let worth = self.worth(setup, instrument, known).await?;
        Ok(Acted { ends: (date(whole.start), date(Slot(whole.end.0 - interval.step()))), closes, worth })
    }

    /// Where the bars of a series are, asked of the store.
    async fn extent(&self, subject: &Subject, as_of: Timestamp) -> Result<Option<Span>, DeskError> {
        let held = self.desk.store.held(&subject.rows(), as_of).await?;
        Ok(held.values().filter_map(hull).reduce(|a, b| a.hull(&b)))
    }

    /// A question resolved and its answer prepared.
    ///
    /// # Errors
    /// As of [`Research::draft`] and [`Draft::prepare`].
    pub async fn prepare(self: &Arc<Self>, resolved: Resolved) -> Result<Prepared, DeskError> {
        self.draft(resolved).await?.prepare().await
    }
}

/// Why nothing is held of a series: for each source the cause of most of what it lacks.
fn why_nothing(setup: &Setup, member: &Member, sights: &Sights, universe: Option<&str>) -> String {
    let cause = |row: &SeriesRow| {
        let largest = sights.get(&row.id)?.gaps().iter().max_by_key(|gap| gap.slots)?;
        Some(format!("{} at {}", largest.cause, row.key.source))
    };
    let causes: Vec<String> = member.subject.rows().iter().filter_map(cause).collect();
    match causes.is_empty() {
        true => why_without(setup, &member.wanted.instrument, member.wanted.key.interval, &member.wanted.key.source, universe),
        false => causes.join(", "),
    }
}

/// What the prices of a continuous series are multiplied by, where it is joined by ratio.
fn by_ratio(resolved: &Resolved, wanted: &Wanted) -> Result<Option<Adjusted>, DeskError> {
    let (Some(chain), Some(Joined { by: Join::Ratio, oldest })) = (&wanted.chain, resolved.question.rolls) else { return Ok(None) };
    let legs = chain.legs(resolved.calendar(wanted)?, wanted.key.interval).into_iter().zip(chain.ratios(oldest));
    Ok(Some(Adjusted::by_rolls(legs.map(|((_, span), ratio)| (span.end, ratio)).collect())))
}

impl Draft {
    /// What is told of the answer; no doubts have been looked for in it.
    #[must_use]
    pub fn told(&self) -> &Prepared {
        &self.prepared
    }

    /// Looks for doubts where that was not done before, several series side by side.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn prepare(self) -> Result<Prepared, DeskError> {
        let Draft { mut prepared, known, .. } = self;
        let (research, resolved) = (prepared.research.clone(), prepared.resolved.clone());
        let asked = prepared.columns().contains(&Column::Doubted);
        let members = std::mem::take(&mut prepared.members);
        let given = (research.clone(), resolved, known);
        let examine = move |member: Member| {
            let (research, resolved, known) = given.clone();
            async move { research.examined(&resolved, member, &known, asked).await }
        };
        prepared.members = research.desk.hands.side_by_side("looking for doubts", members, examine).try_collect().await?;
        Ok(prepared)
    }
}

impl Research {
    /// A member with its doubts and what actions do to its prices.
    async fn examined(&self, resolved: &Resolved, mut member: Member, known: &Known, asked: bool) -> Result<Member, DeskError> {
        let setup = &resolved.setup;
        member.doubted = self.examine_subject(setup, &mut member.subject, known, asked).await?;
        if let Some(other) = &mut member.other {
            other.doubted = self.examine_subject(setup, &mut other.subject, known, false).await?;
        }
        let Some(Acted { ends, closes, worth }) = member.acted.clone() else { return Ok(member) };
        let (instrument, interval) = (setup.instrument(&member.wanted.instrument.symbol)?, member.wanted.key.interval);
        let judged = async |adjustment| {
            let asked = Asked { interval, adjustment, ends };
            self.adjusted(setup, instrument, asked, known, (closes.as_ref(), &worth)).await
        };
        let usual = Adjustment { which: Adjust::All, anchor: Anchor::Newest };
        let adjustment = resolved.question.adjust.unwrap_or(usual);
        let adjusted = judged(adjustment).await?;
        // What holders are paid does not depend on how prices are adjusted.
        let payouts = match (resolved.question.works_out(Quantity::TotalReturn), adjustment == usual) {
            (false, _) => vec![],
            (true, true) => self.payouts(setup, instrument, interval, &adjusted)?,
            (true, false) => self.payouts(setup, instrument, interval, &judged(usual).await?)?,
        };
        member.adjusted = Some(Arc::new(adjusted));
        member.beside.payouts = Arc::new(payouts);
        Ok(member)
    }
}
