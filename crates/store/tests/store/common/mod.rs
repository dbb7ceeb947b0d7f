//! A store of its own for each test, with one instrument, one series of it and a run.
#![allow(dead_code, reason = "each test file uses a part of it")]

use mizuno_core::{Decimal, Instrument, Interval, SeriesKey, Side, Slot, Span, Timestamp};
use mizuno_store::{Store, runs::Reason, series::SeriesRow};
use tempfile::TempDir;

pub const WHOLE: Span = Slot(i64::MIN)..Slot(i64::MAX);
pub const NOW: Timestamp = Timestamp(1_744_252_200_000_000); // 10 April 2025, 02:30 UTC

pub fn instrument(symbol: &str) -> Instrument {
    Instrument {
        symbol: symbol.into(),
        name: "Kelp & Barley Foods".into(),
        kind: "share".into(),
        venue: "ALDX".into(),
        currency: "NZD".into(),
        tick_size: "0.01".parse().ok(),
        multiplier: None,
        listed: None,
        last_traded: "2025-03-14".parse().ok(),
        expiry: None,
        strike: None,
        product: None,
        first_notice: None,
        leverage: None,
        former: vec![mizuno_core::instrument::FormerSymbol { symbol: "GUL".into(), until: "2025-02-03".parse().unwrap() }],
    }
}

pub fn key(symbol: &str, interval: Interval) -> SeriesKey {
    SeriesKey { symbol: symbol.into(), interval, side: Side::Trade, source: "harbour".into() }
}

/// A store whose clock goes on by a second a look.
pub async fn open(dir: &std::path::Path) -> Store {
    try_open(dir).await.unwrap()
}

pub async fn try_open(dir: &std::path::Path) -> mizuno_store::Result<Store> {
    let at = std::sync::atomic::AtomicI64::new(NOW.0);
    let now = move || Timestamp(at.fetch_add(1_000_000, std::sync::atomic::Ordering::SeqCst));
    Store::open(dir, std::sync::Arc::new(now)).await
}

/// A number in hundredths.
pub fn cents(mantissa: i64) -> Decimal {
    Decimal { mantissa, scale: 2 }
}

/// A whole number.
pub fn ones(mantissa: i64) -> Decimal {
    Decimal { mantissa, scale: 0 }
}

pub async fn opened(interval: Interval) -> (TempDir, Store, SeriesRow, i64) {
    let dir = TempDir::new().unwrap();
    let store = open(dir.path()).await;
    store.put_instruments(vec![instrument("KBF")], None).await.unwrap();
    let series = store.ensure_series(vec![key("KBF", interval)]).await.unwrap().remove(0);
    let run = store.begin_run("aldx".into(), Reason::Request, "{}".into()).await.unwrap();
    (dir, store, series, run)
}
