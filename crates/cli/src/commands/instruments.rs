//! `mizuno instruments` and `mizuno series`.

use crate::{
    client::Client,
    exit::{Code, Failure},
    show,
};
use mizuno_api::{Instrument, Series};

pub async fn instruments(client: &Client, words: &[String]) -> Result<Code, Failure> {
    let found: Vec<Instrument> = client.get("/instruments", &[("q", &words.join(" "))]).await?;
    if client.json {
        show::json(&found)?;
        return Ok(Code::Fine);
    }
    if found.is_empty() {
        note!("no instrument has all of: {}", words.join(" "));
        return Ok(Code::Fine);
    }
    let row = |i: &Instrument| {
        let mut name = i.name.clone();
        if let Some(strike) = &i.strike {
            name += &format!(", strike {strike}");
        }
        if let Some(expiry) = &i.expiry {
            name += &format!(", expires {expiry}");
        }
        let life = match (&i.listed, &i.last_traded) {
            (None, None) => String::new(),
            (Some(first), None) => format!("since {first}"),
            (first, Some(last)) => format!("{} to {last}", first.as_deref().unwrap_or("")).trim().to_owned(),
        };
        let former: Vec<String> = i.former.iter().map(|f| format!("{} until {}", f.symbol, f.until)).collect();
        vec![i.symbol.clone(), name, i.kind.clone(), i.venue.clone(), i.currency.clone(), life, former.join("; "), i.series.join(" ")]
    };
    show::table(
        &show::Columns {
            headers: &["symbol", "name", "kind", "venue", "currency", "traded", "formerly", "series"],
            numbers: &[],
            least: &[7, 6, 4, 2, 5],
        },
        found.iter().map(row).collect(),
    );
    Ok(Code::Fine)
}

pub async fn series(client: &Client, instrument: Option<String>, interval: Option<String>) -> Result<Code, Failure> {
    let mut query = vec![];
    query.extend(instrument.as_deref().map(|i| ("instrument", i)));
    query.extend(interval.as_deref().map(|i| ("interval", i)));
    let found: Vec<Series> = client.get("/series", &query).await?;
    if client.json {
        show::json(&found)?;
        return Ok(Code::Fine);
    }
    let row = |s: &Series| {
        vec![
            s.name.clone(),
            show::count(s.bars),
            show::percent(&s.completeness),
            show::count(s.completeness.missing),
            s.first.clone().unwrap_or("-".to_owned()),
            s.last.clone().unwrap_or("-".to_owned()),
        ]
    };
    show::table(
        &show::Columns { headers: &["series", "bars", "complete", "missing", "first", "last"], numbers: &[1, 2, 3], least: &[4, 1] },
        found.iter().map(row).collect(),
    );
    Ok(Code::Fine)
}
