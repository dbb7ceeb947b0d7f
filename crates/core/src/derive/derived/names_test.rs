use super::*;
use proptest::prelude::*;

fn any_window() -> impl Strategy<Value = Window> {
    let reach = prop_oneof![(2..=MOST_BARS).prop_map(WindowLength::Bars), (2..=MOST_SESSIONS).prop_map(WindowLength::Sessions)];
    ((0..FUNCTIONS.len()).prop_map(|at| FUNCTIONS[at].0), reach).prop_map(|(function, reach)| Window { function, reach })
}

proptest! {
    #[test]
    fn every_number_has_a_name_that_reads_back(
        outer in proptest::option::of(any_window()), inner in proptest::option::of(any_window()), of in 0..QUANTITIES.len(),
    ) {
        // A window over nothing but another is the inner one.
        let (outer, inner) = if inner.is_none() { (None, outer) } else { (outer, inner) };
        let derived = Derived { outer, inner, of: QUANTITIES[of].0 };
        prop_assert_eq!(derived.to_string().parse::<Derived>(), Ok(derived));
    }

    #[test]
    fn no_text_is_too_odd_to_be_refused(text in "[a-z_0-9]{0,40}") {
        if let Ok(derived) = text.parse::<Derived>() {
            prop_assert_eq!(derived.to_string().parse::<Derived>(), Ok(derived));
        }
    }
}

#[test]
fn what_is_wrong_with_a_name_is_said() {
    for (name, why) in [
        ("mean", "`mean`: mean goes over 1 to 2000 bars; write it like mean_20 or mean_5_sessions"),
        ("deviation_1", "`deviation_1`: deviation goes over 2 to 2000 bars; write it like deviation_20 or deviation_5_sessions"),
        ("mean_90_sessions", "`mean_90_sessions`: mean goes over 1 to 60 sessions; write it like mean_20 or mean_5_sessions"),
        ("mean_02_of_low", "`mean_02_of_low`: mean goes over 1 to 2000 bars; write it like mean_20 or mean_5_sessions"),
        (
            "median_5",
            "`median_5` is no number of a bar; there is open, high, low, close, volume, open_interest, mid, spread, typical, turnover, change, range, gap, return, \
             log_return, total_return, drawdown, rises, falls, age, days_to_expiry; and over the last bars mean_N, deviation_N, sum_N, lowest_N, \
             highest_N, drawdown_N",
        ),
        ("mean_5_of_sum_5_of_mean_5", "`mean_5_of_sum_5_of_mean_5` is a window over a window over a window; there are at most two"),
    ] {
        assert_eq!(name.parse::<Derived>().unwrap_err().to_string(), why);
    }
}

#[test]
fn a_number_knows_what_it_follows_from() {
    let named = |name: &str| name.parse::<Derived>().unwrap();
    for (name, one_bar, sessions) in [
        ("range", true, false),
        ("age", true, false),
        ("change", false, false),
        ("drawdown", false, false),
        // Of one bar only by chance: a window is one all the same.
        ("drawdown_1", false, false),
        ("mean_1_sessions", false, true),
        ("highest_20_of_mean_2_sessions", false, true),
    ] {
        assert_eq!((named(name).is_of_one_bar(), named(name).goes_over_sessions()), (one_bar, sessions), "{name}");
    }
}

#[test]
fn a_number_knows_how_much_it_needs_before_its_bar() {
    let needs = |name: &str| name.parse::<Derived>().unwrap().needs();
    assert_eq!(needs("range"), Needs::default());
    assert_eq!(needs("return"), Needs { bars: 1, sessions: 0 });
    assert_eq!(needs("deviation_20_of_return"), Needs { bars: 20, sessions: 0 });
    assert_eq!(needs("mean_5_sessions_of_mean_50"), Needs { bars: 49, sessions: 4 });
}
