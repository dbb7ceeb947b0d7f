//! Which rows of an answer are given: conditions, the first or last of them, their order.

use super::{Layout, reader::Reader};
use mizuno_core::{
    Decimal,
    derived::{Derived, Value},
};
use std::{cmp::Ordering, fmt, str::FromStr};

/// Which rows are given; all where nothing is said.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Picking {
    /// All of these hold.
    pub conditions: Vec<Condition>,
    /// Only some of each instrument's.
    pub keep: Option<Keep>,
    /// The order of newest bars; that of the instruments when absent.
    pub sort: Option<Sort>,
    /// So many rows at most, of newest bars.
    pub limit: Option<u32>,
}

/// Which of an instrument's rows are kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Keep {
    /// The first so many.
    First(u32),
    /// The last so many.
    Last(u32),
}

/// What rows are sorted by.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Sort {
    /// By this number. Rows without it come last.
    pub by: Derived,
    /// Whether the largest comes first.
    pub down: bool,
}

impl fmt::Display for Sort {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}{}", if self.down { "-" } else { "" }, self.by)
    }
}

/// Two numbers of a row held against each other.
///
/// ```
/// use mizuno_research::question::picking::Condition;
/// let condition: Condition = "close>mean_200".parse()?;
/// assert_eq!(condition.to_string(), "close > mean_200");
/// let wrong = "close >> 5".parse::<Condition>().unwrap_err();
/// assert!(wrong.starts_with("at character 8 of `close >> 5`: `> 5` is neither a number, as 7.50, nor one of a bar; there is open, high"));
/// # Ok::<(), String>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Condition {
    /// What stands before the sign.
    pub left: Derived,
    /// The sign.
    pub sign: Sign,
    /// What stands behind it.
    pub right: Operand,
}

/// What a number is held against.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Operand {
    /// Another number of the row.
    Derived(Derived),
    /// A number that is given.
    Number(Decimal),
}

/// How two numbers are held against each other.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sign {
    /// Not less.
    AtLeast,
    /// Not more.
    AtMost,
    /// Not equal.
    Unlike,
    /// More.
    Above,
    /// Less.
    Below,
    /// Equal.
    Equal,
    /// More, and in the row before not.
    CrossesAbove,
    /// Less, and in the row before not.
    CrossesBelow,
}

/// The signs as they are written; a longer one before one that it begins with.
const SIGNS: [(&str, Sign); 8] = [
    (">=", Sign::AtLeast),
    ("<=", Sign::AtMost),
    ("!=", Sign::Unlike),
    (">", Sign::Above),
    ("<", Sign::Below),
    ("=", Sign::Equal),
    ("crosses above", Sign::CrossesAbove),
    ("crosses below", Sign::CrossesBelow),
];

/// Conditions of one question, at most.
const MOST: usize = 20;
/// Rows kept at the end of a series, at most: they stand in memory until it ends, some twenty megabytes.
const MOST_LAST: u32 = 100_000;

impl Condition {
    /// The numbers of a row that it needs.
    pub fn operands(&self) -> impl Iterator<Item = Derived> + use<> {
        let right = if let Operand::Derived(derived) = self.right { Some(derived) } else { None };
        std::iter::once(self.left).chain(right)
    }

    /// Whether it holds of two numbers, those of the row before beside them. It does not where one is not there.
    #[must_use]
    pub fn holds(&self, now: (Option<Value>, Option<Value>), before: (Option<Value>, Option<Value>)) -> bool {
        let order = |(left, right): (Option<Value>, Option<Value>)| Some(left?.compare(&right?));
        let Some(now) = order(now) else { return false };
        match self.sign {
            Sign::Above => now.is_gt(),
            Sign::AtLeast => now.is_ge(),
            Sign::Below => now.is_lt(),
            Sign::AtMost => now.is_le(),
            Sign::Equal => now.is_eq(),
            Sign::Unlike => now.is_ne(),
            Sign::CrossesAbove => now.is_gt() && order(before).is_some_and(Ordering::is_le),
            Sign::CrossesBelow => now.is_lt() && order(before).is_some_and(Ordering::is_ge),
        }
    }
}

impl fmt::Display for Condition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let sign = SIGNS.iter().find(|(_, sign)| *sign == self.sign).map_or("", |(text, _)| text);
        match self.right {
            Operand::Derived(right) => write!(f, "{} {sign} {right}", self.left),
            Operand::Number(right) => write!(f, "{} {sign} {right}", self.left),
        }
    }
}

impl FromStr for Condition {
    type Err = String;

    fn from_str(text: &str) -> Result<Condition, String> {
        let found = SIGNS.iter().filter_map(|(sign, which)| Some((text.find(sign)?, *sign, *which)));
        // The first in the text; of two there, the longer one.
        let Some((at, sign, which)) = found.min_by_key(|(at, sign, _)| (*at, std::cmp::Reverse(sign.len()))) else {
            let signs = SIGNS.map(|(sign, _)| sign).join(", ");
            return Err(format!("`{text}` holds nothing against anything; write it like close > mean_200, with one of {signs}"));
        };
        let (left, right) = (&text[..at], &text[at + sign.len()..]);
        let character = |byte: usize| text[..byte].chars().count() + 1;
        let place = |part: &str, from: usize| character(from + part.len() - part.trim_start().len());
        let number = |part: &str, from: usize| {
            part.trim().parse::<Derived>().map_err(|e| format!("at character {} of `{text}`: {e}", place(part, from)))
        };
        let behind = at + sign.len();
        let right = match right.trim().parse::<Decimal>() {
            Ok(number) => Operand::Number(number),
            Err(_) => Operand::Derived(right.trim().parse::<Derived>().map_err(|e| {
                let e = e.to_string().replace(" is no number of a bar", " is neither a number, as 7.50, nor one of a bar");
                format!("at character {} of `{text}`: {e}", place(right, behind))
            })?),
        };
        Ok(Condition { left: number(left, 0)?, sign: which, right })
    }
}

/// Which rows are given, by the keys of a question.
pub(super) fn picking(r: &mut Reader, layout: Layout) -> Picking {
    let mut conditions: Vec<Condition> = vec![];
    for text in r.list("where").unwrap_or_default() {
        match text.parse() {
            Ok(condition) if conditions.contains(&condition) => r.wrong(format!("where: `{condition}` is said twice")),
            Ok(condition) => conditions.push(condition),
            Err(why) => r.wrong(format!("where: {why}")),
        }
    }
    if conditions.len() > MOST {
        r.wrong(format!("where: {} conditions are given, and at most {MOST} may be", conditions.len()));
    }
    let (first, last) = (r.whole("keep_first", 1, 1_000_000), r.whole("keep_last", 1, MOST_LAST));
    if first.is_some() && last.is_some() {
        r.wrong("keep_first and keep_last keep the two ends; use one of them");
    }
    let keep = first.map(Keep::First).or(last.map(Keep::Last));
    if keep.is_some() && layout != Layout::Long {
        r.wrong(format!(
            "{}: only a long file keeps the rows at one end; add layout=long",
            if first.is_some() { "keep_first" } else { "keep_last" }
        ));
    }
    let sort = r.text("sort").and_then(|text| {
        let (down, name) = text.strip_prefix('-').map_or((false, text.as_str()), |name| (true, name));
        name.parse().map(|by| Sort { by, down }).map_err(|e| r.wrong(format!("sort: {e}"))).ok()
    });
    let limit = r.whole("limit", 1, 1_000_000);
    for (key, given) in [("sort", sort.is_some()), ("limit", limit.is_some())] {
        if given && layout != Layout::Latest {
            r.wrong(format!("{key}: only newest bars are sorted and counted; add layout=latest, or leave it out"));
        }
    }
    Picking { conditions, keep, sort, limit }
}
