//! The store against real files: versions, tail and blocks, ledgers, the one writer.

use crate::common::{NOW, WHOLE, cents, instrument, key, ones, open, opened, try_open};
use futures_util::future::join_all;
use mizuno_core::{Bar, Bars, Instrument, Interval, Slot, Spans, Timestamp, versions::Learned};
use mizuno_store::{
    Store, StoreError,
    answers::{Answer, Understood},
    fetch::{AnsweredPage, Failed},
    fetches::Filter,
    quarantine::Suspect,
    runs::{Reason, State},
    series::{SeriesList, SeriesRow},
};
use proptest::prelude::*;
use sqlx::Connection;
use std::collections::BTreeMap;

/// Minute bars with the given slots (in minutes after the hour) and prices.
fn minutes(rows: impl IntoIterator<Item = (i64, i64)>) -> Bars {
    let bar = |(minute, p): (i64, i64)| {
        let slot = Slot(NOW.0 - NOW.0 % 3_600_000_000 + minute * 60_000_000);
        Bar::new(slot, [p, p + 1, p - 1, p].map(cents), (p % 7 != 0).then_some(ones(p)))
    };
    rows.into_iter().map(bar).collect()
}

fn answer(run: i64, series: i64, body: &[u8]) -> Answer {
    Answer {
        run,
        series,
        window: Slot(NOW.0)..Slot(NOW.0 + 60_000_000),
        asked_at: NOW,
        answered_at: NOW.plus(1_000),
        attempts: 2,
        pages: vec![AnsweredPage {
            part: None,
            request: "GET http://127.0.0.1/bars/KBF".into(),
            status: Some(200),
            media_type: Some("text/plain".into()),
            body: Some(body.to_vec()),
        }],
    }
}

async fn learn(store: &Store, series: &SeriesRow, fetch: i64, bars: Bars) -> Learned {
    let understood = Understood { rows: bars.rows.len() as u64, bars, ..Understood::default() };
    store.keep_bars(fetch, series.id, series.key.interval, understood).await.unwrap()
}

#[tokio::test]
async fn few_bars_and_many_bars_read_as_one_series() {
    let (_dir, store, series, _) = opened(Interval::MINUTE).await;
    let old = minutes((0..3_000).map(|m| (m, 100 + m)));
    assert_eq!(learn(&store, &series, 1, old.clone()).await.new, 3_000, "many: straight into blocks");
    let new = minutes((3_000..3_010).map(|m| (m, 200 + m)));
    assert_eq!(learn(&store, &series, 2, new.clone()).await.new, 10, "few: into the tail");
    let mut both = old;
    both.rows.extend(new.rows);
    assert_eq!(store.bars(&series, WHOLE, Timestamp::MAX).await.unwrap(), both);
    let held = store.held(std::slice::from_ref(&series), Timestamp::MAX).await.unwrap().remove(&series.id).unwrap();
    assert_eq!(Interval::MINUTE.count(&held), 3_010);
    assert_eq!(held.len(), 1, "one unbroken stretch");
    let part = both.rows[10].slot..both.rows[20].slot;
    assert_eq!(store.bars(&series, part, Timestamp::MAX).await.unwrap().rows, both.rows[10..20]);
    store.seal_all().await.unwrap();
    assert_eq!(store.bars(&series, WHOLE, Timestamp::MAX).await.unwrap(), both, "sealing moves, and changes nothing");
    assert_eq!(store.held(std::slice::from_ref(&series), Timestamp::MAX).await.unwrap().remove(&series.id).unwrap(), held);
}

#[tokio::test]
async fn a_long_tail_is_sealed_by_itself_across_a_change_of_month() {
    let (_dir, store, series, _) = opened(Interval::MINUTE).await;
    // Twenty-one days of April are left after the tenth: these minutes run into May.
    let at = |batch: i64| minutes((0..100).map(move |m| (batch * 2_900 + m, 50 + m)));
    let mut all = vec![];
    for batch in 0..14 {
        assert_eq!(learn(&store, &series, batch, at(batch)).await.new, 100);
        all.extend(at(batch).rows);
    }
    assert_eq!(store.bars(&series, WHOLE, Timestamp::MAX).await.unwrap().rows, all);
}

#[tokio::test]
async fn the_list_of_series_is_what_a_store_opened_afresh_reads() {
    let (dir, store, series, _) = opened(Interval::Daily).await;
    store.put_instruments(vec![instrument("KBF"), instrument("ORO")], None).await.unwrap();
    let rows = |all: &SeriesList| all.iter().cloned().collect::<Vec<SeriesRow>>();
    for step in 0..6 {
        let before = store.series().await.unwrap();
        match step {
            1 => drop(store.ensure_series(vec![key("ORO", Interval::MINUTE), key("KBF", Interval::MINUTE)]).await.unwrap()),
            _ => drop(learn(&store, &series, step, minutes([(step, 100 + step)])).await),
        }
        let asked = join_all((0..8).map(|_| store.series())).await;
        for all in asked.into_iter().map(Result::unwrap) {
            assert_ne!(rows(&all), rows(&before), "what has changed is seen at once");
            assert!(all.iter().all(|row| all.find(&row.key) == Some(row) && all.get(row.id) == Some(row)));
            assert_eq!(all.of_symbol("KBF").count() + all.of_symbol("ORO").count(), all.iter().count());
            assert_eq!(
                (all.find(&key("KBF", Interval::Intraday { seconds: 300 })), all.get(99), all.of_symbol("KB").count()),
                (None, None, 0)
            );
        }
    }
    let now = rows(&store.series().await.unwrap());
    store.close().await;
    drop(store);
    let names: Vec<String> = now.iter().map(|row| row.key.to_string()).collect();
    assert_eq!(names, ["KBF/1d/harbour", "KBF/1m/harbour", "ORO/1m/harbour"]);
    assert_eq!(rows(&open(dir.path()).await.series().await.unwrap()), now);
}

#[tokio::test]
async fn the_same_again_stores_nothing_and_does_not_disturb_validators() {
    let (_dir, store, series, _) = opened(Interval::Daily).await;
    let bars = minutes((0..30).map(|m| (m, 100 + m)));
    assert_eq!(learn(&store, &series, 1, bars.clone()).await, Learned { new: 30, same: 0, restated: 0 });
    let before = store.series().await.unwrap().get(series.id).unwrap().revision;
    assert_eq!(learn(&store, &series, 2, bars).await, Learned { new: 0, same: 30, restated: 0 });
    assert_eq!(store.series().await.unwrap().get(series.id).unwrap().revision, before);
    assert_eq!(learn(&store, &series, 3, minutes([(3, 999)])).await.restated, 1);
    assert!(store.series().await.unwrap().get(series.id).unwrap().revision > before);
}

#[tokio::test]
async fn an_answer_is_kept_in_two_steps_and_can_be_replayed_between_them() {
    let (_dir, store, series, run) = opened(Interval::MINUTE).await;
    let fetch = store.keep_answer(answer(run, series.id, b"the bytes\r\nas they came")).await.unwrap().id;
    let waiting = store.to_replay().await.unwrap();
    assert_eq!((waiting.len(), waiting[0].id, waiting[0].state.as_str()), (1, fetch, "answered"));
    let digest = waiting[0].payload.clone().unwrap();
    assert_eq!(digest, mizuno_store::payloads::digest(b"the bytes\r\nas they came"));
    assert_eq!(store.payload(&digest).await.unwrap(), b"the bytes\r\nas they came");

    let suspect = Suspect::one(None, 0, 7, "unreadable", "x,y".into());
    let understood = Understood { rows: 3, bars: minutes([(1, 10), (2, 20)]), suspects: vec![suspect.clone()], unfinished: 1, outside: 0 };
    store.keep_bars(fetch, series.id, Interval::MINUTE, understood.clone()).await.unwrap();
    assert!(store.to_replay().await.unwrap().is_empty());
    let row = store.fetch(fetch).await.unwrap();
    assert_eq!((row.state.as_str(), row.rows, row.learned.new, row.refused, row.unfinished), ("stored", 3, 2, 1, 1));
    store.keep_bars(fetch, series.id, Interval::MINUTE, understood).await.unwrap();
    let quarantine = store.quarantine(Some(series.id), 10).await.unwrap();
    assert_eq!(quarantine.len(), 1, "the same row again is the same row");
    assert_eq!(quarantine[0].suspect, suspect);
}

#[tokio::test]
async fn an_answer_and_what_it_says_are_kept_at_once() {
    let (dir, store, series, run) = opened(Interval::MINUTE).await;
    let mut whole = answer(run, series.id, b"page one");
    let first = whole.pages[0].clone();
    whole.pages.push(AnsweredPage { part: Some("bid".into()), request: "GET http://127.0.0.1/bars/KBF?page=2".into(), ..first });
    whole.pages.push(AnsweredPage { body: None, status: Some(204), ..whole.pages[1].clone() });
    let suspect = Suspect::one(None, 1, 7, "unreadable", "x,y".into());
    let understood = Understood { rows: 3, bars: minutes([(1, 10), (2, 20)]), suspects: vec![suspect.clone()], unfinished: 1, outside: 0 };
    let row = store.keep(whole.clone(), Interval::MINUTE, understood.clone()).await.unwrap();
    assert_eq!((row.state.as_str(), row.rows, row.learned.new, row.refused, row.unfinished), ("stored", 3, 2, 1, 1));
    assert_eq!(row.payload_size, 16, "of both bodies");
    assert_eq!(store.fetch(row.id).await.unwrap(), row);
    assert_eq!(store.answered_pages(&row).await.unwrap(), whole.pages);
    assert_eq!(store.bars(&series, WHOLE, Timestamp::MAX).await.unwrap(), understood.bars);
    assert_eq!(store.quarantine(Some(series.id), 10).await.unwrap()[0].suspect, suspect);
    assert!(store.to_replay().await.unwrap().is_empty());

    store.close().await;
    drop(store);
    let store = open(dir.path()).await;
    let again = store.keep(whole, Interval::MINUTE, understood).await.unwrap();
    assert_eq!((again.id, again.learned.new, again.learned.same), (row.id + 1, 0, 2), "numbers go on after a restart");
}

#[tokio::test]
async fn where_a_block_is_damaged_answers_are_kept_and_other_series_go_on() {
    let (dir, store, series, run) = opened(Interval::MINUTE).await;
    store.put_instruments(vec![instrument("KBF"), instrument("OXB")], None).await.unwrap();
    let other = store.ensure_series(vec![key("OXB", Interval::MINUTE)]).await.unwrap().remove(0);
    let bars = minutes((0..300).map(|m| (m, 100 + m)));
    learn(&store, &series, 1, bars.clone()).await;
    store.close().await;
    drop(store);
    let path = format!("sqlite:{}", dir.path().join("mizuno.db").display());
    let mut database = sqlx::SqliteConnection::connect(&path).await.unwrap();
    sqlx::query("UPDATE block SET body = x'00ff'").execute(&mut database).await.unwrap();
    database.close().await.unwrap();

    let store = open(dir.path()).await;
    let understood = Understood { rows: 300, bars, ..Understood::default() };
    let at_once = store.keep(answer(run, series.id, b"at once"), Interval::MINUTE, understood.clone()).await.unwrap();
    let row = store.keep_answer(answer(run, series.id, b"in two steps")).await.unwrap();
    let in_two = store.keep_understood(row, Interval::MINUTE, understood.clone()).await.unwrap();
    for (row, body) in [(at_once, &b"at once"[..]), (in_two, b"in two steps")] {
        let failure = row.failure.clone().unwrap();
        assert_eq!((row.state.as_str(), failure.class.as_str()), ("failed", "not-stored"));
        assert!(failure.message.contains("the answer is kept") && failure.message.contains("block 1 cannot be read"), "{failure:?}");
        assert_eq!(store.fetch(row.id).await.unwrap(), row);
        assert_eq!(store.payload(&row.payload.unwrap()).await.unwrap(), body);
    }
    let kept = store.keep(answer(run, other.id, b"another series"), Interval::MINUTE, understood).await.unwrap();
    assert_eq!((kept.state.as_str(), kept.learned.new), ("stored", 300));
    let refused = store.bars(&series, WHOLE, Timestamp::MAX).await.unwrap_err();
    assert!(refused.to_string().contains("block 1 cannot be read"), "{refused}");
}

#[tokio::test]
async fn the_same_bytes_are_kept_once_and_failures_are_kept_too() {
    let (_dir, store, series, run) = opened(Interval::MINUTE).await;
    let failure = Failed { class: "wrong-content".into(), message: "got a web page".into() };
    let first = store.keep_failure(answer(run, series.id, b"<html>"), failure.clone()).await.unwrap().id;
    let second = store.keep_failure(answer(run, series.id, b"<html>"), failure.clone()).await.unwrap().id;
    let (first, second) = (store.fetch(first).await.unwrap(), store.fetch(second).await.unwrap());
    assert_eq!(first.payload, second.payload);
    assert_eq!(first.failure, Some(failure));
    assert!(second.answered_at > first.answered_at, "no two things are recorded at one instant");
    let failed = store.fetches(Filter { state: Some("failed"), ..Filter::default() }, 10).await.unwrap();
    assert_eq!(failed.iter().map(|f| f.id).collect::<Vec<_>>(), [second.id, first.id]);
    store.end_run(run, State::Incomplete).await.unwrap();
    let run = store.run(run).await.unwrap();
    let figures = store.figures(run.id).await.unwrap();
    let told = (figures.failed, figures.done, figures.bytes);
    assert_eq!((run.state, told), (State::Incomplete, (1, 0, 12)), "one window, asked for twice");
}

#[tokio::test]
async fn runs_that_were_cut_short_are_marked_and_returned() {
    let (dir, store, _, run) = opened(Interval::MINUTE).await;
    let ended = store.begin_run("other".into(), Reason::Schedule, "{}".into()).await.unwrap();
    store.end_run(ended, State::Complete).await.unwrap();
    store.close().await;
    drop(store);
    let store = open(dir.path()).await;
    let cut = store.interrupt_runs().await.unwrap();
    assert_eq!(cut, [run]);
    assert_eq!(store.run(run).await.unwrap().state, State::Interrupted);
    assert_eq!(store.run(ended).await.unwrap().state, State::Complete);
    assert!(store.interrupt_runs().await.unwrap().is_empty());
    assert!(store.newest() > NOW, "the clock must not run behind what is recorded");
}

#[tokio::test]
async fn excuses_are_given_together_or_not_at_all_and_can_be_taken_back() {
    let (_dir, store, series, _) = opened(Interval::Daily).await;
    let spans = vec![(series.id, Slot(10)..Slot(12), None), (9_999, Slot(1)..Slot(2), None)];
    assert!(store.excuse(spans, "mere".into(), "x".into()).await.is_err(), "there is no series 9999");
    assert!(store.excuses().await.unwrap().is_empty());
    let ids = store.excuse(vec![(series.id, Slot(10)..Slot(12), None)], "mere".into(), "a halt".into()).await.unwrap();
    assert_eq!(store.excused(Timestamp::MAX).await.unwrap()[&series.id], Spans::from([Slot(10)..Slot(12)]));
    store.revoke_excuse(ids[0]).await.unwrap();
    assert!(store.excused(Timestamp::MAX).await.unwrap().is_empty());
    let all = store.excuses().await.unwrap();
    assert_eq!((all[0].by.as_str(), all[0].revoked_at), ("mere", Some(store.newest())), "its row stays");
    assert!(matches!(store.revoke_excuse(ids[0]).await, Err(StoreError::Unknown { kind: "excuse", .. })));
}

#[tokio::test]
async fn jobs_that_share_a_transaction_fail_alone() {
    let (_dir, store, series, run) = opened(Interval::MINUTE).await;
    let good = (0..20).map(|i| learn_owned(store.clone(), series.clone(), i));
    let bad = (0..20).map(|_| store.keep_answer(answer(run, 9_999, b"nobody's")));
    let (good, bad) = tokio::join!(join_all(good), join_all(bad));
    assert!(bad.iter().all(Result::is_err), "there is no series 9999");
    assert_eq!(good.iter().map(|l| l.new).sum::<u64>(), 20);
    assert_eq!(store.bars(&series, WHOLE, Timestamp::MAX).await.unwrap().rows.len(), 20);
    assert!(store.to_replay().await.unwrap().is_empty());
}

async fn learn_owned(store: Store, series: SeriesRow, i: i64) -> Learned {
    learn(&store, &series, i, minutes([(i, 100)])).await
}

#[tokio::test]
async fn instruments_come_back_as_they_were_given_and_are_brought_up_to_date() {
    let (_dir, store, _, _) = opened(Interval::Daily).await;
    assert_eq!(store.instruments().await.unwrap(), [instrument("KBF")]);
    let renamed = Instrument { name: "Kelp Foods".into(), last_traded: None, ..instrument("KBF") };
    store.put_instruments(vec![renamed.clone(), instrument("OXB")], None).await.unwrap();
    assert_eq!(store.instruments().await.unwrap(), [renamed, instrument("OXB")]);
    let unknown = store.ensure_series(vec![key("ZZZ", Interval::Daily)]).await;
    assert!(matches!(unknown, Err(StoreError::Unknown { kind: "instrument", .. })), "{unknown:?}");
}

#[tokio::test]
async fn a_directory_in_use_is_refused_and_one_that_is_not_can_be_discarded() {
    let (dir, store, _, _) = opened(Interval::Daily).await;
    assert!(matches!(try_open(dir.path()).await, Err(StoreError::InUse { .. })));
    assert!(matches!(Store::discard(dir.path()), Err(StoreError::InUse { .. })));
    store.close().await;
    assert!(matches!(store.begin_run("x".into(), Reason::Request, "{}".into()).await, Err(StoreError::Closed)));
    drop(store);
    Store::discard(dir.path()).unwrap();
    let fresh = open(dir.path()).await;
    assert!(fresh.instruments().await.unwrap().is_empty());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    /// Whatever comes in whatever portions, now and as of every moment before, the
    /// store says what was last said for each slot; and it holds exactly these slots.
    #[test]
    fn the_store_knows_now_and_then(batches in prop::collection::vec(prop::collection::btree_map(0i64..900, 1i64..9, 1..500), 1..6)) {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let (_dir, store, series, _) = opened(Interval::MINUTE).await;
            let mut known: BTreeMap<i64, i64> = BTreeMap::new();
            let mut moments = vec![];
            for (i, batch) in batches.iter().enumerate() {
                let bars = minutes(batch.iter().map(|(&m, &p)| (m * 97, p)));
                let understood = Understood { rows: 1, bars, ..Understood::default() };
                let learned = store.keep_bars(i as i64, series.id, Interval::MINUTE, understood).await.unwrap();
                let new = batch.keys().filter(|m| !known.contains_key(m)).count() as u64;
                let same = batch.iter().filter(|(m, p)| known.get(m) == Some(p)).count() as u64;
                assert_eq!(learned, Learned { new, same, restated: batch.len() as u64 - new - same });
                known.extend(batch);
                moments.push((store.newest(), known.clone()));
            }
            for (at, known) in moments {
                let expected = minutes(known.iter().map(|(&m, &p)| (m * 97, p)));
                assert_eq!(store.bars(&series, WHOLE, at).await.unwrap().rows, expected.rows);
                let held = store.held(std::slice::from_ref(&series), at).await.unwrap().remove(&series.id).unwrap();
                assert_eq!(Interval::MINUTE.count(&held), known.len() as u64, "and it held these then");
            }
            let held = store.held(std::slice::from_ref(&series), Timestamp::MAX).await.unwrap().remove(&series.id).unwrap();
            assert_eq!(Interval::MINUTE.count(&held), known.len() as u64);
            assert!(store.bars(&series, WHOLE, NOW.plus(-1)).await.unwrap().rows.is_empty(), "nothing was known before");
        });
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn many_answers_at_once_are_all_kept_once_each() {
    let (_dir, store, _, run) = opened(Interval::MINUTE).await;
    let symbols: Vec<String> = (0..12).map(|n| format!("S{n}")).collect();
    store.put_instruments(symbols.iter().map(|s| instrument(s)).collect(), None).await.unwrap();
    let all = store.ensure_series(symbols.iter().map(|s| key(s, Interval::MINUTE)).collect()).await.unwrap();
    // Few bars and many, every series four times, all at the same time.
    let keep = |(n, series): (i64, &SeriesRow)| {
        let bars = minutes((n * 400..n * 400 + if n % 2 == 0 { 20 } else { 350 }).map(|m| (m, 100 + m)));
        let understood = Understood { rows: bars.rows.len() as u64, bars, ..Understood::default() };
        let answer = answer(run, series.id, format!("{n} of {}", series.id).as_bytes());
        let store = store.clone();
        async move { store.keep(answer, Interval::MINUTE, understood).await.unwrap() }
    };
    let jobs = (0..4).flat_map(|n| all.iter().map(move |series| (n, series)));
    let rows = futures_util::future::join_all(jobs.map(keep)).await;
    let ids: std::collections::BTreeSet<i64> = rows.iter().map(|r| r.id).collect();
    assert_eq!(ids.len(), 48, "a number of its own for each");
    let figures = store.figures(run).await.unwrap();
    assert_eq!((figures.done, figures.bars_new, figures.calls), (48, 12 * (2 * 20 + 2 * 350), 96));
    for series in &all {
        let bars = store.bars(series, WHOLE, Timestamp::MAX).await.unwrap();
        assert_eq!(bars.rows.len(), 2 * 20 + 2 * 350, "{:?}", series.key);
        assert!(bars.rows.windows(2).all(|pair| pair[0].slot < pair[1].slot));
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Ways of keeping differ in cost only: whatever comes in whatever pieces, in one step or two, the same is held.
    #[test]
    fn however_answers_are_cut_the_series_reads_the_same(
        pieces in prop::collection::vec((0i64..2_600, 1i64..420, 0i64..3, any::<bool>()), 1..14),
        daily in any::<bool>(),
    ) {
        let interval = if daily { Interval::Daily } else { Interval::MINUTE };
        tokio::runtime::Runtime::new().unwrap().block_on(async {
            let (_dir, store, series, run) = opened(interval).await;
            let mut model: BTreeMap<i64, i64> = BTreeMap::new();
            for (from, length, price, at_once) in pieces {
                let slots = from..from + length;
                let mut bars = minutes(slots.clone().map(|m| (m, 100 + m + price)));
                if daily {
                    bars.rows.iter_mut().zip(slots.clone()).for_each(|(bar, day)| bar.slot = Slot(day));
                }
                let restated = slots.clone().filter(|s| model.get(s).is_some_and(|p| *p != price)).count() as u64;
                let new = slots.clone().filter(|s| !model.contains_key(s)).count() as u64;
                model.extend(slots.map(|s| (s, price)));
                let understood = Understood { rows: length as u64, bars, ..Understood::default() };
                let answer = answer(run, series.id, format!("{from} {length} {price}").as_bytes());
                let row = match at_once {
                    true => store.keep(answer, interval, understood).await.unwrap(),
                    false => {
                        let row = store.keep_answer(answer).await.unwrap();
                        store.keep_understood(row, interval, understood).await.unwrap()
                    }
                };
                prop_assert_eq!((row.learned.new, row.learned.restated), (new, restated));
                prop_assert_eq!(store.fetch(row.id).await.unwrap(), row);
            }
            let bars = store.bars(&series, WHOLE, Timestamp::MAX).await.unwrap();
            let prices: Vec<i64> = bars.rows.iter().map(|b| b.close().mantissa).collect();
            prop_assert_eq!(prices, model.iter().map(|(slot, price)| 100 + slot + price).collect::<Vec<_>>());
            let held = &store.held(std::slice::from_ref(&series), Timestamp::MAX).await.unwrap()[&series.id];
            prop_assert_eq!(interval.count(held.iter()), model.len() as u64);
            prop_assert!(bars.rows.iter().all(|b| held.contains(&b.slot)));
            Ok(())
        })?;
    }
}
