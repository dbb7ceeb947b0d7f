//! Candles of one series, with what was traded below.

use crate::{
    Candle, DrawError, Picture, drawing,
    look::{Look, price, quantity, roomy, words},
};
use plotters::{
    chart::{ChartBuilder, ChartContext},
    coord::{Shift, cartesian::Cartesian2d, types::RangedCoordf64},
    element::{CandleStick, DashedPathElement, Rectangle},
    prelude::{Color, DrawingArea, DrawingBackend},
    style::text_anchor::{HPos, Pos, VPos},
};

/// Pixels on the left and right that prices beside the axis take.
pub(crate) const BESIDE: u32 = 64;

pub(crate) fn draw<B: DrawingBackend>(
    picture: &Picture,
    look: &Look,
    area: &DrawingArea<B, Shift>,
    all: &[Option<Candle>],
) -> Result<(), DrawError> {
    let traded = all.iter().flatten().filter_map(|c| c.volume).fold(0.0, f64::max);
    let height = area.dim_in_pixel().1;
    let (above, below) = area.split_vertically(if traded > 0.0 { height * 4 / 5 } else { height });
    let prices = || all.iter().flatten().map(|c| c.prices);
    let (low, high) = (prices().map(|p| p[2]).fold(f64::INFINITY, f64::min), prices().map(|p| p[1]).fold(f64::NEG_INFINITY, f64::max));
    let range = roomy(low, high);
    let rows = -0.5..all.len() as f64 - 0.5;
    let mut chart = ChartBuilder::on(&above)
        .margin_top(if picture.marks.is_empty() { 4 } else { 22 })
        .x_label_area_size(if traded > 0.0 { 4 } else { 28 })
        .y_label_area_size(BESIDE)
        .build_cartesian_2d(rows.clone(), range.clone())
        .map_err(drawing)?;
    let over = range.end - range.start;
    mesh(&mut chart, picture, look, traded <= 0.0, 8, &|value| price(*value, over))?;
    let width = (f64::from(area.dim_in_pixel().0.saturating_sub(BESIDE)) / all.len() as f64 * 0.7).clamp(1.0, 24.0) as u32;
    let candle = |(at, candle): (usize, &Option<Candle>)| {
        let [open, high, low, close] = candle.as_ref()?.prices;
        // Up is filled in one colour, down is hollow in another: told apart by shape too.
        Some(CandleStick::new(at as f64, open, high, low, close, look.up.filled(), look.down.stroke_width(1), width))
    };
    marks(&mut chart, picture, look, &range)?;
    chart.draw_series(all.iter().enumerate().filter_map(candle)).map_err(drawing)?;
    if traded > 0.0 {
        let mut chart = ChartBuilder::on(&below)
            .margin_top(6)
            .x_label_area_size(28)
            .y_label_area_size(BESIDE)
            .build_cartesian_2d(rows, 0.0..traded * 1.05)
            .map_err(drawing)?;
        mesh(&mut chart, picture, look, true, 2, &|value| quantity(*value))?;
        let bar = |(at, candle): (usize, &Option<Candle>)| {
            let volume = candle.as_ref()?.volume?;
            Some(Rectangle::new([(at as f64 - 0.35, 0.0), (at as f64 + 0.35, volume)], look.volume.filled()))
        };
        chart.draw_series(all.iter().enumerate().filter_map(bar)).map_err(drawing)?;
    }
    Ok(())
}

/// A chart over rows.
pub(crate) type Chart<'a, B> = ChartContext<'a, B, Cartesian2d<RangedCoordf64, RangedCoordf64>>;

/// The grid, with stamps below where they belong to this chart.
pub(crate) fn mesh<B: DrawingBackend>(
    chart: &mut Chart<'_, B>,
    picture: &Picture,
    look: &Look,
    stamps: bool,
    lines: usize,
    beside: &dyn Fn(&f64) -> String,
) -> Result<(), DrawError> {
    let small = words(13, look.faint);
    let stamp =
        |at: &f64| picture.stamps.get(at.round().max(0.0) as usize).filter(|_| (at - at.round()).abs() < 0.01).cloned().unwrap_or_default();
    // A stamp takes as much room as it has characters.
    let longest = picture.stamps.first().map_or(10, |s| s.chars().count()) as u32 * 8 + 24;
    let room = (picture.size.0.saturating_sub(BESIDE) / longest).clamp(2, 12) as usize;
    chart
        .configure_mesh()
        .disable_x_mesh()
        .light_line_style(look.ground)
        .bold_line_style(look.grid)
        .axis_style(look.grid)
        .x_labels(if stamps { room } else { 0 })
        .y_labels(lines)
        .x_label_formatter(&stamp)
        .y_label_formatter(beside)
        .label_style(small)
        .draw()
        .map_err(drawing)
}

/// A broken line at each row that something happened at, with what. Texts that would lie over each other are left out.
pub(crate) fn marks<B: DrawingBackend>(
    chart: &mut Chart<'_, B>,
    picture: &Picture,
    look: &Look,
    range: &std::ops::Range<f64>,
) -> Result<(), DrawError> {
    let style = look.act.stroke_width(1);
    let mut free_from = i32::MIN;
    for (at, text) in &picture.marks {
        let x = *at as f64 - 0.5;
        chart.draw_series(std::iter::once(DashedPathElement::new([(x, range.start), (x, range.end)], 3, 3, style))).map_err(drawing)?;
        let (left, top) = chart.backend_coord(&(x, range.end));
        let (half, width) = (text.chars().count() as i32 * 7 / 2, picture.size.0 as i32);
        let middle = left.clamp(half + 8, (width - half - 8).max(half + 8));
        if middle - half < free_from {
            continue;
        }
        free_from = middle + half + 8;
        let words = words(12, look.act).pos(Pos::new(HPos::Center, VPos::Bottom));
        let whole = chart.plotting_area().strip_coord_spec();
        let (base_x, base_y) = whole.get_base_pixel();
        whole.draw_text(text, &words, (middle - base_x, top - base_y - 4)).map_err(drawing)?;
    }
    Ok(())
}
