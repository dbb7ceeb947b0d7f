//! Several series on a common base: each is 100 in the first row in which all have a price.

use crate::{
    DrawError, Line, Picture,
    candles::{BESIDE, marks, mesh},
    drawing,
    look::{Look, price, roomy, words},
};
use plotters::{
    chart::ChartBuilder,
    coord::Shift,
    element::PathElement,
    prelude::{Color, DrawingArea, DrawingBackend},
    series::LineSeries,
};

pub(crate) fn draw<B: DrawingBackend>(picture: &Picture, look: &Look, area: &DrawingArea<B, Shift>, all: &[Line]) -> Result<(), DrawError> {
    let rows = all.iter().map(|l| l.prices.len()).max().unwrap_or(0);
    let above = |line: &Line, row: usize| line.prices.get(row).copied().flatten().filter(|p| *p > 0.0);
    let base = (0..rows).find(|row| all.iter().all(|line| above(line, *row).is_some())).ok_or(DrawError::NoCommonBase)?;
    let based = |line: &Line| -> Vec<Option<f64>> {
        let first = above(line, base).unwrap_or(1.0);
        line.prices.iter().map(|p| p.map(|p| p / first * 100.0)).collect()
    };
    let lines: Vec<(&str, Vec<Option<f64>>)> = all.iter().map(|line| (line.name.as_str(), based(line))).collect();
    let values = || lines.iter().flat_map(|(_, values)| values.iter().flatten().copied());
    let range = roomy(values().fold(f64::INFINITY, f64::min), values().fold(f64::NEG_INFINITY, f64::max));
    let mut chart = ChartBuilder::on(area)
        .margin_top(if picture.marks.is_empty() { 4 } else { 22 })
        .x_label_area_size(28)
        .y_label_area_size(BESIDE)
        .build_cartesian_2d(-0.5..rows as f64 - 0.5, range.clone())
        .map_err(drawing)?;
    let over = range.end - range.start;
    mesh(&mut chart, picture, look, true, 8, &|value| price(*value, over))?;
    marks(&mut chart, picture, look, &range)?;
    for (at, (name, values)) in lines.iter().enumerate() {
        let color = look.lines[at % look.lines.len()];
        // Once through the colours, lines are thicker.
        let width = 2 + (at / look.lines.len()) as u32;
        let mut first = true;
        // A line breaks where there is no price.
        for stretch in values.iter().enumerate().collect::<Vec<_>>().chunk_by(|a, b| a.1.is_some() == b.1.is_some()) {
            let points: Vec<(f64, f64)> = stretch.iter().filter_map(|(row, value)| Some((*row as f64, (**value)?))).collect();
            if points.is_empty() {
                continue;
            }
            let drawn = chart.draw_series(LineSeries::new(points, color.stroke_width(width))).map_err(drawing)?;
            if first {
                drawn.label(*name).legend(move |(x, y)| PathElement::new([(x, y), (x + 22, y)], color.stroke_width(width)));
                first = false;
            }
        }
    }
    chart
        .configure_series_labels()
        .position(plotters::chart::SeriesLabelPosition::UpperLeft)
        .margin(8)
        .background_style(look.ground.mix(0.85))
        .border_style(look.grid)
        .label_font(words(14, look.text))
        .draw()
        .map_err(drawing)
}
