use super::*;
use proptest::prelude::*;

fn day(text: &str) -> TradeDate {
    text.parse().unwrap()
}

fn number(text: &str) -> Decimal {
    text.parse().unwrap()
}

fn action(kind: &str, columns: &str) -> Action {
    let said: Vec<(&str, &str)> = columns.split(' ').filter_map(|pair| pair.split_once('=')).collect();
    Action::read(kind, |column| said.iter().find(|(c, _)| *c == column).map(|(_, text)| *text)).unwrap()
}

/// Closes of 12.50 up to 14 March, 3.20 from 17 March on; no session at the weekend of 15 March.
fn closes(before: TradeDate) -> Option<(TradeDate, Decimal)> {
    match () {
        () if before <= day("2025-01-02") => None,
        () if before <= day("2025-03-17") => Some((day("2025-03-14"), number("12.50"))),
        () => Some((before.plus(-1), number("3.20"))),
    }
}

fn session(date: TradeDate) -> TradeDate {
    if (day("2025-03-15")..=day("2025-03-16")).contains(&date) { day("2025-03-17") } else { date }
}

fn judged(actions: Vec<Action>, which: Adjust) -> Vec<Judged> {
    judge(actions, which, day("2025-04-09"), "NZD", session, closes, |_, _| None)
}

fn factor(actions: Vec<Action>) -> String {
    Factors::of(&judged(actions, Adjust::All), Slot::on, None).at(Slot::on(day("2025-02-03"))).price.exact.reduced().to_string()
}

#[test]
fn each_kind_has_its_factor() {
    let one = |kind, columns: &str| factor(vec![action(kind, &format!("ex_date=2025-03-17 {columns}"))]);
    assert_eq!(one("split", "new=4 old=1"), "1/4");
    assert_eq!(one("split", "new=1 old=10"), "10");
    assert_eq!(one("bonus", "new=1 old=10"), "10/11");
    assert_eq!(one("dividend", "amount=0.12"), "619/625", "12.38 of 12.50");
    assert_eq!(one("special", "amount=0.12 currency=USD rate=1.7"), "3074/3125", "0.204 of 12.50 is taken");
    assert_eq!(one("spin-off", "new=1 old=5 value=2.50"), "24/25");
    // One share more for each four at 10.00: (4 × 12.50 + 10.00) / 5 is 12.00.
    assert_eq!(one("rights", "new=1 old=4 price=10.00"), "24/25");
    assert_eq!(one("rights", "new=1 old=4 price=12.50"), "1", "no gain, no step");
}

#[test]
fn actions_of_one_day_find_what_the_one_before_has_left() {
    let (split, dividend) = ("ex_date=2025-03-17 new=4 old=1", "ex_date=2025-03-17 amount=0.125");
    // A quarter of 12.50 is 3.125, of which 0.125 is paid.
    assert_eq!(factor(vec![action("dividend", dividend), action("split", split)]), "6/25");
    let before = format!("{dividend} before_split=true");
    assert_eq!(factor(vec![action("split", split), action("dividend", &before)]), "99/400");
    // Two dividends take their sum.
    assert_eq!(factor(vec![action("dividend", dividend), action("special", "ex_date=2025-03-17 amount=0.375")]), "24/25");
}

#[test]
fn what_cannot_be_applied_says_why() {
    let why = |kind, columns: &str| match judged(vec![action(kind, columns)], Adjust::All).remove(0).effect {
        Effect::Not(why) => why,
        other => format!("{other:?}"),
    };
    assert!(why("dividend", "ex_date=2025-03-17 amount=12.50").contains("not below the close"));
    assert!(why("dividend", "ex_date=2025-01-02 amount=0.10").contains("no close is held"));
    assert!(why("dividend", "ex_date=2025-03-17 amount=0.10 currency=USD").contains("paid in USD, and no rate to NZD"));
    assert!(why("spin-off", "ex_date=2025-03-17 new=1 old=5").contains("not known yet"));
    let late = judged(vec![action("split", "ex_date=2025-04-10 new=2 old=1")], Adjust::All);
    assert_eq!(late[0].effect, Effect::AfterAnchor);
    let unasked = judged(vec![action("dividend", "ex_date=2025-03-17 amount=0.10")], Adjust::Splits);
    assert_eq!(unasked[0].effect, Effect::NotAsked);
}

#[test]
fn an_ex_date_without_a_session_counts_at_the_next_one() {
    let found = judged(vec![action("split", "ex_date=2025-03-15 new=4 old=1")], Adjust::Splits);
    assert_eq!(found[0].counts_on, day("2025-03-17"));
    let factors = Factors::of(&found, Slot::on, None);
    let price = |date: &str| factors.at(Slot::on(day(date))).price.times(number("12.50"), 4).to_string();
    assert_eq!((price("2025-03-14"), price("2025-03-17")), ("3.1250".to_owned(), "12.5000".to_owned()));
}

#[test]
fn an_anchor_is_where_prices_are_as_traded() {
    let actions = || vec![action("split", "ex_date=2025-03-17 new=4 old=1"), action("split", "ex_date=2025-02-03 new=1 old=2")];
    let found = judged(actions(), Adjust::Splits);
    let at = |factors: &Factors, date: &str| {
        let stretch = factors.at(Slot::on(day(date)));
        (stretch.price.exact.reduced().to_string(), stretch.volume.exact.reduced().to_string())
    };
    let newest = Factors::of(&found, Slot::on, None);
    assert_eq!(at(&newest, "2025-01-06"), ("1/2".to_owned(), "2".to_owned()));
    assert_eq!(at(&newest, "2025-02-03"), ("1/4".to_owned(), "4".to_owned()));
    assert_eq!(at(&newest, "2025-03-17"), ("1".to_owned(), "1".to_owned()));
    let oldest = Factors::of(&found, Slot::on, Some(Slot::on(day("2025-01-06"))));
    assert_eq!(at(&oldest, "2025-01-06").0, "1");
    assert_eq!(at(&oldest, "2025-02-03").0, "1/2");
    assert_eq!(at(&oldest, "2025-04-09"), ("2".to_owned(), "1/2".to_owned()));
    // Nothing after a date counts.
    let until = judge(actions(), Adjust::Splits, day("2025-03-01"), "NZD", session, closes, |_, _| None);
    let dated = Factors::of(&until, Slot::on, None);
    assert_eq!((at(&dated, "2025-01-06").0, at(&dated, "2025-02-03").0, at(&dated, "2025-04-09").0), ("2".into(), "1".into(), "1".into()));
}

#[test]
fn a_product_too_long_for_eighteen_digits_has_fewer_decimals() {
    let factors = Factors::of(&judged(vec![action("split", "ex_date=2025-03-17 new=1 old=100")], Adjust::Splits), Slot::on, None);
    let price = &factors.at(Slot::on(day("2025-03-14"))).price;
    assert_eq!(price.times(number("123456789012345.67"), 6).to_string(), "12345678901234567.0");
}

prop_compose! {
    fn fraction()(top in 1u64..u64::MAX, bottom in 1u64..u64::MAX, small in any::<bool>()) -> BigRational {
        let (top, bottom) = if small { (top % 1000 + 1, bottom % 1000 + 1) } else { (top, bottom) };
        BigRational::new(top.into(), bottom.into())
    }
}

proptest! {
    /// The quick way rounds as the exact product does, ties included.
    #[test]
    fn shortened_factors_round_as_exact_ones(
        factor in fraction(),
        mantissa in prop_oneof![-2_000_000i64..2_000_000, -999_999_999_999i64..999_999_999_999],
        scale in 0u8..7,
        decimals in 0u8..9,
    ) {
        let made = Factor::new(factor.clone()).times(Decimal { mantissa, scale }, decimals);
        let exact = factor * BigRational::new(mantissa.into(), BigInt::from(10).pow(scale.into()));
        let away = made.fraction() - &exact;
        let half = BigRational::new(1.into(), BigInt::from(2) * BigInt::from(10).pow(made.scale.into()));
        prop_assert!(away.abs() <= half, "{} is not the nearest to {}", made, exact);
        if away.abs() == half {
            prop_assert_eq!(made.mantissa % 2, 0, "a tie goes to the even one");
        }
        prop_assert!(made.scale == decimals || exact.abs() * BigInt::from(10).pow((made.scale + 1).into()) >= BigRational::from_integer((LIMIT - 1).into()));
    }

    /// Adjusting and undoing it is the identity within rounding.
    #[test]
    fn adjusting_can_be_undone(factor in fraction(), mantissa in 1i64..10_000_000) {
        prop_assume!(factor > BigRational::new(1.into(), 1000.into()) && factor < BigRational::from_integer(1000.into()));
        let price = Decimal { mantissa, scale: 2 };
        let there = Factor::new(factor.clone()).times(price, 9);
        let back = Factor::new(factor.recip()).times(there, 9);
        prop_assert!((back.units(9) - price.units(9)).abs() <= 1000, "{} became {}", price, back);
    }

    /// Across an ex-date an adjusted return is that of a holder who reinvests: P / (C − D) − 1.
    #[test]
    fn returns_are_those_of_a_holder_who_reinvests(close in 100i64..100_000, part in 1i64..99, open in 100i64..100_000) {
        let (close, dividend) = (Decimal { mantissa: close, scale: 2 }, Decimal { mantissa: close * part, scale: 4 });
        let paid = action("dividend", &format!("ex_date=2025-03-17 amount={dividend}"));
        let found = judge(vec![paid], Adjust::All, day("2025-04-09"), "NZD", |d| d, |_| Some((day("2025-03-14"), close)), |_, _| None);
        let factors = Factors::of(&found, Slot::on, None);
        let before = close.fraction() * &factors.at(Slot::on(day("2025-03-14"))).price.exact;
        let price = (Decimal { mantissa: open, scale: 2 }).fraction();
        prop_assert_eq!(&price / before, price / (close.fraction() - dividend.fraction()));
    }
}
