//! The ledger of editions, and the stamps by which a file is known to follow from the same bars as before.

use crate::common::{NOW, cents, ones, open, opened};
use mizuno_core::{
    Bar, Bars, Interval, Slot, Span, Timestamp,
    time::{DAY, MINUTE},
};
use mizuno_store::{
    Store,
    answers::Understood,
    editions::{By, FileRow, NewEdition, State},
    series::{SeriesRow, known_by},
};
use proptest::prelude::*;
use std::collections::BTreeMap;
use tempfile::TempDir;

async fn learn(store: &Store, row: &SeriesRow, step: i64, bars: &BTreeMap<i64, i64>) {
    let bar = |(at, price): (&i64, &i64)| Bar::new(Slot(at * step), [*price, price + 1, price - 1, *price].map(cents), Some(ones(*price)));
    let bars: Bars = bars.iter().map(bar).collect();
    let understood = Understood { rows: bars.rows.len() as u64, bars, ..Understood::default() };
    store.keep_bars(0, row.id, row.key.interval, understood).await.unwrap();
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn where_the_stamp_is_the_same_so_are_the_bars_whether_sealed_or_not(
        batches in prop::collection::vec(prop::collection::btree_map(0i64..400, 1i64..4, 1..300), 1..7),
        spans in prop::collection::vec((0i64..400, 1i64..200), 1..6),
        daily in any::<bool>(),
    ) {
        // Days, or the hours of more than a year: some blocks.
        let (interval, step) = if daily { (Interval::Daily, 1) } else { (Interval::Intraday { seconds: 3600 }, 24 * 60 * MINUTE) };
        let runtime = tokio::runtime::Runtime::new().unwrap();
        let outcome: Result<(), TestCaseError> = runtime.block_on(async {
            let (_dir, store, row, _) = opened(interval).await;
            let spans: Vec<Span> = spans.iter().map(|(from, length)| Slot(from * step)..Slot((from + length) * step)).collect();
            let mut instants = vec![store.newest()];
            for batch in &batches {
                learn(&store, &row, step, batch).await;
                instants.push(store.newest());
            }
            let mut told = vec![];
            for at in &instants {
                told.push(store.learned(&row, &spans, *at).await.unwrap());
            }
            for (place, span) in spans.iter().enumerate() {
                for (a, before) in instants.iter().enumerate() {
                    let bars = store.bars(&row, span.clone(), *before).await.unwrap();
                    // A stamp is that of a version in the span, or where there is one block for more, in that block.
                    let newest = store.versions(&row, span.clone(), *before).await.unwrap().rows.iter().map(|v| v.recorded_at).max();
                    prop_assert!(told[a][place] >= newest);
                    prop_assert!(!daily || told[a][place] == newest);
                    for (b, later) in instants.iter().enumerate().skip(a) {
                        if told[a][place] == told[b][place] {
                            prop_assert_eq!(&bars, &store.bars(&row, span.clone(), *later).await.unwrap());
                        }
                    }
                }
            }
            store.seal_all().await.unwrap();
            for (at, before) in instants.iter().zip(&told) {
                prop_assert_eq!(before, &store.learned(&row, &spans, *at).await.unwrap());
            }
            Ok(())
        });
        outcome?;
    }
}

fn new(spec: &str, before: Option<i64>) -> NewEdition {
    NewEdition {
        spec: spec.to_owned(),
        label: "2025-03".to_owned(),
        instant: NOW,
        before,
        recipe: "{}".to_owned(),
        program: "0.1.0".to_owned(),
        due: Some(NOW),
        asked_by: None,
        remark: None,
    }
}

fn file(path: &str) -> FileRow {
    FileRow { path: path.to_owned(), digest: "ab".repeat(32), bytes: 7, rows: 1, made_of: "x".to_owned(), linked: false }
}

#[tokio::test]
async fn one_edition_of_a_spec_is_under_way_and_a_record_outlives_its_files() {
    let dir = TempDir::new().unwrap();
    let store = open(dir.path()).await;
    let first = store.begin_edition(new("monthly", None)).await.unwrap().unwrap();
    assert_eq!(store.begin_edition(new("monthly", None)).await.unwrap(), None, "one is under way");
    let other = store.begin_edition(new("evening", None)).await.unwrap().unwrap();
    assert_eq!(store.editions_under_way().await.unwrap(), [first, other]);
    store.keep_edition_files(first, vec![file("a.csv"), file("SHA256SUMS")]).await.unwrap();
    store.end_edition(first, State::Made, Some("cd".repeat(32)), None).await.unwrap();
    store.keep_edition_files(other, vec![file("b.csv")]).await.unwrap();
    store.end_edition(other, State::Failed, None, Some("the disk is full".to_owned())).await.unwrap();
    assert!(store.editions_under_way().await.unwrap().is_empty());

    let second = store.begin_edition(new("monthly", Some(first))).await.unwrap().unwrap();
    store.end_edition(second, State::Made, Some("ef".repeat(32)), None).await.unwrap();
    store.expire_edition(first).await.unwrap();
    store.pin_edition(second, Some(("mere".to_owned(), "the paper".to_owned()))).await.unwrap();
    store.withdraw_edition(second, "mere".to_owned(), "a wrong split".to_owned()).await.unwrap();
    store.keep_published_file(second, "a.csv".to_owned()).await.unwrap();
    store.keep_published_file(second, "a.csv".to_owned()).await.unwrap();
    store.publish_edition(second, "s3://tarn/2".to_owned()).await.unwrap();

    let all = store.editions(Some("monthly")).await.unwrap();
    assert_eq!(
        all.iter().map(|row| (row.number, row.state, row.before)).collect::<Vec<_>>(),
        [(2, State::Made, Some(first)), (1, State::Expired, None)]
    );
    assert!(!all[0].is_served() && all[0].pinned == Some(("mere".to_owned(), "the paper".to_owned())));
    let (by, why, at) = all[0].withdrawn.clone().unwrap();
    assert!((by.as_str(), why.as_str()) == ("mere", "a wrong split") && at > NOW);
    assert_eq!(all[0].published.as_ref().map(|(to, _)| to.as_str()), Some("s3://tarn/2"));
    assert_eq!(store.published_files(second).await.unwrap().into_iter().collect::<Vec<_>>(), ["a.csv"]);
    let paths: Vec<String> = store.edition_files(first).await.unwrap().into_iter().map(|f| f.path).collect();
    assert_eq!(paths, ["SHA256SUMS", "a.csv"], "the record keeps what its files were");
    let failed = store.editions(Some("evening")).await.unwrap();
    assert_eq!((failed[0].state, failed[0].remark.as_deref()), (State::Failed, Some("the disk is full")));
    assert!(store.edition_files(other).await.unwrap().is_empty(), "what was never whole has no files");
}

#[tokio::test]
async fn one_of_many_editions_is_found_by_its_name_and_one_of_its_files_too() {
    let dir = TempDir::new().unwrap();
    let store = open(dir.path()).await;
    let mut ids = vec![];
    for at in 0..6 {
        let label = ["2025-01", "2025-02"][at / 3];
        let id = store.begin_edition(NewEdition { label: label.to_owned(), ..new("monthly", None) }).await.unwrap().unwrap();
        store.keep_edition_files(id, vec![file("a.csv"), file("b.csv")]).await.unwrap();
        store.end_edition(id, if at == 5 { State::Failed } else { State::Made }, None, None).await.unwrap();
        ids.push(id);
    }
    let number = async |by: By<'_>| store.edition(by).await.unwrap().map(|row| row.number);
    assert_eq!(number(By::Id(ids[1])).await, Some(2));
    assert_eq!(number(By::Number("monthly", 6)).await, Some(6), "what has a number is found in any state");
    assert_eq!((number(By::Number("evening", 1)).await, number(By::Number("monthly", 7)).await), (None, None));
    assert_eq!((number(By::Newest("monthly")).await, number(By::Newest("evening")).await), (Some(5), None));
    // Of several of a label the newest that is served; where none is, the newest.
    assert_eq!((number(By::Label("monthly", "2025-02")).await, number(By::Label("monthly", "2025-01")).await), (Some(5), Some(3)));
    store.withdraw_edition(ids[2], "mere".to_owned(), "a wrong split".to_owned()).await.unwrap();
    assert_eq!(number(By::Label("monthly", "2025-01")).await, Some(2));
    for id in &ids[3..5] {
        store.expire_edition(*id).await.unwrap();
    }
    assert_eq!((number(By::Label("monthly", "2025-02")).await, number(By::Newest("monthly")).await), (Some(6), Some(2)));
    let newest = store.newest_editions().await.unwrap();
    assert_eq!(newest.iter().map(|row| (row.number, row.state)).collect::<Vec<_>>(), [(6, State::Failed)]);
    assert_eq!(store.edition_file(ids[0], "b.csv").await.unwrap(), Some(file("b.csv")));
    assert_eq!(store.edition_file(ids[0], "c.csv").await.unwrap(), None);
}

#[tokio::test]
async fn a_series_that_came_later_is_not_there_as_of_an_instant_before() {
    let (_dir, store, first, _) = opened(Interval::Daily).await;
    let before = store.newest();
    let later = mizuno_core::SeriesKey { source: "lodestar".to_owned(), ..first.key.clone() };
    store.ensure_series(vec![later]).await.unwrap();
    let all = store.sources_of("KBF", Interval::Daily, first.key.side).await.unwrap();
    let names = |at: Timestamp| -> Vec<String> { known_by(all.clone(), at).into_iter().map(|row| row.key.source).collect() };
    assert_eq!(names(before), ["harbour"]);
    assert_eq!(names(store.newest()), ["harbour", "lodestar"]);
    assert_eq!(names(Timestamp(NOW.0 - DAY)), ["harbour", "lodestar"], "before the first, all: an answer of then is an empty one");
}
