//! The rows of a page, whatever its form.

use super::{
    Page,
    forms::{delimited, html, icalendar, json, parquet},
    right_kind, unpack,
};
use crate::Failure;
use mizuno_config::profile::{Answer, Form};
use std::borrow::Cow;

/// One row of an answer.
pub(super) struct Row<'r> {
    /// The line of text it begins on, or its place among the elements, from 1.
    pub number: u64,
    /// The row itself, where it was asked for or costs nothing.
    pub text: &'r [u8],
    /// The wanted fields in their order, `None` where there is no value; or why the row has none.
    pub fields: Result<&'r [Option<Cow<'r, [u8]>>], String>,
}

pub(super) type Sink<'s> = dyn FnMut(Row<'_>) + 's;

/// Calls `sink` for every row of a page with the fields named in `wanted`, and with its own text when that is asked for.
///
/// # Errors
/// When the page as a whole is not of the form the profile describes.
pub(super) fn each(
    answer: &Answer,
    symbol: &str,
    most: usize,
    page: &Page<'_>,
    wanted: &[&str],
    with_text: bool,
    sink: &mut Sink<'_>,
) -> Result<(), Failure> {
    right_kind(answer, page)?;
    let of_all = |wanted: &[&str], sink: &mut Sink<'_>| {
        for body in unpack::unpack(answer, symbol, most, page.body)? {
            if answer.nothing.as_ref().is_some_and(|text| memchr::memmem::find(&body, text.as_bytes()).is_some()) {
                continue;
            }
            match answer.form {
                Form::Delimited => delimited::each(answer, wanted, &body, sink)?,
                Form::HtmlTable => html::each(answer, wanted, &body, sink)?,
                Form::Icalendar => icalendar::each(wanted, &body, sink)?,
                Form::Parquet => parquet::each(wanted, with_text, most, &body, sink)?,
                _ => json::each(answer, wanted, with_text, &body, sink)?,
            }
        }
        Ok(())
    };
    let Some(column) = &answer.symbol_in else { return of_all(wanted, sink) };
    // Whose row it is stands behind what is wanted of it.
    let wanted: Vec<&str> = wanted.iter().copied().chain([column.as_str()]).collect();
    of_all(&wanted, &mut |row: Row<'_>| {
        let fields = match row.fields {
            Ok(fields) if fields.last().is_none_or(|whose| whose.as_deref() != Some(symbol.as_bytes())) => return,
            Ok(fields) => Ok(&fields[..fields.len() - 1]),
            Err(why) => Err(why),
        };
        sink(Row { fields, ..row });
    })
}

/// Where wanted columns stand: found by header name in either case, or by number from 1.
pub(super) fn find(header: &[Cow<'_, [u8]>], wanted: &[&str], line: u64) -> Result<Vec<usize>, Failure> {
    let place = |name: &&str| {
        let named = header.iter().position(|h| h.trim_ascii().eq_ignore_ascii_case(name.as_bytes()));
        named.or_else(|| name.parse::<usize>().ok().filter(|n| (1..=header.len()).contains(n)).map(|n| n - 1)).ok_or_else(|| {
            let found: Vec<_> = header.iter().map(|h| String::from_utf8_lossy(h)).collect();
            super::unreadable(format!(
                "line {line} should be the header, with a column `{name}`; it reads {}",
                crate::failure::excerpt(found.join(",").as_bytes())
            ))
        })
    };
    wanted.iter().map(place).collect()
}
