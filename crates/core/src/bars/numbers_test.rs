use super::*;
use crate::{bar::Bar, slot::Slot};
use proptest::prelude::*;

/// What a bar says of itself.
type Told = fn(&Bar) -> Option<Decimal>;

prop_compose! {
    fn number()(mantissa in -999_999i64..1_000_000, scale in 0u8..4) -> Decimal {
        Decimal { mantissa, scale }
    }
}

/// As they are printed, an empty text for an absent one.
fn printed(numbers: impl Iterator<Item = Option<Decimal>>) -> Vec<String> {
    numbers.map(|n| n.map_or(String::new(), |n| n.to_string())).collect()
}

proptest! {
    #[test]
    fn numbers_come_out_as_they_went_in(
        first in prop::collection::vec(prop::option::weighted(0.8, number()), 0..40),
        more in prop::collection::vec(prop::option::weighted(0.8, number()), 0..40),
    ) {
        let mut numbers: Numbers = first.iter().copied().collect();
        numbers.append(more.iter().copied().collect());
        let all = [first, more].concat();
        prop_assert_eq!(printed(numbers.iter()), printed(all.iter().copied()));
        prop_assert_eq!(printed((0..=all.len()).map(|at| numbers.get(at))), printed(all.iter().copied().chain([None])));
        prop_assert_eq!((numbers.len(), numbers.is_empty()), (all.len(), all.is_empty()));
        // Whole numbers at one scale stand for all, or there are no such.
        let scales: std::collections::BTreeSet<Option<u8>> = all.iter().map(|n| n.map(|n| n.scale)).collect();
        let alike = scales.len() == 1 && !scales.contains(&None);
        prop_assert_eq!(numbers.alike().is_some(), alike);
        if let Some((mantissas, scale)) = numbers.alike() {
            let whole = mantissas.iter().map(|&mantissa| Some(Decimal { mantissa, scale }));
            prop_assert_eq!(printed(whole), printed(numbers.iter()));
        }
    }

    #[test]
    fn a_field_of_bars_is_what_each_bar_says(
        rows in prop::collection::vec((prop::array::uniform4(number()), prop::option::of(number()), prop::option::of(number())), 0..40),
    ) {
        let bars: Vec<Bar> =
            (0..).zip(rows).map(|(slot, (prices, volume, interest))| Bar::new(Slot(slot), prices, volume).with_open_interest(interest)).collect();
        let fields: [(Field, Told); 6] = [
            (Field::Open, |bar| Some(bar.open())),
            (Field::High, |bar| Some(bar.high())),
            (Field::Low, |bar| Some(bar.low())),
            (Field::Close, |bar| Some(bar.close())),
            (Field::Volume, Bar::volume),
            (Field::OpenInterest, Bar::open_interest),
        ];
        for (field, of) in fields {
            let expected = printed(bars.iter().map(of));
            prop_assert_eq!(&printed(Numbers::of(field, &bars).iter()), &expected, "{:?}", field);
            prop_assert_eq!(&printed(bars.iter().map(|bar| bar.get(field))), &expected, "{:?}", field);
        }
    }
}

#[test]
fn equal_values_are_equal_however_they_are_printed() {
    let numbers = |texts: &[&str]| texts.iter().map(|text| text.parse().ok()).collect::<Numbers>();
    assert_eq!(numbers(&["7.5", "", "3"]), numbers(&["7.50", "", "3.0"]));
    assert_ne!(numbers(&["0"]), numbers(&[""]));
    assert_ne!(numbers(&["0", "0"]), numbers(&["0"]));
}
