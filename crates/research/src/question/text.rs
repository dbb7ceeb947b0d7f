//! The canonical text of a question, in TOML and in JSON, and what else says the same: an address and a command line.

use super::{ADJUST, Column, DELISTING, File, Format, Layout, Missing, Period, Question, ROLLS, Round, SEPARATORS, Shape, picking::Keep};
use mizuno_core::adjust::Anchor;
use mizuno_store::payloads;
use serde_json::Value as Json;
use std::{collections::BTreeMap, fmt::Write};

/// A value of the canonical text.
#[derive(Clone, Debug, PartialEq)]
enum Said {
    Text(String),
    Number(i64),
    Flag(bool),
    List(Vec<String>),
    Names(BTreeMap<String, String>),
}

impl Said {
    fn json(self) -> Json {
        match self {
            Said::Text(text) => text.into(),
            Said::Number(n) => n.into(),
            Said::Flag(b) => b.into(),
            Said::List(all) => all.into(),
            Said::Names(names) => names.into_iter().collect(),
        }
    }
}

/// The word of a value, unless that is the usual one.
fn unusual<T: PartialEq>(value: T, usual: Option<T>, words: &[(&str, T)]) -> Option<Said> {
    let word = words.iter().find(|(_, known)| *known == value).filter(|_| usual != Some(value));
    word.map(|(word, _)| Said::Text((*word).to_owned()))
}

/// An anchor that is not the newest session.
fn anchor(anchor: Anchor) -> Option<String> {
    match anchor {
        Anchor::Newest => None,
        Anchor::Oldest => Some("oldest".to_owned()),
        Anchor::Date(date) => Some(date.to_string()),
    }
}

impl Question {
    /// What differs from the usual, in the order of [`super::check::KEYS`].
    fn said(&self) -> Vec<(&'static str, Said)> {
        let text = |value: Option<String>| value.map(Said::Text);
        let Shape {
            layout,
            columns,
            names,
            missing,
            clock,
            stamp,
            at_end,
            hours,
            first_minutes,
            last_minutes,
            round,
            bridged,
            picking,
            against,
        } = &self.shape;
        let File { format, separator, decimal_comma, header, quoted_texts, by_column, floats } = self.file;
        // One of several that there may be is written by itself.
        let some = |mut all: Vec<String>| if all.len() > 1 { Some(Said::List(all)) } else { all.pop().map(Said::Text) };
        let word = |given: bool, word: &str| given.then(|| Said::Text(word.to_owned()));
        let number = |n: Option<u32>| n.map(|n| Said::Number(i64::from(n)));
        let time = |m: u16| format!("{:02}:{:02}", m / 60, m % 60);
        let all = [
            ("instruments", (!self.instruments.is_empty()).then(|| Said::List(self.instruments.clone()))),
            ("search", text(self.search.clone())),
            ("universe", text(self.universe.clone())),
            ("members", word(self.whole, "whole")),
            ("interval", Some(Said::Text(self.interval_word()))),
            ("side", some(self.sides.iter().map(ToString::to_string).collect())),
            ("source", some(self.sources.clone())),
            ("from", text(self.range.from.map(|m| m.to_string()))),
            ("to", text(self.range.to.map(|m| m.to_string()))),
            ("last", number(self.range.last)),
            ("this", self.range.this.and_then(|period| unusual(period, None, &Period::WORDS))),
            ("as_of", text(self.as_of.map(|at| at.to_string()))),
            ("since", text(self.since.map(|at| at.to_string()))),
            ("made_from", text(self.pieces.made_from.map(|i| i.to_string()))),
            ("fit", number(self.fit)),
            ("align", text(self.pieces.align.clone())),
            ("label", word(self.pieces.by_last, "last")),
            ("incomplete", word(self.pieces.dropped, "dropped")),
            ("adjust", self.adjust.and_then(|a| unusual(Some(a.which), None, &ADJUST))),
            ("rolls", self.rolls.and_then(|r| unusual(Some(r.by), None, &ROLLS))),
            (
                "anchor",
                text(self.adjust.map_or_else(|| self.rolls.filter(|r| r.oldest).map(|_| "oldest".to_owned()), |a| anchor(a.anchor))),
            ),
            ("delisting", unusual(self.delisting, Some(false), &DELISTING)),
            ("layout", word(*layout != Layout::Long, if *layout == Layout::Latest { "latest" } else { "wide" })),
            ("join", word(*layout == Layout::Wide { inner: true }, "inner")),
            ("against", against.map(|a| Said::Text(a.word().to_owned()))),
            ("columns", (!columns.is_empty()).then(|| Said::List(columns.iter().map(|c| c.word().into_owned()).collect()))),
            ("names", (!names.is_empty()).then(|| Said::Names(names.iter().map(|(c, n)| (c.word().into_owned(), n.clone())).collect()))),
            ("across_gaps", word(*bridged, "bridged")),
            ("where", (!picking.conditions.is_empty()).then(|| Said::List(picking.conditions.iter().map(ToString::to_string).collect()))),
            ("keep_first", number(picking.keep.and_then(|k| if let Keep::First(n) = k { Some(n) } else { None }))),
            ("keep_last", number(picking.keep.and_then(|k| if let Keep::Last(n) = k { Some(n) } else { None }))),
            ("sort", text(picking.sort.map(|s| s.to_string()))),
            ("limit", number(picking.limit)),
            ("missing", unusual(*missing, Some(Missing::Absent), &Missing::WORDS)),
            ("zone", text(Some(clock.to_string()).filter(|c| c != "UTC"))),
            ("stamp", text(Some(stamp.to_string()).filter(|s| s != "rfc3339"))),
            ("stamp_at", word(*at_end, "end")),
            ("hours", text(hours.map(|(from, to)| format!("{}-{}", time(from), time(to))))),
            ("first_minutes", number(*first_minutes)),
            ("last_minutes", number(*last_minutes)),
            (
                "round",
                round.map(|r| match r {
                    Round::Decimals(n) => Said::Number(i64::from(n)),
                    Round::Tick => Said::Text("tick".to_owned()),
                }),
            ),
            ("format", word(format != Format::Csv, format.word())),
            ("separator", unusual(separator, Some(File::default().separator), &SEPARATORS)),
            ("decimal_sign", word(decimal_comma, "comma")),
            ("header", (!header).then_some(Said::Flag(false))),
            ("quotes", word(quoted_texts, "texts")),
            ("arrays", word(by_column, "columns")),
            ("numbers", word(floats, "floats")),
        ];
        all.into_iter().filter_map(|(key, value)| Some((key, value?))).collect()
    }

    /// The canonical text as TOML.
    #[must_use]
    pub fn to_toml(&self) -> String {
        let mut out = String::new();
        // A JSON string is a TOML string, but for one character that TOML wants escaped.
        let quoted = |text: &str| Json::from(text).to_string().replace('\u{7f}', "\\u007f");
        for (key, value) in self.said() {
            let value = match value {
                Said::Text(text) => quoted(&text),
                Said::Number(n) => n.to_string(),
                Said::Flag(b) => b.to_string(),
                Said::List(all) => format!("[{}]", all.iter().map(|t| quoted(t)).collect::<Vec<_>>().join(", ")),
                Said::Names(names) => {
                    let pairs: Vec<String> = names.iter().map(|(column, name)| format!("{column} = {}", quoted(name))).collect();
                    format!("{{ {} }}", pairs.join(", "))
                }
            };
            let _ = writeln!(out, "{key} = {value}");
        }
        out
    }

    /// The canonical text as JSON, on one line.
    #[must_use]
    pub fn to_json(&self) -> String {
        let pair = |(key, value): (&str, Said)| format!("{}:{}", Json::from(key), value.json());
        format!("{{{}}}", self.said().into_iter().map(pair).collect::<Vec<_>>().join(","))
    }

    /// The same as pairs, for an address or a command line; lists are parted by commas.
    #[must_use]
    pub fn to_pairs(&self) -> Vec<(&'static str, String)> {
        let plain = |value: Said| match value {
            Said::Text(text) => text,
            Said::Number(n) => n.to_string(),
            Said::Flag(b) => b.to_string(),
            Said::List(all) => all.join(","),
            Said::Names(names) => names.iter().map(|(c, n)| format!("{c}:{n}")).collect::<Vec<_>>().join(","),
        };
        self.said().into_iter().map(|(key, value)| (key, plain(value))).collect()
    }

    /// The command that asks it.
    #[must_use]
    pub fn to_command(&self) -> String {
        let mut out = "mizuno bars".to_owned();
        for (key, value) in self.to_pairs() {
            let safe = !value.is_empty() && value.chars().all(|c| c.is_alphanumeric() || "/:.,+-_".contains(c));
            let value = if safe { value } else { format!("'{}'", value.replace('\'', r"'\''")) };
            match key {
                "instruments" => {
                    let _ = write!(out, " {}", value.replace(',', if value.starts_with('\'') { "' '" } else { " " }));
                }
                key => {
                    let _ = write!(out, " --{} {value}", key.replace('_', "-"));
                }
            }
        }
        out
    }

    /// The digest of the question: SHA-256 of its canonical JSON, in hexadecimal.
    #[must_use]
    pub fn digest(&self) -> String {
        payloads::digest(self.to_json().as_bytes())
    }

    /// The columns of a long answer where none are named, without its instruments; of one source, it is not named.
    pub(super) const USUAL: [Column; 7] =
        [Column::Time, Column::Open, Column::High, Column::Low, Column::Close, Column::Volume, Column::Source];

    /// The columns of the answer, with those that are usual where none are named.
    #[must_use]
    pub fn columns(&self, several: bool) -> Vec<Column> {
        if !self.shape.columns.is_empty() {
            return self.shape.columns.clone();
        }
        if let Layout::Wide { .. } = self.shape.layout {
            return vec![Column::Time, Column::Close];
        }
        let golden = self.sources.is_empty() || self.sources.len() > 1;
        if self.sources.len() > 1 || self.sides.len() > 1 {
            return [Column::Series].into_iter().chain(Question::USUAL).filter(|c| golden || *c != Column::Source).collect();
        }
        let usual = Question::USUAL.into_iter().filter(|c| golden || *c != Column::Source);
        let several = several || self.shape.layout == Layout::Latest;
        several.then_some(Column::Instrument).into_iter().chain(usual).collect()
    }
}
