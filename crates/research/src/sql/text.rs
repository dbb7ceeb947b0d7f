//! Pieces of SQL that more than one part of a query needs.

use super::Engine;
use mizuno_core::{Decimal, Timestamp, TradeDate};

/// A text.
pub(super) fn text(of: &str) -> String {
    format!("'{}'", of.replace('\'', "''"))
}

/// Texts in brackets.
pub(super) fn texts<'a>(all: impl IntoIterator<Item = &'a str>) -> String {
    format!("({})", all.into_iter().map(text).collect::<Vec<_>>().join(", "))
}

/// A name as it is to be read: in quotation marks where it must be.
pub(super) fn name(engine: Engine, of: &str) -> String {
    let is_plain =
        of.starts_with(|c: char| c.is_ascii_lowercase()) && of.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_');
    match (is_plain, engine) {
        (true, _) => of.to_owned(),
        (false, Engine::Spark) => format!("`{}`", of.replace('`', "``")),
        (false, _) => format!("\"{}\"", of.replace('"', "\"\"")),
    }
}

pub(super) fn date(of: TradeDate) -> String {
    format!("DATE '{of}'")
}

/// An instant.
pub(super) fn instant(of: Timestamp) -> String {
    let whole = of.to_jiff().strftime("%Y-%m-%d %H:%M:%S").to_string();
    let rest = of.0.rem_euclid(mizuno_core::time::SECOND);
    let rest = if rest == 0 { String::new() } else { format!(".{rest:06}") };
    format!("TIMESTAMP '{whole}{rest}+00:00'")
}

/// A decimal number. Read as it stands, some engines would take it for a float.
pub(super) fn number(of: Decimal) -> String {
    format!("CAST('{of}' AS DECIMAL({}, {}))", (of.whole_digits().max(1) + of.scale).min(38), of.scale)
}

/// Seconds since 1970 of a time.
pub(super) fn seconds(engine: Engine, of: &str) -> String {
    match engine {
        Engine::Spark => format!("unix_timestamp({of})"),
        _ => format!("CAST(date_part('epoch', {of}) AS BIGINT)"),
    }
}

/// The time of so many seconds since 1970.
pub(super) fn time_of(engine: Engine, seconds: &str) -> String {
    match engine {
        Engine::DataFusion => format!("to_timestamp_seconds({seconds})"),
        Engine::DuckDb => format!("to_timestamp({seconds})"),
        Engine::Spark => format!("timestamp_seconds({seconds})"),
    }
}

/// A number rounded to so many decimals, half to even: what engines round half away from nought.
///
/// The number has twelve decimals. A half is what leaves a quarter of two units: the number without it is the even one of its neighbours.
pub(super) fn half_even(of: &str, decimals: u8) -> String {
    let unit = |digit: char, at: u8| {
        let digits: String = (1..=at).map(|n| if n == at { digit } else { '0' }).collect();
        match at {
            0 => format!("CAST({digit} AS DECIMAL(13, 12))"),
            _ => format!("CAST('0.{digits}' AS DECIMAL(13, 12))"),
        }
    };
    let (two, half) = (unit('2', decimals), unit('5', decimals + 1));
    let result = format!("AS DECIMAL(38, {decimals})");
    format!("CASE WHEN abs({of} % {two}) = {half} THEN CAST({of} - {of} % {two} {result}) ELSE CAST({of} {result}) END")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_somebody_typed_stays_a_text() {
        assert_eq!(text("O'Shea"), "'O''Shea'");
        assert_eq!(name(Engine::DuckDb, "Close \"x\""), "\"Close \"\"x\"\"\"");
        assert_eq!((name(Engine::Spark, "Close"), name(Engine::Spark, "close_2")), ("`Close`".to_owned(), "close_2".to_owned()));
        assert_eq!(texts(["KBF", "OXB"]), "('KBF', 'OXB')");
    }

    #[test]
    fn numbers_and_times_have_types() {
        assert_eq!(number("7.50".parse().unwrap()), "CAST('7.50' AS DECIMAL(3, 2))");
        assert_eq!(number("-0.001".parse().unwrap()), "CAST('-0.001' AS DECIMAL(4, 3))");
        assert_eq!(instant("2025-04-10T02:30:00.25Z".parse().unwrap()), "TIMESTAMP '2025-04-10 02:30:00.250000+00:00'");
        assert!(half_even("x", 0).contains("abs(x % CAST(2 AS DECIMAL(13, 12))) = CAST('0.5' AS DECIMAL(13, 12))"));
        assert!(half_even("x", 2).contains("CAST('0.02' AS DECIMAL(13, 12))) = CAST('0.005' AS DECIMAL(13, 12))"));
    }
}
