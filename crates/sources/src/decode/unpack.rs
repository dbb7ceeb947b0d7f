//! Taking answers out of their wrapping, within bounds.

use super::unreadable;
use crate::{Failure, failure::Class};
use mizuno_config::profile::{Answer, Packed};
use std::{
    borrow::Cow,
    io::{Cursor, Read},
};

/// The files of an answer: the bytes as they are, or what is packed in them; `most` bytes in all.
pub(super) fn unpack<'b>(answer: &Answer, symbol: &str, most: usize, body: &'b [u8]) -> Result<Vec<Cow<'b, [u8]>>, Failure> {
    match answer.packed {
        None => Ok(vec![Cow::Borrowed(body)]),
        Some(Packed::Gzip) => {
            let broken = |e: std::io::Error| match e.kind() {
                std::io::ErrorKind::UnexpectedEof => Failure::new(Class::CutShort, "the gzip stream ends before its end"),
                _ => unreadable(format!("not a gzip stream: {e}: {}", crate::failure::excerpt(body))),
            };
            Ok(vec![Cow::Owned(bounded(flate2::read::MultiGzDecoder::new(body), most, broken)?)])
        }
        Some(Packed::Zip) => {
            let damaged = |e: zip::result::ZipError| {
                let class = if body.starts_with(b"PK") { Class::CutShort } else { Class::Unreadable };
                Failure::new(class, format!("not a whole zip archive: {e}"))
            };
            let mut archive = zip::ZipArchive::new(Cursor::new(body)).map_err(damaged)?;
            let wanted = answer.member.as_ref().map(|m| m.replace("{symbol}", symbol));
            let names = archive.file_names().map(|n| n.map(Cow::into_owned)).collect::<Result<Vec<String>, _>>().map_err(damaged)?;
            let (mut out, mut room) = (vec![], most);
            for name in names.iter().filter(|n| !n.ends_with('/') && wanted.as_ref().is_none_or(|w| w == *n)) {
                let file = archive.by_name(name).map_err(damaged)?;
                let broken = |e: std::io::Error| Failure::new(Class::CutShort, format!("{name} in the zip archive cannot be read: {e}"));
                let text = bounded(file, room, broken)?;
                room -= text.len();
                out.push(Cow::Owned(text));
            }
            match (out.is_empty(), wanted) {
                // An archive without a file for this symbol says that there is nothing of it.
                (true, Some(_)) if !names.is_empty() => Ok(vec![]),
                (true, _) => Err(unreadable("the zip archive is empty".to_owned())),
                _ => Ok(out),
            }
        }
    }
}

/// Reads to the end, but never more than `most` bytes, whatever the packed size says.
fn bounded(reader: impl Read, most: usize, broken: impl Fn(std::io::Error) -> Failure) -> Result<Vec<u8>, Failure> {
    let mut out = vec![];
    reader.take(most as u64 + 1).read_to_end(&mut out).map_err(broken)?;
    if out.len() > most {
        let what = format!("unpacks to more than {} MiB, the profile's largest_answer_mib", most / 1024 / 1024);
        return Err(Failure::new(Class::UnpacksTooLarge, what));
    }
    Ok(out)
}
