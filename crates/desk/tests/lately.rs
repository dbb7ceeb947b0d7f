//! What many want at once is worked out by one.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test stops at once when something is not as it needs it")]

use futures_util::future::join_all;
use mizuno_desk::lately::{Lately, OfSeries};
use std::sync::atomic::{AtomicU32, Ordering};

const WANTED: &str = "as the test wants it";

/// Ten times `of`, after others had their turn; counts how often it is worked out.
async fn slow(times: &AtomicU32, of: u32, fails: bool) -> Result<u32, &'static str> {
    tokio::task::yield_now().await;
    times.fetch_add(1, Ordering::SeqCst);
    if fails { Err(WANTED) } else { Ok(of * 10) }
}

#[tokio::test]
async fn what_many_want_at_once_of_a_series_is_worked_out_once() {
    let (kept, times) = (OfSeries::<u32, u32>::default(), AtomicU32::new(0));
    let want = async |series: i64, from: u32, fails| kept.recall_or(series, &from, slow(&times, from, fails)).await.map(|found| *found);
    let all = join_all((0..64).map(|_| want(1, 7, false))).await;
    assert!(all.iter().all(|found| *found == Ok(70)));
    assert_eq!(times.load(Ordering::SeqCst), 1);
    // Other series, and another state of the same one, are worked out by themselves.
    assert_eq!((want(2, 7, false).await, want(1, 8, false).await), (Ok(70), Ok(80)));
    assert_eq!((times.load(Ordering::SeqCst), kept.recall(1, &7), kept.last(1).as_deref()), (3, None, Some(&80)));
    // Who fails keeps nobody from trying, and what was known before is still told of.
    assert_eq!((want(3, 1, true).await, want(3, 1, false).await), (Err(WANTED), Ok(10)));
    assert_eq!((want(1, 9, true).await, kept.last(1).as_deref()), (Err(WANTED), Some(&80)));
}

#[tokio::test]
async fn what_many_want_at_once_by_a_key_is_worked_out_once_and_the_oldest_goes() {
    let (kept, times) = (Lately::<u32, u32>::of(2), AtomicU32::new(0));
    let want = async |key: u32, fails| kept.recall_or(key, slow(&times, key, fails)).await.map(|found| *found);
    // Some give up waiting, the first among them, who works it out.
    let mut gone: Vec<_> = (0..3).map(|_| Box::pin(want(7, false))).collect();
    for one in &mut gone {
        assert!(futures_util::poll!(one).is_pending());
    }
    drop(gone);
    let all = join_all((0..64).map(|_| want(7, false))).await;
    assert!(all.iter().all(|found| *found == Ok(70)));
    assert_eq!(times.load(Ordering::SeqCst), 1);
    assert_eq!((want(8, true).await, want(8, false).await, want(9, false).await), (Err(WANTED), Ok(80), Ok(90)));
    assert_eq!((kept.recall(&7), kept.recall(&8).as_deref(), kept.recall(&9).as_deref()), (None, Some(&80), Some(&90)));
    kept.keep(8, 88);
    assert_eq!((want(8, false).await, times.load(Ordering::SeqCst)), (Ok(88), 4));
}
