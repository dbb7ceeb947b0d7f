//! Pictures of bars: candles of one series, or lines of several on a common base, as SVG or PNG.
//!
//! A [`Picture`] says what is drawn, and nothing of where it comes from: no store, no questions, no clock. Places on the horizontal axis are
//! rows, so that closed hours take no room. To draw something else, add it to [`Content`] and a file here.

mod candles;
mod lines;
mod look;

use look::{Look, words};
use plotters::{
    backend::{BitMapBackend, SVGBackend},
    coord::Shift,
    prelude::{DrawingArea, DrawingBackend, IntoDrawingArea},
    style::{FontStyle, register_font},
};
use std::sync::Once;

/// What is drawn.
#[derive(Clone, Debug)]
pub struct Picture {
    /// What it shows, in a line.
    pub title: String,
    /// Where that comes from, in lines.
    pub notes: Vec<String>,
    /// The stamp of each row.
    pub stamps: Vec<String>,
    /// What each row has.
    pub content: Content,
    /// Rows that something happened at, each with what.
    pub marks: Vec<(usize, String)>,
    /// Width and height in pixels.
    pub size: (u32, u32),
    /// Light on dark.
    pub dark: bool,
}

/// What the rows of a picture have.
#[derive(Clone, Debug)]
pub enum Content {
    /// Prices of one series, and what was traded; a row without a bar is empty.
    Candles(Vec<Option<Candle>>),
    /// Prices of several series, each 100 in the first row that all have.
    Lines(Vec<Line>),
}

/// The numbers of a bar.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Candle {
    /// Open, high, low and close.
    pub prices: [f64; 4],
    /// Quantity traded.
    pub volume: Option<f64>,
}

/// One of several series.
#[derive(Clone, Debug)]
pub struct Line {
    /// What it is called.
    pub name: String,
    /// Its price in each row.
    pub prices: Vec<Option<f64>>,
}

/// Why there is no picture.
#[derive(Debug, thiserror::Error)]
pub enum DrawError {
    /// There is nothing in it.
    #[error("there is no bar to draw")]
    Empty,
    /// No row has a price of all series, above nought.
    #[error("there is no row in which all series have a price above nought, so that they have no common base")]
    NoCommonBase,
    /// The size is no size of a picture.
    #[error("a picture is 320 to 4000 pixels wide and 240 to 3000 high, and not {0} by {1}")]
    Size(u32, u32),
    /// It could not be drawn.
    #[error("the picture cannot be drawn: {0}")]
    Drawing(String),
    /// It could not be written as PNG.
    #[error("the picture cannot be written as PNG")]
    Png(#[from] png::EncodingError),
}

/// The font of all texts; the same in every picture, whatever fonts the machine has.
fn font() {
    static ONCE: Once = Once::new();
    // Sizes are checked by the font's own tests: it is always read.
    ONCE.call_once(|| drop(register_font("sans-serif", FontStyle::Normal, dejavu::sans::regular())));
}

impl Picture {
    fn check(&self) -> Result<(), DrawError> {
        let (width, height) = self.size;
        if !(320..=4000).contains(&width) || !(240..=3000).contains(&height) {
            return Err(DrawError::Size(width, height));
        }
        match &self.content {
            Content::Candles(all) if all.iter().all(Option::is_none) => Err(DrawError::Empty),
            Content::Lines(all) if all.is_empty() => Err(DrawError::Empty),
            _ => Ok(()),
        }
    }

    /// The picture as SVG.
    ///
    /// # Errors
    /// When there is nothing to draw, or its size is none.
    pub fn svg(&self) -> Result<String, DrawError> {
        self.check()?;
        font();
        let mut out = String::new();
        self.draw(&SVGBackend::with_string(&mut out, self.size).into_drawing_area())?;
        Ok(out)
    }

    /// The picture as PNG.
    ///
    /// # Errors
    /// When there is nothing to draw, or its size is none.
    pub fn png(&self) -> Result<Vec<u8>, DrawError> {
        self.check()?;
        font();
        let (width, height) = self.size;
        let mut pixels = vec![0; width as usize * height as usize * 3];
        self.draw(&BitMapBackend::with_buffer(&mut pixels, self.size).into_drawing_area())?;
        let mut out = vec![];
        let mut encoder = png::Encoder::new(&mut out, width, height);
        encoder.set_color(png::ColorType::Rgb);
        encoder.write_header()?.write_image_data(&pixels)?;
        Ok(out)
    }

    fn draw<B: DrawingBackend>(&self, root: &DrawingArea<B, Shift>) -> Result<(), DrawError> {
        let look = Look::of(self.dark);
        root.fill(&look.ground).map_err(drawing)?;
        root.draw_text(&self.title, &words(20, look.text), (16, 12)).map_err(drawing)?;
        let mut top = 40;
        for note in self.notes.iter().flat_map(|note| look::wrapped(note, self.size.0)) {
            root.draw_text(&note, &words(13, look.faint), (16, top)).map_err(drawing)?;
            top += 18;
        }
        let rest = root.margin(top + 8, 8, 8, 16);
        match &self.content {
            Content::Candles(all) => candles::draw(self, &look, &rest, all)?,
            Content::Lines(all) => lines::draw(self, &look, &rest, all)?,
        }
        root.present().map_err(drawing)
    }
}

fn drawing(error: impl std::fmt::Display) -> DrawError {
    DrawError::Drawing(error.to_string())
}
