//! Old polls that brought nothing new are folded: everything that gaps, causes, plans and lineage read stays the same as of every instant.

use crate::common::{NOW, WHOLE, cents, open, opened};
use mizuno_core::time::MINUTE;
use mizuno_core::{Bar, Interval, Slot, Span, Timestamp};
use mizuno_store::{
    Store,
    answers::{Answer, Understood},
    fetch::{AnsweredPage, Failed},
    quarantine::Suspect,
    series::SeriesRow,
};
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg64Mcg;
use sqlx::{ConnectOptions, Row, sqlite::SqliteConnectOptions};
use std::path::Path;

fn window(from: i64, minutes: i64) -> Span {
    Slot(NOW.0 + from * MINUTE)..Slot(NOW.0 + (from + minutes) * MINUTE)
}

/// Asks once: bars for the first `bars` minutes of a window, at a price; with a body, which may be one that came before.
async fn poll(store: &Store, series: &SeriesRow, run: i64, span: &Span, bars: i64, price: i64, body: &str) -> i64 {
    let page = |body: &str| AnsweredPage { request: "GET http://127.0.0.1/KBF".into(), body: Some(body.into()), ..AnsweredPage::default() };
    let pages = vec![page(body), page("the second page")];
    let answer = Answer { run, series: series.id, window: span.clone(), asked_at: NOW, answered_at: NOW, attempts: 1, pages };
    let bar = |n| Bar::new(Slot(span.start.0 + n * MINUTE), [price; 4].map(cents), None);
    let understood = Understood { rows: bars as u64, bars: (0..bars).map(bar).collect(), ..Understood::default() };
    store.keep(answer, series.key.interval, understood).await.unwrap().id
}

/// What anyone can read of a series as of some instants, and of its runs.
async fn all_there_is(store: &Store, series: &SeriesRow, runs: &[i64], instants: &[Timestamp]) -> Vec<String> {
    let mut out = vec![];
    for as_of in instants {
        for span in [WHOLE.start..Slot(i64::MAX / 2), window(-30, 20), window(0, 3), window(40, 4000)] {
            out.push(format!("{:?}", store.asked(&[(series.id, span.clone()), (series.id, window(1, 1))], *as_of).await.unwrap()));
        }
        out.push(format!("{:?}", store.bars(series, WHOLE, *as_of).await.unwrap()));
        out.push(format!("{:?}", store.held(std::slice::from_ref(series), *as_of).await.unwrap()));
    }
    for run in runs {
        out.push(format!("{:?}", mizuno_store::runs::Figures { folded: 0, ..store.figures(*run).await.unwrap() }));
    }
    out
}

async fn rows_of(dir: &Path, sql: &'static str) -> i64 {
    let mut reader = SqliteConnectOptions::new().filename(dir.join("mizuno.db")).read_only(true).connect().await.unwrap();
    sqlx::query(sql).fetch_one(&mut reader).await.unwrap().get(0)
}

#[tokio::test]
async fn folded_polls_explain_what_they_explained_before() {
    let (dir, store, series, run) = opened(Interval::MINUTE).await;
    let mut dice = Pcg64Mcg::seed_from_u64(19);
    let (mut instants, mut runs, mut brought) = (vec![], vec![run], vec![]);
    for n in 0..300i64 {
        if n % 50 == 49 {
            runs.push(store.begin_run("aldx".into(), mizuno_store::runs::Reason::Schedule, "{}".into()).await.unwrap());
        }
        let (run, span) = (runs[runs.len() - 1], window(dice.random_range(-40..40), dice.random_range(1..9)));
        let bars = dice.random_range(0..4).min((span.end.0 - span.start.0) / MINUTE);
        let price = if n % 40 == 39 { 500 } else { 410 };
        let body = format!("answer {}", if n % 3 == 0 { 0 } else { n });
        match n % 20 {
            7 => {
                let answer = Answer { run, series: series.id, window: span, asked_at: NOW, answered_at: NOW, attempts: 5, pages: vec![] };
                store.keep_failure(answer, Failed { class: "busy".into(), message: "503".into() }).await.unwrap();
            }
            13 => {
                let answer = Answer { run, series: series.id, window: span, asked_at: NOW, answered_at: NOW, attempts: 1, pages: vec![] };
                let suspects = vec![Suspect::one(Some(Slot(NOW.0)), 0, 3, "high-below-low", format!("row {n}"))];
                let understood = Understood { rows: 1, suspects, ..Understood::default() };
                store.keep(answer, Interval::MINUTE, understood).await.unwrap();
            }
            _ => {
                let id = poll(&store, &series, run, &span, bars, price, &body).await;
                let row = store.fetch(id).await.unwrap();
                if row.learned.new + row.learned.restated > 0 {
                    brought.push(row);
                }
            }
        }
        instants.push(store.newest());
    }
    // A failure that was made good in the same run counts once, also later.
    let (run, span) = (runs[0], window(900, 3));
    let answer = Answer { run, series: series.id, window: span.clone(), asked_at: NOW, answered_at: NOW, attempts: 5, pages: vec![] };
    store.keep_failure(answer, Failed { class: "busy".into(), message: "503".into() }).await.unwrap();
    let made_good = poll(&store, &series, run, &span, 0, 0, "nothing").await;
    instants.push(store.newest());
    instants.push(store.newest().plus(-1));

    let before = all_there_is(&store, &series, &runs, &instants).await;
    let in_vain = "SELECT count(*) FROM fetch WHERE state = 'stored' AND bars_new + restated + refused = 0";
    let (some, fetches) = (rows_of(dir.path(), in_vain).await, rows_of(dir.path(), "SELECT count(*) FROM fetch").await);
    assert!(some > 150 && brought.len() > 20, "{some} polls in vain, {} that brought something", brought.len());
    let half = instants[150];
    let mut folded = 0;
    for until in [half, Timestamp::MAX] {
        loop {
            let now = store.fold(until, 37).await.unwrap();
            if now == 0 {
                break;
            }
            folded += now as i64;
        }
        assert_eq!(all_there_is(&store, &series, &runs, &instants).await, before, "{folded} folded");
    }
    let made_good_there = "SELECT count(*) FROM fetch AS f WHERE state = 'stored' AND bars_new + restated + refused = 0 AND EXISTS
        (SELECT 1 FROM fetch AS o WHERE (o.run_id, o.series_id, o.window_start, o.state) = (f.run_id, f.series_id, f.window_start, 'failed'))";
    let left = rows_of(dir.path(), in_vain).await;
    assert_eq!((folded + left, left), (some, rows_of(dir.path(), made_good_there).await), "all but those that made a failure good");
    assert!(left >= 1);
    assert!(store.fetch(made_good).await.is_ok_and(|f| !f.folded));
    assert_eq!(rows_of(dir.path(), "SELECT count(*) FROM fetch").await, fetches - folded);
    assert_eq!(rows_of(dir.path(), "SELECT sum(folded) FROM run").await, folded);
    assert_eq!(rows_of(dir.path(), "SELECT sum(count) FROM folded").await, folded);

    // Each is still found by its number, and whatever brought something has its bytes.
    for fetch in 1..=fetches {
        let row = store.fetch(fetch).await.unwrap();
        assert_eq!((row.id, row.series), (fetch, series.id));
        assert!(!row.folded || (row.learned.new + row.learned.restated == 0 && row.failure.is_none() && row.payload.is_none()));
    }
    for row in &brought {
        assert_eq!(store.fetch(row.id).await.unwrap(), *row, "untouched");
        assert_eq!(store.answered_pages(row).await.unwrap().len(), 2);
    }
    // What nobody has any more is gone, and nothing points to it.
    let orphans = "SELECT count(*) FROM payload WHERE digest NOT IN (SELECT payload FROM fetch WHERE payload IS NOT NULL UNION SELECT payload FROM further_page WHERE payload IS NOT NULL)";
    assert_eq!(rows_of(dir.path(), orphans).await, 0);
    assert_eq!(rows_of(dir.path(), "SELECT count(*) FROM pragma_foreign_key_check").await, 0);
    assert_eq!(store.fold(Timestamp::MAX, 100).await.unwrap(), 0);
    store.close().await;
    drop(store);
    let again = open(dir.path()).await;
    assert_eq!(all_there_is(&again, &series, &runs, &instants).await, before, "after a start, too");
}
