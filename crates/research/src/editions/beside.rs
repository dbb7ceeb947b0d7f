//! What lies beside the table of bars: the factors that adjust them, who belonged when, and when each session was.
//!
//! Each is one small Parquet file in a folder of the table's name, so that an engine reads all four as tables.

use super::cutting::Cutting;
use crate::{
    Research,
    answer::batch::{Batch, Cells, Heading, Kind},
    question::Question,
};
use mizuno_config::edition::TableSpec;
use mizuno_core::{
    Decimal, Timestamp, TradeDate,
    adjust::{Adjust, Adjustment, Anchor},
    bar::Digits,
};
use mizuno_desk::{DeskError, Setup};
use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    sync::Arc,
};

/// Digits after the point of a factor, and those before it.
const FACTOR: Digits = Digits { whole: 20, scale: 18 };
/// The first and the day after the last day of what has no beginning and no end, 0001-01-01 and 9999-12-31: dates that every engine knows.
const EVER: (TradeDate, TradeDate) = (TradeDate(-719_162), TradeDate(2_932_896));

/// The words of factors in the table: what is adjusted for, and where prices are as traded.
pub(crate) const FACTORS: [(&str, Adjust, &str, Anchor); 4] = [
    ("splits", Adjust::Splits, "newest", Anchor::Newest),
    ("splits", Adjust::Splits, "oldest", Anchor::Oldest),
    ("all", Adjust::All, "newest", Anchor::Newest),
    ("all", Adjust::All, "oldest", Anchor::Oldest),
];

/// One of these tables.
pub(super) struct Beside {
    /// The folder and the table: that of the bars, and this behind it.
    pub name: &'static str,
    pub headings: Vec<Heading>,
    pub rows: Batch,
}

/// All of them, for the bars of these cuttings.
pub(super) async fn tables(
    research: &Arc<Research>,
    spec: &TableSpec,
    cuttings: &[Arc<Cutting>],
    instant: Timestamp,
) -> Result<Vec<Beside>, DeskError> {
    let setup = research.desk.setup_at(instant).await?;
    let cuttings: Vec<&Arc<Cutting>> = cuttings.iter().filter(|c| c.spec.own.is_some()).collect();
    Ok(vec![
        factors(research, &setup, &cuttings, instant).await?,
        members(research, &setup, spec, instant).await?,
        sessions(&setup, &cuttings)?,
    ])
}

/// By what the prices and volumes of a stretch of trade dates are multiplied. An instrument without actions has no row.
async fn factors(
    research: &Arc<Research>,
    setup: &Arc<Setup>,
    cuttings: &[&Arc<Cutting>],
    instant: Timestamp,
) -> Result<Beside, DeskError> {
    let known = research.known(setup, instant).await?;
    let mut out = Columns::default();
    for cutting in cuttings {
        let interval = cutting.question.interval;
        let acted = |symbol: &str| setup.known(symbol).is_some_and(|i| !known.actions.of(&i.symbol).is_empty());
        let symbols: BTreeSet<&str> =
            cutting.whole.members.iter().map(|m| m.wanted.instrument.symbol.as_str()).filter(|s| acted(s)).collect();
        if symbols.is_empty() {
            continue;
        }
        for (adjust, which, at, anchor) in FACTORS {
            let question = Question {
                instruments: symbols.iter().map(|s| (*s).to_owned()).collect(),
                adjust: Some(Adjustment { which, anchor }),
                as_of: Some(instant),
                ..cutting.question.clone()
            };
            let prepared = research.prepare(research.resolve(question).await?).await?;
            for member in &prepared.members {
                let Some(adjusted) = &member.adjusted else { continue };
                let calendar = prepared.resolved.calendar(&member.wanted)?;
                let mut from = EVER.0;
                for (end, stretch) in adjusted.factors.stretches() {
                    let to = end.map_or(EVER.1, |end| calendar.date_of(interval, end));
                    // Of two actions on one day, the stretch between them is empty.
                    if from < to {
                        for (column, word) in [&interval.to_string(), &member.wanted.instrument.symbol, adjust, at].into_iter().enumerate()
                        {
                            out.word(column, word);
                        }
                        out.dates([from, to]);
                        out.numbers.push((stretch.price.decimal(FACTOR.scale), stretch.volume.decimal(FACTOR.scale)));
                    }
                    from = to;
                }
            }
        }
    }
    let words = ["interval", "instrument", "adjust", "anchor"];
    let (mut headings, mut columns) = out.words_and_dates(&words, &["from_date", "to_date"]);
    for (name, cells) in [
        ("price_factor", out.numbers.iter().map(|(price, _)| Some(*price)).collect()),
        ("volume_factor", out.numbers.iter().map(|(_, volume)| Some(*volume)).collect()),
    ] {
        headings.push(Heading { name: name.to_owned(), kind: Kind::Number(FACTOR), optional: false });
        columns.push(Cells::Numbers(cells));
    }
    Ok(Beside { name: "factors", headings, rows: Batch { rows: out.numbers.len(), columns } })
}

/// Who belonged to the universes of the spec, from when to when.
async fn members(research: &Arc<Research>, setup: &Arc<Setup>, spec: &TableSpec, instant: Timestamp) -> Result<Beside, DeskError> {
    let (mut out, mut rows) = (Columns::default(), 0);
    for name in &spec.universes {
        let universe = research.universe(setup, name, instant).await?;
        for symbol in universe.members.keys() {
            let then = setup.known(symbol).map_or(symbol.as_str(), |i| setup.symbol_then(i));
            // Stays that touch each other are one.
            for days in universe.days(symbol).iter() {
                out.word(0, name);
                out.word(1, then);
                out.dates([days.start.date().max(EVER.0), days.end.date().min(EVER.1)]);
                rows += 1;
            }
        }
    }
    let (headings, columns) = out.words_and_dates(&["universe", "instrument"], &["from_date", "to_date"]);
    Ok(Beside { name: "members", headings, rows: Batch { rows, columns } })
}

/// When the sessions of the years of the bars open and close: a row for each stretch between breaks.
fn sessions(setup: &Setup, cuttings: &[&Arc<Cutting>]) -> Result<Beside, DeskError> {
    let mut years: BTreeMap<String, (i16, i16)> = BTreeMap::new();
    for cutting in cuttings {
        let Some(dates) = cutting.whole.dates()? else { continue };
        let (first, last) = (dates.start.to_civil().year(), dates.end.plus(-1).to_civil().year());
        for member in &cutting.whole.members {
            let all = years.entry(member.wanted.instrument.venue.clone()).or_insert((first, last));
            *all = (all.0.min(first), all.1.max(last));
        }
    }
    let (mut out, mut opens, mut closes) = (Columns::default(), vec![], vec![]);
    for (venue, (first, last)) in years {
        let Some(calendar) = setup.calendars.get(&venue) else { continue };
        let new_year = |year: i16| jiff::civil::Date::new(year, 1, 1).map_or(TradeDate(i32::MAX), TradeDate::from_civil);
        for session in calendar.between(new_year(first)..new_year(last + 1)) {
            for stretch in &session.stretches {
                out.word(0, &venue);
                out.dates([session.date]);
                opens.push(stretch.start.0);
                closes.push(stretch.end.0);
            }
        }
    }
    let rows = opens.len();
    let (mut headings, mut columns) = out.words_and_dates(&["venue"], &["trade_date"]);
    for (name, cells) in [("opens", opens), ("closes", closes)] {
        headings.push(Heading { name: name.to_owned(), kind: Kind::Moment, optional: false });
        columns.push(Cells::Moments(cells));
    }
    Ok(Beside { name: "sessions", headings, rows: Batch { rows, columns } })
}

/// Cells on their way into columns.
#[derive(Default)]
struct Columns {
    /// The words of each column, in order of their first row, with their places.
    words: Vec<(Vec<String>, HashMap<String, u32>)>,
    places: Vec<Vec<Option<u32>>>,
    dates: Vec<Vec<i32>>,
    numbers: Vec<(Decimal, Decimal)>,
}

impl Columns {
    fn word(&mut self, column: usize, word: &str) {
        if self.words.len() <= column {
            self.words.resize_with(column + 1, Default::default);
            self.places.resize_with(column + 1, Vec::new);
        }
        let (all, known) = &mut self.words[column];
        let place = *known.entry(word.to_owned()).or_insert_with(|| {
            all.push(word.to_owned());
            all.len() as u32 - 1
        });
        self.places[column].push(Some(place));
    }

    fn dates<const N: usize>(&mut self, dates: [TradeDate; N]) {
        self.dates.resize_with(N, Vec::new);
        self.dates.iter_mut().zip(dates).for_each(|(column, date)| column.push(date.0));
    }

    /// The columns of words and those of dates, in this order.
    fn words_and_dates(&mut self, words: &[&str], dates: &[&str]) -> (Vec<Heading>, Vec<Cells>) {
        self.words.resize_with(words.len(), Default::default);
        self.places.resize_with(words.len(), Vec::new);
        self.dates.resize_with(dates.len(), Vec::new);
        let (mut headings, mut columns) = (vec![], vec![]);
        for ((name, (all, _)), places) in words.iter().zip(&mut self.words).zip(&mut self.places) {
            let kind = Kind::Words(std::mem::take(all).into());
            headings.push(Heading { name: (*name).to_owned(), kind, optional: false });
            columns.push(Cells::Words(std::mem::take(places)));
        }
        for (name, cells) in dates.iter().zip(&mut self.dates) {
            headings.push(Heading { name: (*name).to_owned(), kind: Kind::Date, optional: false });
            columns.push(Cells::Dates(std::mem::take(cells)));
        }
        (headings, columns)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_has_no_end_has_dates_that_every_engine_knows() {
        let day = |date: TradeDate| jiff::civil::date(1970, 1, 1).saturating_add(jiff::Span::new().days(i64::from(date.0)));
        assert_eq!((day(EVER.0), day(EVER.1)), (jiff::civil::date(1, 1, 1), jiff::civil::date(9999, 12, 31)));
    }

    #[test]
    fn each_word_stands_once_and_rows_point_at_it() {
        let mut out = Columns::default();
        for symbol in ["KBF", "OXB", "KBF"] {
            out.word(0, symbol);
            out.dates([TradeDate(1)]);
        }
        let (headings, columns) = out.words_and_dates(&["instrument", "nothing"], &["from_date"]);
        assert_eq!(headings[0].kind, Kind::Words(["KBF".to_owned(), "OXB".to_owned()].into()));
        assert_eq!(columns[0], Cells::Words(vec![Some(0), Some(1), Some(0)]));
        assert_eq!((&columns[1], &columns[2]), (&Cells::Words(vec![]), &Cells::Dates(vec![1, 1, 1])));
    }
}
