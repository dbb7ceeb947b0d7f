//! Finding instruments by any word of theirs.

use crate::Instrument;
use memchr::memmem::Finder;

/// What can be searched, one text an instrument, in lower case.
#[derive(Clone, Debug)]
pub struct Index(Vec<String>);

const MONTHS: [&str; 12] =
    ["january", "february", "march", "april", "may", "june", "july", "august", "september", "october", "november", "december"];

impl Index {
    /// Of these instruments, in their order.
    #[must_use]
    pub fn new(instruments: &[Instrument]) -> Index {
        Index(instruments.iter().map(text).collect())
    }

    /// Places of the instruments in which all words occur, at most `most`: those that are or begin with the words by symbol first.
    #[must_use]
    pub fn find(&self, words: &str, most: usize) -> Vec<usize> {
        let words: Vec<String> = words.split_whitespace().map(str::to_lowercase).collect();
        // Looked at once, and not for each of hundreds of thousands of texts.
        let finders: Vec<Finder<'_>> = words.iter().map(|word| Finder::new(word.as_bytes())).collect();
        let hit = |text: &str| finders.iter().all(|finder| finder.find(text.as_bytes()).is_some());
        let mut found: Vec<(u8, usize)> = vec![];
        for (at, text) in self.0.iter().enumerate().filter(|(_, text)| hit(text)) {
            let symbol = text.split('\n').next().unwrap_or_default();
            let rank = match words.first() {
                Some(word) if symbol == word => 0,
                Some(word) if symbol.starts_with(word.as_str()) => 1,
                _ => 2,
            };
            found.push((rank, at));
        }
        found.sort_unstable();
        found.into_iter().take(most).map(|(_, at)| at).collect()
    }
}

/// Symbol, name, former symbols, kind, venue, currency, contract month in words and numbers, and strike.
fn text(i: &Instrument) -> String {
    let mut out = format!("{}\n{} {} {} {}", i.symbol, i.name, i.kind, i.venue, i.currency);
    for former in &i.former {
        out.push(' ');
        out.push_str(&former.symbol);
    }
    if let Some(expiry) = i.expiry.map(crate::TradeDate::to_civil) {
        let month = MONTHS[usize::from(expiry.month().unsigned_abs() - 1)];
        out.push_str(&format!(" {expiry} {month} {}", expiry.year()));
    }
    if let Some(strike) = i.strike {
        out.push_str(&format!(" {strike}"));
    }
    out.to_lowercase()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn instrument(n: u32) -> Instrument {
        Instrument {
            symbol: format!("BLY-{n:06}"),
            name: format!("Barley number {n}"),
            kind: "option".to_owned(),
            venue: "CORF".to_owned(),
            currency: "CAD".to_owned(),
            tick_size: None,
            multiplier: None,
            listed: None,
            last_traded: None,
            expiry: Some(crate::TradeDate(20_000 + (n % 900) as i32)),
            strike: Some(format!("{}.50", n % 400).parse().unwrap()),
            product: None,
            first_notice: None,
            leverage: None,
            former: vec![],
        }
    }

    #[test]
    fn every_word_of_an_instrument_finds_it_among_a_hundred_thousand() {
        let mut all: Vec<Instrument> = (0..100_000).map(instrument).collect();
        all[77_000].former.push(crate::instrument::FormerSymbol { symbol: "OLDBLY".to_owned(), until: crate::TradeDate(0) });
        let index = Index::new(&all);
        assert_eq!(index.find("bly-000123", 10), [123]);
        assert_eq!(index.find("oldbly", 10), [77_000]);
        let expiry = all[500].expiry.unwrap().to_civil();
        let month = MONTHS[usize::from(expiry.month().unsigned_abs() - 1)];
        let found = index.find(&format!("barley {month} {} 100.50", expiry.year()), 100_000);
        assert!(found.contains(&500) && found.len() < 200, "{}", found.len());
        assert_eq!(index.find("", 5).len(), 5);
        assert!(index.find("kelp", 5).is_empty());
    }
}
