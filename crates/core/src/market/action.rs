//! Corporate actions: what changes what a price of an instrument means.

use crate::{decimal::Decimal, finding::Split, time::TradeDate};
use std::fmt;

/// One action, as far as prices follow from it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Action {
    /// The first trade date on which whoever buys has no part in it.
    pub ex_date: TradeDate,
    /// What happens.
    pub what: What,
}

/// What happens in an action.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum What {
    /// So many new shares for so many old ones, in lowest terms; fewer for more in a consolidation.
    Split {
        /// New shares ...
        new: i64,
        /// ... in the place of these.
        old: i64,
    },
    /// So many shares more, for nothing, for each so many held.
    Bonus {
        /// Shares given ...
        new: i64,
        /// ... for so many held, which stay.
        old: i64,
    },
    /// Money paid for each share.
    Dividend(Dividend),
    /// The right to buy so many shares more for each so many held, at a price.
    Rights {
        /// Shares that may be bought ...
        new: i64,
        /// ... for so many held.
        old: i64,
        /// The price of each.
        price: Decimal,
    },
    /// Shares of another company given for shares held.
    SpinOff {
        /// Shares of the other company ...
        new: i64,
        /// ... for so many held.
        old: i64,
        /// What one of them is worth; pending while it is not known.
        value: Option<Decimal>,
    },
    /// Trading has ended: its ex-date is the first day without. Prices before it stay as they are.
    Delisting {
        /// What a holder got for a share, which may be nothing.
        price: Decimal,
    },
}

/// Money paid for each share.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Dividend {
    /// How much.
    pub amount: Decimal,
    /// In which currency; that of the instrument when absent.
    pub currency: Option<String>,
    /// What one unit of that currency is worth in the instrument's, where somebody says it.
    pub rate: Option<Decimal>,
    /// Whether it is paid once, beside the usual ones.
    pub special: bool,
    /// Whether it is told for each share before a split of the same day; else after it.
    pub before_split: bool,
}

/// The kinds of actions, by their words.
pub const KINDS: [&str; 7] = ["split", "bonus", "dividend", "special", "rights", "spin-off", "delisting"];

impl Action {
    /// Reads an action of the kind `word` from its columns: `ex_date`; `new` and `old`; `amount`, `currency`, `rate` and `before_split`
    /// of a dividend; `price` of rights and of a delisting; `value` of a spin-off.
    ///
    /// ```
    /// use mizuno_core::action::Action;
    /// let said = |column: &str| match column {
    ///     "ex_date" => Some("2025-03-17"),
    ///     "new" => Some("4"),
    ///     "old" => Some("1"),
    ///     _ => None,
    /// };
    /// assert_eq!(Action::read("split", said)?.to_string(), "split 4 for 1");
    /// assert_eq!(Action::read("bonus", |c| said(c).filter(|_| c != "old")).unwrap_err(), "old: it is missing");
    /// # Ok::<(), String>(())
    /// ```
    ///
    /// # Errors
    /// What is wrong with a column, in a sentence that names it.
    pub fn read<'t>(word: &str, said: impl Fn(&str) -> Option<&'t str>) -> Result<Action, String> {
        let given = |column: &str| said(column).map(str::trim).filter(|text| !text.is_empty());
        let missing = |column: &str| format!("{column}: it is missing");
        let ex_date = given("ex_date").ok_or_else(|| missing("ex_date"))?;
        let ex_date = ex_date.parse::<TradeDate>().map_err(|e| format!("ex_date: {e}"))?;
        let number = |column: &str| given(column).map(|text| text.parse::<Decimal>().map_err(|e| format!("{column}: {e}"))).transpose();
        let above_nought = |column: &str| match number(column)? {
            Some(n) if n.mantissa > 0 => Ok(Some(n)),
            Some(n) => Err(format!("{column}: {n} is not above nought")),
            None => Ok(None),
        };
        let wanted = |column: &str| above_nought(column)?.ok_or_else(|| missing(column));
        let ratio = || {
            let (new, old) = (wanted("new")?, wanted("old")?);
            Split::ratio(new, old).ok_or_else(|| format!("new, old: {new} for {old} is no ratio of shares"))
        };
        let what = match word {
            "split" => ratio().map(|(new, old)| What::Split { new, old })?,
            "bonus" => ratio().map(|(new, old)| What::Bonus { new, old })?,
            "dividend" | "special" => What::Dividend(Dividend {
                amount: wanted("amount")?,
                currency: given("currency").map(str::to_owned),
                rate: above_nought("rate")?,
                special: word == "special",
                before_split: match given("before_split") {
                    None | Some("false" | "no" | "0") => false,
                    Some("true" | "yes" | "1") => true,
                    Some(other) => return Err(format!("before_split: `{other}` is neither true nor false")),
                },
            }),
            "rights" => {
                let price = wanted("price")?;
                ratio().map(|(new, old)| What::Rights { new, old, price })?
            }
            "spin-off" => {
                let value = above_nought("value")?;
                ratio().map(|(new, old)| What::SpinOff { new, old, value })?
            }
            "delisting" => match number("price")? {
                Some(price) if price.mantissa < 0 => return Err(format!("price: {price} is below nought")),
                Some(price) => What::Delisting { price },
                None => return Err(missing("price")),
            },
            other => return Err(format!("kind: `{other}` is no kind of action; it is {}", KINDS.join(", "))),
        };
        Ok(Action { ex_date, what })
    }

    /// The word of its kind.
    #[must_use]
    pub fn kind(&self) -> &'static str {
        match &self.what {
            What::Split { .. } => "split",
            What::Bonus { .. } => "bonus",
            What::Dividend(Dividend { special: false, .. }) => "dividend",
            What::Dividend(_) => "special",
            What::Rights { .. } => "rights",
            What::SpinOff { .. } => "spin-off",
            What::Delisting { .. } => "delisting",
        }
    }

    /// Whether it only divides what is there into more or fewer shares.
    #[must_use]
    pub fn is_of_shares(&self) -> bool {
        matches!(self.what, What::Split { .. } | What::Bonus { .. })
    }

    /// The currency of a dividend that is not the instrument's, and of which nobody says what it is worth.
    #[must_use]
    pub fn foreign(&self, currency: &str) -> Option<&str> {
        let What::Dividend(Dividend { currency: Some(other), rate: None, .. }) = &self.what else { return None };
        (other != currency).then_some(other)
    }

    /// Whether trading ends with it.
    #[must_use]
    pub fn is_a_delisting(&self) -> bool {
        matches!(self.what, What::Delisting { .. })
    }

    /// The order of those of one day: each finds the price that the one before has left.
    #[must_use]
    pub fn order(&self) -> u8 {
        match &self.what {
            What::Dividend(d) if d.before_split => 0,
            What::Split { .. } | What::Bonus { .. } => 1,
            What::Dividend(_) => 2,
            What::SpinOff { .. } => 3,
            What::Rights { .. } => 4,
            What::Delisting { .. } => 5,
        }
    }
}

impl fmt::Display for Action {
    /// Its kind and terms, without the date.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.what {
            What::Split { new, old } => write!(f, "split {new} for {old}"),
            What::Bonus { new, old } => write!(f, "bonus {new} for {old} held"),
            What::Dividend(d) => {
                write!(f, "{} {}", self.kind(), d.amount)?;
                if let Some(currency) = &d.currency {
                    write!(f, " {currency}")?;
                }
                if let Some(rate) = d.rate {
                    write!(f, " at {rate}")?;
                }
                if d.before_split { write!(f, " before the split") } else { Ok(()) }
            }
            What::Rights { new, old, price } => write!(f, "rights {new} for {old} held at {price}"),
            What::SpinOff { new, old, value: Some(value) } => write!(f, "spin-off {new} for {old} held, worth {value} each"),
            What::SpinOff { new, old, value: None } => write!(f, "spin-off {new} for {old} held, of a value not known"),
            What::Delisting { price } => write!(f, "delisting at {price}"),
        }
    }
}
