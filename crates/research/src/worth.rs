//! What money of another currency was worth, by the closes of pairs that `rates.toml` names.

use crate::{
    Research,
    closes::{Closes, last_before},
    findings::Known,
};
use mizuno_core::{Decimal, Instrument, Side, Timestamp, TradeDate};
use mizuno_desk::{DeskError, Setup};
use num_rational::BigRational;
use num_traits::{One, Zero};
use std::collections::BTreeMap;

/// A close that is older than so many days says nothing.
const STALE: i32 = 7;

/// For each currency in which dividends of an instrument are paid, the pairs that tell what it is worth in its own.
#[derive(Clone, Default)]
pub(crate) struct Worth(BTreeMap<String, Vec<Pair>>);

#[derive(Clone)]
struct Pair {
    symbol: String,
    closes: Closes,
    /// Whether it is divided by.
    over: bool,
}

/// The closes of those pairs.
#[derive(Default)]
pub(crate) struct Rates(BTreeMap<String, Vec<Quoted>>);

/// The closes of a pair.
struct Quoted {
    closes: Vec<(TradeDate, Decimal)>,
    over: bool,
}

impl Worth {
    /// What changes when a close of the pairs may.
    pub(crate) fn state(&self, setup: &Setup, known: &Known, named: Option<Timestamp>) -> Result<Vec<u8>, DeskError> {
        let mut out = vec![];
        for (currency, pairs) in &self.0 {
            out.extend(currency.bytes());
            for pair in pairs {
                out.push(u8::from(pair.over));
                out.extend(pair.symbol.bytes());
                out.extend(pair.closes.state(setup, known, named)?);
            }
        }
        Ok(out)
    }

    /// Whether nothing has been learned of the pairs since the instant.
    pub(crate) fn is_of_now(&self, setup: &Setup, known: &Known) -> Result<bool, DeskError> {
        for pair in self.0.values().flatten() {
            if !pair.closes.are_of_now(setup, known)? {
                return Ok(false);
            }
        }
        Ok(true)
    }
}

impl Rates {
    /// What one unit of a currency was worth at the last closes before a date.
    pub(crate) fn before(&self, currency: &str, date: TradeDate) -> Option<BigRational> {
        let mut out = BigRational::one();
        for Quoted { closes, over } in self.0.get(currency)? {
            let (on, close) = last_before(closes, date)?;
            let close = close.fraction();
            if date.0 - on.0 > STALE || close <= BigRational::zero() {
                return None;
            }
            out = if *over { out / close } else { out * close };
        }
        Some(out)
    }
}

/// Why there is no rate of a currency where `rates.toml` names the pairs of one; `None` where it names none.
pub(crate) fn why_no_rate(setup: &Setup, (currency, into): (&str, &str), date: TradeDate) -> Option<String> {
    let rate = setup.config.rates.rate(currency, into)?;
    let pairs: Vec<&str> = rate.pair.iter().chain(&rate.over).map(String::as_str).collect();
    Some(format!("rates.toml takes it from {}, of which no close is held of the {STALE} days before {date}", pairs.join(" and ")))
}

impl Research {
    /// The pairs that tell what dividends of an instrument are worth, of which nobody says it.
    pub(crate) async fn worth(&self, setup: &Setup, instrument: &Instrument, known: &Known) -> Result<Worth, DeskError> {
        let mut out = Worth::default();
        for action in known.actions.of(&instrument.symbol) {
            let Some(currency) = action.action.foreign(&instrument.currency) else { continue };
            let Some(rate) = setup.config.rates.rate(currency, &instrument.currency) else { continue };
            if out.0.contains_key(currency) {
                continue;
            }
            let mut pairs = vec![];
            for (symbol, over) in rate.pair.iter().map(|p| (p, false)).chain(rate.over.iter().map(|p| (p, true))) {
                let Some(closes) = self.closes_without_adjusted(setup, setup.instrument(symbol)?, &[Side::Trade, Side::Mid], known).await?
                else {
                    break;
                };
                pairs.push(Pair { symbol: symbol.clone(), closes, over });
            }
            if pairs.len() == usize::from(rate.pair.is_some()) + usize::from(rate.over.is_some()) {
                out.0.insert(currency.to_owned(), pairs);
            }
        }
        Ok(out)
    }

    /// Reads the closes of pairs.
    pub(crate) async fn read_rates(&self, setup: &Setup, worth: &Worth, known: &Known) -> Result<Rates, DeskError> {
        let mut out = Rates::default();
        for (currency, pairs) in &worth.0 {
            let mut read = vec![];
            for pair in pairs {
                let calendar = setup.calendar_of(setup.instrument(&pair.symbol)?)?;
                read.push(Quoted { closes: self.read_closes(setup, &pair.closes, calendar, known).await?, over: pair.over });
            }
            out.0.insert(currency.clone(), read);
        }
        Ok(out)
    }
}
