//! Rows read into the columns of a list.

use super::{Page, Place, Refused, rows};
use crate::Failure;
use mizuno_config::profile::List;
use std::collections::BTreeMap;

/// One row of a list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ListRow {
    /// Where it stands.
    pub place: Place,
    /// Its columns by our names; one without a value is left out.
    pub values: BTreeMap<String, String>,
}

/// Understands a list. Rows without a part of their key are refused.
///
/// # Errors
/// When the whole of an answer is not what the profile describes.
pub fn decode_list(list: &List, most: usize, pages: &[Page<'_>]) -> Result<(Vec<ListRow>, Vec<Refused>), Failure> {
    let names: Vec<&String> = list.columns.keys().collect();
    let wanted: Vec<&str> = list.columns.values().map(String::as_str).collect();
    let keys = &list.of.columns().0[..list.of.columns().1];
    let (mut out, mut refused) = (vec![], vec![]);
    for (number, page) in pages.iter().enumerate() {
        rows::each(&list.answer, "", most, page, &wanted, false, &mut |row| {
            let place = Place { page: number as u32, row: row.number };
            let read = row.fields.and_then(|fields| {
                let mut values: BTreeMap<String, String> = list.constants.clone();
                for (name, field) in names.iter().zip(fields) {
                    let text = field.as_deref().map(|f| String::from_utf8_lossy(f).trim().to_owned());
                    let text = text.filter(|t| !t.is_empty() && !list.answer.missing.contains(t));
                    values.extend(text.map(|t| ((*name).clone(), t)));
                }
                match keys.iter().find(|key| !values.contains_key(**key)) {
                    Some(key) => Err(format!("has no {key}")),
                    None => Ok(values),
                }
            });
            match read {
                Ok(values) => out.push(ListRow { place, values }),
                Err(reason) => refused.push(Refused { place, reason }),
            }
        })?;
    }
    Ok((out, refused))
}
