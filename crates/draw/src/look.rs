//! Colours and numbers as they look: those of the console, where each colour has one meaning.

use plotters::style::{Color, IntoFont, RGBColor, TextStyle};

pub(crate) struct Look {
    pub ground: RGBColor,
    pub text: RGBColor,
    pub faint: RGBColor,
    pub grid: RGBColor,
    pub up: RGBColor,
    pub down: RGBColor,
    pub volume: RGBColor,
    pub act: RGBColor,
    /// Of several lines, told apart without colour vision too: light and dark, blue and orange by turns.
    pub lines: [RGBColor; 6],
}

const fn rgb(hex: u32) -> RGBColor {
    RGBColor((hex >> 16) as u8, (hex >> 8) as u8, hex as u8)
}

impl Look {
    pub(crate) fn of(dark: bool) -> Look {
        match dark {
            false => Look {
                ground: rgb(0xffffff),
                text: rgb(0x22282d),
                faint: rgb(0x66727c),
                grid: rgb(0xdfe3e6),
                up: rgb(0x1f6f8b),
                down: rgb(0x5b4636),
                volume: rgb(0x9aa3ab),
                act: rgb(0xa84a00),
                lines: [rgb(0x1f6f8b), rgb(0xd9741a), rgb(0x5b4636), rgb(0x7fb3c8), rgb(0x8a5a9c), rgb(0x9aa3ab)],
            },
            true => Look {
                ground: rgb(0x18181c),
                text: rgb(0xe6e6e6),
                faint: rgb(0x9aa4ad),
                grid: rgb(0x3a4149),
                up: rgb(0x4aa8d0),
                down: rgb(0xd9d2c5),
                volume: rgb(0x7d8590),
                act: rgb(0xf08a24),
                lines: [rgb(0x4aa8d0), rgb(0xf0a04b), rgb(0xd9d2c5), rgb(0x2f7fa3), rgb(0xc39bd3), rgb(0x7d8590)],
            },
        }
    }
}

/// Words of a size and a colour.
pub(crate) fn words(size: u32, color: RGBColor) -> TextStyle<'static> {
    TextStyle { color: color.to_backend_color(), ..TextStyle::from(("sans-serif", size).into_font()) }
}

/// A text in lines that fit into so many pixels, in the notes' size.
pub(crate) fn wrapped(text: &str, width: u32) -> Vec<String> {
    let most = (width.saturating_sub(32) * 10 / 66) as usize;
    let mut lines: Vec<String> = vec![];
    for word in text.split(' ') {
        match lines.last_mut() {
            Some(line) if line.chars().count() + 1 + word.chars().count() <= most => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    lines
}

/// A price beside the axis, with the decimals that tell two lines of the grid apart.
pub(crate) fn price(value: f64, over: f64) -> String {
    let decimals = (1.0 - over.abs().max(1e-12).log10().floor()).clamp(0.0, 8.0) as usize;
    format!("{value:.decimals$}")
}

/// A quantity beside the axis: 1.2M for 1 200 000.
pub(crate) fn quantity(value: f64) -> String {
    for (size, letter) in [(1e9, "G"), (1e6, "M"), (1e3, "k")] {
        if value.abs() >= size {
            let number = value / size;
            return if number.fract().abs() < 0.05 { format!("{number:.0}{letter}") } else { format!("{number:.1}{letter}") };
        }
    }
    format!("{value:.0}")
}

/// A range with a little room at both ends.
pub(crate) fn roomy(low: f64, high: f64) -> std::ops::Range<f64> {
    let room = if high > low { (high - low) * 0.05 } else { high.abs().max(1.0) * 0.01 };
    low - room..high + room
}
