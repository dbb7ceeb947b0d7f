//! The file `ranking.toml`: which source goes before which in the golden series.

use crate::{Problem, problem, text};
use mizuno_core::{Instrument, Interval, Side, TradeDate};
use serde::Deserialize;
use std::path::Path;

/// The ranks of sources; without the file, or for what no entry is for, sources rank by their names.
#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Ranking {
    /// In order; of several that fit, the last counts.
    #[serde(default, rename = "rank")]
    entries: Vec<Rank>,
}

/// The sources of some instruments, best first, from some date on.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
struct Rank {
    /// Best first. A source that is not named has no part in the golden series.
    sources: Vec<String>,
    #[serde(default)]
    venue: Option<String>,
    #[serde(default)]
    kinds: Option<Vec<String>>,
    #[serde(default)]
    instruments: Option<Vec<String>>,
    #[serde(default, deserialize_with = "text::parsed_if_there")]
    interval: Option<Interval>,
    #[serde(default, deserialize_with = "text::parsed_if_there")]
    side: Option<Side>,
    /// First trade date it holds for; always when left out.
    #[serde(default, deserialize_with = "text::parsed_if_there")]
    from: Option<TradeDate>,
}

/// Sources in order of rank, from a trade date on until the next.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ranked {
    /// First trade date; before everything for the first.
    pub from: TradeDate,
    /// Best first; `None` where no entry says anything.
    pub sources: Option<Vec<String>>,
}

/// Before every trade date there is.
const ALWAYS: TradeDate = TradeDate(i32::MIN);

/// The place of a source among those that rank on a date; behind them all, where it is not named.
#[must_use]
pub fn place(ranks: &[Ranked], source: &str, date: TradeDate) -> usize {
    let sources = ranks.iter().rfind(|r| r.from <= date).and_then(|r| r.sources.as_ref());
    sources.and_then(|all| all.iter().position(|s| s == source)).unwrap_or(usize::MAX)
}

impl Ranking {
    pub(crate) fn parse(file: &Path, text: &str) -> Result<Ranking, Vec<Problem>> {
        let ranking: Ranking = problem::toml(file, text)?;
        match ranking.entries.iter().position(|r| r.sources.is_empty()) {
            Some(at) => {
                Err(vec![Problem::whole(file, format!("the {}. entry ranks no source; write sources = [\"best\", \"next\"]", at + 1))])
            }
            None => Ok(ranking),
        }
    }

    /// How the sources of an instrument rank, in order of the dates at which that changes.
    #[must_use]
    pub fn of(&self, instrument: &Instrument, interval: Interval, side: Side) -> Vec<Ranked> {
        let listed = |list: &Option<Vec<String>>, word: &str| list.as_ref().is_none_or(|all| all.iter().any(|w| w == word));
        let fits = |r: &&Rank| {
            r.venue.as_ref().is_none_or(|v| *v == instrument.venue)
                && listed(&r.kinds, &instrument.kind)
                && listed(&r.instruments, &instrument.symbol)
                && r.interval.is_none_or(|i| i == interval)
                && r.side.is_none_or(|s| s == side)
        };
        let fitting: Vec<&Rank> = self.entries.iter().filter(fits).collect();
        let mut dates: Vec<TradeDate> = fitting.iter().map(|r| r.from.unwrap_or(ALWAYS)).chain([ALWAYS]).collect();
        dates.sort_unstable();
        dates.dedup();
        let on = |date: TradeDate| fitting.iter().rfind(|r| r.from.unwrap_or(ALWAYS) <= date).map(|r| r.sources.clone());
        let mut out: Vec<Ranked> = dates.into_iter().map(|from| Ranked { from, sources: on(from) }).collect();
        out.dedup_by(|b, a| a.sources == b.sources);
        out
    }

    pub(crate) fn instruments_mut(&mut self) -> impl Iterator<Item = &mut String> {
        self.entries.iter_mut().flat_map(|r| r.instruments.iter_mut().flatten())
    }

    /// Every source, venue and instrument the file names, with what it is.
    pub(crate) fn named(&self) -> impl Iterator<Item = (&'static str, &String)> {
        self.entries.iter().flat_map(|r| {
            let sources = r.sources.iter().map(|s| ("source", s));
            sources.chain(r.venue.iter().map(|v| ("venue", v))).chain(r.instruments.iter().flatten().map(|i| ("instrument", i)))
        })
    }
}
