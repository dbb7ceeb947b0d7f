//! JSON in its shapes. Numbers are read as they are printed, never through a float.

use crate::decode::{
    rows::{Row, Sink},
    unreadable,
};
use crate::{
    Failure,
    failure::{Class, excerpt},
};
use mizuno_config::profile::{Answer, Form};
use serde::{
    Deserialize, Deserializer,
    de::{DeserializeSeed, IgnoredAny, MapAccess, SeqAccess, Visitor},
};
use serde_json::value::RawValue;
use std::{borrow::Cow, fmt};

type Fields<'r> = Vec<Option<Cow<'r, [u8]>>>;

pub(crate) fn each(answer: &Answer, wanted: &[&str], with_text: bool, body: &[u8], sink: &mut Sink<'_>) -> Result<(), Failure> {
    if let Some(pointer) = &answer.error
        && let Some(said) = at(body, pointer)?.and_then(text)
    {
        let said = String::from_utf8_lossy(&said).into_owned();
        return Err(Failure::new(Class::Refused, format!("the source answered with an error: {}", excerpt(said.as_bytes()))));
    }
    let rows = tokens(&answer.rows);
    match answer.form {
        Form::JsonLines => return lines(wanted, body, sink),
        Form::JsonColumns => return columns(&answer.rows, wanted, with_text, body, sink),
        Form::JsonMap => {
            descend(body, &rows, Entries { each: |number, key: &str, row: &RawValue| one(number, Some(key), row, wanted, sink) })
        }
        // Parts deep inside a row are looked for in its text; without any, one pass over the answer is enough.
        _ if with_text || wanted.iter().any(|name| name.starts_with('/')) => {
            descend(body, &rows, Elements { each: |number, row: &RawValue| one(number, None, row, wanted, sink) })
        }
        _ => descend(body, &rows, Rows { wanted, sink }),
    }?
    .ok_or_else(|| unreadable(format!("there is nothing at `{}` in the answer: {}", answer.rows, excerpt(body))))
}

/// An array of rows, read as it is gone through.
struct Rows<'w, 's, 'k> {
    wanted: &'w [&'w str],
    sink: &'s mut Sink<'k>,
}

impl<'de> DeserializeSeed<'de> for Rows<'_, '_, '_> {
    type Value = ();
    fn deserialize<D: Deserializer<'de>>(self, d: D) -> Result<(), D::Error> {
        d.deserialize_seq(self)
    }
}

impl<'de> Visitor<'de> for Rows<'_, '_, '_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an array of rows")
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<(), A::Error> {
        let mut number = 0;
        let mut fields: Fields<'de> = vec![None; self.wanted.len()];
        while let Some(read) = seq.next_element_seed(Parts { wanted: self.wanted, fields: &mut fields })? {
            number += 1;
            (self.sink)(Row { number, text: b"", fields: read.map(|()| &fields[..]) });
            fields.fill(None);
        }
        Ok(())
    }
}

/// Hands one row to the sink.
fn one(number: u64, key: Option<&str>, row: &RawValue, wanted: &[&str], sink: &mut Sink<'_>) {
    let mut fields: Fields<'_> = vec![None; wanted.len()];
    let read = pick(row, key, wanted, &mut fields);
    sink(Row { number, text: row.get().as_bytes(), fields: read.map(|()| &fields[..]) });
}

/// Finds the wanted parts of one row.
fn pick<'r>(row: &'r RawValue, key: Option<&'r str>, wanted: &[&str], fields: &mut Fields<'r>) -> Result<(), String> {
    for (place, name) in wanted.iter().enumerate() {
        if *name == "(key)" {
            fields[place] = key.map(|k| Cow::Borrowed(k.as_bytes()));
        } else if name.starts_with('/') {
            fields[place] = at(row.get().as_bytes(), name).map_err(|f| f.message)?.and_then(text);
        }
    }
    let mut json = serde_json::Deserializer::from_str(row.get());
    Parts { wanted, fields }.deserialize(&mut json).unwrap_or_else(|e| Err(e.to_string()))
}

/// Visits one row, an object or an array, for its wanted parts.
struct Parts<'w, 'f, 'r> {
    wanted: &'w [&'w str],
    fields: &'f mut Fields<'r>,
}

impl<'r> DeserializeSeed<'r> for Parts<'_, '_, 'r> {
    type Value = Result<(), String>;
    fn deserialize<D: Deserializer<'r>>(self, d: D) -> Result<Self::Value, D::Error> {
        d.deserialize_any(self)
    }
}

/// What stands where a row should.
fn no_row(what: impl fmt::Display) -> Result<(), String> {
    Err(format!("`{what}` is neither an object nor an array"))
}

impl<'r> Visitor<'r> for Parts<'_, '_, 'r> {
    type Value = Result<(), String>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an object or an array")
    }

    fn visit_map<A: MapAccess<'r>>(self, mut map: A) -> Result<Self::Value, A::Error> {
        while let Some(key) = map.next_key::<Key<'r>>()? {
            match self.wanted.iter().position(|name| *name == key.0) {
                Some(first) => {
                    let value = text(map.next_value()?);
                    // One value may stand for several columns, as one price does for a bar of one trade.
                    for place in (first + 1..self.wanted.len()).filter(|place| self.wanted[*place] == key.0) {
                        self.fields[place].clone_from(&value);
                    }
                    self.fields[first] = value;
                }
                None => drop(map.next_value::<IgnoredAny>()?),
            }
        }
        Ok(Ok(()))
    }

    fn visit_seq<A: SeqAccess<'r>>(self, mut seq: A) -> Result<Self::Value, A::Error> {
        let mut index = 0u32;
        while let Some(value) = seq.next_element::<&'r RawValue>()? {
            let named = |name: &&str| name.parse() == Ok(index);
            for place in (0..self.wanted.len()).filter(|place| named(&self.wanted[*place])) {
                self.fields[place] = text(value);
            }
            index += 1;
        }
        Ok(Ok(()))
    }

    fn visit_unit<E>(self) -> Result<Self::Value, E> {
        Ok(no_row("null"))
    }
    fn visit_bool<E>(self, v: bool) -> Result<Self::Value, E> {
        Ok(no_row(v))
    }
    fn visit_i64<E>(self, v: i64) -> Result<Self::Value, E> {
        Ok(no_row(v))
    }
    fn visit_u64<E>(self, v: u64) -> Result<Self::Value, E> {
        Ok(no_row(v))
    }
    fn visit_f64<E>(self, v: f64) -> Result<Self::Value, E> {
        Ok(no_row(v))
    }
    fn visit_str<E>(self, v: &str) -> Result<Self::Value, E> {
        Ok(no_row(v))
    }
}

/// A key, borrowed where it has no escapes.
struct Key<'r>(Cow<'r, str>);

impl<'de> Deserialize<'de> for Key<'de> {
    fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        struct Text;
        impl<'de> Visitor<'de> for Text {
            type Value = Key<'de>;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a key")
            }
            fn visit_borrowed_str<E>(self, text: &'de str) -> Result<Key<'de>, E> {
                Ok(Key(Cow::Borrowed(text)))
            }
            fn visit_str<E>(self, text: &str) -> Result<Key<'de>, E> {
                Ok(Key(Cow::Owned(text.to_owned())))
            }
        }
        d.deserialize_str(Text)
    }
}

/// A value as text: a string without its quotes, a number as printed, `None` for null.
fn text(value: &RawValue) -> Option<Cow<'_, [u8]>> {
    scalar(value.get())
}

fn scalar(raw: &str) -> Option<Cow<'_, [u8]>> {
    match raw.as_bytes() {
        b"null" => None,
        [b'"', inner @ .., b'"'] if !inner.contains(&b'\\') => Some(Cow::Borrowed(inner)),
        [b'"', ..] => serde_json::from_str::<String>(raw).ok().map(|s| Cow::Owned(s.into_bytes())),
        other => Some(Cow::Borrowed(other)),
    }
}

/// The parts of a JSON Pointer (RFC 6901).
fn tokens(pointer: &str) -> Vec<String> {
    pointer.split('/').skip(1).map(|t| t.replace("~1", "/").replace("~0", "~")).collect()
}

/// The value at a pointer, if there is one.
pub(crate) fn at<'b>(body: &'b [u8], pointer: &str) -> Result<Option<&'b RawValue>, Failure> {
    at_path(body, &tokens(pointer))
}

fn at_path<'b>(body: &'b [u8], path: &[String]) -> Result<Option<&'b RawValue>, Failure> {
    struct Whole;
    impl<'de> DeserializeSeed<'de> for Whole {
        type Value = &'de RawValue;
        fn deserialize<D: Deserializer<'de>>(self, d: D) -> Result<Self::Value, D::Error> {
            Deserialize::deserialize(d)
        }
    }
    descend(body, path, Whole)
}

/// The text at a pointer of an answer; `None` when it is absent, null or empty.
pub(crate) fn text_at(body: &[u8], pointer: &str) -> Option<String> {
    let value = at(body, pointer).ok().flatten().and_then(text)?;
    Some(String::from_utf8_lossy(&value).into_owned()).filter(|t| !t.is_empty())
}

fn descend<'b, S: DeserializeSeed<'b>>(body: &'b [u8], path: &[String], seed: S) -> Result<Option<S::Value>, Failure> {
    // Checked once as a whole, so that no value in it has to be checked on its own.
    let text = std::str::from_utf8(body).map_err(|e| unreadable(format!("the JSON is not UTF-8 from byte {} on", e.valid_up_to())))?;
    let mut json = serde_json::Deserializer::from_str(text);
    let found = Descend { path, seed }.deserialize(&mut json).and_then(|found| json.end().map(|()| found));
    found.map_err(|e| broken(&e, body))
}

fn broken(e: &serde_json::Error, body: &[u8]) -> Failure {
    if e.is_eof() {
        let tail = &body[body.len().saturating_sub(60)..];
        return Failure::new(Class::CutShort, format!("the JSON ends before its end: {}", excerpt(tail)));
    }
    let line = body.split(|b| *b == b'\n').nth(e.line().saturating_sub(1)).unwrap_or_default();
    let near = &line[e.column().saturating_sub(20).min(line.len())..];
    unreadable(format!("the JSON cannot be read, line {}, column {}: {e}; near {}", e.line(), e.column(), excerpt(near)))
}

/// Follows a path without keeping what lies beside it.
struct Descend<'p, S> {
    path: &'p [String],
    seed: S,
}

impl<'de, S: DeserializeSeed<'de>> DeserializeSeed<'de> for Descend<'_, S> {
    type Value = Option<S::Value>;

    fn deserialize<D: Deserializer<'de>>(self, d: D) -> Result<Self::Value, D::Error> {
        if self.path.is_empty() { self.seed.deserialize(d).map(Some) } else { d.deserialize_any(self) }
    }
}

impl<'de, S: DeserializeSeed<'de>> Visitor<'de> for Descend<'_, S> {
    type Value = Option<S::Value>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "something that has a part `{}`", self.path[0])
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Self::Value, A::Error> {
        let Descend { path, seed } = self;
        let (mut seed, mut found) = (Some(seed), None);
        while let Some(key) = map.next_key::<Key<'de>>()? {
            match seed.take() {
                Some(seed) if key.0 == path[0] => found = map.next_value_seed(Descend { path: &path[1..], seed })?,
                kept => {
                    seed = kept;
                    map.next_value::<IgnoredAny>()?;
                }
            }
        }
        Ok(found)
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<Self::Value, A::Error> {
        let Descend { path, seed } = self;
        let (mut seed, mut found, mut index) = (Some(seed), None, 0usize);
        loop {
            match seed.take() {
                Some(seed) if path[0].parse() == Ok(index) => match seq.next_element_seed(Descend { path: &path[1..], seed })? {
                    Some(value) => found = value,
                    None => return Ok(None),
                },
                kept => {
                    seed = kept;
                    if seq.next_element::<IgnoredAny>()?.is_none() {
                        return Ok(found);
                    }
                }
            }
            index += 1;
        }
    }

    // Whatever else stands there has no such part.
    fn visit_unit<E>(self) -> Result<Self::Value, E> {
        Ok(None)
    }
    fn visit_bool<E>(self, _: bool) -> Result<Self::Value, E> {
        Ok(None)
    }
    fn visit_i64<E>(self, _: i64) -> Result<Self::Value, E> {
        Ok(None)
    }
    fn visit_u64<E>(self, _: u64) -> Result<Self::Value, E> {
        Ok(None)
    }
    fn visit_f64<E>(self, _: f64) -> Result<Self::Value, E> {
        Ok(None)
    }
    fn visit_str<E>(self, _: &str) -> Result<Self::Value, E> {
        Ok(None)
    }
}

/// An array, element by element.
struct Elements<F> {
    each: F,
}

impl<'de, F: FnMut(u64, &'de RawValue)> DeserializeSeed<'de> for Elements<F> {
    type Value = ();
    fn deserialize<D: Deserializer<'de>>(self, d: D) -> Result<(), D::Error> {
        d.deserialize_seq(self)
    }
}

impl<'de, F: FnMut(u64, &'de RawValue)> Visitor<'de> for Elements<F> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an array of rows")
    }

    fn visit_seq<A: SeqAccess<'de>>(mut self, mut seq: A) -> Result<(), A::Error> {
        let mut number = 0;
        while let Some(row) = seq.next_element::<&'de RawValue>()? {
            number += 1;
            (self.each)(number, row);
        }
        Ok(())
    }
}

/// An object, entry by entry.
struct Entries<F> {
    each: F,
}

impl<'de, F: FnMut(u64, &str, &'de RawValue)> DeserializeSeed<'de> for Entries<F> {
    type Value = ();
    fn deserialize<D: Deserializer<'de>>(self, d: D) -> Result<(), D::Error> {
        d.deserialize_map(self)
    }
}

impl<'de, F: FnMut(u64, &str, &'de RawValue)> Visitor<'de> for Entries<F> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an object of rows")
    }

    fn visit_map<A: MapAccess<'de>>(mut self, mut map: A) -> Result<(), A::Error> {
        let mut number = 0;
        while let Some((key, row)) = map.next_entry::<Key<'de>, &'de RawValue>()? {
            number += 1;
            (self.each)(number, &key.0, row);
        }
        Ok(())
    }
}

/// One JSON value a line.
fn lines(wanted: &[&str], body: &[u8], sink: &mut Sink<'_>) -> Result<(), Failure> {
    let mut number = 0;
    for line in body.split_inclusive(|b| *b == b'\n') {
        number += 1;
        if line.trim_ascii().is_empty() {
            continue;
        }
        match serde_json::from_slice::<&RawValue>(line) {
            Ok(row) => one(number, None, row, wanted, sink),
            Err(e) if e.is_eof() && !line.ends_with(b"\n") => {
                return Err(Failure::new(Class::CutShort, format!("line {number} breaks off: {}", excerpt(line))));
            }
            Err(e) => sink(Row { number, text: line, fields: Err(format!("is not JSON (column {}): {e}", e.column())) }),
        }
    }
    Ok(())
}

/// The elements of an array as they are printed, one after another.
enum Values<'r> {
    /// Of an array without texts, arrays and objects in it: in sound JSON, commas part its elements and stand nowhere else.
    Flat {
        inner: &'r str,
        from: usize,
        commas: memchr::Memchr<'r>,
    },
    Any(std::vec::IntoIter<&'r RawValue>),
}

impl<'r> Values<'r> {
    /// The values of an array and how many there are; `None` when it is no array.
    fn of(array: &'r RawValue) -> Option<(Values<'r>, usize)> {
        let inner = array.get().strip_prefix('[')?.strip_suffix(']')?;
        if inner.trim().is_empty() || memchr::memchr3(b'"', b'[', b'{', inner.as_bytes()).is_some() {
            let values: Vec<&RawValue> = serde_json::from_str(array.get()).ok()?;
            let count = values.len();
            return Some((Values::Any(values.into_iter()), count));
        }
        let commas = memchr::memchr_iter(b',', inner.as_bytes());
        let count = commas.clone().count() + 1;
        Some((Values::Flat { inner, from: 0, commas }, count))
    }
}

impl<'r> Iterator for Values<'r> {
    type Item = &'r str;

    fn next(&mut self) -> Option<&'r str> {
        match self {
            Values::Any(values) => values.next().map(RawValue::get),
            Values::Flat { inner, from, commas } => {
                let end = commas.next().unwrap_or(inner.len());
                let value = inner.get(*from..end)?.trim_ascii();
                *from = end + 1;
                Some(value)
            }
        }
    }
}

/// One array a column.
fn columns(rows: &str, wanted: &[&str], with_text: bool, body: &[u8], sink: &mut Sink<'_>) -> Result<(), Failure> {
    // The object's own entries are found in one pass; what lies deeper, below them.
    let mut entries: Vec<(String, &RawValue)> = vec![];
    descend(body, &tokens(rows), Entries { each: |_, key: &str, value| entries.push((key.to_owned(), value)) })?
        .ok_or_else(|| unreadable(format!("there is nothing at `{rows}` in the answer: {}", excerpt(body))))?;
    let (mut found, mut counts) = (vec![], vec![]);
    for name in wanted {
        let mut path = tokens(name);
        let first = if path.is_empty() { (*name).to_owned() } else { path.remove(0) };
        let value = entries.iter().find(|(key, _)| *key == first).map(|(_, value)| *value);
        let column = match value {
            Some(value) if !path.is_empty() => at_path(value.get().as_bytes(), &path)?,
            value => value,
        };
        let column = column.ok_or_else(|| unreadable(format!("there is no column at `{rows}{name}`: {}", excerpt(body))))?;
        let no_array = || unreadable(format!("`{rows}{name}` is no array: {}", excerpt(column.get().as_bytes())));
        let (values, count) = Values::of(column).ok_or_else(no_array)?;
        found.push(values);
        counts.push(count);
    }
    if wanted.is_empty() {
        return Ok(());
    }
    let longest = counts.iter().copied().max().unwrap_or(0);
    if let Some((short, name)) = counts.iter().zip(wanted).find(|(count, _)| **count != longest) {
        return Err(unreadable(format!("the columns differ in length: `{name}` has {short} values where another has {longest}")));
    }
    let mut fields: Fields<'_> = vec![None; wanted.len()];
    let mut shown = vec![];
    for at in 0..longest {
        shown.clear();
        for (place, column) in found.iter_mut().enumerate() {
            let value = column.next().unwrap_or("null");
            fields[place] = scalar(value);
            if with_text {
                shown.extend_from_slice(if place == 0 { b"" } else { b", " });
                shown.extend_from_slice(value.as_bytes());
            }
        }
        sink(Row { number: at as u64 + 1, text: &shown, fields: Ok(&fields) });
    }
    Ok(())
}
