//! A database of every earlier version is brought up to date with nothing lost; and readers beside the writer see each
//! answer whole or not at all.

use crate::common::{NOW, WHOLE, cents, key, ones, open, opened, try_open};
use mizuno_core::time::MINUTE;
use mizuno_core::{Bar, Bars, Interval, Slot, Timestamp};
use mizuno_store::{StoreError, answers::Understood};
use sqlx::{ConnectOptions, Connection, Executor, migrate::Migrator, sqlite::SqliteConnectOptions};
use std::path::Path;
use tempfile::TempDir;

fn bars(slots: std::ops::Range<i64>, price: i64) -> Bars {
    let prices = [price, price + 1, price - 1, price].map(cents);
    slots.map(|n| Bar::new(Slot(n * MINUTE), prices, Some(ones(price)))).collect()
}

/// A database as the version with so many migrations left it: one instrument that was renamed, a run, a fetch whose answer
/// was kept and not yet understood, a bar in the tail, an excuse and a row in quarantine.
async fn of_version(dir: &Path, migrations: usize) {
    let path = dir.join("mizuno.db");
    let mut old = SqliteConnectOptions::new().filename(&path).create_if_missing(true).connect().await.unwrap();
    let first = sqlx::migrate!().iter().take(migrations).cloned().collect();
    Migrator::with_migrations(first).run(&mut old).await.unwrap();
    let digest = mizuno_store::payloads::digest(b"time,open\n");
    let packed = zstd::encode_all(&b"time,open\n"[..], 1).unwrap();
    let slot = NOW.0 / MINUTE * MINUTE;
    for sql in [
        "INSERT INTO instrument (id, symbol, name, kind, venue, currency, tick_size) VALUES (7, 'KBF', 'Kelp & Barley Foods', 'share', 'ALDX', 'NZD', '0.01')",
        "INSERT INTO former_symbol (instrument_id, symbol, until) VALUES (7, 'KBX', 20000)",
        "INSERT INTO series (id, instrument_id, interval, side, source, revision) VALUES (3, 7, '1m', 'trade', 'harbour', 4)",
        "INSERT INTO run (id, collector, reason, scope, started_at, state, windows) VALUES (1, 'aldx-minutes', 'request', '{}', 5, 'running', 2)",
        "INSERT INTO excuse (id, series_id, span_start, span_end, by_whom, note, given_at) VALUES (1, 3, 0, 60000000, 'mere', 'a halt', 9)",
    ] {
        old.execute(sql).await.unwrap();
    }
    sqlx::query("INSERT INTO payload VALUES (?, 10, ?)").bind(&digest).bind(packed).execute(&mut old).await.unwrap();
    sqlx::query("INSERT INTO fetch (id, run_id, series_id, window_start, window_end, state, asked_at, answered_at, attempts, request, payload) VALUES (11, 1, 3, ?, ?, 'answered', ?, ?, 1, 'GET http://127.0.0.1/KBF', ?)")
        .bind(slot)
        .bind(slot + MINUTE)
        .bind(NOW.0)
        .bind(NOW.0)
        .bind(&digest)
        .execute(&mut old)
        .await
        .unwrap();
    let numbers = if migrations < 4 { "2, 0, 410, 420, 405, 415, 77" } else { "'4.10 4.20 4.05 4.15 77'" };
    sqlx::query(sqlx::AssertSqlSafe(format!("INSERT INTO tail VALUES (3, ?, ?, 11, 0, {numbers})")))
        .bind(slot)
        .bind(NOW.0)
        .execute(&mut old)
        .await
        .unwrap();
    sqlx::query("INSERT INTO quarantine (series_id, fetch_id, slot, line, flaw, text) VALUES (3, 11, ?, 4, 'high-below-low', 'x')")
        .bind(slot + MINUTE)
        .execute(&mut old)
        .await
        .unwrap();
    if migrations >= 4 {
        sqlx::query("UPDATE newest_commit SET stamp = ?").bind(NOW.0).execute(&mut old).await.unwrap();
    }
    old.close().await.unwrap();
}

#[tokio::test]
async fn a_database_of_any_earlier_version_is_opened_with_nothing_lost() {
    let all = sqlx::migrate!().iter().count();
    assert!(all >= 3);
    for migrations in 1..=all {
        let dir = TempDir::new().unwrap();
        of_version(dir.path(), migrations).await;
        let store = open(dir.path()).await;
        assert_eq!(store.newest(), NOW, "the clock goes on from what was recorded");
        let series = store.find_series(&key("KBF", Interval::MINUTE)).await.unwrap().unwrap();
        assert_eq!((series.id, series.key.clone(), series.revision), (3, key("KBF", Interval::MINUTE), if migrations < 4 { 0 } else { 4 }));
        let slot = NOW.0 / MINUTE;
        let held = store.bars(&series, Slot(i64::MIN)..Slot(i64::MAX), Timestamp::MAX).await.unwrap();
        assert_eq!(held.rows, [Bar::new(Slot(slot * MINUTE), [410, 420, 405, 415].map(cents), Some(ones(77)))]);
        assert_eq!(held.rows[0].open().to_string(), "4.10", "with the digits it was printed with");
        let waiting = store.to_replay().await.unwrap();
        assert_eq!(waiting.len(), 1, "the answer that was kept can still be understood");
        let pages = store.answered_pages(&waiting[0]).await.unwrap();
        assert_eq!((pages.len(), pages[0].body.as_deref()), (1, Some(&b"time,open\n"[..])));
        let learned = store.keep_bars(11, 3, Interval::MINUTE, Understood { bars: bars(slot..slot + 300, 430), ..Understood::default() });
        let learned = learned.await.unwrap();
        assert_eq!((learned.new, learned.restated), (299, 1), "and its bars be stored beside the others");
        let excuses = store.excuses().await.unwrap();
        assert_eq!((excuses.len(), excuses[0].by.as_str(), &excuses[0].finding), (1, "mere", &None));
        let suspects = store.quarantine(None, 10).await.unwrap();
        assert_eq!((suspects.len(), suspects[0].suspect.flaw.as_str(), suspects[0].suspect.line), (1, "high-below-low", 4));
        assert_eq!(store.instruments().await.unwrap()[0].former[0].symbol, "KBX");
        store.close().await;
        drop(store);
        open(dir.path()).await.close().await;
    }
}

#[tokio::test]
async fn a_file_that_is_no_database_is_refused_and_left_as_it_is() {
    let dir = TempDir::new().unwrap();
    let path = dir.path().join("mizuno.db");
    std::fs::write(&path, b"prices, but not in a form we know".repeat(200)).unwrap();
    let before = std::fs::read(&path).unwrap();
    let refused = try_open(dir.path()).await.err().unwrap();
    assert!(!matches!(refused, StoreError::DiskFull), "{refused}");
    assert!(refused.to_string().contains("not a database"), "{refused}");
    assert_eq!(std::fs::read(&path).unwrap(), before);
}

/// The writer replaces a whole series again and again, in blocks and tail; each reader sees one price everywhere.
#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn readers_see_each_answer_whole_or_not_at_all() {
    let (_dir, store, series, _) = opened(Interval::MINUTE).await;
    // Two months by blocks, and a few minutes that stay in the tail.
    let slots = 29_040_000..29_040_600;
    let store_all = |price: i64| {
        let understood = Understood { bars: bars(slots.clone(), price), ..Understood::default() };
        store.keep_bars(price, series.id, Interval::MINUTE, understood)
    };
    store_all(100).await.unwrap();
    let readers: Vec<_> = (0..3)
        .map(|_| {
            let (store, series) = (store.clone(), series.clone());
            tokio::spawn(async move {
                let (mut seen, mut last) = (0, cents(100));
                while last < cents(140) {
                    let read = store.bars(&series, WHOLE, Timestamp::MAX).await.unwrap();
                    let price = read.rows[0].close();
                    assert_eq!(read.rows.len(), 600);
                    assert!(read.rows.iter().all(|b| b.close() == price), "one answer, not two");
                    assert!(price >= last, "nobody goes back in time");
                    seen += usize::from(price != last);
                    last = price;
                }
                seen
            })
        })
        .collect();
    for price in 101..=140 {
        assert_eq!(store_all(price).await.unwrap().restated, 600);
    }
    for reader in readers {
        assert!(reader.await.unwrap() > 0, "it read while the writer wrote");
    }
    store.close().await;
}
