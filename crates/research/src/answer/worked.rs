//! Numbers worked out of the bars of an answer, and the rows that are picked by them.
//!
//! Bars come from [`Made`], a stretch before the first row among them, as long as the numbers need. Those are worked with and given no row.

use super::{
    Member,
    before::start,
    extra::Extra,
    made::{Made, Read, begun, grid},
    rows::{Rows, decimals, needed},
};
use crate::{
    Research,
    question::{
        Column, Layout, Question,
        picking::{Condition, Keep, Operand, Sign},
        resolve::{Resolved, Wanted},
    },
    reading::{Reader, Subject},
};
use mizuno_core::{
    Bar, Decimal, Slot, Span, Spans, Timestamp, TradeDate,
    derived::{Derived, Deriver, Input, Needs, Payout, Priced, Quantity, Value},
    time::MINUTE,
};
use mizuno_desk::DeskError;
use mizuno_store::{blocks::Needed, ranges::Sieve};
use std::{collections::VecDeque, sync::Arc};

impl Question {
    /// The numbers that have to be worked out for the answer: those in columns, in conditions, and those that rows are sorted by.
    #[must_use]
    pub fn worked_out(&self) -> Vec<Derived> {
        let columns = self.shape.columns.iter().filter_map(|c| if let Column::Derived(d) = c { Some(*d) } else { None });
        let conditions = self.shape.picking.conditions.iter().flat_map(Condition::operands);
        let mut out: Vec<Derived> = vec![];
        for derived in columns.chain(conditions).chain(self.shape.picking.sort.map(|s| s.by)) {
            if !out.contains(&derived) {
                out.push(derived);
            }
        }
        out
    }

    /// Whether what is missing between two bars shows in the answer.
    #[must_use]
    pub fn minds_gaps(&self) -> bool {
        !self.shape.bridged && self.worked_out().iter().any(|d| d.looks_back())
    }

    /// Whether the answer needs this quantity, in whatever window.
    #[must_use]
    pub fn works_out(&self, of: Quantity) -> bool {
        self.worked_out().iter().any(|d| d.of == of)
    }
}

/// The numbers of bars that some numbers are worked out of, as columns.
fn columns_of(wanted: &[Derived]) -> impl Iterator<Item = Column> {
    let of = |d: &Derived| -> &'static [Column] {
        match d.of {
            Quantity::Open | Quantity::Gap => &[Column::Open],
            Quantity::High => &[Column::High],
            Quantity::Low => &[Column::Low],
            Quantity::Range | Quantity::Typical => &[Column::High, Column::Low],
            Quantity::Turnover => &[Column::High, Column::Low, Column::Volume],
            Quantity::Volume => &[Column::Volume],
            Quantity::OpenInterest => &[Column::OpenInterest],
            _ => &[],
        }
    };
    wanted.iter().flat_map(of).copied()
}

/// Whether each row follows from its own bar alone, as it is kept: whatever does not hold need not be worked with then.
fn by_itself(resolved: &Resolved, member: &Member, wanted: &[Derived]) -> Result<bool, DeskError> {
    let question = &resolved.question;
    let conditions = &question.shape.picking.conditions;
    let as_kept = question.adjust.is_none()
        && !matches!(member.subject, Subject::Chain(_))
        && !member.may_lose_bars()
        && grid(resolved, member)?.is_none();
    let plain = wanted.iter().all(|d| d.is_of_one_bar());
    // Whether a price crosses is told by the bar before, too.
    let crosses = conditions.iter().any(|c| matches!(c.sign, Sign::CrossesAbove | Sign::CrossesBelow));
    Ok(!conditions.is_empty() && as_kept && plain && !crosses && question.shape.layout != Layout::Latest)
}

/// A number that a bar has as it is kept; `None` for one that is worked out.
fn kept(bar: &Bar, derived: Derived) -> Option<Option<Decimal>> {
    Some(match derived.of {
        _ if derived != Derived::plain(derived.of) => return None,
        Quantity::Open => Some(bar.open()),
        Quantity::High => Some(bar.high()),
        Quantity::Low => Some(bar.low()),
        Quantity::Close => Some(bar.close()),
        Quantity::Volume => bar.volume(),
        Quantity::OpenInterest => bar.open_interest(),
        _ => return None,
    })
}

/// Whether a condition fails by what a bar has as it is kept.
fn fails(condition: &Condition, bar: &Bar) -> bool {
    let right = match condition.right {
        Operand::Number(number) => Some(Some(number)),
        Operand::Derived(derived) => kept(bar, derived),
    };
    let sides = kept(bar, condition.left).zip(right);
    sides.is_some_and(|(left, right)| !condition.holds((left.map(Value::of), right.map(Value::of)), (None, None)))
}

/// What a bar must have for all conditions to hold, as far as that can be told of a block without opening it; for rows that follow from their
/// own bars alone.
fn sieve(conditions: &[Condition]) -> Sieve {
    let mut out = Sieve::default();
    for Condition { left, sign, right } in conditions {
        let Operand::Number(number) = right else { continue };
        let (from, to) = match left.of {
            Quantity::Open | Quantity::High | Quantity::Low | Quantity::Close => (&mut out.price_from, &mut out.price_to),
            Quantity::Volume => (&mut out.volume_from, &mut out.volume_to),
            _ => continue,
        };
        if matches!(sign, Sign::Above | Sign::AtLeast | Sign::Equal) {
            *from = Some(from.map_or(*number, |known| known.max(*number)));
        }
        if matches!(sign, Sign::Below | Sign::AtMost | Sign::Equal) {
            *to = Some(to.map_or(*number, |known| known.min(*number)));
        }
    }
    out
}

/// What the numbers of a member follow from, besides its own bars.
#[derive(Clone, Default)]
pub(crate) struct Beside {
    /// Slots without a bar that are missing.
    pub missing: Arc<Spans>,
    /// Slots that have one.
    pub held: Arc<Spans>,
    /// What holders are paid, by slot.
    pub payouts: Arc<Vec<(Slot, Payout)>>,
}

/// Reads the bars of a member with what is worked out of them.
pub(super) struct Worked {
    made: Made,
    working: Option<Working>,
}

/// Which of the rows that hold are given.
#[derive(Clone, Copy)]
enum Kept {
    All,
    First(u32),
    Last(u32),
    /// The newest bar, if it holds.
    Newest,
}

struct Working {
    deriver: Deriver,
    /// Whether trade dates are needed, the age of bars, the sessions that they lie in: each takes a look at the calendar.
    dated: bool,
    aged: bool,
    by_session: bool,
    /// Each with the places of its two sides among the numbers; a number that is given has none.
    conditions: Vec<(Condition, usize, Option<usize>)>,
    /// Numbers are counted from the row on that reaches beyond this slot of the bars that are read.
    begins: Slot,
    begun: bool,
    /// Rows are given from the one on that reaches beyond this.
    from: Slot,
    /// The end of the bar before.
    end: Option<Slot>,
    keep: Kept,
    /// Rows that were kept until the end.
    kept: Read,
    beside: Beside,
    minds_gaps: bool,
    /// Whether exact numbers are those that are meant: adjusted ones are rounded.
    exact: bool,
    /// Whether each row follows from its own bar alone.
    by_itself: bool,
    instant: Timestamp,
    other: Option<Other>,
}

/// The closes of the other side of the book, slot by slot.
struct Other {
    made: Made,
    waiting: VecDeque<(Slot, Priced)>,
}

/// What has to be read for some rows of a member.
pub(super) struct ToRead {
    /// The stretch, and what of its bars.
    pub(super) span: Span,
    pub(super) needed: Needed,
    /// The rows, and from where their numbers are counted.
    rows: Span,
    begins: Slot,
}

impl ToRead {
    /// For the rows of a member in `rows`.
    pub(super) fn of(resolved: &Resolved, member: &Member, columns: &[Column], rows: &Span) -> Result<ToRead, DeskError> {
        let question = &resolved.question;
        let wanted = question.worked_out();
        let needs = wanted.iter().map(|d| d.needs()).fold(Needs::default(), Needs::and);
        // Whether a price crosses is told by the bar before, too.
        let needs = Needs { bars: needs.bars + u32::from(!question.shape.picking.conditions.is_empty()), ..needs };
        let by_session = wanted.iter().any(|d| d.goes_over_sessions());
        // What is counted from the first row of all begins there.
        let counts = wanted.iter().any(|d| d.of == Quantity::Drawdown);
        let begins = if counts { rows.start.min(member.extent.start) } else { rows.start };
        let from = if wanted.is_empty() { rows.start } else { start(resolved, member, begins, needs, by_session)? };
        let all: Vec<Column> = columns.iter().copied().chain(columns_of(&wanted)).collect();
        Ok(ToRead { span: from..rows.end, needed: needed(&all), rows: rows.clone(), begins })
    }
}

impl Worked {
    /// Begins to read the rows of a member in `rows`.
    pub(super) async fn open(
        research: &Research,
        resolved: &Resolved,
        member: &Member,
        columns: &[Column],
        rows: &Span,
    ) -> Result<Worked, DeskError> {
        let to_read = ToRead::of(resolved, member, columns, rows)?;
        let ToRead { span, needed, .. } = &to_read;
        let (subject, span, instant) = (member.subject.clone(), span.clone(), resolved.instant);
        let calendar = resolved.calendar(&member.wanted)?;
        let reader = match sieve(&resolved.question.shape.picking.conditions) {
            sieve if sieve != Sieve::default() && by_itself(resolved, member, &resolved.question.worked_out())? => {
                research.read_through(subject, calendar, span, instant, *needed, &sieve).await?
            }
            _ => research.read_over(subject, calendar, span, instant, *needed).await?,
        };
        Worked::over(reader, research, resolved, member, to_read).await
    }

    /// The same where `reader` reads what has to be.
    pub(super) async fn over(
        reader: Reader,
        research: &Research,
        resolved: &Resolved,
        member: &Member,
        ToRead { span, rows, begins, .. }: ToRead,
    ) -> Result<Worked, DeskError> {
        let question = &resolved.question;
        let wanted = question.worked_out();
        let (calendar, instant) = (resolved.calendar(&member.wanted)?, resolved.instant);
        let picking = &question.shape.picking;
        let made = Made::new(reader.ahead(&research.desk.hands), resolved, member, &begun(resolved, member, &span)?)?;
        if wanted.is_empty() && picking.keep.is_none() {
            return Ok(Worked { made, working: None });
        }
        let other = match &member.other {
            None => None,
            Some(other) => {
                let reader = research.read_over(other.subject.clone(), calendar, span.clone(), instant, Needed::CLOSE).await?;
                Some(Other { made: Made::new(reader, resolved, other, &begun(resolved, member, &span)?)?, waiting: VecDeque::new() })
            }
        };
        let place = |d: Derived| wanted.iter().position(|w| *w == d).unwrap_or(0);
        let condition = |c: &Condition| (*c, place(c.left), if let Operand::Derived(d) = c.right { Some(place(d)) } else { None });
        let instrument = &member.wanted.instrument;
        let (payouts, expiry) = (member.beside.payouts.to_vec(), instrument.expiry.or(instrument.last_traded));
        Ok(Worked {
            made,
            working: Some(Working {
                deriver: Deriver::new(&wanted, decimals(question.shape.round), payouts, expiry),
                conditions: picking.conditions.iter().map(condition).collect(),
                dated: wanted.iter().any(|d| d.of == Quantity::DaysToExpiry),
                aged: wanted.iter().any(|d| d.of == Quantity::Age),
                by_session: wanted.iter().any(|d| d.goes_over_sessions()),
                begins,
                begun: false,
                from: rows.start,
                end: None,
                keep: match (question.shape.layout, picking.keep) {
                    (Layout::Latest, _) => Kept::Newest,
                    (_, None) => Kept::All,
                    (_, Some(Keep::First(n))) => Kept::First(n),
                    (_, Some(Keep::Last(n))) => Kept::Last(n),
                },
                kept: Read::default(),
                beside: member.beside.clone(),
                minds_gaps: question.minds_gaps(),
                exact: question.adjust.is_none() && !member.adjusted.as_ref().is_some_and(|a| a.by_rolls),
                by_itself: by_itself(resolved, member, &wanted)?,
                instant,
                other,
            }),
        })
    }

    /// The next rows; `finer` says how the bars that are read become rows, `how` how those that are made do.
    pub(super) async fn next(&mut self, finer: &Rows<'_>, how: &Rows<'_>, member: &Member) -> Result<Option<Read>, DeskError> {
        let Some(working) = &mut self.working else {
            while let Some(mut read) = self.made.next(finer, member).await? {
                if member.wanted.days.is_some() {
                    read.retain(|bar, extra| is_of_member(&member.wanted, bar, extra));
                }
                if !read.bars.is_empty() {
                    return Ok(Some(read));
                }
            }
            return Ok(None);
        };
        loop {
            if matches!(working.keep, Kept::First(0)) {
                return Ok(None);
            }
            let Some(read) = self.made.next(finer, member).await? else {
                let rest = std::mem::take(&mut working.kept);
                return Ok(Some(rest).filter(|rest| !rest.bars.is_empty()));
            };
            if let (Some(other), Some(last)) = (&mut working.other, read.bars.last()) {
                other.read_to(last.slot, finer, member).await?;
            }
            let picked = working.rows(read, finer, how, &member.wanted);
            if !picked.bars.is_empty() {
                return Ok(Some(picked));
            }
        }
    }
}

impl Other {
    async fn read_to(&mut self, slot: Slot, finer: &Rows<'_>, member: &Member) -> Result<(), DeskError> {
        let other = member.other.as_deref().unwrap_or(member);
        while self.waiting.back().is_none_or(|(last, _)| *last < slot) {
            let Some(read) = self.made.next(finer, other).await? else { return Ok(()) };
            let priced = |(_, bar, extra): (usize, &Bar, Option<&Extra>)| (bar.slot, prices(bar, extra)[3]);
            self.waiting.extend(read.iter().map(priced));
        }
        Ok(())
    }

    fn at(&mut self, slot: Slot) -> Option<Priced> {
        while self.waiting.pop_front_if(|(at, _)| *at < slot).is_some() {}
        self.waiting.pop_front_if(|(at, _)| *at == slot).map(|(_, price)| price)
    }
}

/// Whether a bar is of a day on which its instrument was a member, where only those are asked for; a coarser one of any such day.
fn is_of_member(wanted: &Wanted, bar: &Bar, extra: Option<&Extra>) -> bool {
    match (&wanted.days, extra) {
        (None, _) => true,
        (Some(days), None) => days.contains(&bar.slot),
        (Some(_), Some(extra)) => wanted.takes(&extra.span),
    }
}

/// Open, high, low and close with the slots of their factors.
fn prices(bar: &Bar, extra: Option<&Extra>) -> [Priced; 4] {
    match extra.and_then(|e| e.sources.as_ref()) {
        Some(sources) => sources.prices,
        None => {
            let [open, high, low, close] = bar.prices();
            let as_traded = |raw| Priced { raw, slot: bar.slot };
            [as_traded(open), as_traded(high), as_traded(low), as_traded(close)]
        }
    }
}

impl Working {
    /// The rows of some bars, those that are picked.
    fn rows(&mut self, read: Read, finer: &Rows<'_>, how: &Rows<'_>, wanted: &Wanted) -> Read {
        let mut out = Read::default();
        let factors = finer.factors_and_decimals().map(|(factors, _)| factors);
        let places = read.from.iter().copied().chain(std::iter::repeat(0));
        let mut extras = read.extras.iter();
        for (bar, place) in read.bars.iter().zip(places) {
            let extra = extras.next();
            if self.by_itself && self.conditions.iter().any(|(condition, ..)| fails(condition, bar)) {
                continue;
            }
            // A bar made of finer ones has a slot of another kind, and its piece may begin before the first of them.
            let end = extra.map_or_else(|| finer.interval.span_of(bar.slot).end, |e| e.span.end);
            let is_given = end > self.from;
            if !self.begun && end > self.begins {
                self.begun = true;
                self.deriver.begin_rows();
            }
            let input = self.input(bar, extra, finer, how);
            // A condition may ask what the numbers of the bar before were.
            if is_given || !self.conditions.is_empty() {
                self.deriver.push(&input, factors);
            } else {
                self.deriver.pass(&input, factors);
            }
            // The days before a member joined are worked with, so that its first day has its return, and are given no row.
            let holds = self.holds() && is_of_member(wanted, bar, extra);
            if is_given && matches!(self.keep, Kept::Newest) {
                self.kept = Read::default();
            }
            if is_given && holds && !matches!(self.keep, Kept::First(0)) {
                out.bars.push(*bar);
                out.from.push(place);
                out.extras.extend(extra.cloned());
                out.derived.push(self.deriver.newest().0.into());
                match &mut self.keep {
                    Kept::First(n) => *n -= 1,
                    Kept::Newest => self.kept.append(std::mem::take(&mut out)),
                    Kept::All | Kept::Last(_) => {}
                }
            }
        }
        if let Kept::Last(n) = self.keep {
            self.kept.append(out);
            self.kept.drop_first(self.kept.bars.len().saturating_sub(n as usize));
            return Read::default();
        }
        out
    }

    fn holds(&self) -> bool {
        let (now, before) = self.deriver.newest();
        // An adjusted price is known exactly only rounded: what it is before that is nearer to what is meant.
        let meant = |v: Value| if self.exact { v } else { Value { exact: None, ..v } };
        self.conditions.iter().all(|(condition, left, right)| {
            let number = if let Operand::Number(n) = condition.right { Some(Value::of(n)) } else { None };
            let at = |values: &[Option<Value>], at: usize| values.get(at).copied().flatten().map(meant);
            let sides = |values: &[Option<Value>]| (at(values, *left), right.map_or(number, |right| at(values, right)));
            condition.holds(sides(now), sides(before))
        })
    }

    fn input(&mut self, bar: &Bar, extra: Option<&Extra>, finer: &Rows<'_>, how: &Rows<'_>) -> Input {
        let prices = prices(bar, extra);
        let last = prices[3].slot;
        let span = extra.map_or_else(|| finer.interval.span_of(bar.slot), |e| e.span.clone());
        let cut = self.minds_gaps && self.end.is_some_and(|end| end < span.start && self.beside.missing.overlaps(&(end..span.start)));
        self.end = Some(span.end);
        let sources = extra.and_then(|e| e.sources.as_ref());
        let volume = match sources {
            Some(sources) => sources.volume.map(|real| Value { real, exact: bar.volume() }),
            None => bar.volume().map(|v| Value {
                real: v.to_f64() * how.factors(bar.slot).map_or(1.0, |f| f.volume.real()),
                exact: Some(how.volume(bar.slot, v)),
            }),
        };
        let turnover = match sources {
            Some(sources) => sources.turnover,
            None => bar.volume().map(|v| bar.typical() * v.to_f64()),
        };
        let date = if self.dated { how.trade_date(bar.slot) } else { TradeDate(0) };
        let age = if self.aged { (self.instant.0 - finer.end_of(last).0).div_euclid(MINUTE) } else { 0 };
        let session = if self.by_session { finer.session_number(last) } else { 0 };
        let other = self.other.as_mut().and_then(|o| o.at(bar.slot));
        let open_interest = bar.open_interest().map(Value::of);
        Input { prices, volume, open_interest, turnover, other, date, session, cut, age }
    }
}
