use super::*;
use crate::derived::Derived;
use crate::{
    action::{Action, What},
    adjust::{Effect, Judged},
};
use proptest::prelude::*;

fn price(text: &str) -> Decimal {
    text.parse().unwrap()
}

/// Daily bars of these closes, from 7 April 2025 on; a cut stands before those in `cuts`.
fn worked(name: &str, closes: &[&str], cuts: &[usize]) -> Vec<Option<Value>> {
    let derived: Derived = name.parse().unwrap();
    let mut deriver = Deriver::new(&[derived], 6, vec![], None);
    let one = |(at, close): (usize, &&str)| deriver.push(&input(at, [price(close); 4], cuts.contains(&at)), None)[0];
    closes.iter().enumerate().map(one).collect()
}

fn input(at: usize, prices: [Decimal; 4], cut: bool) -> Input {
    let date = TradeDate(20_185 + at as i32);
    Input {
        prices: prices.map(|raw| Priced { raw, slot: Slot::on(date) }),
        open_interest: None,
        volume: None,
        turnover: None,
        other: None,
        date,
        session: at as i64,
        cut,
        age: 0,
    }
}

fn exact(values: &[Option<Value>]) -> Vec<String> {
    values.iter().map(|v| v.and_then(|v| v.exact).map_or_else(|| "-".to_owned(), |n| n.to_string())).collect()
}

fn reals(values: &[Option<Value>]) -> Vec<f64> {
    values.iter().map(|v| v.map_or(f64::NAN, |v| v.real)).collect()
}

#[test]
fn a_change_is_exact_and_a_return_is_not() {
    assert_eq!(exact(&worked("change", &["7.50", "7.65", "7.6"], &[])), ["-", "0.15", "-0.05"]);
    let returns = worked("return", &["7.50", "7.65"], &[]);
    assert_eq!(returns[1].unwrap().exact, None);
    assert!((returns[1].unwrap().real - 0.02).abs() < 1e-15);
}

#[test]
fn nothing_is_held_against_what_stands_before_a_gap() {
    let closes = ["7.50", "7.55", "7.60", "7.65"];
    assert_eq!(exact(&worked("change", &closes, &[2])), ["-", "0.05", "-", "0.05"]);
    assert_eq!(exact(&worked("rises", &closes, &[2])), ["-", "1", "-", "1"]);
    let means = reals(&worked("mean_2_of_return", &closes, &[2]));
    assert!(means.iter().all(|m| m.is_nan()), "each window has a return over the gap, or none before the first bar: {means:?}");
}

#[test]
fn a_run_ends_where_the_price_stands_still() {
    assert_eq!(exact(&worked("rises", &["1", "2", "3", "3", "4", "3"], &[])), ["-", "1", "2", "0", "1", "0"]);
    assert_eq!(exact(&worked("falls", &["3", "2", "1", "1", "2"], &[])), ["-", "1", "2", "0", "0"]);
    let long: Vec<String> = (0..300).map(|n| n.to_string()).collect();
    let long: Vec<&str> = long.iter().map(String::as_str).collect();
    assert_eq!(exact(&worked("rises", &long, &[])).last().unwrap(), "250");
}

#[test]
fn a_division_by_nought_gives_an_empty_cell() {
    assert_eq!(worked("return", &["0", "7.50"], &[])[1], None);
    assert_eq!(worked("log_return", &["7.50", "-1"], &[])[1], None);
}

#[test]
fn a_price_below_nought_is_held_against_one_above_and_nothing_against_it() {
    let closes = ["10.62", "-0.21", "11.39", "11.31"];
    assert_eq!(exact(&worked("change", &closes, &[])), ["-", "-10.83", "11.60", "-0.08"]);
    for (name, is_there) in [
        ("return", [false, true, false, true]),
        ("log_return", [false, false, false, true]),
        ("total_return", [false, true, false, true]),
        ("drawdown", [true; 4]),
        ("drawdown_1", [true, false, true, true]),
    ] {
        assert_eq!(worked(name, &closes, &[]).iter().map(Option::is_some).collect::<Vec<_>>(), is_there, "{name}");
    }
}

#[test]
fn a_window_over_sessions_takes_all_their_bars() {
    let derived: Derived = "sum_2_sessions".parse().unwrap();
    let mut deriver = Deriver::new(&[derived], 6, vec![], None);
    let mut push = |session: i64, close: &str| {
        let bar = Input { session, ..input(0, [price(close); 4], false) };
        deriver.push(&bar, None)[0].map(|v| v.real)
    };
    assert_eq!([push(1, "1"), push(1, "2"), push(2, "4"), push(2, "8"), push(4, "16")], [None, None, Some(7.0), Some(15.0), Some(16.0)]);
}

#[test]
fn across_an_action_the_difference_of_two_prices_is_rounded_once() {
    let ex_date = TradeDate(20_186);
    let what = What::Split { new: 3, old: 1 };
    let effect = Effect::Applied { price: BigRational::new(1.into(), 3.into()), volume: BigRational::new(3.into(), 1.into()) };
    let judged = Judged { action: Action { ex_date, what }, counts_on: ex_date, close: None, rate: None, effect };
    let factors = Factors::of(&[judged], Slot::on, None);
    let mut deriver = Deriver::new(&["change".parse().unwrap(), "highest_2".parse().unwrap()], 6, vec![], None);
    let mut push = |at: usize, close: &str| exact(deriver.push(&input(at, [price(close); 4], false), Some(&factors)));
    assert_eq!(push(0, "10.00"), ["-", "-"]);
    // 3.33 − 10/3, and not 3.33 − 3.333333.
    assert_eq!(push(1, "3.33"), ["-0.003333", "3.333333"]);
    assert_eq!(push(2, "3.36"), ["0.030000", "3.360000"]);
}

#[test]
fn a_price_that_falls_by_the_dividend_alone_has_not_risen() {
    let ex_date = TradeDate(20_186);
    let (close, paid) = (price("3.01"), price("0.34"));
    let ratio = |d: Decimal| BigRational::new(d.mantissa.into(), 100.into());
    let what = What::Dividend(crate::action::Dividend { amount: paid, currency: None, rate: None, before_split: false, special: false });
    let effect = Effect::Applied { price: (ratio(close) - ratio(paid)) / ratio(close), volume: BigRational::from_integer(1.into()) };
    let judged = Judged { action: Action { ex_date, what }, counts_on: ex_date, close: None, rate: None, effect };
    let factors = Factors::of(&[judged], Slot::on, None);
    let mut deriver = Deriver::new(&["rises", "change", "return"].map(|n| n.parse().unwrap()), 6, vec![], None);
    deriver.push(&input(0, [close; 4], false), Some(&factors));
    let on = deriver.push(&input(1, [price("2.67"); 4], false), Some(&factors));
    assert_eq!((exact(&on[..2]), on[2].unwrap().real), (vec!["0".to_owned(), "0.000000".to_owned()], 0.0));
}

#[test]
fn the_total_return_counts_what_was_paid_and_the_shares_it_became() {
    let payouts = vec![(Slot(20_186), Payout::Shares(2.0)), (Slot(20_186), Payout::Paid(0.25)), (Slot(20_187), Payout::Paid(1.0))];
    let mut deriver = Deriver::new(&["total_return".parse().unwrap()], 6, payouts, None);
    let mut push = |at: usize, close: &str| deriver.push(&input(at, [price(close); 4], false), None)[0].map(|v| v.real);
    assert_eq!(push(0, "10"), None);
    // Two shares of 5 and twice 0.25 for one of 10.
    assert!((push(1, "5").unwrap() - 0.05).abs() < 1e-15);
    assert!((push(2, "4").unwrap() - 0.0).abs() < 1e-15);
}

#[test]
fn the_middle_of_two_prices_has_a_further_digit_only_where_it_needs_one() {
    let mid = |bid: &str, ask: &str| {
        let mut deriver = Deriver::new(&["mid".parse().unwrap(), "spread".parse().unwrap()], 6, vec![], None);
        let bar = Input { other: Some(Priced { raw: price(ask), slot: Slot(20_185) }), ..input(0, [price(bid); 4], false) };
        exact(deriver.push(&bar, None)).join(" ")
    };
    assert_eq!(mid("1.10", "1.12"), "1.11 0.02");
    assert_eq!(mid("1.10", "1.13"), "1.115 0.03");
}

#[test]
fn a_float_is_shown_with_the_digits_that_mean_something() {
    for (real, shown) in [(0.0, "0"), (-0.0, "-0"), (0.1 + 0.2, "0.3"), (1e300, "1"), (5e-324, "")] {
        let text = Value { real, exact: None }.shown().to_string();
        assert!(text.starts_with(shown), "{real}: {text}");
    }
}

proptest! {
    #[test]
    fn what_is_shown_is_the_number_to_fifteen_digits(real in -1e18f64..1e18, down in 0i32..40) {
        let real = real / 10f64.powi(down);
        let shown = Value { real, exact: None }.shown();
        prop_assert!((shown - real).abs() <= real.abs() * 1e-14);
    }

    /// Each statistic against one that is worked out of the whole window, in another way.
    #[test]
    fn windows_are_as_they_are_by_definition(closes in proptest::collection::vec(1i64..1_000_000, 1..60), n in 2usize..12) {
        let texts: Vec<String> = closes.iter().map(|c| format!("{}.{:02}", c / 100, c % 100)).collect();
        let texts: Vec<&str> = texts.iter().map(String::as_str).collect();
        let get = |name: &str| worked(&format!("{name}_{n}"), &texts, &[]);
        let (mean, deviation, low, high) = (get("mean"), get("deviation"), get("lowest"), get("highest"));
        for at in 0..closes.len() {
            let Some(from) = (at + 1).checked_sub(n) else {
                prop_assert!(mean[at].is_none() && deviation[at].is_none() && low[at].is_none());
                continue;
            };
            let window = &closes[from..=at];
            let sum: i64 = window.iter().sum();
            let exact_mean = sum as f64 / (n as f64 * 100.0);
            let largest = *window.iter().max().unwrap() as f64 / 100.0;
            prop_assert!((mean[at].unwrap().real - exact_mean).abs() <= 1e-12 * largest);
            // n·Σx² − (Σx)² in whole numbers has no error until the root.
            let squares: i128 = window.iter().map(|x| i128::from(*x) * i128::from(*x)).sum();
            let over = n as i128 * squares - i128::from(sum) * i128::from(sum);
            let exact_deviation = (over as f64 / (n as f64 * (n as f64 - 1.0))).sqrt() / 100.0;
            prop_assert!((deviation[at].unwrap().real - exact_deviation).abs() <= 1e-12 * largest.max(1.0));
            prop_assert_eq!(low[at].unwrap().exact.unwrap().units(2), i128::from(*window.iter().min().unwrap()));
            prop_assert_eq!(high[at].unwrap().exact.unwrap().units(2), i128::from(*window.iter().max().unwrap()));
        }
    }

    /// What is added up along a series is what lies between its ends.
    #[test]
    fn bars_whose_numbers_nobody_asks_for_leave_those_of_later_ones_as_they_are(
        closes in proptest::collection::vec((1i64..1_000, any::<bool>(), any::<bool>()), 1..40), n in 2usize..6
    ) {
        let names = ["close", "change", "rises", "falls", "drawdown", &format!("mean_{n}"), &format!("highest_{n}_of_change"),
            &format!("deviation_{n}_of_return"), &format!("lowest_3_of_mean_{n}")].map(str::to_owned);
        let wanted: Vec<Derived> = names.iter().filter_map(|name| name.parse().ok()).collect();
        prop_assert!(wanted.len() >= 8, "{names:?}");
        let (mut all, mut some) = (Deriver::new(&wanted, 6, vec![], None), Deriver::new(&wanted, 6, vec![], None));
        for (at, (close, cut, asked)) in closes.into_iter().enumerate() {
            let bar = input(at, [Decimal { mantissa: close, scale: 2 }; 4], cut);
            let numbers = all.push(&bar, None).to_vec();
            match asked {
                true => prop_assert_eq!(some.push(&bar, None), &numbers[..]),
                false => some.pass(&bar, None),
            }
        }
    }

    #[test]
    fn logarithmic_returns_add_up(closes in proptest::collection::vec(1i64..1_000_000, 2..60)) {
        let texts: Vec<String> = closes.iter().map(|c| format!("{}.{:02}", c / 100, c % 100)).collect();
        let texts: Vec<&str> = texts.iter().map(String::as_str).collect();
        let sum: f64 = worked("log_return", &texts, &[]).iter().flatten().map(|v| v.real).sum();
        let whole = (closes[closes.len() - 1] as f64 / closes[0] as f64).ln();
        prop_assert!((sum - whole).abs() < 1e-12 * closes.len() as f64);
    }
}
