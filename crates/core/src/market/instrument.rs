//! What can be traded, under which names and between which dates.

use crate::{decimal::Decimal, time::TradeDate};

/// One thing that trades on one venue.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Instrument {
    /// Its present symbol on its venue.
    pub symbol: String,
    /// Its full name.
    pub name: String,
    /// `share`, `fund`, `future`, `option`, `pair`.
    pub kind: String,
    /// Code of its venue.
    pub venue: String,
    /// ISO 4217 code of the currency it is priced in.
    pub currency: String,
    /// Smallest step of its price, in its currency.
    pub tick_size: Option<Decimal>,
    /// Value of one point, for contracts.
    pub multiplier: Option<Decimal>,
    /// First trade date; unknown means before anything we ask for.
    pub listed: Option<TradeDate>,
    /// Last trade date, included; `None` while it trades.
    pub last_traded: Option<TradeDate>,
    /// Day of expiry, for contracts.
    pub expiry: Option<TradeDate>,
    /// Strike price, for options.
    pub strike: Option<Decimal>,
    /// What it is a contract on: those of one product are a chain, by expiry.
    pub product: Option<String>,
    /// The first day on which its holder may be told to take delivery, for contracts.
    pub first_notice: Option<TradeDate>,
    /// How many times over a fund follows what it follows; 1 when unknown.
    pub leverage: Option<Decimal>,
    /// Symbols it had before, oldest first.
    pub former: Vec<FormerSymbol>,
}

/// A symbol that an instrument carried up to, but not on, a date.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FormerSymbol {
    /// The symbol then.
    pub symbol: String,
    /// First trade date under the next symbol.
    pub until: TradeDate,
}

impl Instrument {
    /// The trade dates on which it trades, as far as they are known.
    #[must_use]
    pub fn life(&self) -> std::ops::Range<TradeDate> {
        self.listed.unwrap_or(TradeDate(i32::MIN))..self.last_traded.map_or(TradeDate(i32::MAX), |last| last.plus(1))
    }

    /// The symbol it carried on `date`.
    ///
    /// ```
    /// use mizuno_core::{Instrument, instrument::FormerSymbol};
    /// let former = vec![FormerSymbol { symbol: "GUL".into(), until: "2025-02-03".parse()? }];
    /// let tern = Instrument {
    ///     symbol: "TRN".into(), name: "Tern Airways".into(), kind: "share".into(), venue: "ALDX".into(), currency: "NZD".into(),
    ///     tick_size: None, multiplier: None, listed: None, last_traded: None, expiry: None, strike: None,
    ///     product: None, first_notice: None, leverage: None, former,
    /// };
    /// assert_eq!((tern.symbol_on("2025-02-02".parse()?), tern.symbol_on("2025-02-03".parse()?)), ("GUL", "TRN"));
    /// # Ok::<(), mizuno_core::time::TimeError>(())
    /// ```
    #[must_use]
    pub fn symbol_on(&self, date: TradeDate) -> &str {
        self.former.iter().filter(|f| date < f.until).min_by_key(|f| f.until).map_or(&self.symbol, |f| &f.symbol)
    }

    /// Whether a bar of `date` can exist.
    #[must_use]
    pub fn trades_on(&self, date: TradeDate) -> bool {
        self.listed.is_none_or(|first| date >= first) && self.last_traded.is_none_or(|last| date <= last)
    }
}
