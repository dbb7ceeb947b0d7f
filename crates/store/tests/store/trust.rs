//! What is accepted, decided and read while a basis changes; and how little of a long ledger is read.

use crate::common::{NOW, WHOLE, cents, opened};
use mizuno_core::{Bar, Bars, Interval, Slot, Span, Timestamp, gap::Outcome};
use mizuno_store::{
    Store, StoreError,
    answers::{Answer, Understood},
    fetch::{AnsweredPage, Failed},
    quarantine::{Decision, Suspect},
    series::SeriesRow,
};

fn days(days: std::ops::Range<i64>, price: i64) -> Bars {
    days.map(|d| Bar::new(Slot(d), [cents(price); 4], None)).collect()
}

async fn fetch(store: &Store, run: i64, series: &SeriesRow, window: std::ops::Range<i64>) -> i64 {
    let page = AnsweredPage { request: "GET /".into(), status: Some(200), body: Some(b"x".to_vec()), ..AnsweredPage::default() };
    let window = Slot(window.start)..Slot(window.end);
    let answer = Answer { run, series: series.id, window, asked_at: NOW, answered_at: NOW, attempts: 1, pages: vec![page] };
    store.keep_answer(answer).await.unwrap().id
}

async fn keep(store: &Store, fetch: i64, series: &SeriesRow, bars: Bars, suspects: Vec<Suspect>) {
    let understood = Understood { rows: bars.rows.len() as u64, bars, suspects, unfinished: 0, outside: 0 };
    store.keep_bars(fetch, series.id, series.key.interval, understood).await.unwrap();
}

#[tokio::test]
async fn while_a_basis_changes_readers_see_the_old_one_and_then_the_new_one_whole() {
    let (_dir, store, series, run) = opened(Interval::Daily).await;
    let first = fetch(&store, run, &series, 100..110).await;
    keep(&store, first, &series, days(100..110, 1000), vec![]).await;
    let old = store.bars(&series, WHOLE, Timestamp::MAX).await.unwrap();
    store.begin_rebasing(series.id, "0.5".into(), store.newest().plus(1)).await.unwrap();
    let second = fetch(&store, run, &series, 108..112).await;
    keep(&store, second, &series, days(108..112, 500), vec![]).await;
    store.begin_rebasing(series.id, "0.5".into(), NOW).await.unwrap();
    assert_eq!(store.rebasings(None).await.unwrap().len(), 1, "it changes once");
    assert_eq!(store.bars(&series, WHOLE, Timestamp::MAX).await.unwrap(), old);
    let between = store.newest();
    let third = fetch(&store, run, &series, 100..108).await;
    keep(&store, third, &series, days(100..108, 500), vec![]).await;
    assert_eq!(store.bars(&series, WHOLE, Timestamp::MAX).await.unwrap(), old, "not a moment before all is here");
    let revision = store.series().await.unwrap().get(series.id).unwrap().revision;
    store.end_rebasing(series.id, None).await.unwrap();
    let now = store.bars(&series, WHOLE, Timestamp::MAX).await.unwrap();
    assert_eq!(now, days(100..112, 500));
    assert!(store.series().await.unwrap().get(series.id).unwrap().revision > revision, "a validator from before no longer holds");
    assert_eq!(store.bars(&series, WHOLE, between).await.unwrap(), old, "as of a moment in between, what readers saw then");
    assert!(store.rebasings(Some(series.id)).await.unwrap()[0].ended_at.is_some());
    assert_eq!(store.versions(&series, WHOLE, Timestamp::MAX).await.unwrap().rows.len(), 22, "every version is kept");
}

#[tokio::test]
async fn an_accepted_finding_is_no_accepted_absence() {
    let (_dir, store, series, _) = opened(Interval::Daily).await;
    let span = Slot(10)..Slot(12);
    let ids = store.excuse(vec![(series.id, span.clone(), Some("spike".into()))], "mere".into(), "a real trade".into()).await.unwrap();
    assert!(store.excused(Timestamp::MAX).await.unwrap().is_empty());
    let accepted = |at| {
        let store = store.clone();
        async move { store.accepted(at).await.unwrap().remove(&1).unwrap_or_default() }
    };
    assert_eq!(accepted(Timestamp::MAX).await, [("spike".to_owned(), span.clone())]);
    assert!(accepted(NOW.plus(-1)).await.is_empty(), "as of before, nobody had");
    let between = store.newest();
    store.revoke_excuse(ids[0]).await.unwrap();
    assert!(accepted(Timestamp::MAX).await.is_empty());
    assert_eq!(accepted(between).await.len(), 1, "as of in between, it held");
}

#[tokio::test]
async fn what_is_ruled_changes_with_a_refused_row_or_an_acceptance_and_with_no_bar() {
    let (_dir, store, series, run) = opened(Interval::Daily).await;
    let refused = || vec![Suspect::one(Some(Slot(104)), 0, 5, "closed-market", "1970-04-15,99".into())];
    let mut since = vec![store.judged_since()];
    let learned = [(100, vec![]), (101, refused()), (102, refused()), (103, vec![])];
    for (day, suspects) in learned {
        let id = fetch(&store, run, &series, 100..110).await;
        keep(&store, id, &series, days(day..day + 1, 1000), suspects).await;
        since.push(store.judged_since());
    }
    assert!(since[2] > since[1], "the row is new");
    assert_eq!((since[0], since[2]), (since[1], since[4]), "a bar rules nothing, and neither does the same row again");
    let ids = store.excuse(vec![(series.id, Slot(100)..Slot(101), Some("spike".into()))], "mere".into(), "real".into()).await.unwrap();
    let accepted = store.judged_since();
    store.revoke_excuse(ids[0]).await.unwrap();
    assert!(since[4] < accepted && accepted < store.judged_since());
    assert_eq!(store.judged_since(), store.newest());
}

#[tokio::test]
async fn a_decision_is_made_once_and_a_taken_bar_becomes_a_version() {
    let (_dir, store, series, run) = opened(Interval::Daily).await;
    let first = fetch(&store, run, &series, 100..110).await;
    let suspect = Suspect::one(Some(Slot(105)), 0, 6, "held-back", "1970-04-16,99".into());
    keep(&store, first, &series, days(100..110, 1000), vec![suspect]).await;
    let row = store.quarantine(None, 10).await.unwrap().remove(0);
    assert_eq!(row.decision, None);
    let decision = Decision { taken: true, by: "mere".into(), at: NOW };
    store.decide(row.id, decision.clone(), Some((series.clone(), days(105..106, 9900)))).await.unwrap();
    assert_eq!(store.quarantine(None, 10).await.unwrap()[0].decision, Some(Decision { at: store.newest(), ..decision.clone() }));
    assert_eq!(store.bars(&series, WHOLE, Timestamp::MAX).await.unwrap().rows[5].close(), cents(9900));
    let again = store.decide(row.id, Decision { taken: false, ..decision }, None).await;
    assert!(matches!(again, Err(StoreError::Unknown { .. })), "{again:?}");
}

#[tokio::test]
async fn only_what_touches_the_spans_asked_about_is_read_of_the_ledger() {
    let (_dir, store, series, run) = opened(Interval::Daily).await;
    let mut ids = vec![];
    for start in (0..1000).step_by(10) {
        ids.push(fetch(&store, run, &series, start..start + 10).await);
    }
    let failed = Answer {
        run,
        series: series.id,
        window: Slot(55)..Slot(58),
        asked_at: NOW.plus(9),
        answered_at: NOW.plus(10),
        attempts: 4,
        pages: vec![AnsweredPage::default()],
    };
    let failure = Failed { class: "timed-out".into(), message: "no answer".into() };
    ids.push(store.keep_failure(failed, failure).await.unwrap().id);
    let asked = async |spans: &[(i64, std::ops::Range<i64>)]| {
        let spans: Vec<(i64, Span)> = spans.iter().map(|(s, r)| (*s, Slot(r.start)..Slot(r.end))).collect();
        store.asked(&spans, Timestamp::MAX).await.unwrap().remove(&series.id).unwrap_or_default()
    };
    let found = asked(&[(series.id, 50..60), (series.id, 55..56)]).await;
    assert_eq!(found.iter().map(|a| a.fetch).collect::<Vec<_>>(), [ids[5], ids[100]], "each once, oldest first");
    assert_eq!((found[1].outcome, found[1].sent), (Outcome::Failed, NOW.plus(9)));
    assert_eq!(asked(&[(series.id, 60..60)]).await.len(), 0, "nothing touches an empty span");
    assert_eq!(asked(&[(series.id, i64::MIN..i64::MAX)]).await.len(), 101);
    assert!(asked(&[(series.id + 1, 0..1000)]).await.is_empty() && asked(&[]).await.is_empty());
    assert_eq!(store.figures(run).await.unwrap().failures.into_iter().collect::<Vec<_>>(), [("timed-out".to_owned(), 1)]);
    assert_eq!((store.failed_since(NOW).await.unwrap(), store.failed_since(store.newest()).await.unwrap()), (1, 0));
}
