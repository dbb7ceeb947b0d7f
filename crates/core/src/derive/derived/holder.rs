//! What the holder of a share is paid, and how many shares it becomes.

use crate::{
    action::What,
    adjust::{Effect, Judged, dividend_paid},
    slot::Slot,
    time::TradeDate,
};
use num_traits::ToPrimitive;

/// What an action does to the holder of one share.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Payout {
    /// It becomes so many; for rights and spin-offs, what is handed out is turned into shares at the opening price.
    Shares(f64),
    /// So much is paid on each.
    Paid(f64),
}

/// What each action that counts does to a holder, by the first slot of its session, in order. What was judged must have been judged for all
/// actions.
#[must_use]
pub fn payouts(judged: &[Judged], currency: &str, start: impl Fn(TradeDate) -> Slot) -> Vec<(Slot, Payout)> {
    let payout = |j: &Judged| {
        let Effect::Applied { price, .. } = &j.effect else { return None };
        let payout = match &j.action.what {
            What::Dividend(dividend) => Payout::Paid(dividend_paid(dividend, currency, j.rate.as_ref()).ok()?.to_f64()?),
            _ => Payout::Shares(price.recip().to_f64()?),
        };
        Some((start(j.counts_on), payout))
    };
    judged.iter().filter_map(payout).collect()
}
