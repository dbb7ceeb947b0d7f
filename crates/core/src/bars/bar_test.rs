use super::*;

fn bar(slot: i64, text: &str) -> Bar {
    Bar::new(Slot(slot), [text.parse().unwrap(); 4], None)
}

#[test]
fn digits_of_one_bar_never_depend_on_another() {
    let texts = ["0.000000000012", "1000000.5", "7.489999771118164", "-3.10", "999999999999999999", "0.000000000000000001"];
    let bars: Bars = (0..).zip(texts).map(|(slot, text)| bar(slot, text)).collect();
    let printed: Vec<String> = bars.rows.iter().map(|b| b.close().to_string()).collect();
    assert_eq!(printed, texts);
    let (price, volume) = bars.digits();
    assert_eq!((price, volume), (Digits { whole: 18, scale: 18 }, Digits::default()));
    assert!(!price.fit() && Digits { whole: 7, scale: 11 }.fit());
}

#[test]
fn equal_values_are_the_same_bar_however_they_are_printed() {
    assert_eq!(bar(1, "7.5"), bar(1, "7.500"));
    assert_ne!(bar(1, "7.5"), bar(2, "7.5"));
    let with = Bar::new(Slot(1), bar(1, "7.5").prices(), Some("0".parse().unwrap()));
    assert_ne!(with, bar(1, "7.5"), "a volume of nought is one");
    assert!(bar(1, "7.50").is_printed_with(2, 0, 0) && !bar(1, "7.5").is_printed_with(2, 0, 0) && !with.is_printed_with(1, 2, 0));
    assert_eq!(size_of::<Bar>(), 64, "millions of bars are read at once");
}

#[test]
fn an_open_interest_is_part_of_a_bar_and_completes_one_without() {
    let (without, with) = (bar(1, "7.5"), bar(1, "7.50").with_open_interest(Some("20.0".parse().unwrap())));
    assert_ne!(with, without);
    assert_eq!(with, bar(1, "7.500").with_open_interest(Some("20".parse().unwrap())));
    assert!(with.is_printed_with(2, 0, 1) && !with.is_printed_with(2, 0, 0));
    assert!(with.completes(&without) && !without.completes(&with));
    let other = bar(1, "7.51").with_open_interest(with.open_interest());
    let restated = bar(1, "7.5").with_open_interest(Some("21".parse().unwrap()));
    assert!(!other.completes(&without) && !restated.completes(&with), "a number that changed is no completion");
    assert!(!bar(2, "7.5").with_open_interest(with.open_interest()).completes(&without));
}

#[test]
fn a_mid_is_half_way_and_one_that_cannot_be_written_is_left_out() {
    let bid: Bars = [bar(1, "1.25"), bar(2, "1.25"), bar(3, "0.000000000000000001")].into_iter().collect();
    let ask: Bars = [bar(1, "1.26"), bar(3, "0.000000000000000002")].into_iter().collect();
    let (mids, too_precise) = mid(&bid, &ask);
    assert_eq!((mids.len(), mids[0].0.close().to_string(), mids[0].1), (1, "1.255".to_owned(), 0));
    assert_eq!(too_precise, [2]);
}
