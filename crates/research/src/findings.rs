//! The checks at work: what they find in each series, worked out anew when its bars have changed.

use crate::{
    Research,
    actions::{Actions, Splits},
    rulings::Rulings,
};
use mizuno_config::profile::{Adjusted, Offer};
use mizuno_core::{
    Action, Aligned, Decimal, Instrument, Interval, SeriesKey, Side, Slot, Span, Spans, Timestamp, TradeDate,
    adjust::Adjust,
    finding::{self, Check, Finding, Rules, Split, Subject},
};
use mizuno_desk::{DeskError, Setup, lately::OfSeries};
use mizuno_store::series::{SeriesList, SeriesRow};
use std::sync::Arc;

/// Sessions of bars shorter than a day that are looked at, up to the newest.
const SESSIONS: usize = 40;

/// Instants of which it is remembered what findings are judged by: changes look at two at once.
pub(crate) const REMEMBERED: usize = 4;

/// What was found in each series, until its bars, or what they are held against, change.
pub(crate) type Examined = OfSeries<Standard, Vec<Finding>>;

/// What findings follow from, as far as it can change.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Standard {
    revision: i64,
    of_minutes: Option<i64>,
    rules: Rules,
    splits: Option<Vec<Split>>,
    refused: Vec<Slot>,
    first: Slot,
    /// What the configuration says of the instrument, its venue and its source.
    tick: Option<Decimal>,
    venue: u64,
    adjusted: Adjusted,
    lot: u32,
    /// What its adjusted prices are held against: the revisions of series that are told as traded, and the actions.
    traded: Vec<i64>,
    actions: Vec<Action>,
}

/// What every series' findings are judged by, read once for a question about many.
pub struct Known {
    /// The corporate actions.
    pub actions: Arc<Actions>,
    /// Those of them that divide shares.
    pub splits: Arc<Splits>,
    /// The instant.
    pub as_of: Timestamp,
    /// What has been ruled of bars.
    rulings: Arc<Rulings>,
    /// The series there are.
    series: Arc<SeriesList>,
}

/// A finding, and whether a person accepted it.
#[derive(Clone, Debug)]
pub struct Judged {
    /// What was found.
    pub finding: Finding,
    /// Whether a person accepted it.
    pub accepted: bool,
}

impl Research {
    /// The splits that were known at an instant.
    pub async fn splits(&self, setup: &Setup, as_of: Timestamp) -> Result<Arc<Splits>, DeskError> {
        Ok(self.known(setup, as_of).await?.splits.clone())
    }

    /// What findings are judged by, as of an instant.
    pub async fn known(&self, setup: &Setup, as_of: Timestamp) -> Result<Arc<Known>, DeskError> {
        let key = (setup.serial, as_of);
        self.known.recall_or(key, self.read_known(setup, as_of)).await
    }

    pub(crate) async fn read_known(&self, setup: &Setup, as_of: Timestamp) -> Result<Known, DeskError> {
        let actions = self.known_actions(setup, as_of).await?;
        Ok(Known {
            splits: actions.splits.clone(),
            actions,
            as_of,
            rulings: self.rulings(as_of).await?,
            series: self.desk.store.series().await?,
        })
    }

    /// What the checks find in a series.
    pub async fn findings(&self, setup: &Setup, row: &SeriesRow, known: &Known) -> Result<Vec<Judged>, DeskError> {
        Ok(known.judge(row.id, &self.found(setup, row, known).await?))
    }

    /// The bars of a series that findings cast doubt on, but for those a person accepted.
    pub(crate) async fn doubts(&self, setup: &Setup, row: &SeriesRow, known: &Known) -> Result<Spans, DeskError> {
        let found = self.found(setup, row, known).await?;
        Ok(finding::doubted(found.iter().filter(|finding| !known.rulings.has_accepted(row.id, finding))))
    }

    async fn found(&self, setup: &Setup, row: &SeriesRow, known: &Known) -> Result<Arc<Vec<Finding>>, DeskError> {
        let Some((standard, minutes)) = known.standard(setup, row)? else { return Ok(Arc::default()) };
        let work = self.examine(setup, row, &standard, minutes, known);
        match standard.is_of_now(known) {
            true => self.examined.recall_or(row.id, &standard, work).await,
            false => Ok(Arc::new(work.await?)),
        }
    }

    /// The same where it need not be worked out; `None` where it must be.
    pub fn findings_at_hand(&self, setup: &Setup, row: &SeriesRow, known: &Known) -> Result<Option<Vec<Judged>>, DeskError> {
        let Some((standard, _)) = known.standard(setup, row)? else { return Ok(Some(vec![])) };
        let found = self.examined.recall(row.id, &standard).filter(|_| standard.is_of_now(known));
        Ok(found.map(|found| known.judge(row.id, &found)))
    }

    /// What was found in a series when it was last looked at.
    pub(crate) fn last_found(&self, series: i64) -> Vec<Finding> {
        self.examined.last(series).map(|found| found.to_vec()).unwrap_or_default()
    }

    async fn examine(
        &self,
        setup: &Setup,
        row: &SeriesRow,
        standard: &Standard,
        minutes: Option<&SeriesRow>,
        known: &Known,
    ) -> Result<Vec<Finding>, DeskError> {
        let as_of = known.as_of;
        let (Some(offer), Some(instrument)) = (offer_of(setup, &row.key), setup.known(&row.key.symbol).cloned()) else { return Ok(vec![]) };
        let calendar = setup.calendar_of(&instrument)?.clone();
        let bars = Aligned::of(&self.desk.store.bars(row, standard.first..Slot(i64::MAX), as_of).await?);
        let minutes = match minutes {
            Some(minutes) => {
                // Before the last split, daily bars adjusted for it stand on another basis than minutes as traded.
                let split = standard.splits.iter().flatten().last().filter(|_| offer.adjusted != Adjusted::No);
                let since =
                    split.map_or(Slot(i64::MIN), |s| calendar.span_of_dates(Interval::MINUTE, s.ex_date..TradeDate(i32::MAX)).start);
                let span = recent(&calendar, as_of);
                Some(Aligned::of(&self.desk.store.bars(minutes, span.start.max(since)..span.end, as_of).await?))
            }
            None => None,
        };
        let steps = match standard.traded.is_empty() || standard.rules.of(Check::UnexplainedStep).is_none() {
            true => vec![],
            false => self.unexplained(setup, row, known).await?,
        };
        let interval = row.key.interval;
        // Adjusted prices and mids need not be whole ticks, and a split must not show in what is adjusted for it.
        let on_grid = offer.adjusted == Adjusted::No && row.key.side != Side::Mid;
        let lot = i64::from(offer.volume_unit);
        let (rules, refused) = (standard.rules.clone(), standard.refused.clone());
        let (splits, splits_known) = match (&standard.splits, offer.adjusted) {
            (Some(splits), Adjusted::No) => (splits.clone(), true),
            // Nothing known may show.
            (Some(_), _) => (vec![], true),
            (None, _) => (vec![], false),
        };
        let look = move || {
            let subject = Subject {
                interval,
                calendar: &calendar,
                bars: &bars,
                tick: instrument.tick_size.filter(|_| on_grid),
                lot,
                splits: &splits,
                splits_known,
                refused: &refused,
                minutes: minutes.as_ref(),
                steps: &steps,
            };
            finding::find(&subject, &rules)
        };
        // On the threads of answers: what they free there, they use again.
        self.desk.hands.spawn(async move { look() }).await.map_err(|e| DeskError::fault("looking for doubts", e))
    }
}

impl Standard {
    /// What was known then is what is known now, as long as nothing has been learned since.
    fn is_of_now(&self, known: &Known) -> bool {
        self.traded.iter().copied().chain(self.of_minutes).fold(self.revision, i64::max) <= known.as_of.0
    }
}

impl Known {
    /// What the findings of a series follow from, and the minutes it is held against; `None` when no source is said to have it.
    fn standard(&self, setup: &Setup, row: &SeriesRow) -> Result<Option<(Standard, Option<&SeriesRow>)>, DeskError> {
        let (Some(offer), Some(instrument)) = (offer_of(setup, &row.key), setup.known(&row.key.symbol)) else { return Ok(None) };
        let minutes = self.minutes_of(setup, &row.key, offer);
        let first = self.first(setup, instrument, row.key.interval)?;
        // What takes actions out of its prices is held against the daily series that are told as traded.
        let is_traded = |s: &&SeriesRow| {
            (s.key.interval, s.key.side) == (Interval::Daily, Side::Trade)
                && offer_of(setup, &s.key).is_some_and(|offer| offer.adjusted == Adjusted::No)
        };
        let traded: Vec<i64> = match takes_out(setup, &row.key) {
            Some(_) => self.series.of_symbol(&row.key.symbol).filter(is_traded).map(|s| s.revision).collect(),
            None => vec![],
        };
        let actions = self.actions.of(&row.key.symbol).iter().filter(|_| !traded.is_empty());
        let standard = Standard {
            revision: row.revision,
            of_minutes: minutes.map(|m| m.revision),
            rules: setup.config.checks.rules(instrument),
            splits: self.splits.of(setup, &row.key.symbol).map(<[Split]>::to_vec),
            refused: self.rulings.refused(row.id).to_vec(),
            first,
            tick: instrument.tick_size,
            venue: setup.descriptions.get(&instrument.venue).copied().unwrap_or_default(),
            adjusted: offer.adjusted,
            lot: offer.volume_unit,
            actions: actions.map(|k| k.action.clone()).collect(),
            traded,
        };
        Ok(Some((standard, minutes)))
    }

    /// The first slot that is looked at: counted from the instant asked about, so that asking again for it gives the same.
    fn first(&self, setup: &Setup, instrument: &Instrument, interval: Interval) -> Result<Slot, DeskError> {
        Ok(match interval {
            Interval::Intraday { .. } => recent(setup.calendar_of(instrument)?, self.as_of).start,
            Interval::Daily => Slot(i64::MIN),
        })
    }

    /// Whether nothing has been learned of a series, or of the minutes it is held against, since the instant.
    pub(crate) fn is_still_so(&self, setup: &Setup, row: &SeriesRow) -> Result<bool, DeskError> {
        Ok(self.standard(setup, row)?.map_or(row.revision <= self.as_of.0, |(standard, _)| standard.is_of_now(self)))
    }

    /// What the doubts of a series follow from, besides its own bars, in numbers: its minutes, or the instant that was named, splits,
    /// stamps that were refused, and what was accepted. Limits of checks are of the configuration.
    pub(crate) fn standard_in_numbers(
        &self,
        setup: &Setup,
        row: &SeriesRow,
        named: Option<Timestamp>,
        put: &mut impl FnMut(&[i64]),
    ) -> Result<(), DeskError> {
        let (Some(offer), Some(instrument)) = (offer_of(setup, &row.key), setup.known(&row.key.symbol)) else { return Ok(()) };
        let minutes = self.minutes_of(setup, &row.key, offer).map_or(-1, |minutes| named.map_or(minutes.revision, |at| at.0));
        put(&[minutes, self.first(setup, instrument, row.key.interval)?.0]);
        self.splits.of(setup, &row.key.symbol).into_iter().flatten().for_each(|s| put(&[i64::from(s.ex_date.0), s.new, s.old]));
        self.rulings.refused(row.id).iter().for_each(|slot| put(&[slot.0]));
        for (check, span) in self.rulings.accepted(row.id) {
            let check = Check::ALL.iter().position(|c| c.word() == check).map_or(-1, |at| at as i64);
            put(&[check, span.start.0, span.end.0]);
        }
        Ok(())
    }

    fn judge(&self, series: i64, found: &[Finding]) -> Vec<Judged> {
        found.iter().map(|f| Judged { accepted: self.rulings.has_accepted(series, f), finding: f.clone() }).collect()
    }

    /// The minutes that a daily series can be held against: of the same source and side, on the same basis.
    fn minutes_of(&self, setup: &Setup, key: &SeriesKey, offer: &Offer) -> Option<&SeriesRow> {
        let minute = SeriesKey { interval: Interval::MINUTE, ..key.clone() };
        // Since the last split, prices adjusted for splits are as traded.
        let same_basis = offer_of(setup, &minute).is_some_and(|m| m.adjusted == offer.adjusted || offer.adjusted == Adjusted::Splits);
        if key.interval == Interval::Daily && same_basis { self.series.find(&minute) } else { None }
    }
}

/// What a series' source says of such series.
pub fn offer_of<'s>(setup: &'s Setup, key: &SeriesKey) -> Option<&'s Offer> {
    let venue = &setup.known(&key.symbol)?.venue;
    setup.config.sources.get(&key.source)?.offer(venue, key.interval, key.side)
}

/// What a source takes out of its daily prices; `None` where it tells them as traded, or no longer at all.
pub(crate) fn takes_out(setup: &Setup, key: &SeriesKey) -> Option<Adjust> {
    match offer_of(setup, key).filter(|_| key.interval == Interval::Daily && key.side == Side::Trade)?.adjusted {
        Adjusted::Splits => Some(Adjust::Splits),
        Adjusted::SplitsAndDividends => Some(Adjust::All),
        Adjusted::No => None,
    }
}

/// The newest sessions, of which daily bars are held against their minutes.
fn recent(calendar: &mizuno_core::Calendar, now: Timestamp) -> Span {
    let sessions = calendar.sessions();
    let closed = calendar.closed_by(now);
    let first = sessions.get(closed.saturating_sub(SESSIONS)).map_or(Slot(i64::MIN), |s| Slot::at(s.open()));
    first..Slot(i64::MAX)
}
