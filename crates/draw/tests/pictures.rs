//! Pictures: both forms are drawn, of any shape of series, and what cannot be drawn is said.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test stops at once when something is not as it needs it")]

use mizuno_draw::{Candle, Content, DrawError, Line, Picture};

/// Prices that go up and down, a row in ten of them empty.
fn prices(rows: usize, from: f64) -> Vec<Option<f64>> {
    (0..rows).map(|at| (at % 10 != 7).then(|| from + (at as f64 / 5.0).sin() * from / 20.0 + at as f64 * from / 1e4)).collect()
}

fn candles(rows: usize) -> Content {
    let candle = |(at, close): (usize, f64)| Candle {
        prices: [close * if at.is_multiple_of(2) { 0.99 } else { 1.01 }, close * 1.02, close * 0.97, close],
        volume: Some(1000.0 + (at % 7) as f64 * 300.0),
    };
    Content::Candles(prices(rows, 7.5).into_iter().enumerate().map(|(at, close)| close.map(|close| candle((at, close)))).collect())
}

fn picture(content: Content, rows: usize) -> Picture {
    Picture {
        title: "KBF, Kahu Basin Freight".to_owned(),
        notes: vec!["golden, as traded".to_owned()],
        stamps: (0..rows).map(|at| format!("2025-{:02}-{:02}", at / 28 % 12 + 1, at % 28 + 1)).collect(),
        content,
        marks: vec![(rows / 2, "dividend 0.12 NZD".to_owned()), (rows / 2, "split 2 for 1".to_owned())],
        size: (1280, 800),
        dark: false,
    }
}

#[test]
fn a_picture_says_what_it_shows_in_both_forms() {
    let drawn = picture(candles(120), 120);
    let svg = drawn.svg().unwrap();
    for part in ["<svg width=\"1280\" height=\"800\"", "KBF, Kahu Basin Freight", "golden, as traded", "dividend 0.12 NZD", "2025-"] {
        assert!(svg.contains(part), "{part}");
    }
    assert!(!svg.contains("split 2 for 1"), "a text over another one is left out");
    let png = drawn.png().unwrap();
    let reader = png::Decoder::new(std::io::Cursor::new(png)).read_info().unwrap();
    assert_eq!((reader.info().width, reader.info().height), (1280, 800));
}

#[test]
fn a_light_and_a_dark_picture_differ_in_their_colours_alone() {
    let light = picture(candles(60), 60);
    let dark = Picture { dark: true, ..light.clone() };
    let shape = |svg: String| -> String {
        let mut parts = svg.split('#');
        let first = parts.next().unwrap_or_default().to_owned();
        parts.fold(first, |all, part| all + &part[6..])
    };
    let (light, dark) = (light.svg().unwrap(), dark.svg().unwrap());
    assert_ne!(light, dark);
    assert_eq!(shape(light), shape(dark));
}

#[test]
fn lines_begin_at_a_hundred_where_all_have_a_price() {
    let mut late = prices(50, 40.0);
    late[..10].fill(None);
    let lines = vec![Line { name: "KBF".to_owned(), prices: prices(50, 2.0) }, Line { name: "OXB".to_owned(), prices: late }];
    let svg = picture(Content::Lines(lines.clone()), 50).svg().unwrap();
    assert!(svg.contains("KBF") && svg.contains("OXB") && svg.contains("100"), "{svg}");
    let never = vec![lines[0].clone(), Line { name: "TRN".to_owned(), prices: vec![None; 50] }];
    assert!(matches!(picture(Content::Lines(never), 50).svg(), Err(DrawError::NoCommonBase)));
    let below = vec![lines[0].clone(), Line { name: "ICF".to_owned(), prices: vec![Some(-1.0); 50] }];
    assert!(matches!(picture(Content::Lines(below), 50).png(), Err(DrawError::NoCommonBase)));
}

#[test]
fn odd_shapes_are_drawn_or_refused_and_never_stop_anything() {
    for rows in [1, 2, 3, 700, 4_000] {
        assert!(picture(candles(rows), rows).png().is_ok(), "{rows}");
    }
    let flat = Content::Candles(vec![Some(Candle { prices: [0.0; 4], volume: None }); 3]);
    assert!(picture(flat, 3).png().is_ok());
    assert!(matches!(picture(Content::Candles(vec![None; 5]), 5).svg(), Err(DrawError::Empty)));
    assert!(matches!(picture(Content::Lines(vec![]), 0).svg(), Err(DrawError::Empty)));
    let small = Picture { size: (20, 20), ..picture(candles(9), 9) };
    assert_eq!(small.svg().unwrap_err().to_string(), "a picture is 320 to 4000 pixels wide and 240 to 3000 high, and not 20 by 20");
    for size in [(320, 240), (4000, 3000)] {
        assert!(Picture { size, ..picture(candles(90), 90) }.png().is_ok(), "{size:?}");
    }
}
