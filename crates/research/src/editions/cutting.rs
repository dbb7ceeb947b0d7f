//! A question cut into the answers of its files.

use super::Recipe;
use crate::{
    Research,
    answer::{Dates, Learned, Prepared},
    question::Question,
};
use mizuno_config::edition::{Cut, FileSpec};
use mizuno_core::{Timestamp, TradeDate};
use mizuno_desk::DeskError;
use std::{collections::BTreeMap, sync::Arc};

/// The answer to the question of a file spec, and how it is cut.
pub(super) struct Cutting {
    pub spec: FileSpec,
    pub question: Question,
    pub whole: Prepared,
    /// Stretches of trade dates that parts are cut by.
    pub stretches: Vec<Option<Dates>>,
    pub parts: Vec<Part>,
    learned: Learned,
}

/// A file to be made.
#[derive(Clone, Debug)]
pub(super) struct Part {
    /// Its path in the edition.
    pub path: String,
    /// The places of its series.
    places: Vec<usize>,
    /// The place of its trade dates.
    stretch: usize,
    /// What it was cut by, as words.
    pub cut: BTreeMap<&'static str, String>,
}

impl Cutting {
    /// The answer of a part.
    pub fn answer(&self, part: &Part) -> Result<Prepared, DeskError> {
        self.whole.part(&part.places, self.stretches[part.stretch].as_ref())
    }

    /// What a part follows from; `None` where that cannot be told.
    pub fn follows_from(&self, part: &Part) -> Result<Option<Vec<u8>>, DeskError> {
        let dates = self.stretches[part.stretch].as_ref();
        let found = self.whole.follows_from(&part.places, (part.stretch, dates), &self.learned)?;
        Ok(found.map(|mut found| {
            found.extend(format!("{} {}", self.spec.price_decimals, self.spec.volume_decimals).bytes());
            found
        }))
    }
}

impl Research {
    /// Answers the question of a file as of an instant, and cuts the answer.
    pub(super) async fn cut(self: &Arc<Self>, recipe: &Recipe, spec: &FileSpec, instant: Timestamp) -> Result<Cutting, DeskError> {
        let question = recipe.question(spec)?;
        let resolved = self.resolve(Question { as_of: Some(instant), ..question.clone() }).await?;
        let whole = self.prepare(resolved).await?;
        let stretches = stretches(&whole, &spec.cut)?;
        let mut parts: Vec<Part> = vec![];
        for (places, words) in groups(&whole, &spec.cut) {
            for (at, dates) in stretches.iter().enumerate() {
                let there = places.iter().map(|place| whole.has_bars_on(*place, dates.as_ref())).collect::<Result<Vec<bool>, _>>()?;
                // Where nothing is, there is no file; but one that is not cut is always there.
                if !spec.cut.is_empty() && !there.contains(&true) {
                    continue;
                }
                let long = question.shape.layout == crate::question::Layout::Long;
                let places: Vec<usize> = places.iter().zip(there).filter(|(_, there)| *there || !long).map(|(place, _)| *place).collect();
                let mut cut = words.clone();
                if let (Some(dates), Some(word)) = (dates, spec.cut.last()) {
                    let first = dates.start.to_string();
                    cut.insert(word.word(), if *word == Cut::Month { first[..7].to_owned() } else { first });
                }
                let path = cut.iter().fold(spec.name.clone(), |path, (word, value)| path.replace(&format!("{{{word}}}"), &safe(value)));
                parts.push(Part { path, places, stretch: at, cut });
            }
        }
        if let Some(twice) = twice(&parts) {
            return Err(DeskError::Invalid(format!("{}: two files would be called {twice}; cut by something else", spec.name)));
        }
        let learned = whole.learned(&stretches).await?;
        Ok(Cutting { spec: spec.clone(), question, whole, stretches, parts, learned })
    }
}

/// The first path that two parts have.
fn twice(parts: &[Part]) -> Option<&str> {
    let mut seen = std::collections::HashSet::new();
    // Some file systems know no capitals.
    parts.iter().find(|part| !seen.insert(part.path.to_lowercase())).map(|part| part.path.as_str())
}

/// A symbol as a part of a file's name.
fn safe(text: &str) -> String {
    text.chars().map(|c| if c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.') { c } else { '_' }).collect()
}

/// The series that go into one file together.
fn groups(whole: &Prepared, cut: &[Cut]) -> Vec<(Vec<usize>, BTreeMap<&'static str, String>)> {
    let mut out: BTreeMap<Vec<(&'static str, String)>, Vec<usize>> = BTreeMap::new();
    for (place, member) in whole.members.iter().enumerate() {
        let instrument = &member.wanted.instrument;
        let word = |cut: &Cut| match cut {
            Cut::Venue => Some((cut.word(), instrument.venue.clone())),
            Cut::Instrument => Some((cut.word(), instrument.symbol.clone())),
            Cut::Month | Cut::Date => None,
        };
        out.entry(cut.iter().filter_map(word).collect()).or_default().push(place);
    }
    out.into_iter().map(|(words, places)| (places, words.into_iter().collect())).collect()
}

/// The stretches of trade dates that files are cut by; one, which is all of them, where they are not.
fn stretches(whole: &Prepared, cut: &[Cut]) -> Result<Vec<Option<Dates>>, DeskError> {
    let by = cut.iter().find(|cut| matches!(cut, Cut::Month | Cut::Date));
    let (Some(by), dates) = (by, whole.dates()?) else { return Ok(vec![None]) };
    let Some(dates) = dates else { return Ok(vec![]) };
    let mut out = vec![];
    let mut at = dates.start;
    while at < dates.end {
        let (first, next) = match by {
            Cut::Month => month(at),
            _ => (at, at.plus(1)),
        };
        out.push(Some(first..next));
        at = next;
    }
    Ok(out)
}

/// The first day of the month of a date, and that of the next month.
pub(super) fn month(date: TradeDate) -> (TradeDate, TradeDate) {
    let civil = date.to_civil();
    let next = civil.last_of_month().tomorrow().unwrap_or(civil);
    (TradeDate::from_civil(civil.first_of_month()), TradeDate::from_civil(next))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn months_follow_each_other_and_names_stay_in_their_folder() {
        let day = |text: &str| text.parse::<TradeDate>().unwrap();
        assert_eq!(month(day("2024-02-29")), (day("2024-02-01"), day("2024-03-01")));
        assert_eq!(month(day("2024-12-01")), (day("2024-12-01"), day("2025-01-01")));
        assert_eq!((safe("LNT.A"), safe("../etc"), safe("BLY 2025/03")), ("LNT.A".into(), ".._etc".into(), "BLY_2025_03".into()));
        let part = |path: &str| Part { path: path.to_owned(), places: vec![], stretch: 0, cut: BTreeMap::new() };
        assert_eq!(twice(&[part("a/KBF.csv"), part("a/OXB.csv"), part("a/kbf.csv")]), Some("a/kbf.csv"));
        assert_eq!(twice(&[part("a/KBF.csv"), part("b/KBF.csv")]), None);
    }
}
