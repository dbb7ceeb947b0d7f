//! Instrument lists: CSV with a header, one instrument a row.
//!
//! Columns: `symbol,name,kind,venue,currency,tick_size,multiplier,listed,last_traded,former`, and for
//! contracts `product`, `expiry`, `first_notice` and `strike`, for funds `leverage`.
//! `former` names earlier symbols as `GUL until 2025-02-03`, several parted by `;`.

use crate::Problem;
use mizuno_core::{Instrument, instrument::FormerSymbol};
use serde::Deserialize;
use std::{fmt::Display, path::Path, str::FromStr};

#[derive(Deserialize)]
struct Row {
    symbol: String,
    name: String,
    kind: String,
    venue: String,
    currency: String,
    tick_size: Option<String>,
    multiplier: Option<String>,
    listed: Option<String>,
    last_traded: Option<String>,
    former: Option<String>,
    #[serde(default)]
    expiry: Option<String>,
    #[serde(default)]
    strike: Option<String>,
    #[serde(default)]
    product: Option<String>,
    #[serde(default)]
    first_notice: Option<String>,
    #[serde(default)]
    leverage: Option<String>,
}

/// Reads an instrument list.
///
/// # Errors
/// Every row that cannot be understood, with its line.
pub fn parse(file: &Path, text: &str) -> Result<Vec<Instrument>, Vec<Problem>> {
    let (mut out, mut problems) = (vec![], vec![]);
    let mut reader = csv::ReaderBuilder::new().comment(Some(b'#')).trim(csv::Trim::All).from_reader(text.as_bytes());
    let headers = reader.headers().cloned();
    let mut records = reader.into_records();
    while let Some(record) = records.next() {
        let line = records.reader().position().line();
        let row = record.and_then(|r| {
            let line = r.position().map_or(line, csv::Position::line);
            let headers = headers.as_ref().map_err(|e| csv::Error::from(std::io::Error::other(e.to_string())))?;
            Ok((line, r.deserialize::<Row>(Some(headers))?))
        });
        let (line, read) = match row {
            Ok((line, row)) => (line, understand(row)),
            Err(e) => (e.position().map_or(line, csv::Position::line), Err(e.to_string())),
        };
        match read {
            Ok(instrument) => out.push(instrument),
            Err(what) => problems.push(Problem { file: file.to_owned(), line: Some(line as usize), what }),
        }
    }
    if problems.is_empty() { Ok(out) } else { Err(problems) }
}

fn understand(row: Row) -> Result<Instrument, String> {
    fn field<T: FromStr<Err: Display>>(name: &str, text: Option<String>) -> Result<Option<T>, String> {
        let text = text.filter(|t| !t.is_empty());
        text.map(|t| t.parse().map_err(|e| format!("{name}: {e}"))).transpose()
    }
    sound_symbol(&row.symbol)?;
    let former = row.former.unwrap_or_default();
    let former = former.split(';').map(str::trim).filter(|t| !t.is_empty()).map(|entry| {
        let parts = entry.split_once(" until ").and_then(|(symbol, until)| Some((symbol.trim(), until.trim().parse().ok()?)));
        let (symbol, until) = parts.ok_or_else(|| format!("former: `{entry}` should read like GUL until 2025-02-03"))?;
        Ok(FormerSymbol { symbol: symbol.to_owned(), until })
    });
    let former = former.collect::<Result<Vec<_>, String>>()?;
    Ok(Instrument {
        tick_size: field("tick_size", row.tick_size)?,
        multiplier: field("multiplier", row.multiplier)?,
        listed: field("listed", row.listed)?,
        last_traded: field("last_traded", row.last_traded)?,
        expiry: field("expiry", row.expiry)?,
        strike: field("strike", row.strike)?,
        product: row.product.filter(|p| !p.is_empty()),
        first_notice: field("first_notice", row.first_notice)?,
        leverage: field("leverage", row.leverage)?,
        symbol: row.symbol,
        name: row.name,
        kind: row.kind,
        venue: row.venue,
        currency: row.currency,
        former,
    })
}

/// Whether a text can be a symbol of ours.
///
/// # Errors
/// A sentence that says why not.
pub fn sound_symbol(text: &str) -> Result<(), String> {
    if text.is_empty() || text.contains(['/', ' ', '@']) || text.chars().any(char::is_control) {
        return Err(format!(
            "`{}` cannot be a symbol: it is empty, or has a slash, a space, an @ or a control character in it",
            text.escape_debug()
        ));
    }
    Ok(())
}
