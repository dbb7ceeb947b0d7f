//! A chain of futures contracts as it was rolled: its legs, what rolls do to prices, and the closes it was rolled by.

use mizuno_core::{
    Bar, Bars, Calendar, Decimal, Instrument, Interval, Slot, Span, TradeDate,
    roll::{self, Contract, Rolled},
};
use mizuno_desk::DeskError;
use num_rational::BigRational;
use std::sync::Arc;

/// A chain as it was known at an instant.
#[derive(Debug)]
pub struct Chain {
    /// Its name.
    pub name: String,
    /// Its contracts in order of expiry, with their golden daily bars.
    pub contracts: Vec<Contract>,
    /// Of each contract, the place of the source of each bar among those of its line-up.
    pub(crate) sources: Vec<Vec<u16>>,
    /// Their instruments.
    pub instruments: Vec<Instrument>,
    /// Its legs and rolls.
    pub rolled: Rolled,
    /// What changes when it may.
    pub state: String,
}

impl Chain {
    /// The slots of each leg at an interval, with the symbol of its contract.
    #[must_use]
    pub fn legs(&self, calendar: &Calendar, interval: Interval) -> Vec<(String, Span)> {
        let leg = |leg: &roll::Leg| {
            let to = leg.to.unwrap_or(TradeDate(i32::MAX));
            (self.contracts[leg.contract].symbol.clone(), calendar.span_of_dates(interval, leg.from..to))
        };
        self.rolled.legs.iter().map(leg).collect()
    }

    /// What the prices of each leg are shifted by.
    ///
    /// # Errors
    /// When that has more than 18 digits.
    pub fn shifts(&self, oldest: bool) -> Result<Vec<Decimal>, DeskError> {
        let shifts = roll::shifts(&self.rolled.rolls, self.rolled.legs.len(), oldest);
        shifts.ok_or_else(|| {
            DeskError::Invalid(format!("rolls: the differences of {} add up to more than 18 digits; ask for ratio", self.name))
        })
    }

    /// What they are multiplied by.
    #[must_use]
    pub fn ratios(&self, oldest: bool) -> Vec<BigRational> {
        roll::ratios(&self.rolled.rolls, self.rolled.legs.len(), oldest)
    }

    /// Rolls at which a join by ratio does nothing, in sentences.
    #[must_use]
    pub fn without_ratio(&self) -> Vec<String> {
        let of = |r: &roll::Roll| {
            let (_, a, b) = r.closes.filter(|_| r.step().is_none())?;
            let (old, new) = (&self.contracts[r.contracts.0].symbol, &self.contracts[r.contracts.1].symbol);
            Some(format!("{old} to {new} on {}: the closes are {a} and {b}, which have no ratio; nothing is multiplied there", r.from))
        };
        self.rolled.rolls.iter().filter_map(of).collect()
    }
}

/// The golden daily closes of a contract, which its chain was rolled by: whoever asks for closes opens no block again.
#[derive(Clone)]
pub(crate) struct ContractCloses {
    pub(crate) chain: Arc<Chain>,
    pub(crate) contract: usize,
}

impl ContractCloses {
    /// Those in a stretch, as a reading of nothing but closes has them.
    pub(crate) fn within(&self, span: &Span) -> Option<(Bars, Vec<u16>)> {
        let days = &self.chain.contracts[self.contract].days;
        let place = |slot: Slot| days.partition_point(|day| Slot::on(day.date) < slot);
        let all = place(span.start)..place(span.end).max(place(span.start));
        let rows: Vec<Bar> = days[all.clone()].iter().map(|day| Bar::new(Slot::on(day.date), [day.close; 4], None)).collect();
        (!rows.is_empty()).then(|| (Bars { rows }, self.chain.sources[self.contract][all].to_vec()))
    }
}
