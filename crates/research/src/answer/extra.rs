//! What an answer knows of a bar that was made of finer ones.

use mizuno_core::{
    Bar, Decimal, Span,
    adjust::Factors,
    derived::{Priced, priced},
};

/// What an answer tells of a bar that was made of finer ones.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Extra {
    /// The slots of the finer bars.
    pub span: Span,
    /// How many of these there are.
    pub held: u64,
    /// How many there should be, where somebody asks.
    pub expected: Option<u64>,
    /// The price paid on average, where somebody asks.
    pub average: Option<Decimal>,
    /// Whether one of them is doubted.
    pub doubted: bool,
    /// What numbers are worked out of, where some are.
    pub sources: Option<Box<Sources>>,
}

/// What a bar made of finer ones is made of, as far as numbers are worked out of it.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Sources {
    /// Open, high, low and close as traded, each with the slot of its finer bar.
    pub prices: [Priced; 4],
    /// The sum of adjusted volumes.
    pub volume: Option<f64>,
    /// Money traded.
    pub turnover: Option<f64>,
}

impl Sources {
    /// Those of some finer bars; `None` of none.
    pub(super) fn of(bars: &[Bar], factors: Option<&Factors>) -> Option<Sources> {
        let prices = priced(bars, factors)?;
        let volume = |bar: &Bar| Some(bar.volume()?.to_f64() * factors.map_or(1.0, |f| f.at(bar.slot).volume.real()));
        let money = |bar: &Bar| Some(bar.volume()?.to_f64() * bar.typical());
        Some(Sources { prices, volume: bars.iter().map(volume).sum(), turnover: bars.iter().map(money).sum() })
    }
}
