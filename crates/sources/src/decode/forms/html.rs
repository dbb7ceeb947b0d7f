//! Tables and links of web pages.

use crate::decode::{
    rows::{Row, Sink, find},
    unreadable,
};
use crate::{Failure, failure::excerpt};
use html5gum::{Token, Tokenizer};
use mizuno_config::profile::Answer;
use std::borrow::Cow;

pub(crate) fn each(answer: &Answer, wanted: &[&str], body: &[u8], sink: &mut Sink<'_>) -> Result<(), Failure> {
    let rows = table(body, answer.table);
    let mut rows = rows.iter().enumerate().map(|(i, cells)| (i as u64 + 1, cells));
    let Some((line, header)) = rows.next() else {
        return Err(unreadable(format!("the page has no table {}: {}", answer.table, excerpt(body))));
    };
    let header: Vec<Cow<'_, [u8]>> = header.iter().map(|c| Cow::Borrowed(c.as_bytes())).collect();
    let places = find(&header, wanted, line)?;
    for (number, cells) in rows {
        let text = cells.join(" | ");
        let fields: Vec<_> = places.iter().map(|place| cells.get(*place).map(|c| Cow::Borrowed(c.as_bytes()))).collect();
        let fields = match cells.len() < header.len() {
            true => Err(format!("has {} cells where the header has {}", cells.len(), header.len())),
            false => Ok(&fields[..]),
        };
        sink(Row { number, text: text.as_bytes(), fields });
    }
    Ok(())
}

/// The cells of the table that is `which` from the top of the page, row by row; of a table inside it, nothing.
fn table(body: &[u8], which: u32) -> Vec<Vec<String>> {
    let (mut rows, mut depth, mut seen, mut in_cell): (Vec<Vec<String>>, u32, u32, bool) = (vec![], 0, 0, false);
    for Ok(token) in Tokenizer::new(body) {
        match token {
            Token::StartTag(tag) => match tag.name.as_slice() {
                b"table" => {
                    depth += 1;
                    seen += u32::from(depth == 1);
                }
                b"tr" if depth == 1 && seen == which => rows.push(vec![]),
                b"td" | b"th" if depth == 1 && seen == which => {
                    in_cell = true;
                    if rows.is_empty() {
                        rows.push(vec![]);
                    }
                    rows.last_mut().into_iter().for_each(|row| row.push(String::new()));
                }
                b"br" if in_cell => rows.last_mut().and_then(|r| r.last_mut()).into_iter().for_each(|cell| cell.push(' ')),
                _ => {}
            },
            Token::EndTag(tag) => match tag.name.as_slice() {
                b"table" => depth = depth.saturating_sub(1),
                b"td" | b"th" | b"tr" if depth == 1 => in_cell = false,
                _ => {}
            },
            Token::String(text) if in_cell && depth == 1 && seen == which => {
                let text = String::from_utf8_lossy(&text.value);
                rows.last_mut().and_then(|r| r.last_mut()).into_iter().for_each(|cell| cell.push_str(&text));
            }
            _ => {}
        }
    }
    let tidy = |cell: &String| cell.split_whitespace().collect::<Vec<_>>().join(" ");
    rows.iter().filter(|r| !r.is_empty()).map(|row| row.iter().map(tidy).collect()).collect()
}

/// Where the links of a page lead, as written.
#[must_use]
pub fn links(body: &[u8]) -> Vec<String> {
    let mut out = vec![];
    for Ok(token) in Tokenizer::new(body) {
        if let Token::StartTag(tag) = token
            && tag.name.as_slice() == b"a"
        {
            let href = tag.attributes.iter().find(|(name, _)| name.as_slice() == b"href");
            out.extend(href.map(|(_, value)| String::from_utf8_lossy(&value.value).into_owned()));
        }
    }
    out
}
