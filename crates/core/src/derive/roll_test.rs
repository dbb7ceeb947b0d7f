use super::*;
use crate::{Calendar, Venue, venue::Week};
use num_traits::ToPrimitive;
use proptest::prelude::*;

fn date(text: &str) -> TradeDate {
    text.parse().unwrap()
}

fn number(text: &str) -> Decimal {
    text.parse().unwrap()
}

/// Mondays to Fridays of 2024 and 2025.
fn calendar() -> Calendar {
    let from = date("2024-01-01");
    let week = Week { from, days: [true, true, true, true, true, false, false], stretches: vec!["10:00-16:00".parse().unwrap()] };
    let zone = jiff::tz::TimeZone::UTC;
    let venue = Venue { code: "CORF".into(), name: "Corran".into(), zone, weeks: vec![week], special: Default::default() };
    Calendar::new(&venue, from..date("2026-01-01"))
}

/// A contract with a bar in every session from a date to its last one; its close and volume are told by the session.
fn contract(symbol: &str, from: &str, last: &str, calendar: &Calendar, bar: impl Fn(TradeDate) -> (&'static str, i64)) -> Contract {
    let sessions = calendar.between(date(from)..date(last).plus(1));
    let day = |s: &Session| {
        let (close, volume) = bar(s.date);
        Day { date: s.date, close: number(close), volume: Decimal { mantissa: volume, scale: 0 }, open_interest: None }
    };
    let days = sessions.iter().map(day).collect();
    Contract { symbol: symbol.into(), expiry: date(last), first_notice: None, last_traded: date(last), days }
}

fn line(from: &str, contract: &str, for_one: Option<&str>) -> Line {
    Line { from: date(from), contract: contract.to_owned(), for_one: for_one.map(number) }
}

fn two(calendar: &Calendar) -> Vec<Contract> {
    // From 5 March on the later one has the larger volume, but for the 6th.
    let volume = |d: TradeDate| if d >= date("2025-03-05") && d != date("2025-03-06") { 30 } else { 5 };
    vec![
        contract("NEAR", "2025-01-02", "2025-03-20", calendar, |_| ("10.00", 20)),
        contract("FAR", "2025-01-02", "2025-06-20", calendar, move |d| ("10.50", volume(d))),
    ]
}

fn rolls(contracts: &[Contract], by: &By) -> Rolled {
    let calendar = calendar();
    rolled(contracts, calendar.sessions(), calendar.sessions().partition_point(|s| s.date <= date("2025-05-30")), by, 1)
}

#[test]
fn each_rule_rolls_on_its_day() {
    let calendar = calendar();
    let mut contracts = two(&calendar);
    let from = |contracts: &[Contract], by: By| {
        let found = rolls(contracts, &by);
        assert_eq!((found.legs.len(), found.rolls.len()), (2, 1), "{by:?}");
        (found.rolls[0].decided.to_string(), found.rolls[0].from.to_string(), found.rolls[0].at_the_latest)
    };
    let on = |decided: &str, from: &str| (decided.to_owned(), from.to_owned(), false);
    // The last trading day is Thursday the 20th: five sessions before it is Thursday the 13th.
    assert_eq!(from(&contracts, By::BeforeExpiry(5)), on("2025-03-12", "2025-03-13"));
    assert_eq!(from(&contracts, By::DayOfMonth { day: 8, months_before: 0 }), on("2025-03-07", "2025-03-10"));
    assert_eq!(from(&contracts, By::DayOfMonth { day: 31, months_before: 1 }), on("2025-02-27", "2025-02-28"));
    // The 5th stands alone: two sessions running are the 7th and the 10th.
    assert_eq!(from(&contracts, By::Volume(1)), on("2025-03-05", "2025-03-06"));
    assert_eq!(from(&contracts, By::Volume(2)), on("2025-03-10", "2025-03-11"));
    let table = [("2025-01-02", "NEAR"), ("2025-02-18", "FAR")];
    assert_eq!(
        from(&contracts, By::Table(table.map(|(from, contract)| line(from, contract, None)).to_vec())),
        on("2025-02-17", "2025-02-18")
    );
    // At the latest the session before the last trading day, or before first notice, is the next one's.
    assert_eq!(from(&contracts, By::Volume(90)), ("2025-03-18".to_owned(), "2025-03-19".to_owned(), true));
    contracts[0].first_notice = Some(date("2025-03-03"));
    assert_eq!(from(&contracts, By::Volume(1)), ("2025-02-27".to_owned(), "2025-02-28".to_owned(), true));
    assert_eq!(from(&contracts, By::BeforeNotice(3)), on("2025-02-25", "2025-02-26"));
}

#[test]
fn an_open_interest_counts_from_the_session_after() {
    let calendar = calendar();
    let mut contracts = two(&calendar);
    // What is traded is held, too.
    contracts.iter_mut().flat_map(|c| &mut c.days).for_each(|day| day.open_interest = Some(day.volume));
    let from = |contracts: &[Contract], n: u32| {
        let found = rolls(contracts, &By::OpenInterest(n));
        (found.rolls[0].decided.to_string(), found.rolls[0].from.to_string(), found.rolls[0].at_the_latest)
    };
    // The larger one of the 5th is told on the 6th.
    assert_eq!(from(&contracts, 1), ("2025-03-06".to_owned(), "2025-03-07".to_owned(), false));
    assert_eq!(from(&contracts, 2), ("2025-03-11".to_owned(), "2025-03-12".to_owned(), false));
    assert!(rolls(&contracts, &By::OpenInterest(2)).rolls[0].why.contains("open interest"));
    // A session of which one is not told confirms nothing, however large the other.
    let untold = contracts[0].days.iter_mut().find(|d| d.date == date("2025-03-10")).unwrap();
    untold.open_interest = None;
    assert_eq!(from(&contracts, 2), ("2025-03-13".to_owned(), "2025-03-14".to_owned(), false));
    contracts[0].days.iter_mut().for_each(|day| day.open_interest = None);
    let silent = rolls(&contracts, &By::OpenInterest(1));
    assert!(silent.rolls[0].at_the_latest && silent.notes[0].starts_with("NEAR: no source tells the open interest"), "{silent:?}");
}

#[test]
fn what_lacks_is_passed_over_or_told() {
    let calendar = calendar();
    let mut contracts = two(&calendar);
    let dead = Contract { days: vec![], ..contract("DEAD", "2025-01-02", "2025-04-17", &calendar, |_| ("1", 1)) };
    contracts.insert(1, dead);
    let found = rolls(&contracts, &By::BeforeExpiry(5));
    assert_eq!(found.rolls[0].contracts, (0, 2));
    assert!(found.notes[0].contains("DEAD: no bar when the chain came to it"), "{:?}", found.notes);
    // Closes are those of the newest session up to the roll in which both traded, or there are none.
    let mut contracts = two(&calendar);
    contracts[1].days.retain(|d| d.date != date("2025-03-12") && d.date != date("2025-03-11"));
    let found = rolls(&contracts, &By::BeforeExpiry(5));
    assert_eq!(found.rolls[0].closes, Some((date("2025-03-10"), number("10.00"), number("10.50"))));
    assert!(found.notes[0].contains("the closes are of 2025-03-10"), "{:?}", found.notes);
    contracts[1].days.retain(|d| d.date > date("2025-03-12"));
    let found = rolls(&contracts, &By::BeforeExpiry(5));
    assert_eq!(found.rolls[0].closes, None);
    assert_eq!(shifts(&found.rolls, 2, false).unwrap()[0], number("0"));
    assert!(rolls(&[], &By::Volume(1)).legs.is_empty());
}

#[test]
fn a_price_below_nought_has_a_difference_and_no_ratio() {
    let calendar = calendar();
    let mut contracts = two(&calendar);
    contracts[0] = contract("NEAR", "2025-01-02", "2025-03-20", &calendar, |_| ("-0.25", 20));
    let found = rolls(&contracts, &By::BeforeExpiry(5));
    assert_eq!(shifts(&found.rolls, 2, false).unwrap(), [number("10.75"), number("0")]);
    assert_eq!(shifts(&found.rolls, 2, true).unwrap(), [number("0"), number("-10.75")]);
    assert!(ratios(&found.rolls, 2, false).iter().all(One::is_one));
}

#[test]
fn an_exchange_ratio_counts_whatever_the_closes_were() {
    let calendar = calendar();
    let mut contracts = two(&calendar);
    let by = By::Table(vec![line("2025-01-02", "NEAR", None), line("2025-02-18", "FAR", Some("0.75"))]);
    let found = rolls(&contracts, &by);
    assert_eq!(found.rolls[0].ratio(), Some(number("1.333333333333")));
    assert_eq!(ratios(&found.rolls, 2, false)[0], BigRational::new(4.into(), 3.into()));
    assert_eq!(ratios(&found.rolls, 2, true)[1], BigRational::new(3.into(), 4.into()));
    assert_eq!(found.rolls[0].why, "by the table, 0.75 for one");
    // It needs no session in which both traded.
    contracts[1].days.retain(|d| d.date > date("2025-02-17"));
    let found = rolls(&contracts, &by);
    assert!(found.rolls[0].closes.is_none() && found.notes.is_empty(), "{:?}", found.notes);
    assert_eq!(ratios(&found.rolls, 2, false)[0], BigRational::new(4.into(), 3.into()));
}

/// A chain of contracts, a month apart, with closes and volumes as they come; some sessions are missing.
fn chain() -> impl Strategy<Value = Vec<Contract>> {
    let bars = prop::collection::vec((500i64..2000, 0i64..100, prop::bool::weighted(0.9)), 270);
    prop::collection::vec(bars, 2..6).prop_map(|all| {
        let calendar = calendar();
        let one = |(at, bars): (usize, Vec<(i64, i64, bool)>)| {
            let last = calendar.between(date("2025-02-20").plus(at as i32 * 40)..date("2026-01-01"))[0].date;
            let sessions = calendar.between(last.plus(-200)..last.plus(1));
            let days = sessions.iter().zip(bars).filter(|(_, bar)| bar.2).map(|(s, (close, volume, _))| Day {
                date: s.date,
                close: Decimal { mantissa: close, scale: 2 },
                volume: Decimal { mantissa: volume, scale: 0 },
                // A second number as wild as the first, sometimes untold.
                open_interest: (close % 13 > 0).then_some(Decimal { mantissa: close * 31 % 97, scale: 0 }),
            });
            Contract { symbol: format!("C{at}"), expiry: last, first_notice: None, last_traded: last, days: days.collect() }
        };
        all.into_iter().enumerate().map(one).collect()
    })
}

proptest! {
    #[test]
    fn a_chain_never_goes_back_and_no_roll_knows_what_comes_after(contracts in chain(), confirmed in 1u32..4, held in any::<bool>(), cut in 20usize..300) {
        let calendar = calendar();
        let sessions = calendar.sessions();
        let by = if held { By::OpenInterest(confirmed) } else { By::Volume(confirmed) };
        let whole = rolled(&contracts, sessions, sessions.len() - 5, &by, 1);
        for roll in &whole.rolls {
            prop_assert!(roll.contracts.1 > roll.contracts.0 && roll.decided < roll.from);
            // The old contract is let go in time, and both closes were out when it was decided.
            let old = &contracts[roll.contracts.0];
            let limit = sessions.partition_point(|s| s.date < old.limit());
            prop_assert!(roll.from <= sessions[limit - 1].date);
            prop_assert!(roll.closes.is_none_or(|(on, ..)| on <= roll.decided));
        }
        for (a, b) in whole.legs.iter().zip(&whole.legs[1..]) {
            prop_assert_eq!(a.to, Some(b.from));
        }
        // Bars after a session that has closed change nothing of what had been decided by then.
        let then = sessions.len() - 5 - cut;
        let known: Vec<Contract> = contracts
            .iter()
            .map(|c| Contract { days: c.days.iter().copied().filter(|d| d.date <= sessions[then - 1].date).collect(), ..c.clone() })
            // The open interest of the last session is not out yet.
            .map(|mut c| {
                c.days.iter_mut().filter(|d| d.date == sessions[then - 1].date).for_each(|d| d.open_interest = None);
                c
            })
            .collect();
        let before = rolled(&known, sessions, then, &by, 1);
        let decided: Vec<&Roll> = whole.rolls.iter().filter(|r| r.decided <= sessions[then - 1].date).collect();
        prop_assert_eq!(before.rolls.iter().collect::<Vec<_>>(), decided);
    }

    #[test]
    fn differences_stay_under_a_difference_and_returns_under_a_ratio(contracts in chain(), oldest in any::<bool>()) {
        let calendar = calendar();
        let found = rolled(&contracts, calendar.sessions(), calendar.sessions().len() - 5, &By::BeforeExpiry(4), 1);
        let shifts = shifts(&found.rolls, found.legs.len(), oldest).unwrap();
        let ratios = ratios(&found.rolls, found.legs.len(), oldest);
        let anchor = if oldest { 0 } else { found.legs.len() - 1 };
        prop_assert!(shifts[anchor].mantissa == 0 && ratios[anchor].is_one());
        for (at, roll) in found.rolls.iter().enumerate() {
            let Some((_, old, new)) = roll.closes else { continue };
            // On the session of the roll both contracts meet.
            let shifted = |price: Decimal, by: Decimal| price.minus(Decimal { mantissa: -by.mantissa, ..by }).unwrap();
            prop_assert_eq!(shifted(old, shifts[at]), shifted(new, shifts[at + 1]));
            prop_assert_eq!(old.fraction() * &ratios[at], new.fraction() * &ratios[at + 1]);
            prop_assert!(ratios[at].to_f64().unwrap() > 0.0);
        }
    }
}
