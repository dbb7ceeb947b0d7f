//! Delimited text.

use crate::decode::{
    records::Records,
    rows::{Row, Sink, find},
    unreadable,
};
use crate::{
    Failure,
    failure::{Class, excerpt},
};
use mizuno_config::profile::Answer;
use std::borrow::Cow;

pub(crate) fn each(answer: &Answer, wanted: &[&str], body: &[u8], sink: &mut Sink<'_>) -> Result<(), Failure> {
    if answer.last_line_ends && body.last() != Some(&b'\n') {
        let tail = body.rsplit(|b| *b == b'\n').next().unwrap_or_default();
        return Err(Failure::new(Class::CutShort, format!("the answer breaks off in the middle of a line: {}", excerpt(tail))));
    }
    let table = after_lines(body, answer.skip_lines)
        .map(|table| before_lines(table, answer.skip_last_lines))
        .ok_or_else(|| unreadable(format!("the answer ends within the {} lines above the header: {}", answer.skip_lines, excerpt(body))))?;
    let above = u64::from(answer.skip_lines);
    let mut records = Records::new(table, answer.separator as u8, answer.comment.map(|c| c as u8));
    let mut places: Option<Vec<usize>> = None;
    let mut width = 0;
    while let Some(record) = records.next() {
        let number = record.line + above;
        let places = match &places {
            Some(places) => places,
            None => {
                width = record.len();
                let names: Vec<Cow<'_, [u8]>> = match answer.header {
                    true => (0..width).filter_map(|at| record.get(at)).map(Cow::Borrowed).collect(),
                    false => (1..=width).map(|n| Cow::Owned(n.to_string().into_bytes())).collect(),
                };
                let found = places.insert(find(&names, wanted, number)?);
                if answer.header {
                    continue;
                }
                found
            }
        };
        if record.len() < width {
            let why = format!("has {} fields where the header has {width}", record.len());
            sink(Row { number, text: record.text, fields: Err(why) });
            continue;
        }
        // Seven columns at most for a bar; a longer list pays for its own vector.
        let mut few: [Option<Cow<'_, [u8]>>; 8] = [const { None }; 8];
        let field = |place: usize| record.get(place).map(|f| Cow::Borrowed(f.trim_ascii()));
        if places.len() <= few.len() {
            places.iter().zip(&mut few).for_each(|(place, slot)| *slot = field(*place));
            sink(Row { number, text: record.text, fields: Ok(&few[..places.len()]) });
        } else {
            let many: Vec<_> = places.iter().map(|place| field(*place)).collect();
            sink(Row { number, text: record.text, fields: Ok(&many) });
        }
    }
    if places.is_none() && answer.header {
        let what = format!("line {} should be the header, and the answer ends above it", above + 1);
        return Err(unreadable(what));
    }
    Ok(())
}

fn after_lines(body: &[u8], lines: u32) -> Option<&[u8]> {
    let mut rest = body;
    for _ in 0..lines {
        let end = rest.iter().position(|b| *b == b'\n')?;
        rest = &rest[end + 1..];
    }
    Some(rest)
}

fn before_lines(body: &[u8], lines: u32) -> &[u8] {
    let mut rest = body;
    for _ in 0..lines {
        let inner = rest.strip_suffix(b"\n").unwrap_or(rest);
        rest = &rest[..inner.iter().rposition(|b| *b == b'\n').map_or(0, |at| at + 1)];
    }
    rest
}
