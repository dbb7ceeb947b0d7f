//! The profiles of the demo are sound, and each wrong one is refused in words that help.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test stops at once when something is not as it needs it")]

use jiff::civil::time;
use mizuno_config::{Config, Profile, profile};
use mizuno_core::{Interval, Side};
use std::path::Path;

const LODESTAR: &str = include_str!("../../../demo/config/sources/lodestar.toml");
const PACKHORSE: &str = include_str!("../../../demo/config/sources/packhorse.toml");
const ALMANACK: &str = include_str!("../../../demo/config/sources/almanack.toml");

fn parsed(text: &str) -> Result<Profile, String> {
    profile::parse(Path::new("p.toml"), text).map_err(|p| p.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))
}

fn said(text: &str, from: &str, to: &str) -> String {
    assert!(text.contains(from), "{from}");
    parsed(&text.replacen(from, to, 1)).unwrap_err()
}

#[test]
fn the_demo_is_sound_as_a_whole() {
    let config = Config::load(Path::new("../../demo/config")).unwrap();
    // Five providers, one of them with two profiles.
    assert_eq!(config.sources.len(), 6);
    assert_eq!(config.venues.len(), 3);
    assert!((33..=45).contains(&config.instruments.len()), "about forty: {}", config.instruments.len());
    let kinds =
        |name: &str| config.instruments_of(&config.collectors[name]).map(|i| i.kind.clone()).collect::<std::collections::BTreeSet<_>>();
    assert_eq!(kinds("corf-daily").into_iter().collect::<Vec<_>>(), ["future"]);
    assert_eq!(kinds("mfx-bid").into_iter().collect::<Vec<_>>(), ["pair"]);
}

#[test]
fn requests_are_chosen_by_part_and_by_length() {
    let packhorse = parsed(PACKHORSE).unwrap();
    let mid = packhorse.offer("MFX", Interval::Daily, Side::Mid).unwrap();
    let parts: Vec<_> = mid.requests(30).unwrap().iter().map(|r| r.part.clone().unwrap()).collect();
    assert_eq!(parts, ["bid", "ask"]);
    assert!(packhorse.offer("CORF", Interval::Daily, Side::Mid).is_none());
    assert!(packhorse.offers().contains("1d mid bars of MFX"));
}

#[test]
fn limits_know_days_with_and_without_a_key_and_hours_of_quiet() {
    let lodestar = parsed(LODESTAR).unwrap();
    let day = lodestar.limits.day.as_ref().unwrap();
    assert_eq!((day.calls(true), day.calls(false)), (20_000, 25));
    let quiet = LODESTAR
        .replace("burst = 10", "burst = 10\nleave_alone = { hours = [\"23:30-00:15\", \"12:00-13:00\"], zone = \"America/New_York\" }");
    let quiet = parsed(&quiet).unwrap().limits.leave_alone.unwrap();
    for (hour, minute, inside) in [(23, 29, false), (23, 30, true), (0, 14, true), (0, 15, false), (12, 59, true), (13, 0, false)] {
        assert_eq!(quiet.contain(time(hour, minute, 0, 0)), inside, "{hour}:{minute}");
    }
}

#[test]
fn wrong_lists_keys_and_parts_are_refused_by_line() {
    for (text, from, to, words) in [
        (ALMANACK, "of = \"splits\"", "of = \"spills\"", "unknown variant `spills`, expected one of `instruments`, `splits`"),
        (ALMANACK, "daily_at = \"07:00\"", "daily_at = \"seven\"", "`seven` is not a time of day; write it like 06:30"),
        (ALMANACK, "ex_date = \"2\"", "exdate = \"2\"", "a list of splits has no column `exdate`; it has symbol, ex_date, new, old"),
        (ALMANACK, "name = \"Company\", from", "from", "a list of members needs the column `symbol` or `name`"),
        (ALMANACK, "from = \"Joined\", to", "to", "a list of members with the column `to` needs `from`"),
        (ALMANACK, "joined = \"In\", left = \"Out\"", "", "a list of member-changes needs the column `joined` or `left`"),
        (ALMANACK, "name = \"dividends\"", "name = \"splits\"", "the list splits stands twice"),
        (ALMANACK, "venue = \"ALDX\"", "venue = \"ALDX\"\nadds = true", "only a list of instruments can add some"),
        (PACKHORSE, "part = \"ask\"", "part = \"offer\"", "a mid is made of two requests"),
        (
            PACKHORSE,
            "side = \"mid\"",
            "side = \"trade\"",
            "a mid is made of two requests, part = \"bid\" and part = \"ask\"; other sides have no parts",
        ),
        (PACKHORSE, "variable = \"cursor\"", "variable = \"after\"", "the template uses {cursor}, which is neither"),
        (LODESTAR, "header = \"X-Lodestar-Key\"", "basic = true", "basic = true needs user_env"),
        (LODESTAR, "rows = \"/bars\"", "rows = \"bars\"", "`bars` is not a JSON Pointer (RFC 6901)"),
        (LODESTAR, "day = { calls = 20000", "day = { call = 20000", "unknown field `call`"),
        (LODESTAR, "zone = \"America/New_York\"", "zone = \"New York\"", "`New York` is not an IANA time zone"),
        (LODESTAR, "stamp = \"epoch-seconds\"\n", "", "says not how a bar's moment is written"),
    ] {
        let said = said(text, from, to);
        assert!(said.contains(words) && said.starts_with("p.toml:"), "{to}: {said}");
    }
    let nothing = parsed("name = \"n\"\ntitle = \"N\"\nbase = \"http://127.0.0.1\"\n[limits]\ncalls_per_minute = 1\n").unwrap_err();
    assert!(nothing.contains("offers nothing; it needs a [[series]] or a [[list]]"), "{nothing}");
}
