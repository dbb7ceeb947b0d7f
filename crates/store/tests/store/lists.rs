//! Lists row by row, pages of answers, calls by the day.

use crate::common;
use mizuno_core::{Slot, Timestamp};
use mizuno_store::{
    answers::Answer,
    fetch::{AnsweredPage, Failed},
    lists::{ListChanges, NewListFetch},
    runs::Reason,
};
use tempfile::TempDir;

const NOW: Timestamp = Timestamp(1_744_252_200_000_000);

fn collection(at: i64, rows: Result<&[(&str, &str)], &str>) -> NewListFetch {
    NewListFetch {
        source: "packhorse".into(),
        list: "contracts".into(),
        asked_at: NOW.plus(at * 1_000_000),
        rolling: false,
        request: "GET http://127.0.0.1/contracts".into(),
        body: Some(b"{}".to_vec()),
        rows: rows
            .map(|rows| rows.iter().map(|(k, b)| ((*k).to_owned(), (*b).to_owned())).collect())
            .map_err(|m| Failed { class: "timed-out".into(), message: m.to_owned() }),
        refused: 0,
    }
}

#[tokio::test]
async fn rows_come_change_and_go_and_a_failure_takes_nothing_away() {
    let dir = TempDir::new().unwrap();
    let store = common::open(dir.path()).await;
    let changes = |new, changed, gone| ListChanges { new, changed, gone, ..ListChanges::default() };
    let keep = async |c: NewListFetch| store.keep_list(c).await.unwrap().1;
    assert_eq!(keep(collection(0, Ok(&[("A", "{\"n\":\"1\"}"), ("B", "{\"n\":\"1\"}")]))).await, changes(2, 0, 0));
    assert_eq!(keep(collection(1, Ok(&[("A", "{\"n\":\"1\"}"), ("B", "{\"n\":\"1\"}")]))).await, changes(0, 0, 0));
    assert_eq!(keep(collection(2, Err("no answer"))).await, changes(0, 0, 0));
    assert_eq!(store.list_rows(Some("packhorse"), None).await.unwrap().len(), 2, "a list that could not be read is as it was");
    assert_eq!(store.list_fetches().await.unwrap()[0].failure.as_ref().unwrap().message, "no answer");
    assert_eq!(
        keep(collection(3, Ok(&[("B", "{\"n\":\"2\"}"), ("C", "{\"n\":\"1\"}"), ("C", "{\"n\":\"9\"}")]))).await,
        ListChanges { repeated: 1, ..changes(1, 1, 1) }
    );

    let now: Vec<_> = store
        .list_rows(None, Some("contracts"))
        .await
        .unwrap()
        .into_iter()
        .map(|r| (r.key, serde_json::to_string(&r.columns).unwrap()))
        .collect();
    assert_eq!(now, [("B".to_owned(), "{\"n\":\"2\"}".to_owned()), ("C".to_owned(), "{\"n\":\"9\"}".to_owned())]);
    let since = store.list_changes(store.newest().plus(-1)).await.unwrap();
    let told: Vec<_> = since.iter().map(|r| (r.key.as_str(), r.until.is_some())).collect();
    assert_eq!(told, [("A", true), ("B", true), ("B", false), ("C", false)]);
    assert!(store.list_rows(Some("almanack"), None).await.unwrap().is_empty());
}

#[tokio::test]
async fn a_list_that_is_suddenly_short_waits_for_a_person_and_a_rolling_one_ends_nothing() {
    let dir = TempDir::new().unwrap();
    let store = common::open(dir.path()).await;
    let row = |n: usize| (format!("S{n}"), format!("{{\"n\":\"{n}\"}}"));
    let of = |range: std::ops::Range<usize>, rolling: bool| NewListFetch {
        rows: Ok(range.map(row).collect()),
        rolling,
        ..collection(0, Ok(&[]))
    };
    let keep = async |c: NewListFetch| store.keep_list(c).await.unwrap().1;
    let count = async || store.list_rows(None, None).await.unwrap().len();
    assert_eq!(keep(of(0..10, false)).await.new, 10);
    for short in [of(0..4, false), of(0..0, false)] {
        let held = keep(short).await;
        assert!(held.held_back && held.gone >= 6, "{held:?}");
        assert_eq!(count().await, 10, "nothing has ended");
    }
    store.decide_list("packhorse".into(), "contracts".into(), false).await.unwrap();
    assert!(store.decide_list("packhorse".into(), "contracts".into(), true).await.is_err(), "it is decided once");
    assert_eq!(keep(of(0..10, false)).await, ListChanges::default(), "a whole list is as it was");
    assert!(keep(of(0..4, false)).await.held_back);
    let before = store.newest();
    assert_eq!(store.decide_list("packhorse".into(), "contracts".into(), true).await.unwrap().len(), 4);
    assert_eq!(count().await, 4, "a person says that it is so");
    assert_eq!(store.list_rows_as_of("packhorse", "contracts", before).await.unwrap().len(), 10, "from then on");
    assert_eq!((keep(of(3..6, true)).await, count().await), (ListChanges { new: 2, ..ListChanges::default() }, 6));
}

#[tokio::test]
async fn calls_of_a_day_never_go_back() {
    let dir = TempDir::new().unwrap();
    let store = common::open(dir.path()).await;
    assert_eq!(store.reserved_calls("lodestar", 20_188).await.unwrap(), 0);
    store.reserve_calls("lodestar".into(), 20_188, 10).await.unwrap();
    store.reserve_calls("lodestar".into(), 20_188, 5).await.unwrap();
    store.close().await;
    drop(store);
    let store = common::open(dir.path()).await;
    assert_eq!(store.reserved_calls("lodestar", 20_188).await.unwrap(), 10, "remembered, and the larger one");
    assert_eq!(store.reserved_calls("lodestar", 20_189).await.unwrap(), 0);
    assert_eq!(store.reserved_calls("harbour", 20_188).await.unwrap(), 0);
}

fn pair() -> mizuno_core::Instrument {
    mizuno_core::Instrument {
        symbol: "TRC-USD".into(),
        name: "Tarn crown".into(),
        kind: "pair".into(),
        venue: "MFX".into(),
        currency: "USD".into(),
        tick_size: None,
        multiplier: None,
        listed: None,
        last_traded: None,
        expiry: "2025-05-14".parse().ok(),
        strike: "0.61".parse().ok(),
        product: Some("TRC".into()),
        first_notice: "2025-05-01".parse().ok(),
        leverage: "2".parse().ok(),
        former: vec![],
    }
}

#[tokio::test]
async fn what_a_list_says_of_an_instrument_is_of_an_instant() {
    let dir = TempDir::new().unwrap();
    let store = common::open(dir.path()).await;
    let by = || Some("packhorse/contracts".to_owned());
    let first = pair();
    store.put_instruments(vec![first.clone()], by()).await.unwrap();
    let then = store.newest();
    store.put_instruments(vec![first.clone()], by()).await.unwrap();
    assert_eq!((store.newest(), store.instruments_changed_since(then).await.unwrap()), (then, (0, 0)), "the same again is nothing new");
    let second = mizuno_core::Instrument { last_traded: "2025-05-13".parse().ok(), name: "Tarn crown, ended".into(), ..first.clone() };
    store.put_instruments(vec![second.clone()], by()).await.unwrap();
    let later = store.newest();
    let third = mizuno_core::Instrument { last_traded: None, ..second.clone() };
    store.put_instruments(vec![third.clone()], by()).await.unwrap();
    assert_eq!(store.instruments_changed_since(then).await.unwrap(), (2, 0));
    for (at, said) in [(then, &first), (later.plus(-1), &first), (later, &second), (store.newest(), &third)] {
        assert_eq!(store.listed_instruments_at(at).await.unwrap(), std::slice::from_ref(said), "as of {at}");
    }
    assert!(store.listed_instruments_at(then.plus(-1)).await.unwrap().is_empty(), "nobody had named it");
    assert_eq!(store.symbols_of("packhorse/contracts").await.unwrap().into_iter().collect::<Vec<_>>(), ["TRC-USD"]);
    assert!(store.symbols_of("packhorse/others").await.unwrap().is_empty());
}

#[tokio::test]
async fn every_page_of_an_answer_is_kept_in_order_and_once() {
    let dir = TempDir::new().unwrap();
    let store = common::open(dir.path()).await;
    let instrument = pair();
    store.put_instruments(vec![instrument.clone()], Some("packhorse/contracts".into())).await.unwrap();
    assert_eq!(store.listed_instruments().await.unwrap(), std::slice::from_ref(&instrument));
    store.put_instruments(vec![instrument], None).await.unwrap();
    assert!(store.listed_instruments().await.unwrap().is_empty(), "the configuration has it now");
    let key = "TRC-USD/1d/mid/packhorse".parse().unwrap();
    let series = store.ensure_series(vec![key]).await.unwrap().remove(0);
    let run = store.begin_run("mid".into(), Reason::Request, "{}".into()).await.unwrap();
    let page = |part: &str, body: &[u8]| AnsweredPage {
        part: Some(part.into()),
        request: format!("GET http://127.0.0.1/{part}"),
        status: Some(200),
        media_type: Some("application/json".into()),
        body: Some(body.to_vec()),
    };
    let pages = vec![page("bid", b"one"), page("bid", b"two"), page("ask", b"one")];
    let answer = Answer {
        run,
        series: series.id,
        window: Slot(20_000)..Slot(20_010),
        asked_at: NOW,
        answered_at: NOW,
        attempts: 4,
        pages: pages.clone(),
    };
    let id = store.keep_answer(answer).await.unwrap().id;
    let row = store.fetch(id).await.unwrap();
    assert_eq!((row.payload_size, row.attempts, row.part.as_deref()), (9, 4, Some("bid")));
    assert_eq!(store.answered_pages(&row).await.unwrap(), pages);
    let digests: Vec<_> = store.pages(&row).await.unwrap().into_iter().map(|p| (p.payload.unwrap(), p.size)).collect();
    assert_eq!(digests[0], digests[2], "the same bytes are kept once");
    assert_eq!(store.figures(run).await.unwrap().calls, 4);
}
