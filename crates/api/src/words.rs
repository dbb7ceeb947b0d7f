//! Numbers as people read them, on the command line and in messages.

use crate::Completeness;

/// Text that came from outside, fit to be shown: control characters, which could move a terminal's cursor or forge
/// a line, and marks that turn the direction of writing, are written as escapes.
#[must_use]
pub fn escaped(text: &str) -> String {
    let harmful = |c: char| c.is_control() || matches!(c, '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
    if !text.chars().any(harmful) {
        return text.to_owned();
    }
    text.chars().map(|c| if harmful(c) { c.escape_unicode().to_string() } else { c.to_string() }).collect()
}

/// A whole number with its thousands apart.
#[must_use]
pub fn count(n: u64) -> String {
    let digits = n.to_string();
    let mut out = String::new();
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(' ');
        }
        out.push(c);
    }
    out
}

/// So many of something, in the singular or the plural.
#[must_use]
pub fn counted(n: u64, what: &str) -> String {
    format!("{} {what}{}", count(n), if n == 1 { "" } else { "s" })
}

/// A size as people say it.
#[must_use]
pub fn bytes(n: u64) -> String {
    match n {
        0..10_240 => format!("{n} B"),
        10_240..10_485_760 => format!("{} KiB", n / 1024),
        _ => format!("{} MiB", n / 1_048_576),
    }
}

/// How much of what is expected is held or excused; never rounded up to all of it.
#[must_use]
pub fn percent(c: &Completeness) -> String {
    let all = c.expected + c.quiet;
    if all == 0 {
        return "-".to_owned();
    }
    let share = 100.0 * (c.held + c.excused + c.quiet) as f64 / all as f64;
    if c.missing == 0 { "100 %".to_owned() } else { format!("{:.2} %", (share * 100.0).floor() / 100.0) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_hour_missing_of_ten_is_ten_per_cent_whether_it_trades_each_minute_or_now_and_then() {
        let lively = Completeness { expected: 600, held: 540, missing: 60, ..Completeness::default() };
        let thin = Completeness { expected: 66, held: 6, missing: 60, quiet: 534, ..Completeness::default() };
        assert_eq!((percent(&lively), percent(&thin)), ("90.00 %".to_owned(), "90.00 %".to_owned()));
    }

    #[test]
    fn nearly_complete_is_not_shown_as_complete() {
        let c = Completeness { expected: 1_000_000, held: 999_999, excused: 0, missing: 1, quiet: 0 };
        assert_eq!(percent(&c), "99.99 %");
        assert_eq!(percent(&Completeness { expected: 4, held: 3, excused: 1, missing: 0, quiet: 0 }), "100 %");
        assert_eq!(percent(&Completeness::default()), "-", "nothing is expected");
    }

    #[test]
    fn nothing_from_outside_reaches_a_terminal_as_a_command() {
        assert_eq!(escaped("a\u{1b}[2Jb\r\n\u{9b}31m"), "a\\u{1b}[2Jb\\u{d}\\u{a}\\u{9b}31m");
        assert_eq!(escaped("user\u{202e}txt.exe"), "user\\u{202e}txt.exe");
        assert_eq!(escaped("Kelp & Barley, 12 ‑ ü 株"), "Kelp & Barley, 12 ‑ ü 株");
    }

    #[test]
    fn numbers_are_said_as_people_say_them() {
        assert_eq!([count(1_234_567), count(999), counted(1, "bar"), counted(1_000, "bar")], ["1 234 567", "999", "1 bar", "1 000 bars"]);
        assert_eq!([bytes(512), bytes(20_480), bytes(12_582_912)], ["512 B", "20 KiB", "12 MiB"]);
    }
}
