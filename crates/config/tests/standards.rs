//! `ranking.toml` and `checks.toml`: what they say of an instrument, and what is refused in them.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test stops at once when something is not as it needs it")]

use mizuno_config::{Config, Ranked};
use mizuno_core::{Interval, Side, finding::Check};
use std::{fs, path::Path};
use tempfile::TempDir;

/// The demo's configuration with some files written over.
fn demo(files: &[(&str, &str)]) -> Result<Config, String> {
    let dir = TempDir::new().unwrap();
    let demo = Path::new("../../demo/config");
    for folder in ["venues", "instruments", "sources", "collectors"] {
        fs::create_dir(dir.path().join(folder)).unwrap();
        for entry in fs::read_dir(demo.join(folder)).unwrap().flatten() {
            fs::copy(entry.path(), dir.path().join(folder).join(entry.file_name())).unwrap();
        }
    }
    fs::copy(demo.join("mizuno.toml"), dir.path().join("mizuno.toml")).unwrap();
    for (file, text) in files {
        fs::write(dir.path().join(file), text).unwrap();
    }
    Config::load(dir.path()).map_err(|p| p.to_string())
}

fn ranks(config: &Config, symbol: &str, interval: Interval) -> Vec<(String, Option<String>)> {
    let instrument = config.instruments.iter().find(|i| i.symbol == symbol).unwrap();
    let told = |r: Ranked| (if r.from.0 == i32::MIN { "always".to_owned() } else { r.from.to_string() }, r.sources.map(|s| s.join(" ")));
    config.ranking.of(instrument, interval, Side::Trade).into_iter().map(told).collect()
}

#[test]
fn of_several_ranks_that_fit_the_last_counts_from_its_date_on() {
    let text = r#"
[[rank]]
sources = ["harbour", "lodestar"]
venue = "ALDX"
[[rank]]
sources = ["lodestar"]
kinds = ["fund"]
[[rank]]
sources = ["cellar", "harbour"]
interval = "1m"
from = "2025-04-01"
[[rank]]
sources = ["lodestar", "cellar"]
instruments = ["KBF"]
from = "2025-04-07"
"#;
    let config = demo(&[("ranking.toml", text)]).unwrap();
    let some = |s: &str| Some(s.to_owned());
    let always = || "always".to_owned();
    assert_eq!(ranks(&config, "OXB", Interval::Daily), [(always(), some("harbour lodestar"))]);
    assert_eq!(ranks(&config, "AL12", Interval::Daily), [(always(), some("lodestar"))]);
    assert_eq!(
        ranks(&config, "KBF", Interval::MINUTE),
        [
            (always(), some("harbour lodestar")),
            ("2025-04-01".to_owned(), some("cellar harbour")),
            ("2025-04-07".to_owned(), some("lodestar cellar"))
        ]
    );
    assert_eq!(ranks(&config, "BLY-2025-05", Interval::Daily), [(always(), None)], "where nothing is said, names decide");
    assert_eq!(ranks(&demo(&[]).unwrap(), "OXB", Interval::Daily), [(always(), None)]);
}

#[test]
fn checks_have_other_limits_by_kind_and_instrument_and_can_be_off() {
    let text = r#"
[[check]]
name = "spike"
kinds = ["fund", "pair"]
limit = 20
[[check]]
name = "spike"
instruments = ["AL2X"]
limit = 30
[[check]]
name = "flat"
off = true
"#;
    let config = demo(&[("checks.toml", text)]).unwrap();
    let limit = |symbol: &str, check| {
        let instrument = config.instruments.iter().find(|i| i.symbol == symbol).unwrap();
        config.checks.rules(instrument).of(check).map(|r| r.limit)
    };
    assert_eq!(limit("OXB", Check::Spike), Some(Check::Spike.usual_limit().0));
    assert_eq!((limit("AL12", Check::Spike), limit("AL2X", Check::Spike)), (Some(20.0), Some(30.0)));
    assert_eq!(limit("OXB", Check::Flat), None, "off is off");
}

#[test]
fn what_cannot_be_is_refused_by_name() {
    for (file, text, words) in [
        ("ranking.toml", "[[rank]]\nsources = []\n", "ranks no source"),
        ("ranking.toml", "[[rank]]\nsources = [\"harbor\"]\n", "there is no source harbor"),
        ("ranking.toml", "[[rank]]\nsources = [\"harbour\"]\nvenue = \"ALDY\"\n", "there is no venue ALDY"),
        ("ranking.toml", "[[rank]]\nsources = [\"harbour\"]\ninterval = \"1w\"\n", "ranking.toml:3: `1w` is not an interval"),
        ("checks.toml", "[[check]]\nname = \"spikes\"\n", "checks.toml:2: `spikes` is not a check; there is spike, split-like-jump"),
        ("checks.toml", "[[check]]\nname = \"spike\"\nlimit = -1\n", "spike: a limit of -1 is no number of deviations"),
        ("checks.toml", "[[check]]\nname = \"spike\"\ninstruments = [\"KBX\"]\n", "there is no instrument KBX"),
        ("checks.toml", "[[checks]]\n", "unknown field `checks`, expected `check`"),
    ] {
        let said = demo(&[(file, text)]).unwrap_err();
        assert!(said.contains(words) && said.starts_with(file), "{text}: {said}");
    }
    let harbour = fs::read_to_string("../../demo/config/sources/harbour.toml").unwrap();
    let named = harbour.replace("name = \"harbour\"", "name = \"golden\"");
    let said = demo(&[("sources/golden.toml", &named)]).unwrap_err();
    assert!(said.contains("no source can be called golden"), "{said}");
}
