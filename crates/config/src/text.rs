//! Reading typed values out of TOML strings, so that a bad one is refused with its line.

use jiff::{SignedDuration, civil::Time, tz::TimeZone};
use serde::{Deserialize, Deserializer, de::Error};
use std::{fmt::Display, path::Path, str::FromStr};

/// Whether a text can name a source, a collector, a universe or a chain: letters, digits and hyphens.
pub(crate) fn is_name(text: &str) -> bool {
    !text.is_empty() && text.chars().all(|c| c.is_ascii_alphanumeric() || c == '-')
}

/// What a file is called, without its ending.
pub(crate) fn stem(file: &Path) -> String {
    file.file_stem().map(|s| s.to_string_lossy().into_owned()).unwrap_or_default()
}

/// A string that the field's type can read.
pub(crate) fn parsed<'de, T, D>(d: D) -> Result<T, D::Error>
where
    T: FromStr<Err: Display>,
    D: Deserializer<'de>,
{
    let text = String::deserialize(d)?;
    text.parse()
        .map_err(|e: T::Err| if e.to_string().contains(&text) { D::Error::custom(e) } else { D::Error::custom(format!("`{text}`: {e}")) })
}

/// The same for a field that may be absent.
pub(crate) fn parsed_if_there<'de, T, D>(d: D) -> Result<Option<T>, D::Error>
where
    T: FromStr<Err: Display>,
    D: Deserializer<'de>,
{
    parsed(d).map(Some)
}

/// A list of strings that the type can read.
pub(crate) fn all_parsed<'de, T, D>(d: D) -> Result<Vec<T>, D::Error>
where
    T: FromStr<Err: Display>,
    D: Deserializer<'de>,
{
    Vec::<String>::deserialize(d)?.iter().map(|text| text.parse().map_err(D::Error::custom)).collect()
}

/// A time of day such as `06:30`.
pub(crate) fn time_of_day<'de, D: Deserializer<'de>>(d: D) -> Result<Time, D::Error> {
    let text = String::deserialize(d)?;
    Time::strptime("%H:%M", &text).map_err(|_| D::Error::custom(format!("`{text}` is not a time of day; write it like 06:30")))
}

/// A length of time such as `30m` or `1h 30m`, in microseconds.
pub(crate) fn duration<'de, D: Deserializer<'de>>(d: D) -> Result<i64, D::Error> {
    let text = String::deserialize(d)?;
    match text.parse::<SignedDuration>() {
        Ok(length) if !length.is_negative() => Ok(i64::try_from(length.as_micros()).unwrap_or(i64::MAX)),
        _ => Err(D::Error::custom(format!("`{text}` is not a length of time; write it like 30s, 20m or 1h 30m"))),
    }
}

/// The same for a field that may be absent.
pub(crate) fn duration_if_there<'de, D: Deserializer<'de>>(d: D) -> Result<Option<i64>, D::Error> {
    duration(d).map(Some)
}

/// An IANA zone name.
pub(crate) fn zone<'de, D: Deserializer<'de>>(d: D) -> Result<TimeZone, D::Error> {
    let name = String::deserialize(d)?;
    TimeZone::get(&name).map_err(|_| D::Error::custom(format!("`{name}` is not an IANA time zone; write it like Pacific/Auckland")))
}

/// The same for a field that may be absent.
pub(crate) fn zone_if_there<'de, D: Deserializer<'de>>(d: D) -> Result<Option<TimeZone>, D::Error> {
    zone(d).map(Some)
}
