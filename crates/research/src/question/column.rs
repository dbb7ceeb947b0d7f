//! The columns of an answer.

use super::Question;
use mizuno_core::{
    Interval,
    derived::{Derived, FUNCTIONS, NoSuchName, QUANTITIES},
};
use std::borrow::Cow;

/// A column of an answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Column {
    /// Symbol of the instrument; not in wide files.
    Instrument,
    /// Name of the series that was asked for; not in wide files.
    Series,
    /// When the bar opens, or its trade date.
    Time,
    /// The trade date, also of intraday bars.
    TradeDate,
    /// Seconds since 1970, beside whatever the stamp is.
    Epoch,
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
    /// The source of each bar.
    Source,
    /// Whether the checks doubt the bar.
    Doubted,
    /// How complete its trade date is, in per cent.
    Completeness,
    /// The last price as traded, beside an adjusted one.
    RawClose,
    /// What prices are multiplied by.
    PriceFactor,
    /// What volumes are multiplied by.
    VolumeFactor,
    /// The corporate actions that count from its trade date on.
    Action,
    /// The price paid on average, as traded, of a bar made of finer ones.
    AveragePrice,
    /// Of a continuous series, the contract of each bar.
    Contract,
    /// How many finer bars it is made of.
    Held,
    /// How many there should be.
    Expected,
    /// A number worked out of bars.
    Derived(Derived),
}

impl Column {
    /// All columns that are not worked out, in order.
    pub const ALL: [Column; 22] = [
        Column::Instrument,
        Column::Series,
        Column::Time,
        Column::TradeDate,
        Column::Epoch,
        Column::Open,
        Column::High,
        Column::Low,
        Column::Close,
        Column::Volume,
        Column::OpenInterest,
        Column::Source,
        Column::Doubted,
        Column::Completeness,
        Column::RawClose,
        Column::PriceFactor,
        Column::VolumeFactor,
        Column::Action,
        Column::Contract,
        Column::AveragePrice,
        Column::Held,
        Column::Expected,
    ];

    /// Its name; the moment of a daily bar is called `date`.
    #[must_use]
    pub fn name(self, interval: Interval) -> Cow<'static, str> {
        match self {
            Column::Time if !interval.is_intraday() => "date".into(),
            other => other.word(),
        }
    }

    /// Its name in a question.
    #[must_use]
    pub fn word(self) -> Cow<'static, str> {
        Cow::Borrowed(match self {
            Column::Derived(derived) => return derived.to_string().into(),
            Column::Instrument => "instrument",
            Column::Series => "series",
            Column::Time => "time",
            Column::TradeDate => "trade_date",
            Column::Epoch => "epoch",
            Column::Open => "open",
            Column::High => "high",
            Column::Low => "low",
            Column::Close => "close",
            Column::Volume => "volume",
            Column::OpenInterest => "open_interest",
            Column::Source => "source",
            Column::Doubted => "doubted",
            Column::Completeness => "completeness",
            Column::RawClose => "raw_close",
            Column::PriceFactor => "price_factor",
            Column::VolumeFactor => "volume_factor",
            Column::Action => "action",
            Column::AveragePrice => "average_price",
            Column::Contract => "contract",
            Column::Held => "held",
            Column::Expected => "expected",
        })
    }

    /// The column of a name; the moment of a daily bar is called both `date` and `time`.
    ///
    /// # Errors
    /// What there is instead.
    pub(super) fn read(name: &str, interval: Interval) -> Result<Column, String> {
        let is = |c: &Column| c.name(interval) == name || c.word() == name || (*c == Column::Time && name == "date");
        if let Some(known) = Column::ALL.into_iter().find(is) {
            return Ok(known);
        }
        name.parse().map(Column::Derived).map_err(|NoSuchName(why)| {
            // Whoever writes a window meant a number that is worked out.
            if FUNCTIONS.iter().any(|(_, word, _)| name.contains(word)) {
                return why;
            }
            let usual = Column::ALL.into_iter().partition::<Vec<Column>, _>(|c| Question::USUAL.contains(c));
            let names: Vec<_> = usual.0.iter().chain(&usual.1).map(|c| c.name(interval)).collect();
            let bars = QUANTITIES.iter().map(|(_, word, ..)| *word).filter(|word| !names.iter().any(|n| n == word)).collect::<Vec<_>>();
            format!(
                "`{name}` is not a column; there is {}; worked out of bars {}; and over the last bars {}",
                names.join(", "),
                bars.join(", "),
                FUNCTIONS.map(|(_, word, _)| format!("{word}_N")).join(", ")
            )
        })
    }

    /// Whether it says when, and not what: once a row in a wide file.
    #[must_use]
    pub fn is_of_the_moment(self) -> bool {
        matches!(self, Column::Time | Column::TradeDate | Column::Epoch)
    }
}
