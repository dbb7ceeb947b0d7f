//! On which basis a source tells its prices, and how they come to be as traded.
//!
//! What is adjusted for splits is brought back by the lists of splits. What is adjusted for dividends, too, is brought back by every action
//! that is known here, and held against the closes of sources that tell them as traded: as far back as the actions account for its prices, it has a
//! part in golden series, and before that it has none.

use crate::{
    Research,
    adjusting::Asked,
    closes::Closes,
    findings::{Known, offer_of},
    golden::Lineup,
    worth::Worth,
};
use futures_util::future::BoxFuture;
use jiff::tz::TimeZone;
use mizuno_config::profile::Adjusted;
use mizuno_core::{
    Decimal, Instrument, Interval, SeriesKey, Side, Slot, Spans, Timestamp, TradeDate, Versions,
    adjust::Effect,
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
    /// They are adjusted for splits, which the lists tell.
    Splits(Arc<[TakenOut]>),
    /// They are adjusted for every action; `None` until it is known what they are held against.
    All(Option<Box<Against>>),
}

/// What prices that are adjusted for every action are held against.
#[derive(Clone)]
pub(crate) struct Against {
    closes: Closes,
    worth: Worth,
    tick: Decimal,
    /// What came of it; `None` until somebody looked.
    accounted: Option<Arc<Accounted>>,
}

/// What that follows from: the serial of the setup, the series' revision, and the state of what it is held against.
pub(crate) type FollowsFrom = (u64, i64, Vec<u8>);

/// How far the actions that are known account for the prices of a source.
pub(crate) struct Accounted {
    /// What the source takes out, in the order of the sessions.
    pub taken_out: Vec<TakenOut>,
    /// From this date on they do; `TradeDate(i32::MAX)` where they do not at all.
    pub from: TradeDate,
    /// Whether it tells bars before that date.
    pub is_cut: bool,
    /// The slots in which the source has no part: those before that date, and those of bars that nobody can bring back for certain.
    unclear: Arc<Spans>,
}

impl Basis {
    /// What is taken out of its prices, so far as that is known.
    pub(crate) fn taken_out(&self) -> &[TakenOut] {
        match self {
            Basis::Splits(taken_out) => taken_out,
            Basis::All(Some(against)) => against.accounted.as_ref().map_or(&[], |accounted| &accounted.taken_out),
            Basis::AsTold | Basis::All(None) => &[],
        }
    }

    /// Whether some of its prices may have to be brought back.
    pub(crate) fn brings_back(&self) -> bool {
        match self {
            Basis::AsTold => false,
            Basis::Splits(taken_out) => !taken_out.is_empty(),
            Basis::All(_) => true,
        }
    }

    /// What was found of a source that adjusts for every action; `None` of others, and until somebody looked.
    pub(crate) fn accounted(&self) -> Option<&Arc<Accounted>> {
        if let Basis::All(Some(against)) = self { against.accounted.as_ref() } else { None }
    }

    /// In words.
    pub(crate) fn in_words(&self) -> String {
        match self {
            Basis::AsTold => "as traded".to_owned(),
            Basis::Splits(splits) if splits.is_empty() => "adjusted for splits, of which there are none".to_owned(),
            Basis::Splits(_) => "adjusted for splits, brought back by the list of splits".to_owned(),
            Basis::All(_) => match self.accounted().filter(|accounted| accounted.is_cut) {
                None => "adjusted for splits and dividends, brought back by the actions that are known".to_owned(),
                Some(accounted) => format!(
                    "adjusted for splits and dividends, brought back from {} on by the actions that are known, which do not account for \
                     its prices before",
                    accounted.from
                ),
            },
        }
    }

    /// What changes when a price that is brought back may, as bytes.
    pub(crate) fn state(&self, setup: &Setup, symbol: &str, known: &Known, named: Option<Timestamp>) -> Result<Vec<u8>, DeskError> {
        let mut out = vec![];
        match self {
            Basis::AsTold => {}
            Basis::Splits(splits) => {
                out.extend(splits.len().to_be_bytes());
                out.extend(splits.iter().flat_map(|t| format!("{} {} {};", t.ex_date, t.prices, t.volumes).into_bytes()));
            }
            Basis::All(None) => {}
            Basis::All(Some(against)) => out.extend(against.state(setup, symbol, known, named)?),
        }
        Ok(out)
    }
}

impl Against {
    fn state(&self, setup: &Setup, symbol: &str, known: &Known, named: Option<Timestamp>) -> Result<Vec<u8>, DeskError> {
        let actions = known.actions.of(symbol).iter().map(|k| format!("{} {};", k.action.ex_date, k.action));
        let mut out = actions.collect::<String>().into_bytes();
        out.extend(self.closes.state(setup, known, named)?);
        out.extend(self.worth.state(setup, known, named)?);
        Ok(out)
    }

    /// Whether nothing has been learned of it since the instant.
    fn is_of_now(&self, setup: &Setup, known: &Known) -> Result<bool, DeskError> {
        Ok(self.closes.are_of_now(setup, known)? && self.worth.is_of_now(setup, known)?)
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
        Adjusted::No => Ok(Basis::AsTold),
        Adjusted::Splits => match known.splits.of(setup, &key.symbol).filter(|_| key.interval == Interval::Daily) {
            None => Err(format!("its prices are adjusted for splits, and no list of splits of {} is collected", instrument.venue)),
            Some(splits) if !splits.is_empty() && instrument.tick_size.is_none() => Err(without_tick("splits")),
            Some(splits) => Ok(Basis::Splits(splits.iter().map(TakenOut::from).collect())),
        },
        Adjusted::SplitsAndDividends if key.interval != Interval::Daily || key.side != Side::Trade => {
            Err("its prices are adjusted for dividends, and only daily bars of trades can be brought back to what was paid".to_owned())
        }
        Adjusted::SplitsAndDividends if instrument.tick_size.is_none() => Err(without_tick("dividends")),
        Adjusted::SplitsAndDividends => Ok(Basis::All(None)),
    }
}

impl Research {
    /// What the prices of an instrument that are adjusted for every action are held against; no block is opened for it.
    pub(crate) async fn against(&self, setup: &Setup, instrument: &Instrument, known: &Known) -> Result<Option<Box<Against>>, DeskError> {
        let Some(tick) = instrument.tick_size else { return Ok(None) };
        let Some(closes) = self.told_as_traded(setup, instrument, known).await? else { return Ok(None) };
        Ok(Some(Box::new(Against { closes, worth: self.worth(setup, instrument, known).await?, tick, accounted: None })))
    }

    /// Looks how far the actions account for the prices of those parts of a line-up that are adjusted for every action. It is in a box, since
    /// the closes that they are held against are a golden series, too.
    pub(crate) fn account<'r>(
        &'r self,
        setup: &'r Setup,
        lineup: &'r mut Lineup,
        known: &'r Known,
    ) -> BoxFuture<'r, Result<(), DeskError>> {
        Box::pin(async move {
            for part in &mut lineup.parts {
                if let Basis::All(Some(against)) = &mut part.basis {
                    against.accounted = Some(self.accounted(setup, &part.row, against, known).await?);
                }
            }
            Ok(())
        })
    }

    /// The slots in which a series that is adjusted for every action has no part in the golden one.
    pub(crate) async fn unaccounted(&self, setup: &Setup, row: &SeriesRow, known: &Known) -> Result<Arc<Spans>, DeskError> {
        let always = || Arc::new(Spans::from([Slot(i64::MIN)..Slot(i64::MAX)]));
        let Some(against) = self.against(setup, setup.instrument(&row.key.symbol)?, known).await? else { return Ok(always()) };
        Ok(self.accounted(setup, row, &against, known).await?.unclear.clone())
    }

    async fn accounted(&self, setup: &Setup, row: &SeriesRow, against: &Against, known: &Known) -> Result<Arc<Accounted>, DeskError> {
        let instrument = setup.instrument(&row.key.symbol)?;
        let calendar = setup.calendar_of(instrument)?;
        let is_of_now = row.revision <= known.as_of.0 && against.is_of_now(setup, known)?;
        // What is told of the configuration stands in its serial, and the rest in revisions and actions.
        let follows = (setup.serial, row.revision, against.state(setup, &row.key.symbol, known, None)?);
        if let Some(found) = self.accounted.recall(row.id, &follows).filter(|_| is_of_now) {
            return Ok(found);
        }
        let traded = self.read_closes(setup, &against.closes, calendar, known).await?;
        let asked = Asked::of_all(calendar, known.as_of);
        let adjusted = self.adjusted_by(setup, instrument, asked, known, (&traded, &against.worth)).await?;
        let mut taken_out: Vec<TakenOut> = vec![];
        for (_, judged) in adjusted.actions {
            if let Effect::Applied { price, volume } = judged.effect {
                taken_out.push(TakenOut { ex_date: judged.counts_on, prices: price, volumes: volume });
            }
        }
        let zone = setup.config.venues.get(&instrument.venue).map_or(TimeZone::UTC, |v| v.zone.clone());
        let versions = self.desk.store.versions(row, Slot(i64::MIN)..Slot(i64::MAX), known.as_of).await?;
        let from = basis::accounted_from(&fits(&versions, &traded, &taken_out, &zone)).unwrap_or(TradeDate(i32::MAX));
        let made = basis::as_traded(&versions, known.as_of, &taken_out, &zone, against.tick);
        let unclear = made.unclear.iter().filter(|slot| slot.date() >= from).map(|slot| row.key.interval.span_of(*slot));
        let unclear = [Slot(i64::MIN)..Slot::on(from)].into_iter().chain(unclear).collect();
        let is_cut = versions.rows.first().is_some_and(|oldest| oldest.bar.slot.date() < from);
        let found = Arc::new(Accounted { taken_out, from, is_cut, unclear: Arc::new(unclear) });
        if is_of_now {
            self.accounted.keep(row.id, follows, found.clone());
        }
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
