//! From bytes to bars, as a profile says.
//!
//! An answer is unwrapped ([`unpack`]), its rows are found ([`rows`]), and each
//! row is read into a bar ([`bars`]) or into the columns of a list ([`list`]).

mod bars;
mod forms;
mod list;
mod records;
mod rows;
mod unpack;

pub use forms::html::links;
pub(crate) use forms::json::text_at;
pub use list::{ListRow, decode_list};

use crate::{Failure, failure::Class};
use mizuno_config::profile::{Answer, Form, Offer};
use mizuno_core::{Bars, Venue};
use std::collections::{HashMap, HashSet};

/// One page of an answer.
#[derive(Clone, Copy, Debug)]
pub struct Page<'a> {
    /// Which part it brings, where an answer has several.
    pub part: Option<&'a str>,
    /// Its media type, as the source says.
    pub media_type: Option<&'a str>,
    /// Its bytes.
    pub body: &'a [u8],
}

/// Where a row stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Place {
    /// The page, from 0.
    pub page: u32,
    /// The line of text, or the element, from 1.
    pub row: u64,
}

/// What an answer says.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Decoded {
    /// Rows in it, readable or not.
    pub rows: u64,
    /// The bars read, in the order of the answer.
    pub bars: Bars,
    /// Where each bar stands.
    pub places: Vec<Place>,
    /// Rows that could not be read.
    pub refused: Vec<Refused>,
}

/// A row that could not be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refused {
    /// Where it stands.
    pub place: Place,
    /// What is wrong with it, naming the text.
    pub reason: String,
}

/// Understands an answer for one symbol, as the source spells it.
///
/// # Errors
/// When the whole of it is not what the profile describes; single bad rows are in [`Decoded::refused`].
pub fn decode(offer: &Offer, venue: &Venue, symbol: &str, most: usize, pages: &[Page<'_>]) -> Result<Decoded, Failure> {
    let parts = |part: Option<&str>| {
        let mut out = Decoded::default();
        for (number, page) in pages.iter().enumerate().filter(|(_, page)| page.part == part) {
            bars::read(offer, venue, symbol, most, number as u32, page, &mut out)?;
        }
        Ok(out)
    };
    match offer.side {
        mizuno_core::Side::Mid => Ok(bars::joined(parts(Some("bid"))?, parts(Some("ask"))?)),
        _ => parts(None),
    }
}

/// An error page is not data, whatever its status.
fn right_kind(answer: &Answer, page: &Page<'_>) -> Result<(), Failure> {
    use crate::failure::excerpt;
    let is = page.media_type.map(|m| m.split(';').next().unwrap_or_default().trim().to_ascii_lowercase());
    if let (Some(wanted), Some(is)) = (&answer.media_type, &is)
        && !wanted.eq_ignore_ascii_case(is)
    {
        return Err(Failure::new(Class::WrongContent, format!("expected {wanted} and got {is}: {}", excerpt(page.body))));
    }
    let first = page.body.trim_ascii_start();
    let web = first.len() >= 5 && (first[..5].eq_ignore_ascii_case(b"<html") || first[..5].eq_ignore_ascii_case(b"<!doc"));
    let wanted = match answer.form {
        Form::HtmlTable => return Ok(()),
        Form::Delimited => "delimited text",
        Form::Icalendar => "a calendar",
        Form::Parquet => "a Parquet file",
        _ => "JSON",
    };
    if web && answer.packed.is_none() {
        return Err(Failure::new(Class::WrongContent, format!("expected {wanted} and got a web page: {}", excerpt(page.body))));
    }
    Ok(())
}

/// A failure to understand a whole answer.
fn unreadable(message: String) -> Failure {
    Failure::new(Class::Unreadable, message)
}

/// The names of a bar's columns: time, prices, volume, open interest and the time of day, as far as there are such.
fn wanted(answer: &Answer) -> Vec<&str> {
    let Some(c) = &answer.columns else { return vec![] };
    let mut out = vec![&c.time[..], &c.open, &c.high, &c.low, &c.close];
    out.extend(c.volume.as_deref());
    out.extend(c.open_interest.as_deref());
    out.extend(c.clock.as_deref());
    out
}

/// How many rows a page has; for telling whether it is full.
pub(crate) fn count(offer: &Offer, symbol: &str, most: usize, page: &Page<'_>) -> Result<u64, Failure> {
    let mut rows = 0;
    rows::each(&offer.answer, symbol, most, page, &wanted(&offer.answer), false, &mut |_| rows += 1)?;
    Ok(rows)
}

/// The text of some rows of an answer, for messages and for quarantine: the line, or the element. Each page is gone through once.
#[must_use]
pub fn texts_of(answer: &Answer, symbol: &str, most: usize, pages: &[Page<'_>], places: &HashSet<Place>) -> HashMap<Place, String> {
    let mut texts = HashMap::new();
    for (number, page) in (0..).zip(pages).filter(|(number, _)| places.iter().any(|p| p.page == *number)) {
        // What was readable once is readable again; if not, there is no text to show.
        let _ = rows::each(answer, symbol, most, page, &wanted(answer), true, &mut |row| {
            let place = Place { page: number, row: row.number };
            if places.contains(&place) {
                texts.insert(place, String::from_utf8_lossy(row.text).trim_end().chars().take(400).collect());
            }
        });
    }
    texts
}
