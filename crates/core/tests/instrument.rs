//! Instruments under the names and within the dates they had.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test stops at once when something is not as it needs it")]

use mizuno_core::{Instrument, TradeDate, instrument::FormerSymbol};

fn date(text: &str) -> TradeDate {
    text.parse().unwrap()
}

#[test]
fn an_instrument_has_the_symbol_of_the_day_and_trades_within_its_life() {
    let former = |symbol: &str, until: &str| FormerSymbol { symbol: symbol.to_owned(), until: date(until) };
    let tern = Instrument {
        symbol: "TRN".to_owned(),
        name: "Tern Airways".to_owned(),
        kind: "share".to_owned(),
        venue: "ALDX".to_owned(),
        currency: "NZD".to_owned(),
        tick_size: None,
        multiplier: None,
        listed: Some(date("2016-01-04")),
        last_traded: Some(date("2025-12-31")),
        expiry: None,
        strike: None,
        product: None,
        first_notice: None,
        leverage: None,
        former: vec![former("GLA", "2020-02-03"), former("GUL", "2025-02-03")],
    };
    for (day, symbol) in [("2016-01-04", "GLA"), ("2020-02-02", "GLA"), ("2020-02-03", "GUL"), ("2025-02-02", "GUL"), ("2025-02-03", "TRN")]
    {
        assert_eq!(tern.symbol_on(date(day)), symbol, "{day}");
    }
    for (day, trades) in [("2016-01-03", false), ("2016-01-04", true), ("2025-12-31", true), ("2026-01-01", false)] {
        assert_eq!(tern.trades_on(date(day)), trades, "{day}");
    }
}
