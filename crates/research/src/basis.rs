//! On which basis a source tells its prices, and how they come to be as traded.
//!
//! Adjusted prices are brought back by the actions that are known here, and held against the closes of sources that tell them as traded, where
//! there are any: as far back as the actions account for its prices, a source has a part in golden series, and before that it has none.

use crate::{
    Research,
    adjusting::Asked,
    agreeing::agreed_with,
    closes::Closes,
    findings::{Known, offer_of, takes_out},
    golden::Lineup,
    worth::Worth,
};
use futures_util::future::BoxFuture;
use jiff::tz::TimeZone;
use mizuno_config::profile;
use mizuno_core::{
    Decimal, Interval, SeriesKey, Side, Slot, Spans, Timestamp, TradeDate, Versions,
    adjust::{Adjust, Effect},
    agreement::Agreement,
    basis::{self, TakenOut},
};
use mizuno_desk::{DeskError, Setup};
use mizuno_store::series::SeriesRow;
use num_rational::BigRational;
use num_traits::One;
use std::sync::Arc;

/// Why a source has no part that adjusts for every action, where no other tells what was paid.
pub(crate) const NOBODY_TELLS: &str =
    "its prices are adjusted for dividends, and no other source that is ranked tells daily prices as traded to hold them against";

/// How the prices of a series come to be as traded.
#[derive(Clone)]
pub(crate) enum Basis {
    /// They are told so.
    AsTold,
    /// They are adjusted; `None` until it is known what they are held against.
    Adjusted(Adjust, Option<Box<Against>>),
}

/// What adjusted prices are held against.
#[derive(Clone)]
pub(crate) struct Against {
    /// The closes of sources that tell them as traded; `None` where none does.
    closes: Option<Closes>,
    worth: Worth,
    /// What came of it; `None` until somebody looked.
    accounted: Option<Arc<Accounted>>,
}

/// What the accounting of a series follows from: the serial of the setup, its revision or the instant, and the state of what it is held against.
pub(crate) type FollowsFrom = (u64, i64, Vec<u8>);

/// How far the actions that are known account for the adjusted prices of a source.
pub(crate) struct Accounted {
    /// What the source takes out, in the order of the sessions.
    pub taken_out: Vec<TakenOut>,
    /// From this date on they do; `TradeDate(i32::MIN)` where they do all through, and `TradeDate(i32::MAX)` where they do not at all.
    pub from: TradeDate,
    /// The slots in which the source has no part: those before that date, and those of bars that nobody can bring back for certain.
    pub unclear: Spans,
    /// How its closes agree with those that were traded, and each step that no action accounts for in a sentence.
    pub agreement: Agreement,
    /// The sentences, in the order of the steps.
    pub says: Vec<String>,
}

impl Basis {
    /// What was found; `None` of prices that are told as traded, and until somebody looked.
    pub(crate) fn accounted(&self) -> Option<&Arc<Accounted>> {
        if let Basis::Adjusted(_, Some(against)) = self { against.accounted.as_ref() } else { None }
    }

    /// Says what was found.
    pub(crate) fn set(&mut self, found: Arc<Accounted>) {
        if let Basis::Adjusted(_, Some(against)) = self {
            against.accounted = Some(found);
        }
    }

    /// What is taken out of its prices, so far as that is known.
    pub(crate) fn taken_out(&self) -> &[TakenOut] {
        self.accounted().map_or(&[], |accounted| &accounted.taken_out)
    }

    /// Whether its bars may be others than it tells, or none.
    pub(crate) fn brings_back(&self) -> bool {
        let changes = |accounted: &Arc<Accounted>| !accounted.taken_out.is_empty() || accounted.from != TradeDate(i32::MIN);
        !matches!(self, Basis::AsTold) && self.accounted().is_none_or(changes)
    }

    /// In words.
    pub(crate) fn in_words(&self) -> String {
        let Basis::Adjusted(which, _) = self else { return "as traded".to_owned() };
        let (what, by, accounts) = match which {
            Adjust::All => ("splits and dividends", "the actions that are known", "do not account"),
            Adjust::Splits => ("splits", "the list of splits", "does not account"),
        };
        match self.accounted().map(Arc::as_ref) {
            Some(Accounted { from, .. }) if *from != TradeDate(i32::MIN) => {
                format!("adjusted for {what}, brought back from {from} on by {by}, which {accounts} for its prices before")
            }
            Some(accounted) if accounted.taken_out.is_empty() => format!("adjusted for {what}, of which there are none"),
            _ => format!("adjusted for {what}, brought back by {by}"),
        }
    }

    /// What changes when a price that is brought back may, as bytes.
    pub(crate) fn state(&self, setup: &Setup, symbol: &str, known: &Known, named: Option<Timestamp>) -> Result<Vec<u8>, DeskError> {
        match self {
            Basis::Adjusted(_, Some(against)) => against.state(setup, symbol, known, named),
            Basis::AsTold | Basis::Adjusted(_, None) => Ok(vec![]),
        }
    }
}

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

/// On which basis a series has a part in the golden one of its instrument, or why it has none. There is no other answer to this: files,
/// line-ups and gaps all ask here.
pub(crate) fn takes_part(setup: &Setup, known: &Known, key: &SeriesKey) -> Result<Basis, String> {
    let instrument = setup.known(&key.symbol).ok_or("its instrument is not known any more")?;
    let ranking = setup.config.ranking.of(instrument, key.interval, key.side);
    let never = ranking.iter().all(|r| r.sources.as_ref().is_some_and(|all| !all.contains(&key.source)));
    match basis_of(setup, known, key) {
        _ if never && offer_of(setup, key).is_some() => Err("ranking.toml does not rank it".to_owned()),
        basis => basis,
    }
}

/// On which basis a series tells its prices; or why they cannot be brought back to those that were traded.
pub(crate) fn basis_of(setup: &Setup, known: &Known, key: &SeriesKey) -> Result<Basis, String> {
    let instrument = setup.known(&key.symbol).ok_or("its instrument is not known any more")?;
    let adjusted = offer_of(setup, key).ok_or("its profile no longer has this series")?.adjusted;
    let without_tick =
        |what: &str| format!("its prices are adjusted for {what}, and without a tick_size of the instrument it is not clear what was paid");
    match adjusted {
        profile::Adjusted::No => Ok(Basis::AsTold),
        profile::Adjusted::Splits => match known.splits.of(setup, &key.symbol).filter(|_| key.interval == Interval::Daily) {
            None => Err(format!("its prices are adjusted for splits, and no list of splits of {} is collected", instrument.venue)),
            Some(splits) if !splits.is_empty() && instrument.tick_size.is_none() => Err(without_tick("splits")),
            Some(_) => Ok(Basis::Adjusted(Adjust::Splits, None)),
        },
        profile::Adjusted::SplitsAndDividends if key.interval != Interval::Daily || key.side != Side::Trade => {
            Err("its prices are adjusted for dividends, and only daily bars of trades can be brought back to what was paid".to_owned())
        }
        profile::Adjusted::SplitsAndDividends if instrument.tick_size.is_none() => Err(without_tick("dividends")),
        profile::Adjusted::SplitsAndDividends => Ok(Basis::Adjusted(Adjust::All, None)),
    }
}

impl Research {
    /// What the adjusted prices of a series are held against; no block is opened for it. `None` where they are adjusted for dividends, and
    /// nobody tells what was paid.
    pub(crate) async fn against(
        &self,
        setup: &Setup,
        (key, which): (&SeriesKey, Adjust),
        known: &Known,
    ) -> Result<Option<Box<Against>>, DeskError> {
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
        Ok(is_enough.then(|| Box::new(Against { closes, worth, accounted: None })))
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
            for part in &mut lineup.parts {
                let Basis::Adjusted(which, against) = &mut part.basis else { continue };
                if against.is_none() {
                    *against = self.against(setup, (&part.row.key, *which), known).await?;
                }
                if let Some(against) = against.as_mut().filter(|against| against.accounted.is_none()) {
                    against.accounted = Some(self.accounted(setup, &part.row, (*which, against), known).await?);
                }
            }
            Ok(())
        })
    }

    /// How far the actions account for the prices of a series; `None` where they are as traded, or nobody can say.
    pub(crate) async fn accounted_of(&self, setup: &Setup, row: &SeriesRow, known: &Known) -> Result<Option<Arc<Accounted>>, DeskError> {
        // What has no part in golden series is held against the others all the same.
        let which = match basis_of(setup, known, &row.key) {
            Ok(Basis::Adjusted(which, _)) => Some(which),
            Ok(Basis::AsTold) | Err(_) => takes_out(setup, &row.key),
        };
        let Some(which) = which else { return Ok(None) };
        match self.against(setup, (&row.key, which), known).await? {
            Some(against) => Ok(Some(self.accounted(setup, row, (which, &against), known).await?)),
            None => Ok(None),
        }
    }

    async fn accounted(
        &self,
        setup: &Setup,
        row: &SeriesRow,
        (which, against): (Adjust, &Against),
        known: &Known,
    ) -> Result<Arc<Accounted>, DeskError> {
        let instrument = setup.instrument(&row.key.symbol)?;
        let calendar = setup.calendar_of(instrument)?;
        let is_of_now = row.revision <= known.as_of.0 && against.is_of_now(setup, known)?;
        let named = (!is_of_now).then_some(known.as_of);
        // What is told of the configuration stands in its serial, and the rest in revisions and actions; as of one instant it is the same for ever.
        let state = against.state(setup, &row.key.symbol, known, named)?;
        let follows = (setup.serial, named.map_or(row.revision, |at| at.0), state);
        if let Some(found) = self.accounted.recall(row.id, &follows) {
            return Ok(found);
        }
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
            Adjust::Splits => agreement.steps.last().map_or(TradeDate(i32::MIN), |step| step.on),
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
        let unclear = [Slot(i64::MIN)..start].into_iter().filter(|span| span.start < span.end).chain(unclear).collect();
        let found = Arc::new(Accounted { taken_out, from, unclear, agreement, says });
        self.accounted.keep(row.id, follows, found.clone());
        Ok(found)
    }
}

/// Of each session that others tell as traded, whether a source's newest close is told of theirs.
fn fits(versions: &Versions, traded: &[(TradeDate, Decimal)], taken_out: &[TakenOut], zone: &TimeZone) -> Vec<(TradeDate, bool)> {
    let (mut factors, mut out, one) = (basis::Factors::default(), vec![], BigRational::one());
    for newest in versions.rows.chunk_by(|a, b| a.bar.slot == b.bar.slot).filter_map(<[_]>::last).filter(|v| !v.withdrawn) {
        let date = newest.bar.slot.date();
        let Ok(at) = traded.binary_search_by_key(&date, |(date, _)| *date) else { continue };
        let factor = factors.of(taken_out, date, newest.recorded_at.date_in(zone)).map_or(&one, |(prices, _)| prices);
        out.push((date, basis::is_told_of(newest.bar.close(), traded[at].1, factor)));
    }
    out
}
