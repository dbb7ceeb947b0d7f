//! Work that is done side by side for one answer.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test stops at once when something is not as it needs it")]

use futures_util::{TryStreamExt, stream};
use mizuno_desk::{DeskError, hands::Hands};
use proptest::prelude::*;
use std::sync::{
    Arc,
    atomic::{AtomicUsize, Ordering},
};

fn wait<T>(work: impl Future<Output = T>) -> T {
    tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap().block_on(work)
}

/// Doubles numbers, each after having let others go first a few times; one is refused.
fn doubled(hands: &Hands, many: Vec<u64>, refused: Option<u64>) -> Result<Vec<u64>, DeskError> {
    let work = move |n: u64| async move {
        for _ in 0..n % 5 {
            tokio::task::yield_now().await;
        }
        if Some(n) == refused { Err(DeskError::Invalid(format!("{n} is refused"))) } else { Ok(2 * n) }
    };
    wait(hands.side_by_side("doubling", many, work).try_collect())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn what_comes_of_many_stands_in_their_order(count in 0u64..3_000, refused in 0u64..6_000) {
        let hands = Hands::start().unwrap();
        let many: Vec<u64> = (0..count).collect();
        let all = doubled(&hands, many.clone(), None).unwrap();
        prop_assert_eq!(all, many.iter().map(|n| 2 * n).collect::<Vec<_>>());
        match doubled(&hands, many, Some(refused)) {
            Ok(_) => prop_assert!(refused >= count),
            Err(error) => prop_assert_eq!((refused < count, error.to_string()), (true, format!("{refused} is refused"))),
        }
    }
}

#[test]
fn one_that_breaks_is_an_error_and_stops_nobody_else() {
    let hands = Hands::start().unwrap();
    let broken = |n: u64| async move { if n == 700 { panic!("as the test wants it") } else { Ok(n) } };
    let found: Result<Vec<u64>, DeskError> = wait(hands.side_by_side("counting", 0..1_000, broken).try_collect());
    assert!(found.unwrap_err().to_string().contains("counting"));
    assert_eq!(doubled(&hands, vec![1, 2, 3], None).unwrap(), [2, 4, 6]);
}

#[test]
fn nothing_more_is_begun_once_nobody_waits() {
    let hands = Hands::start().unwrap();
    let begun = Arc::new(AtomicUsize::new(0));
    let count = begun.clone();
    let work = move |n: u64| {
        let begun = count.clone();
        async move {
            begun.fetch_add(1, Ordering::SeqCst);
            Ok(n)
        }
    };
    let first = wait(async { hands.side_by_side("counting", 0..10_000, work).try_next().await });
    assert_eq!(first.unwrap(), Some(0));
    // What is at work ends; that is a few times what a thread takes at once.
    assert!(begun.load(Ordering::SeqCst) < 1_000, "{begun:?} of 10,000");
}

#[test]
fn work_goes_ahead_by_little_and_says_how_it_ended() {
    let hands = Hands::start().unwrap();
    let begun = Arc::new(AtomicUsize::new(0));
    let count = begun.clone();
    // The numbers up to 100, where one fails and another breaks.
    let numbers = |fails: u64, breaks: u64, count: Arc<AtomicUsize>| {
        stream::try_unfold(0, move |n| {
            count.fetch_add(1, Ordering::SeqCst);
            async move {
                match n {
                    n if n == fails => Err(DeskError::Invalid(format!("{n} is refused"))),
                    n if n == breaks => panic!("as the test wants it"),
                    n => Ok((n < 100).then_some((n, n + 1))),
                }
            }
        })
    };
    let read = |fails, breaks| {
        let mut ahead = hands.ahead(0, "counting", numbers(fails, breaks, Arc::default()));
        wait(async move {
            let mut found = vec![];
            loop {
                match ahead.next().await {
                    Ok(Some(n)) => found.push(n),
                    ended => return (found, ended.map_err(|e| e.to_string())),
                }
            }
        })
    };
    assert_eq!(read(u64::MAX, u64::MAX), ((0..100).collect(), Ok(None)));
    assert_eq!(read(3, u64::MAX), (vec![0, 1, 2], Err("3 is refused".to_owned())));
    let (found, ended) = read(u64::MAX, 3);
    assert!(found == [0, 1, 2] && ended.is_err_and(|why| why.contains("counting")));
    // Nobody takes more than one.
    let mut ahead = hands.ahead(0, "counting", numbers(u64::MAX, u64::MAX, count));
    assert_eq!(wait(ahead.next()).unwrap(), Some(0));
    drop(ahead);
    std::thread::sleep(std::time::Duration::from_millis(50));
    assert!(begun.load(Ordering::SeqCst) <= 5, "{begun:?}");
}
