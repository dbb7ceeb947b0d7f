//! The name of a series: whose bars, how long, which side, from where.

use crate::interval::Interval;
use std::{fmt, str::FromStr};

/// Which side of the market a bar describes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Side {
    /// Prices at which trades were made.
    Trade,
    /// Prices bid.
    Bid,
    /// Prices asked.
    Ask,
    /// Half-way between bid and ask.
    Mid,
}

impl fmt::Display for Side {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Side::Trade => "trade",
            Side::Bid => "bid",
            Side::Ask => "ask",
            Side::Mid => "mid",
        })
    }
}

impl FromStr for Side {
    type Err = NotASeries;

    fn from_str(text: &str) -> Result<Self, NotASeries> {
        match text {
            "trade" => Ok(Side::Trade),
            "bid" => Ok(Side::Bid),
            "ask" => Ok(Side::Ask),
            "mid" => Ok(Side::Mid),
            _ => Err(NotASeries::Side(text.to_owned())),
        }
    }
}

/// The bars of one instrument, one interval and one side, from one source.
///
/// Written `KBF/1m/harbour`, or `ORO-USD/1m/bid/packhorse` where the side is not trades.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SeriesKey {
    /// The instrument's present symbol.
    pub symbol: String,
    /// The length of its bars.
    pub interval: Interval,
    /// The side of the market.
    pub side: Side,
    /// The source's name.
    pub source: String,
}

impl fmt::Display for SeriesKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let SeriesKey { symbol, interval, side, source } = self;
        match side {
            Side::Trade => write!(f, "{symbol}/{interval}/{source}"),
            side => write!(f, "{symbol}/{interval}/{side}/{source}"),
        }
    }
}

/// Text that names no series.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum NotASeries {
    /// Not three or four parts.
    #[error("`{0}` is not a series; write SYMBOL/INTERVAL/SOURCE, as in KBF/1m/harbour")]
    Shape(String),
    /// Not a side of the market.
    #[error("`{0}` is not a side; it is trade, bid, ask or mid")]
    Side(String),
    /// Its interval cannot be read.
    #[error(transparent)]
    Interval(#[from] crate::interval::NotAnInterval),
}

impl FromStr for SeriesKey {
    type Err = NotASeries;

    fn from_str(text: &str) -> Result<Self, NotASeries> {
        let parts: Vec<&str> = text.split('/').collect();
        let (symbol, interval, side, source) = match parts[..] {
            [symbol, interval, source] => (symbol, interval, "trade", source),
            [symbol, interval, side, source] => (symbol, interval, side, source),
            _ => return Err(NotASeries::Shape(text.to_owned())),
        };
        if symbol.is_empty() || source.is_empty() {
            return Err(NotASeries::Shape(text.to_owned()));
        }
        Ok(SeriesKey { symbol: symbol.to_owned(), interval: interval.parse()?, side: side.parse()?, source: source.to_owned() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_series_name_reads_back() {
        for text in ["KBF/1m/harbour", "LNT.A/1d/harbour", "TDP/1h/ask/packhorse"] {
            assert_eq!(text.parse::<SeriesKey>().unwrap().to_string(), text);
        }
        for text in ["KBF", "KBF/1m", "/1m/harbour", "KBF/1x/harbour", "KBF/1m/last/harbour", "a/1m/bid/b/c"] {
            assert!(text.parse::<SeriesKey>().is_err(), "{text}");
        }
    }
}
