//! What corporate actions do to the prices of an instrument.

use crate::{
    Research,
    actions::KnownAction,
    closes::{Closes, last_before},
    findings::Known,
    worth::{Worth, why_no_rate},
};
use mizuno_core::{
    Calendar, Decimal, Instrument, Interval, Side, Slot, Timestamp, TradeDate,
    adjust::{self, Adjust, Adjustment, Anchor, Effect, Factors, Judged},
    derived::{self, Payout},
};
use mizuno_desk::{DeskError, Setup};
use num_rational::BigRational;

/// The actions of one instrument at work.
pub struct Adjusted {
    /// Each action, with what it does.
    pub actions: Vec<(KnownAction, Judged)>,
    /// The factors that they make together.
    pub factors: Factors,
    /// What is told of each trade date on which some count.
    pub days: Vec<(TradeDate, String)>,
    /// Whether they are those of rolls of a chain, and of no actions.
    pub by_rolls: bool,
    /// Whether the closes come from bars of a minute, since no daily ones are held.
    pub by_minutes: bool,
}

/// Which prices are to be adjusted, and how.
#[derive(Clone, Copy)]
pub(crate) struct Asked {
    /// The interval of the bars.
    pub interval: Interval,
    /// For which actions, and where they are as traded.
    pub adjustment: Adjustment,
    /// The trade dates of the oldest and the newest bar of the series, to which anchors refer.
    pub ends: (TradeDate, TradeDate),
}

impl Asked {
    /// Daily prices, for all actions until the newest session that had closed.
    pub(crate) fn of_all(calendar: &Calendar, as_of: Timestamp) -> Asked {
        let ends = (TradeDate(i32::MIN), calendar.last_closed(as_of).map_or(TradeDate(0), |s| s.date));
        Asked { interval: Interval::Daily, adjustment: Adjustment { which: Adjust::All, anchor: Anchor::Newest }, ends }
    }
}

impl Asked {
    /// The same whatever the session: a source may take out an action in the morning of its ex-date.
    pub(crate) fn of_every() -> Asked {
        let ends = (TradeDate(i32::MIN), TradeDate(i32::MAX));
        Asked { interval: Interval::Daily, adjustment: Adjustment { which: Adjust::All, anchor: Anchor::Newest }, ends }
    }
}

impl Adjusted {
    /// By the rolls of a chain: what the prices of each leg are multiplied by, each up to a slot.
    pub(crate) fn by_rolls(legs: Vec<(Slot, BigRational)>) -> Adjusted {
        Adjusted { actions: vec![], factors: Factors::of_prices(legs), days: vec![], by_rolls: true, by_minutes: false }
    }
}

impl Research {
    /// What the actions of an instrument do to its prices.
    ///
    /// # Errors
    /// When the store cannot be read, or the venue is no longer configured.
    pub(crate) async fn adjusted(
        &self,
        setup: &Setup,
        instrument: &Instrument,
        asked: Asked,
        known: &Known,
        (closes, worth): (Option<&Closes>, &Worth),
    ) -> Result<Adjusted, DeskError> {
        let all = known.actions.of(&instrument.symbol);
        let wanted = asked.adjustment.which == Adjust::All && all.iter().any(|k| !k.action.is_of_shares());
        let closes = closes.filter(|_| wanted);
        let read = match closes {
            Some(closes) => self.read_closes(setup, closes, setup.calendar_of(instrument)?, known).await?,
            None => vec![],
        };
        let by_minutes = closes.is_some_and(|c| c.interval != Interval::Daily);
        Ok(Adjusted { by_minutes, ..self.adjusted_by(setup, instrument, asked, known, (&read, worth)).await? })
    }

    /// The same by closes that were read already.
    pub(crate) async fn adjusted_by(
        &self,
        setup: &Setup,
        instrument: &Instrument,
        asked: Asked,
        known: &Known,
        (read, worth): (&[(TradeDate, Decimal)], &Worth),
    ) -> Result<Adjusted, DeskError> {
        let Asked { interval, adjustment, ends: (first, last) } = asked;
        let calendar = setup.calendar_of(instrument)?;
        let all = known.actions.of(&instrument.symbol);
        let until = match adjustment.anchor {
            Anchor::Date(date) => date.min(last),
            Anchor::Newest | Anchor::Oldest => last,
        };
        let close = |before: TradeDate| last_before(read, before);
        let actions = all.iter().map(|k| k.action.clone()).collect();
        let rates = self.read_rates(setup, worth, known).await?;
        let (session, rate) = (|date| calendar.session_from(date), |currency: &str, date| rates.before(currency, date));
        let mut judged = adjust::judge(actions, adjustment.which, until, &instrument.currency, session, close, rate);
        for judged in judged.iter_mut().filter(|judged| judged.rate.is_none()) {
            let rate = judged.action.foreign(&instrument.currency).map(|currency| (currency, instrument.currency.as_str()));
            if let (Effect::Not(why), Some(rate)) = (&mut judged.effect, rate) {
                why_no_rate(setup, rate, judged.counts_on).iter().for_each(|more| *why = format!("{why}; {more}"));
            }
        }
        // Where bars are held behind it, trading went on.
        let traded_until = read.last().map(|(date, _)| *date);
        for delisting in judged.iter_mut().filter(|j| j.action.is_a_delisting() && traded_until.is_some_and(|last| last >= j.counts_on)) {
            delisting.effect = Effect::Not("bars are held of its day or later".to_owned());
        }
        let start = |date: TradeDate| start_of(calendar, interval, date);
        let anchor = (adjustment.anchor == Anchor::Oldest).then(|| start(first));
        let factors = Factors::of(&judged, start, anchor);
        // Each judged action beside what is known of it: the two are in another order where an ex-date has no session.
        let mut rest: Vec<&KnownAction> = all.iter().collect();
        let mut actions = vec![];
        for judged in judged {
            if let Some(at) = rest.iter().position(|k| k.action == judged.action) {
                actions.push((rest.remove(at).clone(), judged));
            }
        }
        Ok(Adjusted { days: days(&actions), actions, factors, by_rolls: false, by_minutes: false })
    }

    /// What a holder is paid and how many shares one becomes, by the slots of an interval; of actions judged for all kinds.
    pub(crate) fn payouts(
        &self,
        setup: &Setup,
        instrument: &Instrument,
        interval: Interval,
        judged: &Adjusted,
    ) -> Result<Vec<(Slot, Payout)>, DeskError> {
        let calendar = setup.calendar_of(instrument)?;
        let all: Vec<Judged> = judged.actions.iter().map(|(_, judged)| judged.clone()).collect();
        Ok(derived::payouts(&all, &instrument.currency, |date| start_of(calendar, interval, date)))
    }

    /// The actions of an instrument and what each does to daily prices, as of an instant; with what lists say otherwise.
    ///
    /// # Errors
    /// When the instrument is not known, or the store cannot be read.
    pub async fn actions_of(&self, setup: &Setup, symbol: &str, as_of: Timestamp) -> Result<(Adjusted, Vec<String>), DeskError> {
        let known = self.known(setup, as_of).await?;
        let instrument = setup.instrument(symbol)?;
        let closes = self.closes(setup, instrument, &[Side::Trade], &known).await?;
        let worth = self.worth(setup, instrument, &known).await?;
        let asked = Asked::of_all(setup.calendar_of(instrument)?, as_of);
        let adjusted = self.adjusted(setup, instrument, asked, &known, (closes.as_ref(), &worth)).await?;
        let mine = |sentence: &&String| sentence.starts_with(&format!("{}: ", instrument.symbol));
        let told = known.actions.conflicts.iter().chain(&known.actions.unread).filter(mine).cloned().collect();
        Ok((adjusted, told))
    }
}

/// The first slot of a trade date.
fn start_of(calendar: &Calendar, interval: Interval, date: TradeDate) -> Slot {
    match interval {
        Interval::Daily => Slot::on(date),
        interval => calendar.span_of_dates(interval, date..TradeDate(i32::MAX)).start,
    }
}

/// The texts of the actions of each trade date, one after another.
fn days(actions: &[(KnownAction, Judged)]) -> Vec<(TradeDate, String)> {
    let text = |judged: &Judged| match &judged.effect {
        Effect::Not(_) => format!("{} (not applied)", judged.action),
        _ => judged.action.to_string(),
    };
    let day = |all: &[(KnownAction, Judged)]| (all[0].1.counts_on, all.iter().map(|(_, j)| text(j)).collect::<Vec<_>>().join("; "));
    actions.chunk_by(|(_, a), (_, b)| a.counts_on == b.counts_on).map(day).collect()
}
