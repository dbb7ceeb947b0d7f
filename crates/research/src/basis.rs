//! On which basis a source tells its prices, and how they come to be as traded.

use crate::findings::{Known, offer_of};
use mizuno_config::profile;
use mizuno_core::{Interval, SeriesKey, Side, Slot, Spans, TradeDate, adjust::Adjust, agreement::Agreement, basis::TakenOut};
use mizuno_desk::Setup;
use std::sync::Arc;

/// Why a source has no part that adjusts for every action, where no other tells what was paid.
pub(crate) const NOBODY_TELLS: &str =
    "its prices are adjusted for dividends, and no other source that is ranked tells daily prices as traded to hold them against";

/// How the prices of a series come to be as traded.
#[derive(Clone)]
pub(crate) enum Basis {
    /// They are told so.
    AsTold,
    /// They are adjusted.
    Adjusted {
        /// For which actions.
        which: Adjust,
        /// What changes when a price that is brought back may, as bytes; `None` until it is known what the prices are held against.
        state: Option<Vec<u8>>,
        /// How far actions account for them; `None` until somebody looked.
        accounted: Option<Arc<Accounted>>,
    },
}

/// How far the actions that are known account for the adjusted prices of a source.
pub(crate) struct Accounted {
    /// What the source takes out, in the order of the sessions.
    pub taken_out: Vec<TakenOut>,
    /// From this date on they do; `TradeDate(i32::MIN)` where they do all through, and `TradeDate(i32::MAX)` where they do not at all.
    pub from: TradeDate,
    /// The slots in which the source has no part: those before that date, those between two dates of one action, and those of bars that nobody
    /// can bring back for certain.
    pub unclear: Spans,
    /// How its closes agree with those that were traded, and each step that no action accounts for in a sentence.
    pub agreement: Agreement,
    /// The sentences, in the order of the steps.
    pub says: Vec<String>,
}

impl Accounted {
    /// Nobody can say how far.
    pub(crate) fn nowhere() -> Accounted {
        let unclear = Spans::from([Slot(i64::MIN)..Slot(i64::MAX)]);
        Accounted { taken_out: vec![], from: TradeDate(i32::MAX), unclear, agreement: Agreement::default(), says: vec![] }
    }
}

impl Basis {
    fn adjusted(which: Adjust) -> Basis {
        Basis::Adjusted { which, state: None, accounted: None }
    }

    /// For which actions its prices are adjusted; `None` of those that are told as traded.
    pub(crate) fn which(&self) -> Option<Adjust> {
        if let Basis::Adjusted { which, .. } = self { Some(*which) } else { None }
    }

    /// What was found; `None` of prices that are told as traded, and until somebody looked.
    pub(crate) fn accounted(&self) -> Option<&Arc<Accounted>> {
        if let Basis::Adjusted { accounted, .. } = self { accounted.as_ref() } else { None }
    }

    /// Says what was found.
    pub(crate) fn set(&mut self, found: Arc<Accounted>) {
        if let Basis::Adjusted { accounted, .. } = self {
            *accounted = Some(found);
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
        let Some(which) = self.which() else { return "as traded".to_owned() };
        let (what, by) = match which {
            Adjust::All => ("splits and dividends", "the known actions"),
            Adjust::Splits => ("splits", "the known splits"),
        };
        match self.accounted().map(Arc::as_ref) {
            Some(Accounted { from, .. }) if *from != TradeDate(i32::MIN) => {
                format!("adjusted for {what}, brought back from {from} on; no known action accounts for its older prices")
            }
            Some(accounted) if accounted.taken_out.is_empty() => format!("adjusted for {what}, of which there are none"),
            _ => format!("adjusted for {what}, brought back by {by}"),
        }
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

/// Whether a source adjusts the prices of a series.
pub(crate) fn is_adjusted(setup: &Setup, key: &SeriesKey) -> bool {
    offer_of(setup, key).is_some_and(|offer| offer.adjusted != profile::Adjusted::No)
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
            Some(_) => Ok(Basis::adjusted(Adjust::Splits)),
        },
        profile::Adjusted::SplitsAndDividends if key.interval != Interval::Daily || key.side != Side::Trade => {
            Err("its prices are adjusted for dividends, and only daily bars of trades can be brought back to what was paid".to_owned())
        }
        profile::Adjusted::SplitsAndDividends if instrument.tick_size.is_none() => Err(without_tick("dividends")),
        profile::Adjusted::SplitsAndDividends => Ok(Basis::adjusted(Adjust::All)),
    }
}
