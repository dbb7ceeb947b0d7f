//! How far the actions that are known account for adjusted prices.
//!
//! Adjusted prices are brought back by the actions, and held against the closes of sources that tell them as traded, where there are any: as far
//! back as the actions account for its prices, a source has a part in golden series, and before that it has none.

use crate::{
    Research,
    adjusting::Asked,
    agreeing::{agreed_with, newest},
    basis::{Accounted, basis_of},
    closes::Closes,
    findings::{Known, takes_out},
    golden::Lineup,
    worth::Worth,
};
use futures_util::future::BoxFuture;
use jiff::tz::TimeZone;
use mizuno_core::{
    Decimal, SeriesKey, Side, Slot, Timestamp, TradeDate, Versions,
    adjust::{Adjust, Effect},
    basis::{self, TakenOut},
};
use mizuno_desk::{DeskError, Setup};
use mizuno_store::series::SeriesRow;
use num_rational::BigRational;
use num_traits::One;
use std::sync::Arc;

/// What adjusted prices are held against.
struct Against {
    /// The closes of sources that tell them as traded; `None` where none does.
    closes: Option<Closes>,
    worth: Worth,
}

/// What the accounting of a series follows from: the serial of the setup, its revision or the instant, and the state of what it is held against.
pub(crate) type FollowsFrom = (u64, i64, Vec<u8>);

impl Against {
    fn state(&self, setup: &Setup, symbol: &str, known: &Known, named: Option<Timestamp>) -> Result<Vec<u8>, DeskError> {
        let actions = known.actions.of(symbol).iter().map(|k| format!("{} {};", k.action.ex_date, k.action));
        let mut out = actions.collect::<String>().into_bytes();
        if let Some(closes) = &self.closes {
            out.extend(closes.state(setup, known, named)?);
        }
        out.extend(self.worth.state(setup, known, named)?);
        Ok(out)
    }

    /// Whether nothing has been learned of it since the instant.
    fn is_of_now(&self, setup: &Setup, known: &Known) -> Result<bool, DeskError> {
        let closes = self.closes.as_ref().map_or(Ok(true), |closes| closes.are_of_now(setup, known))?;
        Ok(closes && self.worth.is_of_now(setup, known)?)
    }
}

impl Research {
    /// What the adjusted prices of a series are held against; no block is opened for it. `None` where they are adjusted for dividends, and
    /// nobody tells what was paid.
    async fn against(&self, setup: &Setup, (key, which): (&SeriesKey, Adjust), known: &Known) -> Result<Option<Against>, DeskError> {
        let instrument = setup.instrument(&key.symbol)?;
        let closes = match key.side {
            Side::Trade => self.told_as_traded(setup, instrument, known).await?,
            Side::Bid | Side::Ask | Side::Mid => None,
        };
        let worth = match which {
            Adjust::All => self.worth(setup, instrument, known).await?,
            Adjust::Splits => Worth::default(),
        };
        let is_enough = closes.is_some() || which == Adjust::Splits;
        Ok(is_enough.then_some(Against { closes, worth }))
    }

    /// Looks how far the actions account for the adjusted parts of a line-up. It is in a box, since the closes that they are held against are a
    /// golden series, too.
    pub(crate) fn account<'r>(
        &'r self,
        setup: &'r Setup,
        lineup: &'r mut Lineup,
        known: &'r Known,
    ) -> BoxFuture<'r, Result<(), DeskError>> {
        Box::pin(async move {
            for part in lineup.parts.iter_mut().filter(|part| part.basis.accounted().is_none()) {
                if let Some(found) = self.accounted_of(setup, &part.row, known).await? {
                    part.basis.set(found);
                }
            }
            Ok(())
        })
    }

    /// How far the actions account for the prices of a series: nowhere, where nobody can say. `None` where they are as traded.
    pub(crate) async fn accounted_of(&self, setup: &Setup, row: &SeriesRow, known: &Known) -> Result<Option<Arc<Accounted>>, DeskError> {
        // What has no part in golden series is held against the others all the same.
        let which = basis_of(setup, known, &row.key).map_or(None, |basis| basis.which());
        let Some(which) = which.or_else(|| takes_out(setup, &row.key)) else { return Ok(None) };
        match self.against(setup, (&row.key, which), known).await? {
            Some(against) => Ok(Some(self.accounted(setup, row, (which, &against), known).await?)),
            None => Ok(Some(Arc::new(Accounted::nowhere()))),
        }
    }

    /// What changes when a price of a series that is adjusted may, once it is brought back, as bytes; `None` where nobody tells what was paid.
    /// No block is opened for it.
    pub(crate) async fn state_of_basis(
        &self,
        setup: &Setup,
        asked: (&SeriesKey, Adjust),
        known: &Known,
    ) -> Result<Option<Vec<u8>>, DeskError> {
        let against = self.against(setup, asked, known).await?;
        against.map(|against| against.state(setup, &asked.0.symbol, known, None)).transpose()
    }

    async fn accounted(
        &self,
        setup: &Setup,
        row: &SeriesRow,
        (which, against): (Adjust, &Against),
        known: &Known,
    ) -> Result<Arc<Accounted>, DeskError> {
        let is_of_now = row.revision <= known.as_of.0 && against.is_of_now(setup, known)?;
        let named = (!is_of_now).then_some(known.as_of);
        // What is told of the configuration stands in its serial, and the rest in revisions and actions; as of one instant it is the same for ever.
        let state = against.state(setup, &row.key.symbol, known, named)?;
        let follows = (setup.serial, named.map_or(row.revision, |at| at.0), state);
        let work = self.work_out(setup, row, (which, against), known);
        self.accounted.recall_or(row.id, &follows, work).await
    }

    async fn work_out(
        &self,
        setup: &Setup,
        row: &SeriesRow,
        (which, against): (Adjust, &Against),
        known: &Known,
    ) -> Result<Accounted, DeskError> {
        let instrument = setup.instrument(&row.key.symbol)?;
        let calendar = setup.calendar_of(instrument)?;
        let traded = match &against.closes {
            Some(closes) => self.read_closes(setup, closes, calendar, known).await?,
            None => vec![],
        };
        let adjusted = self.adjusted_by(setup, instrument, Asked::of_every(), known, (&traded, &against.worth)).await?;
        let mut taken_out: Vec<TakenOut> = vec![];
        for (_, judged) in adjusted.actions.iter().filter(|(_, judged)| which == Adjust::All || judged.action.is_of_shares()) {
            if let Effect::Applied { price, volume } = &judged.effect {
                taken_out.push(TakenOut { ex_date: judged.counts_on, prices: price.clone(), volumes: volume.clone() });
            }
        }
        let zone = setup.config.venues.get(&instrument.venue).map_or(TimeZone::UTC, |v| v.zone.clone());
        let versions = self.desk.store.versions(row, Slot(i64::MIN)..Slot(i64::MAX), known.as_of).await?;
        let (agreement, says) = agreed_with(row, instrument, &zone, (&versions, &traded), (&adjusted, which));
        let from = match which {
            // A split is so large that a step shows it; what else differs from day to day is no matter of the basis.
            Adjust::Splits => agreement.steps.iter().rfind(|step| step.until.is_none()).map_or(TradeDate(i32::MIN), |step| step.on),
            Adjust::All => {
                let from = basis::accounted_from(&fits(&versions, &traded, &taken_out, &zone)).unwrap_or(TradeDate(i32::MAX));
                let is_all = versions.rows.first().is_none_or(|oldest| oldest.bar.slot.date() >= from);
                if is_all { TradeDate(i32::MIN) } else { from }
            }
        };
        let made = match instrument.tick_size.filter(|_| !taken_out.is_empty()) {
            Some(tick) => basis::as_traded(&versions, known.as_of, &taken_out, &zone, tick).unclear,
            None => vec![],
        };
        let start = if from == TradeDate(i32::MIN) { Slot(i64::MIN) } else { Slot::on(from) };
        let unclear = made.into_iter().filter(|slot| *slot >= start).map(|slot| row.key.interval.span_of(slot));
        let moved = agreement.steps.iter().filter_map(|step| Some(Slot::on(step.on)..Slot::on(step.until?)));
        let before = (start > Slot(i64::MIN)).then_some(Slot(i64::MIN)..start);
        let unclear = before.into_iter().chain(moved).chain(unclear).collect();
        Ok(Accounted { taken_out, from, unclear, agreement, says })
    }
}

/// Of each session that others tell as traded, whether a source's newest close is told of theirs.
fn fits(versions: &Versions, traded: &[(TradeDate, Decimal)], taken_out: &[TakenOut], zone: &TimeZone) -> Vec<(TradeDate, bool)> {
    let (mut factors, mut out, one) = (basis::Factors::default(), vec![], BigRational::one());
    for version in newest(versions) {
        let date = version.bar.slot.date();
        let Ok(at) = traded.binary_search_by_key(&date, |(date, _)| *date) else { continue };
        let factor = factors.of(taken_out, date, version.recorded_at.date_in(zone)).map_or(&one, |(prices, _)| prices);
        out.push((date, basis::is_told_of(version.bar.close(), traded[at].1, factor)));
    }
    out
}
