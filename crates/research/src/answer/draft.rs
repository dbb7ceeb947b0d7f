//! What a question is answered from, before any doubts are looked for: enough to say whether the answer has changed.

use super::{Acted, Answer, Member, Prepared, SIDE_BY_SIDE, how::finer, made::measures, rows::Measured, worked::Beside};
use crate::{
    Research,
    adjusting::{Adjusted, Asked},
    findings::Known,
    question::{
        Column, Joined, Layout, Missing, Question,
        resolve::{Resolved, Wanted},
    },
    reading::{Leg, Subject},
    unclear::Unclear,
    universes::{Sights, why_without},
    whole::{alone, union},
};
use futures_util::{StreamExt, TryStreamExt, stream};
use mizuno_config::GOLDEN;
use mizuno_core::{
    Action, Bar, Interval, Overlap, SeriesKey, Side, Slot, Span, Spans, Timestamp, TradeDate,
    action::What,
    adjust::{Adjust, Adjustment, Anchor},
    derived::Quantity,
    roll::Join,
    spans::{self, difference, hull},
};
use mizuno_desk::{DeskError, Setup, views::Seen};
use mizuno_store::{payloads, series::SeriesRow};
use std::{collections::HashMap, sync::Arc};

/// A question whose series are looked up. No block was opened for it.
pub struct Draft {
    prepared: Prepared,
    known: Arc<Known>,
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
        let views = self.desk.views_at(&setup, rows.collect(), Seen::at(resolved.instant)).await?;
        let unclear = Arc::new(self.unclear(&setup, &known, views.iter().map(|v| &v.row)).await?);
        let sights: Arc<Sights> = Arc::new(views.into_iter().map(|view| (view.row.id, view.sight)).collect());
        let members = self.look_at(&resolved, found, (&sights, &unclear, &known)).await?;
        let (series, members): (Vec<Wanted>, Vec<Member>) = members.into_iter().unzip();
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
        Ok(Draft { prepared: Prepared { research: self.clone(), resolved: Arc::new(resolved), members, several }, known })
    }

    /// The series that are wanted, or why there is none, and those of the other side where one is wanted, too.
    async fn look_up(self: &Arc<Self>, resolved: &Arc<Resolved>, asked: Vec<Wanted>, known: &Arc<Known>) -> Result<Vec<Found>, DeskError> {
        let one = |wanted: Wanted| {
            let (research, resolved, known) = (self.clone(), resolved.clone(), known.clone());
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

    /// What is known of the series that were found, each with what was wanted.
    async fn look_at(
        self: &Arc<Self>,
        resolved: &Arc<Resolved>,
        found: Vec<(Wanted, Subject, Option<Subject>)>,
        (sights, unclear, known): (&Arc<Sights>, &Arc<Unclear>, &Arc<Known>),
    ) -> Result<Vec<(Wanted, Member)>, DeskError> {
        let one = |(wanted, subject, other): (Wanted, Subject, Option<Subject>)| {
            let (research, resolved, known) = (self.clone(), resolved.clone(), known.clone());
            let (sights, unclear) = (sights.clone(), unclear.clone());
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
                Ok((wanted, member))
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

/// What a series is expected to have, and has.
struct Stands {
    /// From the first bar of any source to the last.
    extent: Option<Span>,
    held: Spans,
    missing: Spans,
    measured: Measured,
}

/// How a series stands: what any source of a golden one has, and of a chain each contract in its slots; `None` where nobody keeps it.
fn stands(setup: &Setup, subject: &Subject, (sights, unclear): (&Sights, &Unclear)) -> Option<Stands> {
    match subject {
        Subject::One(row) => {
            let sight = sights.get(&row.id)?;
            let (held, missing) = (sight.standing.held.clone(), sight.standing.missing());
            Some(Stands { extent: hull(&held), held, missing, measured: Measured::One(sight.clone()) })
        }
        Subject::Golden(lineup) => {
            let mut kept = lineup.parts.iter().filter_map(|part| Some((&part.row, sights.get(&part.row.id)?.as_ref())));
            let extent = kept.clone().filter_map(|(_, sight)| hull(&sight.standing.held)).reduce(|a, b| a.hull(&b));
            let whole = if lineup.key.source == GOLDEN { union(setup, kept, unclear)? } else { alone(kept.next()?, unclear) };
            let (held, missing) = (whole.standing.held.clone(), whole.standing.missing());
            Some(Stands { extent, held, missing, measured: Measured::Golden(whole) })
        }
        Subject::Chain(legs) => {
            let (mut held, mut missing, mut measured) = (Spans::new(), Spans::new(), vec![]);
            for leg in legs {
                let Some(own) = stands(setup, &leg.subject, (sights, unclear)) else { continue };
                held = spans::union(&held, &own.held.within(&leg.span).collect());
                missing = spans::union(&missing, &own.missing.within(&leg.span).collect());
                measured.push((leg.span.clone(), own.measured));
            }
            (!measured.is_empty()).then_some(Stands { extent: hull(&held), held, missing, measured: Measured::Legs(measured) })
        }
        Subject::Delisting(_) => None,
    }
}

/// The price of a delisting as the bar of its day, behind the bars of a series, which lie in `whole`; `None` where there are bars on that
/// day or after it, since trading went on, and of bids and asks, since it is neither.
fn ending(setup: &Setup, wanted: &Wanted, whole: &Span, delisting: &Action) -> Result<Option<(Bar, Span)>, DeskError> {
    let What::Delisting { price } = delisting.what else { return Ok(None) };
    if wanted.key.interval != Interval::Daily {
        return Err(DeskError::Invalid(format!(
            "delisting: a last price stands behind daily bars, and those of {} are made of {}; leave it out, or say made_from=1d",
            wanted.key.symbol, wanted.key.interval
        )));
    }
    let date = setup.calendar_of(&wanted.instrument)?.session_from(delisting.ex_date);
    let span = Interval::Daily.span_of(Slot::on(date));
    let bar = Bar::new(span.start, [price; 4], None);
    Ok((whole.end <= span.start && wanted.key.side == Side::Trade).then_some((bar, span)))
}

/// A series whose bars end before those of `span`, and the price of its delisting behind them.
fn with_last_price(subject: Subject, wanted: &Wanted, bar: Bar, span: &Span) -> Subject {
    let leg = |subject, span| Leg { contract: wanted.key.symbol.clone(), span, subject, shift: None };
    Subject::Chain(vec![leg(subject, Slot(i64::MIN)..span.start), leg(Subject::Delisting(bar), span.clone())])
}

/// What is asked for of a member that stayed until it was delisted goes to the day of that, `span`.
fn to_its_delisting(mut wanted: Wanted, span: &Span) -> Wanted {
    if let Some(days) = wanted.days.take() {
        let stayed =
            hull(&days).is_some_and(|stay| stay.end >= wanted.instrument.last_traded.map_or(span.start, |date| Slot::on(date.plus(1))));
        let stays = stayed && wanted.range.contains(&span.start);
        wanted.span = if stays { wanted.span.hull(span) } else { wanted.span };
        wanted.days = Some(if stays { Arc::new(spans::union(&days, &[span.clone()].into_iter().collect())) } else { days });
    }
    wanted
}

/// What the prices of a continuous series are multiplied by, where it is joined by ratio.
fn by_ratio(resolved: &Resolved, wanted: &Wanted) -> Result<Option<Adjusted>, DeskError> {
    let (Some(chain), Some(Joined { by: Join::Ratio, oldest })) = (&wanted.chain, resolved.question.rolls) else { return Ok(None) };
    let legs = chain.legs(resolved.calendar(wanted)?, wanted.key.interval).into_iter().zip(chain.ratios(oldest));
    Ok(Some(Adjusted::by_rolls(legs.map(|((_, span), ratio)| (span.end, ratio)).collect())))
}

impl Draft {
    /// What changes when the answer may: the resolved question with the state of what it reads, which is revisions, lists, excuses and
    /// the configuration. Nothing has to be looked for to tell it.
    ///
    /// # Errors
    /// When a venue is no longer configured.
    pub fn validator(&self) -> Result<String, DeskError> {
        let Prepared { resolved, members, .. } = &self.prepared;
        let mut state = resolved.question.to_json().into_bytes();
        // The stamp and not the number: in a database that was restored, another configuration may have that number.
        state.extend(resolved.setup.kept.accepted_at.0.to_be_bytes());
        if resolved.question.works_out(Quantity::Age) {
            state.extend(resolved.instant.0.to_be_bytes());
        }
        for member in members {
            state.extend(member.wanted.key.to_string().bytes());
            state.extend(member.wanted.chain.iter().flat_map(|chain| chain.state.bytes()));
            state.extend(member.wanted.span.start.0.to_be_bytes());
            state.extend(member.wanted.span.end.0.to_be_bytes());
            let days = member.wanted.days.iter().flat_map(|days| days.iter()).flat_map(|s| [s.start.0, s.end.0]);
            days.for_each(|n| state.extend(n.to_be_bytes()));
            state.extend(member.subject.state(&resolved.setup, &self.known, resolved.question.as_of)?);
            state.extend(self.acted_on(member)?);
            if let Some(other) = &member.other {
                state.extend(other.subject.state(&resolved.setup, &self.known, resolved.question.as_of)?);
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
        }
        Ok(payloads::digest(&state))
    }

    /// What changes when the adjusted prices of a member may: its actions, and what they are held against.
    fn acted_on(&self, member: &Member) -> Result<Vec<u8>, DeskError> {
        let (mut out, resolved) = (vec![], &self.prepared.resolved);
        let Some(acted) = &member.acted else { return Ok(out) };
        let instrument = resolved.setup.instrument(&member.wanted.instrument.symbol)?;
        out.extend([acted.ends.0.0.to_be_bytes(), acted.ends.1.0.to_be_bytes()].concat());
        for known in self.known.actions.of(&instrument.symbol) {
            out.extend(known.action.ex_date.0.to_be_bytes());
            out.extend(known.action.to_string().bytes());
        }
        out.extend(instrument.currency.bytes());
        if let Some(closes) = &acted.closes {
            out.extend(closes.state(&resolved.setup, &self.known, resolved.question.as_of)?);
        }
        out.extend(acted.worth.state(&resolved.setup, &self.known, resolved.question.as_of)?);
        Ok(out)
    }

    /// What is told of the answer; no doubts have been looked for in it.
    #[must_use]
    pub fn told(&self) -> &Prepared {
        &self.prepared
    }

    /// Begins to tell what differs from the answer `then`, as [`Prepared::begin`] does.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn changes(mut self, mut then: Draft, typed: bool) -> Result<Answer, DeskError> {
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
        super::changes::begin(then.prepare().await?, self.prepare().await?, pairs, typed).await
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
        let same_actions = || -> Result<bool, DeskError> { Ok(then.acted_on(old)? == self.acted_on(new)?) };
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

    /// Looks for doubts where that was not done before, several series side by side.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn prepare(self) -> Result<Prepared, DeskError> {
        let Draft { mut prepared, known } = self;
        let (research, setup) = (prepared.research.clone(), prepared.resolved.setup.clone());
        let asked = prepared.columns().contains(&Column::Doubted);
        let members = std::mem::take(&mut prepared.members);
        let usual = Adjustment { which: Adjust::All, anchor: Anchor::Newest };
        let paid = prepared.resolved.question.works_out(Quantity::TotalReturn);
        let (adjustment, hands) = (prepared.resolved.question.adjust.unwrap_or(usual), research.clone());
        let examine = |mut member: Member| async {
            member.doubted = research.examine_subject(&setup, &mut member.subject, &known, asked).await?;
            if let Some(other) = &mut member.other {
                other.doubted = research.examine_subject(&setup, &mut other.subject, &known, false).await?;
            }
            if let Some(Acted { ends, closes, worth }) = member.acted.clone() {
                let (research, setup, known) = (research.clone(), setup.clone(), known.clone());
                let (symbol, interval) = (member.wanted.instrument.symbol.clone(), member.wanted.key.interval);
                let work = async move {
                    let instrument = setup.instrument(&symbol)?;
                    let judged = async |adjustment| {
                        let asked = Asked { interval, adjustment, ends };
                        research.adjusted(&setup, instrument, asked, &known, (closes.as_ref(), &worth)).await
                    };
                    let adjusted = judged(adjustment).await?;
                    // What holders are paid does not depend on how prices are adjusted.
                    let payouts = match (paid, adjustment == usual) {
                        (false, _) => vec![],
                        (true, true) => research.payouts(&setup, instrument, interval, &adjusted)?,
                        (true, false) => research.payouts(&setup, instrument, interval, &judged(usual).await?)?,
                    };
                    Ok::<_, DeskError>((adjusted, payouts))
                };
                let done = hands.desk.hands.spawn(work).await.map_err(|e| DeskError::fault("working out what actions do", e))?;
                let (adjusted, payouts) = done?;
                member.adjusted = Some(Arc::new(adjusted));
                member.beside.payouts = Arc::new(payouts);
            }
            Ok::<Member, DeskError>(member)
        };
        let mut examined = stream::iter(members.into_iter().map(examine)).buffered(SIDE_BY_SIDE);
        while let Some(member) = examined.next().await {
            prepared.members.push(member?);
        }
        drop(examined);
        Ok(prepared)
    }
}
