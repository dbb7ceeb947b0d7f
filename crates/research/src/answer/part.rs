//! A part of an answer as an answer of its own: some of its series, on some trade dates. And what a part follows from, in bytes: two parts
//! that follow from the same have the same rows, so one of them need not be made.

use super::{Answer, Member, Prepared, made::measures};
use crate::{
    golden::Lineup,
    question::{Column, Layout, Missing},
    reading::Subject,
};
use futures_util::TryStreamExt;
use mizuno_core::{Overlap, Slot, Span, Timestamp, TradeDate, bar::Digits, derived::Quantity};
use mizuno_desk::DeskError;
use mizuno_store::series::SeriesRow;
use std::{collections::HashMap, ops::Range, sync::Arc};

/// Trade dates, the last not included.
pub(crate) type Dates = Range<TradeDate>;

/// What all parts of an answer follow from.
#[derive(Default)]
pub(crate) struct Learned {
    /// The question.
    question: Vec<u8>,
    /// When something was last learned of each series, for each of some stretches of trade dates, by their places.
    stamps: HashMap<i64, Vec<Option<Timestamp>>>,
}

impl Prepared {
    /// The series at these places, on some trade dates or on all.
    ///
    /// # Errors
    /// When a venue is no longer configured.
    pub(crate) fn part(&self, places: &[usize], dates: Option<&Dates>) -> Result<Prepared, DeskError> {
        let mut members = vec![];
        for place in places {
            let mut member = self.members[*place].clone();
            if let Some(dates) = dates {
                self.clip(&mut member, dates)?;
            }
            members.push(member);
        }
        Ok(Prepared { research: self.research.clone(), resolved: self.resolved.clone(), members, several: self.several })
    }

    fn clip(&self, member: &mut Member, dates: &Dates) -> Result<(), DeskError> {
        let slots = self.slots(member, dates)?;
        let wanted = &mut member.wanted;
        (wanted.range, wanted.span) = (wanted.range.clip(&slots), wanted.span.clip(&slots));
        if let Some(days) = &wanted.days {
            wanted.days = Some(Arc::new(days.within(&slots).collect()));
        }
        member.extent = member.extent.clip(&slots);
        if let Some(other) = &mut member.other {
            self.clip(other, dates)?;
        }
        Ok(())
    }

    /// The slots of some trade dates.
    fn slots(&self, member: &Member, dates: &Dates) -> Result<Span, DeskError> {
        Ok(self.resolved.calendar(&member.wanted)?.span_of_dates(member.wanted.key.interval, dates.clone()))
    }

    /// Where the bars of a series are on some trade dates, or on all.
    fn extent_on(&self, member: &Member, dates: Option<&Dates>) -> Result<Span, DeskError> {
        Ok(match dates {
            None => member.extent.clone(),
            Some(dates) => member.extent.clip(&self.slots(member, dates)?),
        })
    }

    /// Trade dates of the first and the last bar of the answer; `None` where there are none.
    pub(crate) fn dates(&self) -> Result<Option<Dates>, DeskError> {
        let mut out: Option<Dates> = None;
        for member in self.members.iter().filter(|m| m.extent.start < m.extent.end) {
            let (calendar, interval) = (self.resolved.calendar(&member.wanted)?, member.wanted.key.interval);
            let date = |slot: Slot| calendar.date_of(interval, slot);
            let (first, last) = (date(member.extent.start), date(Slot(member.extent.end.0 - interval.step())).plus(1));
            out = Some(out.map_or(first..last, |all| all.start.min(first)..all.end.max(last)));
        }
        Ok(out)
    }

    /// Whether a series has bars on some trade dates.
    pub(crate) fn has_bars_on(&self, place: usize, dates: Option<&Dates>) -> Result<bool, DeskError> {
        let member = &self.members[place];
        let extent = self.extent_on(member, dates)?;
        Ok(extent.start < extent.end && member.wanted.takes(&extent))
    }

    /// How complete a series is on some trade dates; `None` when no collector keeps it any more.
    pub(crate) fn completeness_on(&self, place: usize, dates: &Dates) -> Result<Option<mizuno_core::Completeness>, DeskError> {
        let member = &self.members[place];
        let Some(standing) = &member.standing else { return Ok(None) };
        let span = member.wanted.span.clip(&self.slots(member, dates)?);
        Ok((span.start < span.end).then(|| member.wanted.within(&span).iter().map(|span| standing.over(span)).sum()))
    }

    /// Begins the answer with numbers of one size, whatever they are.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub(crate) async fn begin_with(self, room: Option<(Digits, Digits)>) -> Result<Answer, DeskError> {
        let rooms = room.map(|room| vec![room; self.members.len()]);
        self.begin_in(rooms.unwrap_or_default())
    }

    /// Whether what its rows follow from can be told before they are read: what is due, and how complete something is, changes with time
    /// alone.
    fn tells(&self) -> bool {
        let question = &self.resolved.question;
        !(measures(question)
            || question.shape.missing == Missing::Rows
            || question.works_out(Quantity::Age)
            || question.works_out(Quantity::TotalReturn)
            || question.shape.layout == Layout::Latest
            || question.shape.columns.contains(&Column::Doubted))
    }

    /// The slots whose bars the rows of a member on some dates follow from: those before too, where numbers are worked out of several bars.
    fn behind(&self, member: &Member, dates: Option<&Dates>) -> Result<Span, DeskError> {
        let span = self.extent_on(member, dates)?;
        let before = !member.worked.is_empty();
        Ok(if before && span.start < span.end { member.whole.start..span.end } else { span })
    }

    /// Looks up when something was last learned of each series, for each of these stretches of trade dates.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub(crate) async fn learned(&self, stretches: &[Option<Dates>]) -> Result<Learned, DeskError> {
        if !self.tells() {
            return Ok(Learned::default());
        }
        let mut wanted = vec![];
        for member in self.members.iter().flat_map(|m| [Some(m), m.other.as_deref()]).flatten() {
            let spans: Vec<Span> = stretches.iter().map(|dates| self.behind(member, dates.as_ref())).collect::<Result<_, DeskError>>()?;
            wanted.extend(member.subject.rows().into_iter().map(|row| (row, spans.clone())));
        }
        let (desk, instant) = (&self.research.desk, self.resolved.instant);
        let store = desk.store.clone();
        let look = move |(row, spans): (SeriesRow, Vec<Span>)| {
            let store = store.clone();
            async move { Ok((row.id, store.learned(&row, &spans, instant).await?)) }
        };
        let question = crate::question::Question { as_of: None, ..self.resolved.question.clone() }.to_json().into_bytes();
        Ok(Learned { question, stamps: desk.hands.side_by_side("looking for what was learned", wanted, look).try_collect().await? })
    }

    /// What the part at some places and in one of these stretches follows from; `None` where that cannot be told.
    ///
    /// # Errors
    /// When a venue is no longer configured.
    pub(crate) fn follows_from(
        &self,
        places: &[usize],
        (at, dates): (usize, Option<&Dates>),
        learned: &Learned,
    ) -> Result<Option<Vec<u8>>, DeskError> {
        if !self.tells() {
            return Ok(None);
        }
        let mut out = learned.question.clone();
        out.push(u8::from(self.several));
        for place in places {
            let member = &self.members[*place];
            self.member_follows_from(member, (at, dates), learned, &mut out)?;
            if let Some(other) = &member.other {
                self.member_follows_from(other, (at, dates), learned, &mut out)?;
            }
        }
        Ok(Some(out))
    }

    fn member_follows_from(
        &self,
        member: &Member,
        (at, dates): (usize, Option<&Dates>),
        learned: &Learned,
        out: &mut Vec<u8>,
    ) -> Result<(), DeskError> {
        let (question, wanted) = (&self.resolved.question, &member.wanted);
        let span = self.behind(member, dates)?;
        let mut say = |text: &str| {
            out.extend(text.bytes());
            out.push(b'\n');
        };
        let tick = wanted.instrument.tick_size.map(|t| t.to_string()).unwrap_or_default();
        say(&format!("{} {tick}", wanted.key));
        // Where the part begins and ends shows in a row only where its bars do.
        if span.start >= span.end {
            return Ok(());
        }
        say(&format!("{} {}", span.start.0, span.end.0));
        for days in wanted.days.iter().flat_map(|days| days.within(&span).collect::<Vec<_>>()) {
            say(&format!("member {} {}", days.start.0, days.end.0));
        }
        if question.minds_gaps() {
            for missing in member.beside.missing.within(&span) {
                say(&format!("missing {} {}", missing.start.0, missing.end.0));
            }
        }
        if let Some(adjusted) = &member.adjusted {
            say(&adjusted.factors.over(&span));
            adjusted.days.iter().for_each(|(day, text)| say(&format!("{day} {text}")));
        }
        let before = !member.worked.is_empty();
        let mut subjects: Vec<&Subject> = vec![];
        match &member.subject {
            Subject::Chain(legs) => {
                for leg in legs.iter().filter(|leg| leg.span.overlaps(&span)) {
                    let clipped = leg.span.clip(&span);
                    let shift = leg.shift.map(|s| s.to_string()).unwrap_or_default();
                    say(&format!("leg {} {} {} {shift}", leg.contract, clipped.start.0, clipped.end.0));
                    subjects.push(&leg.subject);
                }
            }
            subject => subjects.push(subject),
        }
        let stamp = |id: i64| learned.stamps.get(&id).and_then(|stamps| stamps.get(at).copied().flatten());
        for subject in subjects {
            match subject {
                Subject::Chain(_) => {}
                Subject::Delisting(bar) => say(&format!("delisting {}", bar.close())),
                Subject::One(row) => say(&format!("{} {}", row.key, stamp(row.id).map_or(0, |s| s.0))),
                Subject::Golden(lineup) => {
                    ranks(lineup, dates.filter(|_| !before)).iter().for_each(|rank| say(rank));
                    // A source that has nothing there gives nothing.
                    for part in &lineup.parts {
                        let Some(stamp) = stamp(part.row.id) else { continue };
                        say(&format!("{} {}", part.row.key, stamp.0));
                        part.accounted_from().iter().for_each(|from| say(&format!("brought back from {from}")));
                        part.taken_out().iter().for_each(|t| say(&format!("taken out {} {} {}", t.ex_date, t.prices, t.volumes)));
                        part.doubted.within(&span).for_each(|d| say(&format!("doubted {} {}", d.start.0, d.end.0)));
                    }
                }
            }
        }
        Ok(())
    }
}

/// How the parts of a line-up rank on some trade dates, or on all.
fn ranks(lineup: &Lineup, dates: Option<&Dates>) -> Vec<String> {
    let until = |at: usize| lineup.ranks.get(at + 1).map_or(TradeDate(i32::MAX), |(next, _)| *next);
    let counts = |at: usize, from: TradeDate| dates.is_none_or(|dates| from < dates.end && dates.start < until(at));
    let ranked = lineup.ranks.iter().enumerate().filter(|(at, (from, _))| counts(*at, *from));
    let told = ranked.map(|(_, (from, places))| {
        let names: Vec<&str> = places.iter().map(|place| lineup.parts[*place].row.key.source.as_str()).collect();
        let from = dates.map_or(*from, |dates| (*from).max(dates.start));
        format!("from {from}: {}", names.join(" "))
    });
    told.collect()
}
