//! Pictures of answers: candles of one series, lines of several.

use crate::{
    Research,
    answer::{
        Prepared,
        batch::{Batch, Cells},
    },
    question::{Column, Layout, Missing, Question, picking::Picking},
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
}

/// Series in one picture, at most: more lines cannot be told apart.
const MOST: usize = 12;

impl Question {
    /// The question whose answer a picture shows, with no more rows than it has room for; what a picture has not is refused by name.
    ///
    /// # Errors
    /// What cannot be drawn, each in a sentence.
    pub fn to_draw(mut self, canvas: Canvas) -> Result<Question, Vec<String>> {
        let usual = super::question::Shape { hours: self.shape.hours, clock: self.shape.clock.clone(), ..Default::default() };
        let own = super::question::Shape { layout: self.shape.layout, ..self.shape.clone() };
        let mut problems = vec![];
        if own != usual {
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
        self.shape.picking = Picking::default();
        Ok(self)
    }
}

impl Research {
    /// What changes when a picture may.
    ///
    /// # Errors
    /// When the question has no answer.
    pub async fn picture_validator(self: &Arc<Self>, question: Question, canvas: Canvas, svg: bool) -> Result<String, DeskError> {
        let resolved = self.resolve(question).await?;
        // The instant stands in the picture.
        let (instant, (width, height)) = (resolved.instant, canvas.size);
        let bars = self.draft(resolved).await?.validator()?;
        let state = format!("{instant} {bars} {width} {height} {} {svg}", canvas.dark);
        Ok(mizuno_store::payloads::digest(state.as_bytes())[..32].to_owned())
    }

    /// A picture of the answer to a question that was made for it.
    ///
    /// # Errors
    /// When there are too many series, or the store cannot be read.
    pub async fn picture(self: &Arc<Self>, question: Question, canvas: Canvas) -> Result<(Picture, Timestamp), DeskError> {
        let resolved = self.resolve(question).await?;
        if resolved.series.len() > MOST {
            return Err(DeskError::Invalid(format!(
                "{} series are asked for, and a picture has at most {MOST}; name those that it is to show",
                resolved.series.len()
            )));
        }
        // One series has candles, and all its rows; several have their closes side by side.
        let one = resolved.series.len() == 1;
        let mut question = resolved.question.clone();
        question.shape.layout = if one { Layout::Long } else { Layout::Wide { inner: false } };
        question.shape.missing = if one { Missing::Rows } else { Missing::Absent };
        let candles = [Column::Time, Column::Open, Column::High, Column::Low, Column::Close, Column::Volume, Column::Action];
        question.shape.columns = if one { candles.to_vec() } else { vec![Column::Time, Column::Close] };
        let instant = resolved.instant;
        let prepared = self.prepare(super::question::resolve::Resolved { question, ..resolved }).await?;
        let (title, notes) = (title(&prepared), notes(&prepared));
        let (names, zone) = (prepared.labels(), prepared.zone());
        let words = prepared.action_words();
        let mut answer = prepared.begin(false).await?;
        let mut all = Batch::default();
        while let Some(batch) = answer.next().await? {
            match all.columns.is_empty() {
                true => all = batch,
                false => all.append(batch),
            }
        }
        let stamps = stamps(all.columns.first(), &zone);
        let mut marks = vec![];
        let content = match one {
            true => {
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
            false => {
                let prices = |at: usize| (0..all.rows).map(|row| number(all.columns.get(at + 1), row)).collect();
                Content::Lines(names.into_iter().enumerate().map(|(at, name)| Line { name, prices: prices(at) }).collect())
            }
        };
        Ok((Picture { title, notes, stamps, content, marks, size: canvas.size, dark: canvas.dark }, instant))
    }
}

fn number(cells: Option<&Cells>, row: usize) -> Option<f64> {
    if let Some(Cells::Numbers(all)) = cells { all.get(row).copied().flatten().map(Decimal::to_f64) } else { None }
}

/// The stamps of rows, on the clock of the venue where they have a time.
fn stamps(cells: Option<&Cells>, zone: &jiff::tz::TimeZone) -> Vec<String> {
    match cells {
        Some(Cells::Dates(all)) => all.iter().map(|d| TradeDate(*d).to_string()).collect(),
        Some(Cells::Moments(all)) => {
            let wall = |at: &i64| zone.to_datetime(Timestamp(*at).to_jiff()).strftime("%Y-%m-%d %H:%M").to_string();
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
fn notes(prepared: &Prepared) -> Vec<String> {
    let resolved = &prepared.resolved;
    let whose = match &prepared.members[..] {
        [one] => one.wanted.key.to_string(),
        all => format!("{} series", all.len()),
    };
    let complete = prepared.completeness().map_or_else(String::new, |c| format!("; {} bars, {} missing", c.held, c.missing));
    let zone = if resolved.question.interval.is_intraday() { format!("; times of {}", prepared.zone_name()) } else { String::new() };
    vec![format!("{whose} as of {}{complete}{zone}", resolved.instant), prepared.adjustment()]
}
