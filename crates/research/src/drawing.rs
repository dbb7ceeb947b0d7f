//! Pictures of answers: candles of one series, lines of several.

use crate::{
    Research,
    answer::{
        Draft, Prepared,
        batch::{Batch, Cells},
    },
    question::{Column, Layout, Missing, Question, Shape, zone::Clock},
};
use mizuno_core::{Decimal, Timestamp, TradeDate};
use mizuno_desk::DeskError;
use mizuno_draw::{Candle, Content, Line, Picture};
use std::sync::Arc;

/// How a picture is to be drawn.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Canvas {
    /// Width and height in pixels.
    pub size: (u32, u32),
    /// Light on dark.
    pub dark: bool,
    /// As SVG; else as PNG.
    pub svg: bool,
    /// Stamps on the clock of the venue, since no zone is asked for.
    pub venue_clock: bool,
}

/// A picture whose series are looked up. No block was opened for it.
pub struct Sketch {
    draft: Draft,
    canvas: Canvas,
}

/// Series in one picture, at most: more lines cannot be told apart.
const MOST: usize = 12;

/// The columns of candles, in the order in which they are read.
const CANDLES: [Column; 7] = [Column::Time, Column::Open, Column::High, Column::Low, Column::Close, Column::Volume, Column::Action];

impl Question {
    /// The question whose answer a picture shows, with no more rows than it has room for; what a picture has not is refused by name.
    ///
    /// # Errors
    /// What cannot be drawn, each in a sentence.
    pub fn to_draw(mut self, canvas: Canvas) -> Result<Question, Vec<String>> {
        let usual = Shape { hours: self.shape.hours, clock: self.shape.clock.clone(), ..Shape::default() };
        let mut problems = vec![];
        if self.shape != usual {
            problems.push("a picture shows prices over time; only hours and zone can be said of its shape".to_owned());
        }
        if self.file != Default::default() {
            problems.push("a picture is written as SVG or PNG; leave out what belongs to other files".to_owned());
        }
        if self.since.is_some() {
            problems.push("since: a picture shows no changes; leave it out".to_owned());
        }
        if !problems.is_empty() {
            return Err(problems);
        }
        self.fit.get_or_insert((canvas.size.0 / 4).max(50));
        Ok(self)
    }
}

impl Research {
    /// Looks up what a picture shows; `question` was made to be drawn.
    ///
    /// # Errors
    /// When there are too many series, or the question has no answer.
    pub async fn sketch(self: &Arc<Self>, question: Question, canvas: Canvas) -> Result<Sketch, DeskError> {
        let mut resolved = self.resolve(question).await?;
        let shape = &mut resolved.question.shape;
        // One series has candles, and all its rows; several have their closes side by side.
        match resolved.series.len() {
            1 => (shape.missing, shape.columns) = (Missing::Rows, CANDLES.to_vec()),
            2..=MOST => (shape.layout, shape.columns) = (Layout::Wide { inner: false }, vec![Column::Time, Column::Close]),
            many => {
                let why = format!("{many} series are asked for, and a picture has at most {MOST}; name those that it is to show");
                return Err(DeskError::Invalid(why));
            }
        }
        Ok(Sketch { draft: self.draft(resolved).await?, canvas })
    }
}

impl Sketch {
    /// The instant that the picture stands for, which stands in it.
    #[must_use]
    pub fn instant(&self) -> Timestamp {
        self.draft.told().resolved.instant
    }

    /// What changes when the picture may.
    #[must_use]
    pub fn validator(&self) -> String {
        let Canvas { size: (width, height), dark, svg, venue_clock } = self.canvas;
        let (instant, bars) = (self.instant(), self.draft.validator());
        let state = format!("{instant} {bars} {width} {height} {dark} {svg} {venue_clock}");
        mizuno_store::payloads::digest(state.as_bytes())[..32].to_owned()
    }

    /// What is to be drawn.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn picture(self) -> Result<Picture, DeskError> {
        let prepared = self.draft.prepare().await?;
        let canvas = self.canvas;
        let clock = if canvas.venue_clock { prepared.venue_clock() } else { prepared.resolved.question.shape.clock.clone() };
        let (title, notes) = (title(&prepared), notes(&prepared, &clock));
        let (names, words) = (prepared.labels(), prepared.action_words());
        let mut answer = prepared.begin(false).await?;
        let mut all = Batch::default();
        while let Some(batch) = answer.next().await? {
            match all.columns.is_empty() {
                true => all = batch,
                false => all.append(batch),
            }
        }
        let mut marks = vec![];
        let content = match &names[..] {
            [_] => {
                let column = |at: usize, row: usize| number(all.columns.get(at), row);
                let candle = |row: usize| {
                    let prices = [column(1, row)?, column(2, row)?, column(3, row)?, column(4, row)?];
                    Some(Candle { prices, volume: column(5, row) })
                };
                if let Some(Cells::Words(found)) = all.columns.get(6) {
                    let mark = |(row, word): (usize, &Option<u32>)| Some((row, words.get((*word)? as usize)?.clone()));
                    marks = found.iter().enumerate().filter_map(mark).collect();
                    // The bars of one day have the same: it is told at the first.
                    marks.dedup_by(|next, first| next.1 == first.1);
                }
                Content::Candles((0..all.rows).map(candle).collect())
            }
            _ => {
                let prices = |at: usize| (0..all.rows).map(|row| number(all.columns.get(at + 1), row)).collect();
                Content::Lines(names.into_iter().enumerate().map(|(at, name)| Line { name, prices: prices(at) }).collect())
            }
        };
        Ok(Picture { title, notes, stamps: stamps(all.columns.first(), &clock), content, marks, size: canvas.size, dark: canvas.dark })
    }
}

fn number(cells: Option<&Cells>, row: usize) -> Option<f64> {
    if let Some(Cells::Numbers(all)) = cells { all.get(row).map(Decimal::to_f64) } else { None }
}

/// The stamps of rows, by a clock where they have a time.
fn stamps(cells: Option<&Cells>, clock: &Clock) -> Vec<String> {
    match cells {
        Some(Cells::Dates(all)) => all.iter().map(|d| TradeDate(*d).to_string()).collect(),
        Some(Cells::Moments(all)) => {
            let wall = |at: &i64| clock.offset(Timestamp(*at)).to_datetime(Timestamp(*at).to_jiff()).strftime("%Y-%m-%d %H:%M").to_string();
            all.iter().map(wall).collect()
        }
        _ => vec![],
    }
}

/// What the picture shows.
fn title(prepared: &Prepared) -> String {
    let question = &prepared.resolved.question;
    match &prepared.members[..] {
        [one] => {
            let instrument = &one.wanted.instrument;
            format!("{}, {}: bars of {} in {}", instrument.symbol, instrument.name, question.interval_word(), instrument.currency)
        }
        _ => format!("{}: closes of {}, 100 where all begin", prepared.labels().join(", "), question.interval_word()),
    }
}

/// Where it comes from: what somebody who finds the picture a year later asks.
fn notes(prepared: &Prepared, clock: &Clock) -> Vec<String> {
    let resolved = &prepared.resolved;
    let whose = match &prepared.members[..] {
        [one] => one.wanted.key.to_string(),
        all => format!("{} series", all.len()),
    };
    let complete = prepared.completeness().map_or_else(String::new, |c| format!("; {} bars, {} missing", c.held, c.missing));
    let zone = if resolved.question.interval.is_intraday() { format!("; times of {clock}") } else { String::new() };
    vec![format!("{whose} as of {}{complete}{zone}", resolved.instant), prepared.adjustment()]
}
