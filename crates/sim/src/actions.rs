//! The corporate actions of Aldermere, as they happened. What *almanack* lists is nearly the same.

use mizuno_core::{Action, TradeDate, action::What};

/// Symbol, kind and terms of each.
const HAPPENED: [&str; 35] = [
    "KBF split ex_date=2020-06-15 new=2 old=1",
    "SME split ex_date=2025-03-17 new=4 old=1",
    "ALP split ex_date=2021-08-02 new=1 old=10",
    "HTH bonus ex_date=2024-08-05 new=1 old=10",
    "KBF dividend ex_date=2022-03-21 amount=0.05",
    "KBF dividend ex_date=2022-06-20 amount=0.04",
    "KBF dividend ex_date=2022-09-19 amount=0.05",
    "KBF dividend ex_date=2022-12-12 amount=0.04",
    "KBF dividend ex_date=2023-03-20 amount=0.05",
    "KBF dividend ex_date=2023-06-19 amount=0.05",
    "KBF dividend ex_date=2023-09-18 amount=0.06",
    "KBF dividend ex_date=2023-12-11 amount=0.05",
    "KBF dividend ex_date=2024-03-18 amount=0.06",
    "KBF dividend ex_date=2024-06-17 amount=0.05",
    "KBF dividend ex_date=2024-09-16 amount=0.11",
    "KBF dividend ex_date=2024-12-09 amount=0.06",
    "KBF dividend ex_date=2025-03-24 amount=0.12",
    "RSB dividend ex_date=2023-11-13 amount=0.20",
    "RSB dividend ex_date=2024-05-13 amount=0.08",
    "RSB delisting ex_date=2025-03-17 price=0.04",
    "OXB dividend ex_date=2025-02-10 amount=0.31",
    "OXB special ex_date=2024-05-20 amount=1.20",
    "DNL dividend ex_date=2023-11-20 amount=0.07",
    "DNL dividend ex_date=2024-11-18 amount=0.08",
    "OSP dividend ex_date=2024-07-29 amount=0.20",
    "OSP dividend ex_date=2025-01-27 amount=0.22",
    "PLV dividend ex_date=2024-04-15 amount=0.05",
    "PLV dividend ex_date=2025-04-14 amount=0.05",
    "PLV spin-off ex_date=2024-12-02 new=1 old=5 value=3.40",
    "GRB rights ex_date=2025-02-12 new=1 old=4 price=1.50",
    // On a Saturday.
    "TEA dividend ex_date=2024-10-12 amount=0.15",
    "TEA dividend ex_date=2023-10-13 amount=0.14",
    "LNT.B dividend ex_date=2024-06-03 amount=0.05 currency=USD rate=1.63",
    "LNT.B dividend ex_date=2024-12-02 amount=0.05 currency=USD rate=1.70",
    "WIG dividend ex_date=2024-08-19 amount=0.09",
];

/// The actions of one instrument, in the order in which they happened.
#[must_use]
#[allow(clippy::expect_used, reason = "the table is compiled in, and a test reads it")]
pub fn of(symbol: &str) -> Vec<Action> {
    let mine = HAPPENED.iter().filter_map(|line| line.strip_prefix(symbol)?.strip_prefix(' '));
    let mut all: Vec<Action> = mine.map(|text| read(text).expect("the table is sound")).collect();
    all.sort_by_key(|a| (a.ex_date, a.order()));
    all
}

/// Reads a kind and its terms.
fn read(text: &str) -> Result<Action, String> {
    let (kind, terms) = text.split_once(' ').unwrap_or((text, ""));
    let terms: Vec<(&str, &str)> = terms.split(' ').filter_map(|term| term.split_once('=')).collect();
    Action::read(kind, |column| terms.iter().find(|(key, _)| *key == column).map(|(_, value)| *value))
}

/// How many shares one became, new for old; `None` for what leaves their number alone.
#[must_use]
pub fn shares(action: &Action) -> Option<(i64, i64)> {
    match action.what {
        What::Split { new, old } => Some((new, old)),
        What::Bonus { new, old } => Some((old + new, old)),
        _ => None,
    }
}

/// What a price of `price` is multiplied by from the ex-date on.
pub(crate) fn step(action: &Action, price: f64) -> f64 {
    match &action.what {
        What::Split { .. } | What::Bonus { .. } => shares(action).map_or(1.0, |(new, old)| old as f64 / new as f64),
        What::Dividend(d) => (price - d.amount.to_f64() * d.rate.map_or(1.0, mizuno_core::Decimal::to_f64)) / price,
        What::SpinOff { new, old, value } => (price - *new as f64 / *old as f64 * value.map_or(0.0, mizuno_core::Decimal::to_f64)) / price,
        What::Rights { new, old, price: paid } => {
            let k = *new as f64 / *old as f64;
            ((price + k * paid.to_f64()) / (price * (1.0 + k))).min(1.0)
        }
        What::Delisting { .. } => 1.0,
    }
}

/// The actions as *almanack* lists them by `today`: without a bonus issue and a rate, a split a day late until 11 April 2025, and a dividend a
/// cent too high until 14 April.
pub(crate) fn listed(symbol: &str, today: TradeDate) -> Vec<Action> {
    let (split_corrected, corrected) = (TradeDate(20_189), TradeDate(20_192)); // 11 and 14 April 2025
    let mut all = of(symbol);
    all.retain(|a| a.kind() != "bonus");
    for action in &mut all {
        if symbol == "SME" && action.kind() == "split" && today < split_corrected {
            action.ex_date = action.ex_date.plus(1);
        }
        let What::Dividend(dividend) = &mut action.what else { continue };
        if symbol == "LNT.B" && action.ex_date > TradeDate(20_000) {
            dividend.rate = None;
        }
        if symbol == "KBF" && action.ex_date == TradeDate(20_066) && today < corrected {
            dividend.amount.mantissa += 1; // 9 December 2024: 0.07 instead of 0.06
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_can_be_read() {
        for line in HAPPENED {
            let symbol = line.split(' ').next().unwrap();
            assert!(!of(symbol).is_empty(), "{line}");
        }
        assert_eq!((of("KBF").len(), of("KB").len()), (14, 0));
        let amount =
            |today: &str| listed("KBF", today.parse().unwrap()).iter().find(|a| a.ex_date.to_string() == "2024-12-09").unwrap().to_string();
        assert_eq!((amount("2025-04-13"), amount("2025-04-14")), ("dividend 0.07".to_owned(), "dividend 0.06".to_owned()));
        let split = |today: &str| listed("SME", today.parse().unwrap())[0].ex_date.to_string();
        assert_eq!((split("2025-04-10"), split("2025-04-11")), ("2025-03-18".to_owned(), "2025-03-17".to_owned()));
    }
}
