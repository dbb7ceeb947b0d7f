//! Files of Apache Parquet. Numbers are read as the exact decimals they are, instants as RFC 3339 in UTC, dates as ISO 8601.

use crate::decode::{
    rows::{Row, Sink, find},
    unreadable,
};
use crate::{Failure, failure::Class};
use mizuno_core::{Timestamp, TradeDate};
use parquet::{
    errors::ParquetError,
    file::reader::{FileReader, SerializedFileReader},
    record::{Field, Row as Record},
    schema::types::Type,
};
use std::{
    borrow::Cow,
    panic::{AssertUnwindSafe, catch_unwind},
};

/// How a file of Parquet begins and ends.
const MAGIC: &[u8] = b"PAR1";

pub(crate) fn each(wanted: &[&str], with_text: bool, most: usize, body: &[u8], sink: &mut Sink<'_>) -> Result<(), Failure> {
    if !body.starts_with(MAGIC) {
        return Err(unreadable(format!("not a Parquet file: {}", crate::failure::excerpt(body))));
    }
    if !body.ends_with(MAGIC) {
        return Err(Failure::new(Class::CutShort, "the Parquet file ends before its end"));
    }
    // A file that lies about itself may take the library by surprise, and must not take the service with it.
    let read = catch_unwind(AssertUnwindSafe(|| rows(wanted, with_text, most, body, sink)));
    read.unwrap_or_else(|_| Err(unreadable("the Parquet file is damaged".to_owned())))
}

fn broken(error: ParquetError) -> Failure {
    unreadable(format!("the Parquet file cannot be read: {error}"))
}

fn rows(wanted: &[&str], with_text: bool, most: usize, body: &[u8], sink: &mut Sink<'_>) -> Result<(), Failure> {
    let file = SerializedFileReader::new(bytes::Bytes::copy_from_slice(body)).map_err(broken)?;
    let unpacked: i64 = file.metadata().row_groups().iter().map(|group| group.total_byte_size().max(0)).fold(0, i64::saturating_add);
    if unpacked.unsigned_abs() > most as u64 {
        let what = format!("unpacks to more than {} MiB, the profile's largest_answer_mib", most / 1024 / 1024);
        return Err(Failure::new(Class::UnpacksTooLarge, what));
    }
    let schema = file.metadata().file_metadata().schema();
    let all = schema.get_fields();
    let names: Vec<Cow<'_, [u8]>> = all.iter().map(|f| Cow::Borrowed(f.name().as_bytes())).collect();
    let places = find(&names, wanted, 1)?;
    // Columns that nobody asks for are not unpacked; the whole row is a text where somebody does.
    let read: Vec<usize> = (0..all.len()).filter(|at| with_text || places.contains(at)).collect();
    let fields = read.iter().map(|at| all[*at].clone()).collect();
    let projected = Type::group_type_builder(schema.name()).with_fields(fields).build().map_err(broken)?;
    let at: Vec<usize> = places.iter().filter_map(|place| read.iter().position(|r| r == place)).collect();
    for (number, record) in (1..).zip(file.get_row_iter(Some(projected)).map_err(broken)?) {
        let record: Record = record.map_err(broken)?;
        let texts: Vec<Result<Option<String>, String>> = record.get_column_iter().map(|(name, field)| text(name, field)).collect();
        let fields: Result<Vec<Option<Cow<'_, [u8]>>>, String> = at
            .iter()
            .map(|at| texts[*at].as_ref().map(|text| text.as_ref().map(|t| Cow::Borrowed(t.as_bytes()))).map_err(Clone::clone))
            .collect();
        let whole = if with_text { shown(&record, &texts) } else { String::new() };
        sink(Row { number, text: whole.as_bytes(), fields: fields.as_deref().map_err(Clone::clone) });
    }
    Ok(())
}

/// A row for people: its columns with their names.
fn shown(record: &Record, texts: &[Result<Option<String>, String>]) -> String {
    let cell = |((name, _), text): ((&String, &Field), &Result<Option<String>, String>)| {
        format!("{name}={}", text.as_ref().ok().and_then(Option::as_deref).unwrap_or_default())
    };
    record.get_column_iter().zip(texts).map(cell).collect::<Vec<_>>().join(", ")
}

/// A value as its text; `None` where there is none.
fn text(name: &str, field: &Field) -> Result<Option<String>, String> {
    Ok(Some(match field {
        Field::Null => return Ok(None),
        Field::Bool(b) => b.to_string(),
        Field::Byte(n) => n.to_string(),
        Field::Short(n) => n.to_string(),
        Field::Int(n) => n.to_string(),
        Field::Long(n) => n.to_string(),
        Field::UByte(n) => n.to_string(),
        Field::UShort(n) => n.to_string(),
        Field::UInt(n) => n.to_string(),
        Field::ULong(n) => n.to_string(),
        Field::Float(n) => n.to_string(),
        Field::Double(n) => n.to_string(),
        Field::Decimal(decimal) => {
            let digits =
                decimal.data().iter().skip(1).fold(decimal.data().first().map_or(0, |first| i128::from(*first as i8)), |digits, byte| {
                    digits.wrapping_shl(8) | i128::from(*byte)
                });
            pointed(digits, decimal.scale())
        }
        Field::Str(text) => text.clone(),
        Field::Bytes(bytes) => String::from_utf8_lossy(bytes.data()).into_owned(),
        Field::Date(day) => TradeDate(*day).to_string(),
        Field::TimestampMillis(at) => instant(*at, 1000),
        Field::TimestampMicros(at) => instant(*at, 1),
        _ => return Err(format!("{name}: holds neither a text nor a number nor a time")),
    }))
}

fn instant(at: i64, micros: i64) -> String {
    Timestamp(at.saturating_mul(micros)).to_string()
}

/// Digits with a point before the last so many.
fn pointed(digits: i128, scale: i32) -> String {
    let scale = scale.clamp(0, 38) as usize;
    let size = format!("{:0>width$}", digits.unsigned_abs(), width = scale + 1);
    let (whole, part) = size.split_at(size.len() - scale);
    let sign = if digits < 0 { "-" } else { "" };
    if part.is_empty() { format!("{sign}{whole}") } else { format!("{sign}{whole}.{part}") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn digits_keep_their_point_and_their_sign() {
        for (digits, scale, wanted) in [
            (750, 2, "7.50"),
            (-5, 3, "-0.005"),
            (0, 2, "0.00"),
            (12, 0, "12"),
            (i128::MAX, 38, "1.70141183460469231731687303715884105727"),
        ] {
            assert_eq!(pointed(digits, scale), wanted);
        }
    }

    #[test]
    fn what_is_no_parquet_file_or_half_of_one_is_named() {
        let told = |body: &[u8]| each(&["time"], false, 1 << 20, body, &mut |_| {}).unwrap_err().class;
        assert_eq!(
            (told(b"<html>"), told(b"PAR1...."), told(b"PAR1\xff\xff\xff\x7fPAR1")),
            (Class::Unreadable, Class::CutShort, Class::Unreadable)
        );
    }
}
