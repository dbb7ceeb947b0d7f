//! Numbers worked out of bars: their names, units and formulas.
//!
//! A name is a [`Quantity`] of one bar (`return`, `typical`), or a [`Window`] over the last bars or sessions of one (`mean_200`,
//! `deviation_20_of_return`, `sum_5_sessions_of_volume`), or a window over a window (`highest_20_of_mean_50`). Every name can be read, and
//! none can ask for more than [`MOST_BARS`] bars a window: a set of names with parameters, and no language.
//!
//! [`Deriver`] works the numbers out, a bar at a time.

mod holder;
mod working;

pub use holder::{Payout, payouts};
pub use working::{Deriver, Input, Priced, Value, priced};

use std::{fmt, str::FromStr};

/// Bars of one window at most.
pub const MOST_BARS: u32 = 2_000;
/// Sessions of one window at most.
pub const MOST_SESSIONS: u32 = 60;
/// A run of rises or falls is counted up to so many bars.
pub const LONGEST_RUN: u32 = 250;

/// A number of one bar, or of a bar and the one before.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Quantity {
    /// First price.
    Open,
    /// Highest price.
    High,
    /// Lowest price.
    Low,
    /// Last price.
    Close,
    /// Quantity traded.
    Volume,
    /// Contracts open at the end.
    OpenInterest,
    /// The middle between the closes of bid and ask.
    Mid,
    /// The close of the ask less that of the bid.
    Spread,
    /// (high + low + close) / 3.
    Typical,
    /// Typical price as traded × volume as traded.
    Turnover,
    /// Close less the close before.
    Change,
    /// High less low.
    Range,
    /// Open less the close before.
    Gap,
    /// Close / close before − 1.
    Return,
    /// ln(close / close before).
    LogReturn,
    /// Worth of a share and what was paid on it since the close before / that close − 1, as traded.
    TotalReturn,
    /// Close / highest close since the first row − 1.
    Drawdown,
    /// Bars in a row that closed higher than the one before.
    Rises,
    /// Bars in a row that closed lower than the one before.
    Falls,
    /// Minutes from the end of the bar to the instant of the answer.
    Age,
    /// Days from the trade date of the bar to the day of expiry, or where there is none to the last trade date.
    DaysToExpiry,
}

/// The word, the unit and the formula of each quantity.
pub const QUANTITIES: [(Quantity, &str, &str, &str); 21] = [
    (Quantity::Open, "open", "price", "first price"),
    (Quantity::High, "high", "price", "highest price"),
    (Quantity::Low, "low", "price", "lowest price"),
    (Quantity::Close, "close", "price", "last price"),
    (Quantity::Volume, "volume", "units traded", "quantity traded"),
    (Quantity::OpenInterest, "open_interest", "contracts", "contracts open at the end of the bar"),
    (Quantity::Mid, "mid", "price", "(close of the bid + close of the ask) / 2"),
    (Quantity::Spread, "spread", "price", "close of the ask − close of the bid"),
    (Quantity::Typical, "typical", "price", "(high + low + close) / 3"),
    (Quantity::Turnover, "turnover", "price × units", "typical × volume, both as traded"),
    (Quantity::Change, "change", "price", "close − close before"),
    (Quantity::Range, "range", "price", "high − low"),
    (Quantity::Gap, "gap", "price", "open − close before"),
    (Quantity::Return, "return", "share of one", "close / close before − 1"),
    (Quantity::LogReturn, "log_return", "share of one", "ln(close / close before)"),
    (Quantity::TotalReturn, "total_return", "share of one", "(close + what was paid) / close before − 1, as traded"),
    (Quantity::Drawdown, "drawdown", "share of one", "close / highest close since the first row − 1"),
    (Quantity::Rises, "rises", "bars", "bars in a row that closed higher than the one before, up to 250"),
    (Quantity::Falls, "falls", "bars", "bars in a row that closed lower than the one before, up to 250"),
    (Quantity::Age, "age", "minutes", "instant of the answer − end of the bar"),
    (Quantity::DaysToExpiry, "days_to_expiry", "days", "day of expiry, or else last trade date − trade date"),
];

impl Quantity {
    /// Its word in a name.
    #[must_use]
    pub fn word(self) -> &'static str {
        QUANTITIES.iter().find(|(q, ..)| *q == self).map_or("", |(_, word, ..)| word)
    }

    /// Whether it is a price, which a price's rounding is for.
    #[must_use]
    pub fn is_a_price(self) -> bool {
        use Quantity::*;
        matches!(self, Open | High | Low | Close | Mid | Spread | Typical | Change | Range | Gap)
    }

    /// Whether it comes as an exact number; else as a 64-bit float.
    fn is_exact(self) -> bool {
        use Quantity::*;
        !matches!(self, Typical | Turnover | Return | LogReturn | TotalReturn | Drawdown)
    }

    /// Whether it holds a bar against the one before.
    fn looks_back(self) -> bool {
        use Quantity::*;
        matches!(self, Change | Gap | Return | LogReturn | TotalReturn | Rises | Falls)
    }
}

/// What is made of the numbers in a window.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Function {
    /// Their mean.
    Mean,
    /// Their deviation, of the sample (n − 1).
    Deviation,
    /// Their sum.
    Sum,
    /// The lowest.
    Lowest,
    /// The highest.
    Highest,
    /// The last / the highest − 1.
    Drawdown,
}

/// The word and the formula of each function; the unit is that of what it is made of, a share of one for a drawdown.
pub const FUNCTIONS: [(Function, &str, &str); 6] = [
    (Function::Mean, "mean", "sum / n"),
    (Function::Deviation, "deviation", "√(Σ(x − mean)² / (n − 1))"),
    (Function::Sum, "sum", "Σx"),
    (Function::Lowest, "lowest", "min x"),
    (Function::Highest, "highest", "max x"),
    (Function::Drawdown, "drawdown", "last x / max x − 1"),
];

/// How far a window goes back, the bar itself included.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum WindowLength {
    /// So many bars.
    Bars(u32),
    /// The bars of so many sessions.
    Sessions(u32),
}

/// A function over the last bars or sessions.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Window {
    /// What is made of them.
    pub function: Function,
    /// How many there are.
    pub reach: WindowLength,
}

/// A number worked out of bars.
///
/// ```
/// use mizuno_core::derived::Derived;
/// let name: Derived = "deviation_20_of_return".parse()?;
/// assert_eq!((name.to_string(), name.unit()), ("deviation_20_of_return".to_owned(), "share of one"));
/// assert_eq!("mean_200".parse::<Derived>()?, "mean_200_of_close".parse()?);
/// assert!("mean_of_close".parse::<Derived>().is_err());
/// # Ok::<(), mizuno_core::derived::NoSuchName>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Derived {
    /// The window over the other one, where there are two.
    pub outer: Option<Window>,
    /// The window over the quantity.
    pub inner: Option<Window>,
    /// What it is made of.
    pub of: Quantity,
}

/// How much a number needs of what was before its bar.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Needs {
    /// So many bars.
    pub bars: u32,
    /// And those of so many sessions.
    pub sessions: u32,
}

impl Needs {
    /// Enough for both.
    #[must_use]
    pub fn and(self, other: Needs) -> Needs {
        Needs { bars: self.bars.max(other.bars), sessions: self.sessions.max(other.sessions) }
    }
}

impl Derived {
    /// A quantity by itself.
    #[must_use]
    pub const fn plain(of: Quantity) -> Derived {
        Derived { outer: None, inner: None, of }
    }

    fn windows(self) -> impl Iterator<Item = Window> {
        self.inner.into_iter().chain(self.outer)
    }

    /// What it is counted in.
    #[must_use]
    pub fn unit(self) -> &'static str {
        match self.windows().any(|w| w.function == Function::Drawdown) {
            true => "share of one",
            false => QUANTITIES.iter().find(|(q, ..)| *q == self.of).map_or("", |(.., unit, _)| unit),
        }
    }

    /// Whether it comes as an exact number; else as a 64-bit float.
    #[must_use]
    pub fn is_exact(self) -> bool {
        self.of.is_exact() && self.windows().all(|w| matches!(w.function, Function::Lowest | Function::Highest))
    }

    /// Whether it is an exact price, which a price's rounding is for.
    #[must_use]
    pub fn is_a_price(self) -> bool {
        self.is_exact() && self.of.is_a_price()
    }

    /// Whether it goes over the bars of sessions, each from its first bar on.
    #[must_use]
    pub fn goes_over_sessions(self) -> bool {
        self.windows().any(|w| matches!(w.reach, WindowLength::Sessions(_)))
    }

    /// Whether it follows from a bar alone.
    #[must_use]
    pub fn is_of_one_bar(self) -> bool {
        self.windows().next().is_none() && !self.looks_back() && self.of != Quantity::Drawdown
    }

    /// Whether it holds bars against those before, so that what is missing between them matters.
    #[must_use]
    pub fn looks_back(self) -> bool {
        self.of.looks_back()
    }

    /// What it needs of the time before its bar.
    #[must_use]
    pub fn needs(self) -> Needs {
        let bars = match self.of {
            Quantity::Rises | Quantity::Falls => LONGEST_RUN + 1,
            of => u32::from(of.looks_back()),
        };
        self.windows().fold(Needs { bars, sessions: 0 }, |needs, window| match window.reach {
            WindowLength::Bars(n) => Needs { bars: needs.bars + n - 1, ..needs },
            WindowLength::Sessions(n) => Needs { sessions: needs.sessions + n - 1, ..needs },
        })
    }
}

impl fmt::Display for Derived {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let windows: Vec<Window> = self.outer.into_iter().chain(self.inner).collect();
        for (at, Window { function, reach }) in windows.iter().enumerate() {
            let word = FUNCTIONS.iter().find(|(known, ..)| known == function).map_or("", |(_, word, _)| word);
            let before = if at > 0 { "_of_" } else { "" };
            match reach {
                WindowLength::Bars(n) => write!(f, "{before}{word}_{n}")?,
                WindowLength::Sessions(n) => write!(f, "{before}{word}_{n}_sessions")?,
            }
        }
        match (windows.is_empty(), self.of) {
            (true, of) => f.write_str(of.word()),
            (false, Quantity::Close) => Ok(()),
            (false, of) => write!(f, "_of_{}", of.word()),
        }
    }
}

/// No number has this name.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct NoSuchName(pub String);

impl FromStr for Derived {
    type Err = NoSuchName;

    fn from_str(text: &str) -> Result<Derived, NoSuchName> {
        let parts: Vec<&str> = text.split("_of_").collect();
        let (last, windows) = parts.split_last().map_or((text, &[][..]), |(last, rest)| (*last, rest));
        let plain = QUANTITIES.iter().find(|(_, word, ..)| *word == last).map(|(of, ..)| *of);
        let mut read: Vec<Window> = windows.iter().map(|part| window(text, part)).collect::<Result<_, _>>()?;
        let of = match plain {
            Some(of) => of,
            // Without more, the close is meant.
            None => {
                read.push(window(text, last)?);
                Quantity::Close
            }
        };
        if read.len() > 2 {
            return Err(NoSuchName(format!("`{text}` is a window over a window over a window; there are at most two")));
        }
        let inner = read.pop();
        Ok(Derived { outer: read.pop(), inner, of })
    }
}

/// A window, as `mean_20` or `sum_5_sessions`.
fn window(whole: &str, part: &str) -> Result<Window, NoSuchName> {
    let (text, sessions) = part.strip_suffix("_sessions").map_or((part, false), |text| (text, true));
    let words = || QUANTITIES.map(|(_, word, ..)| word).join(", ");
    let windows = || FUNCTIONS.map(|(_, word, _)| format!("{word}_N")).join(", ");
    let found = FUNCTIONS.iter().find_map(|(function, word, _)| Some((*function, *word, text.strip_prefix(word)?)));
    let Some((function, word, rest)) = found else {
        return Err(NoSuchName(format!("`{part}` is no number of a bar; there is {}; and over the last bars {}", words(), windows())));
    };
    let most = if sessions { MOST_SESSIONS } else { MOST_BARS };
    let least = if function == Function::Deviation { 2 } else { 1 };
    let count = rest.strip_prefix('_').filter(|n| n.bytes().all(|b| b.is_ascii_digit()) && !n.starts_with('0'));
    let count = count.and_then(|n| n.parse::<u32>().ok()).filter(|n| (least..=most).contains(n));
    let Some(n) = count else {
        let what = if sessions { "sessions" } else { "bars" };
        return Err(NoSuchName(format!(
            "`{whole}`: {word} goes over {least} to {most} {what}; write it like {word}_20 or {word}_5_sessions"
        )));
    };
    Ok(Window { function, reach: if sessions { WindowLength::Sessions(n) } else { WindowLength::Bars(n) } })
}

#[cfg(test)]
#[path = "names_test.rs"]
mod tests;
