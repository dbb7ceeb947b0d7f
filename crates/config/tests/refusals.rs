//! A wrong configuration is refused with file, line, what is wrong and what was expected.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test stops at once when something is not as it needs it")]

use mizuno_config::{Config, Schedule, parse_instruments, profile};
use std::{fs, path::Path};
use tempfile::TempDir;

const PROFILE: &str = include_str!("../../../demo/config/sources/harbour.toml");
const COLLECTOR: &str = include_str!("../../../demo/config/collectors/aldx-daily.toml");
const VENUE: &str = include_str!("../../../demo/config/venues/aldx.toml");

/// What is said of the profile after some of its text is replaced.
fn said(from: &str, to: &str) -> String {
    assert!(PROFILE.contains(from), "{from}");
    let text = PROFILE.replacen(from, to, 1);
    let problems = profile::parse(Path::new("sources/harbour.toml"), &text).unwrap_err();
    problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")
}

#[test]
fn a_wrong_profile_is_refused_by_line() {
    for (from, to, words) in [
        ("calls_per_minute = 600", "calls_per_minute = -1", "harbour.toml:7: invalid value: integer `-1`, expected u32"),
        (
            "calls_per_minute = 600",
            "calls_per_minutes = 600",
            "harbour.toml:7: unknown field `calls_per_minutes`, expected one of `calls_per_minute`",
        ),
        ("calls_per_minute = 600", "calls_per_minute = 5", "burst is not above calls_per_minute"),
        ("timeout = \"20s\"", "timeout = \"twenty\"", "harbour.toml:10: `twenty` is not a length of time; write it like 30s"),
        ("interval = \"1d\"", "interval = \"1w\"", "harbour.toml:22: `1w` is not an interval"),
        ("adjusted = \"no\"", "adjusted = \"maybe\"", "unknown variant `maybe`, expected one of `no`, `splits`, `splits-and-dividends`"),
        ("/bars/{symbol}{?step,from,to}", "/bars/{symbol", "is not an RFC 6570 template"),
        (
            "/bars/{symbol}{?step,from,to}",
            "/bars/{symbol}{?step,from,until}",
            "the template uses {until}, which is neither symbol, id, from, to nor in `with`",
        ),
        ("stamps = \"%Y-%m-%d\"", "stamps = \"%H:%M\"", "`%H:%M` is not a way to write a moment; it is epoch-seconds"),
        ("columns = { time = \"date\", open", "columns = { open", "missing field `time`"),
        ("form = \"delimited\"", "form = \"tablets\"", "unknown variant `tablets`, expected one of `delimited`, `json-rows`"),
        ("form = \"delimited\"", "form = \"json-rows\"", "`skip_lines` is for delimited text"),
        ("form = \"delimited\"", "form = \"delimited\"\nrows = \"/data\"", "`rows` is for JSON"),
        ("form = \"delimited\"", "form = \"delimited\"\nmember = \"{symbol}.csv\"", "`member` is for a zip archive"),
        ("stamps = \"%Y-%m-%d\"\n", "", "says {from} or {to} and not how they are written"),
        ("get = \"/bars/{symbol}{?step,from,to}\"", "post = \"/bars\"\nget = \"/bars\"", "has either get = \"/path\" or post"),
        ("to_included = true", "pages = { number = { variable = \"page\", first = 1, full = 10 } }", "the template does not use it"),
        ("[symbols]", "[key]\nenv = \"my key!\"\nheader = \"X-Key\"\n[symbols]", "`my key!` is not the name of an environment variable"),
        ("[symbols]", "[key]\nenv = \"K\"\n[symbols]", "a key is carried in one way"),
        ("base = \"http", "base = \"gopher", "harbour.toml:4: `gopher://127.0.0.1:7411` is not an address"),
        ("name = \"harbour\"", "name = \"har/bour\"", "`har/bour` cannot be a source's name"),
        ("span_days = 1830", "span_days = 0", "span_days and volume_unit are at least 1"),
        ("span_days = 1830\n", "span_days = 1830\ndepth = 3\n", "unknown field `depth`"),
    ] {
        let said = said(from, to);
        assert!(said.contains(words), "{to}: {said}");
        assert!(said.starts_with("sources/harbour.toml:"), "{said}");
    }
    let gap = PROFILE.replace("[[series.request]]\nget = \"/bars/{symbol}{?step,from,to}\"\nwith = { step = \"minute\" }\nstamps = \"%Y-%m-%d\"\nto_included = true\n", "");
    let problems = profile::parse(Path::new("p"), &gap).unwrap_err();
    assert!(problems[0].to_string().contains("no request for windows of 7 days"), "{}", problems[0]);
}

#[test]
fn symbols_are_spelled_by_rule_and_by_exception() {
    let profile = profile::parse(Path::new("p"), &PROFILE.replace("[symbols]", "[symbols]\nexceptions = { OXB = \"OXBOW\" }")).unwrap();
    assert_eq!(["KBF", "LNT.A", "OXB"].map(|s| profile.symbols.of(s)), ["KBF", "LNT-A", "OXBOW"]);
    assert_eq!(["KBF", "LNT-A", "OXBOW"].map(|s| profile.symbols.back(s)), ["KBF", "LNT.A", "OXB"]);
}

#[test]
fn instrument_lists_name_each_bad_row() {
    let header = "symbol,name,kind,venue,currency,tick_size,multiplier,listed,last_traded,former\n";
    let rows = "KBF,Kelp,share,ALDX,NZD,0.01,,2020-01-06,,GUL until 2025-02-03; GLA until 2020-02-01\n\
                OXB,Oxbow,share,ALDX,NZD,a penny,,,,\n\
                Q/C,Quarry,share,ALDX,NZD,,,,,\n\
                SME,Saltmarsh,share,ALDX,NZD,,,last spring,,\n\
                TRN,Tern,share,ALDX,NZD,,,,,GUL\n\
                short,row\n";
    let problems = parse_instruments(Path::new("instruments/a.csv"), &format!("{header}{rows}")).unwrap_err();
    let said: Vec<String> = problems.iter().map(ToString::to_string).collect();
    assert_eq!(said.len(), 5, "{said:?}");
    for (said, words) in said.iter().zip([
        "instruments/a.csv:3: tick_size: `a penny` is not a decimal number",
        "instruments/a.csv:4: `Q/C` cannot be a symbol",
        "instruments/a.csv:5: listed: `last spring` is not a date",
        "instruments/a.csv:6: former: `GUL` should read like GUL until 2025-02-03",
        "instruments/a.csv:7: ",
    ]) {
        assert!(said.starts_with(words), "{said}");
    }
    let sound = parse_instruments(Path::new("a.csv"), &format!("{header}{}", rows.lines().next().unwrap())).unwrap();
    assert_eq!((sound[0].former.len(), sound[0].tick_size.map(|t| t.to_string())), (2, Some("0.01".to_owned())));
}

fn directory(collector: &str, venue: &str) -> TempDir {
    let dir = TempDir::new().unwrap();
    for (file, text) in [
        ("mizuno.toml", "desk = \"Tarn Street Desk\"\nlisten = \"127.0.0.1:7400\"\n"),
        ("venues/aldx.toml", venue),
        ("instruments/aldx.csv", include_str!("../../../demo/config/instruments/aldx.csv")),
        ("sources/harbour.toml", PROFILE),
        ("collectors/aldx-daily.toml", collector),
    ] {
        let path = dir.path().join(file);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }
    dir
}

#[test]
fn files_are_checked_against_each_other() {
    for (from, to, words) in [
        ("source = \"harbour\"", "source = \"lodestar\"", "there is no source lodestar; there is harbour"),
        ("venue = \"ALDX\"", "venue = \"CORF\"", "there is no venue CORF; there is ALDX"),
        (
            "interval = \"1d\"",
            "interval = \"5m\"",
            "the source harbour has no 5m bars of ALDX (trade side); its profile offers 1d trade bars of ALDX; 1m",
        ),
        ("since =", "instruments = [\"KBF\", \"ZZZ\"]\nsince =", "there is no instrument ZZZ on ALDX"),
        ("after_close = \"30m\"", "after_close = \"30m\", every = \"5m\"", "a schedule is one of"),
        ("after_close = \"30m\"", "cron = \"61 * * * *\"", "`61 * * * *` is not a cron expression"),
        ("since = \"2016-01-04\"", "since = \"2016-13-04\"", "`2016-13-04` is not a date"),
        ("name = \"aldx-daily\"", "name = \"aldx daily\"", "`aldx daily` cannot be a collector's name"),
    ] {
        assert!(COLLECTOR.contains(from), "{from}");
        let dir = directory(&COLLECTOR.replace(from, to), VENUE);
        let said = Config::load(dir.path()).unwrap_err().to_string();
        assert!(said.contains(words) && said.starts_with("collectors/aldx-daily.toml"), "{to}: {said}");
    }
    for (from, to, words) in [
        ("\"13:30-16:30\"", "\"12:00-16:30\"", "must be one stretch or more, in order, apart"),
        ("\"10:00-12:30\"", "\"10:00\"", "`10:00` is not a stretch of trading"),
        ("from = \"2019-07-01\"", "from = \"2015-07-01\"", "not in order of their `from` dates"),
        ("code = \"ALDX\"", "code = \"OTHER\"", "KBF trades on ALDX, and there is no such venue; there is OTHER"),
    ] {
        let dir = directory(COLLECTOR, &VENUE.replacen(from, to, 1));
        let said = Config::load(dir.path()).unwrap_err().to_string();
        assert!(said.contains(words), "{to}: {said}");
    }
}

#[test]
fn every_problem_of_every_file_is_named_at_once() {
    let dir = directory("name = 3\n", "code = 4\n");
    fs::write(dir.path().join("mizuno.toml"), "desk = \"x\"\nlisten = \"here\"\n").unwrap();
    let said = Config::load(dir.path()).unwrap_err().to_string();
    for file in ["mizuno.toml:2: `here`", "venues/aldx.toml:1:", "collectors/aldx-daily.toml:1:"] {
        assert!(said.contains(file), "{said}");
    }
    let nothing = TempDir::new().unwrap();
    let said = Config::load(nothing.path()).unwrap_err().to_string();
    assert!(said.starts_with("mizuno.toml: cannot be read"), "{said}");
}

#[test]
fn a_sound_configuration_is_read_whole() {
    let dir = directory(COLLECTOR, VENUE);
    let config = Config::load(dir.path()).unwrap();
    let collector = &config.collectors["aldx-daily"];
    assert!(matches!(collector.schedule, Some(Schedule::AfterClose(1_800_000_000))));
    assert_eq!(collector.second_look.sessions, 3);
    assert_eq!(config.instruments_of(collector).count(), 25);
    let venue = &config.venues["ALDX"];
    assert!(venue.stretches("2025-03-28".parse().unwrap()).is_empty(), "Kelp Harvest");
    assert_eq!(venue.stretches("2025-03-27".parse().unwrap()).len(), 1, "its eve is a half day");
    assert_eq!(venue.stretches("2018-03-26".parse().unwrap())[1].to_string(), "13:30-16:30", "before the close moved");
}
