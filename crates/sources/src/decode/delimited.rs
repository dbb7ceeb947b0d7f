//! Delimited text with a header line.

use super::{Decoded, Refused, unreadable};
use crate::{
    Failure,
    failure::{Class, excerpt},
    stamp::StampReader,
};
use csv::{ByteRecord, ReaderBuilder, Trim};
use mizuno_config::profile::{Delimited, Offer};
use mizuno_core::{Decimal, Venue};

/// Where a bar's parts stand in a row.
struct Places {
    time: usize,
    prices: [usize; 4],
    volume: Option<usize>,
}

pub(super) fn decode(form: &Delimited, offer: &Offer, venue: &Venue, body: &[u8], media_type: Option<&str>) -> Result<Decoded, Failure> {
    right_kind(form, body, media_type)?;
    if form.last_line_ends && body.last() != Some(&b'\n') {
        let tail = body.rsplit(|b| *b == b'\n').next().unwrap_or_default();
        return Err(Failure::new(Class::CutShort, format!("the answer breaks off in the middle of a line: {}", excerpt(tail))));
    }
    let table = after_lines(body, form.skip_lines)
        .ok_or_else(|| unreadable(format!("the answer ends within the {} lines above the header: {}", form.skip_lines, excerpt(body))))?;
    let mut reader = ReaderBuilder::new().delimiter(form.separator as u8).flexible(true).trim(Trim::All).from_reader(table);
    let header = reader.byte_headers().map_err(|e| unreadable(format!("the header cannot be read: {e}")))?.clone();
    let places = places(form, &header)?;
    let zone = form.zone.as_ref().unwrap_or(&venue.zone);
    let mut stamps = StampReader::new(&form.stamp, form.stamped_at, zone, offer.interval);
    let mut out = Decoded::default();
    let mut record = ByteRecord::new();
    loop {
        match reader.read_byte_record(&mut record) {
            Ok(false) => return Ok(out),
            Ok(true) => {}
            Err(e) => return Err(unreadable(format!("the answer is not delimited text: {e}"))),
        }
        out.rows += 1;
        let line = record.position().map_or(0, csv::Position::line) + u64::from(form.skip_lines);
        let read = row(&record, &header, form, offer, &places, &mut stamps);
        match read.and_then(|(slot, prices, volume)| out.bars.push(slot, prices, volume).map_err(|e| e.to_string())) {
            Ok(()) => out.lines.push(line),
            Err(reason) => out.refused.push(Refused { line, reason }),
        }
    }
}

/// An error page is not data, whatever its status.
fn right_kind(form: &Delimited, body: &[u8], media_type: Option<&str>) -> Result<(), Failure> {
    let is = media_type.map(|m| m.split(';').next().unwrap_or_default().trim().to_ascii_lowercase());
    if let (Some(wanted), Some(is)) = (&form.media_type, &is)
        && !wanted.eq_ignore_ascii_case(is)
    {
        return Err(Failure::new(Class::WrongContent, format!("expected {wanted} and got {is}: {}", excerpt(body))));
    }
    let first = body.trim_ascii_start();
    if first.len() >= 5 && (first[..5].eq_ignore_ascii_case(b"<html") || first[..5].eq_ignore_ascii_case(b"<!doc")) {
        return Err(Failure::new(Class::WrongContent, format!("expected delimited text and got a web page: {}", excerpt(body))));
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

fn places(form: &Delimited, header: &ByteRecord) -> Result<Places, Failure> {
    let find = |name: &str| {
        header.iter().position(|h| h.eq_ignore_ascii_case(name.as_bytes())).ok_or_else(|| {
            let line = form.skip_lines + 1;
            let found: Vec<_> = header.iter().map(String::from_utf8_lossy).collect();
            unreadable(format!(
                "line {line} should be the header, with a column `{name}`; it reads {}",
                excerpt(found.join(",").as_bytes())
            ))
        })
    };
    let c = &form.columns;
    Ok(Places {
        time: find(&c.time)?,
        prices: [find(&c.open)?, find(&c.high)?, find(&c.low)?, find(&c.close)?],
        volume: c.volume.as_deref().map(find).transpose()?,
    })
}

type Row = (mizuno_core::Slot, [Decimal; 4], Option<Decimal>);

fn row(
    record: &ByteRecord,
    header: &ByteRecord,
    form: &Delimited,
    offer: &Offer,
    places: &Places,
    stamps: &mut StampReader<'_>,
) -> Result<Row, String> {
    if record.len() < header.len() {
        return Err(format!("has {} fields where the header has {}", record.len(), header.len()));
    }
    let absent = |field: &[u8]| field.is_empty() || form.missing.iter().any(|m| m.as_bytes() == field);
    let number = |place: usize| {
        let named = |e: String| format!("{}: {e}", String::from_utf8_lossy(&header[place]));
        if absent(&record[place]) {
            return Err(named("is absent".to_owned()));
        }
        Decimal::parse(&record[place]).map_err(|e| named(e.to_string()))
    };
    let slot = stamps.read(&record[places.time])?;
    let [open, high, low, close] = places.prices;
    let prices = [number(open)?, number(high)?, number(low)?, number(close)?];
    let volume = match places.volume {
        Some(place) if !absent(&record[place]) => Some(in_ones(number(place)?, offer.volume_unit)?),
        _ => None,
    };
    Ok((slot, prices, volume))
}

/// A volume in units of `unit` as a volume in ones.
fn in_ones(volume: Decimal, unit: u32) -> Result<Decimal, String> {
    let mantissa = volume.mantissa.checked_mul(i64::from(unit));
    mantissa.map(|mantissa| Decimal { mantissa, ..volume }).ok_or_else(|| format!("a volume of {volume} times {unit} does not fit"))
}
