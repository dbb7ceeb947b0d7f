//! `mizuno compare`, `mizuno lineage` and `mizuno restatements`.

use crate::{
    client::Client,
    exit::{Code, Failure},
    show,
};
use clap::Args;
use mizuno_api::{BarVersion, Compared, Restatement, Stretch};
use mizuno_core::compare::COLUMNS;

/// What to compare.
#[derive(Args)]
pub struct Compare {
    /// A series, as in KBF/1m/harbour.
    here: String,
    /// Another; the same one when left out, which makes sense with --here-as-of.
    there: Option<String>,
    /// First trade date or instant.
    #[arg(long)]
    from: Option<String>,
    /// Last trade date, included.
    #[arg(long)]
    to: Option<String>,
    /// The first series as it was known at this instant.
    #[arg(long, value_name = "INSTANT")]
    here_as_of: Option<String>,
    /// The second series as it was known at this instant.
    #[arg(long, value_name = "INSTANT")]
    there_as_of: Option<String>,
    /// So many ticks apart is still the same.
    #[arg(long, default_value_t = 0)]
    ticks: u32,
    /// Differences listed at most.
    #[arg(long, default_value_t = 20)]
    most: u32,
}

pub async fn compare(client: &Client, ask: Compare) -> Result<Code, Failure> {
    let there = ask.there.clone().unwrap_or_else(|| ask.here.clone());
    let (ticks, most) = (ask.ticks.to_string(), ask.most.to_string());
    let mut query = vec![("here", ask.here.as_str()), ("there", &there), ("ticks", &ticks), ("most", &most)];
    let given = [("from", &ask.from), ("to", &ask.to), ("here_as_of", &ask.here_as_of), ("there_as_of", &ask.there_as_of)];
    query.extend(given.into_iter().filter_map(|(name, value)| Some((name, value.as_deref()?))));
    let found: Compared = client.get("/comparison", &query).await?;
    let code = if found.equal == found.matched && found.only_here + found.only_there == 0 { Code::Fine } else { Code::NeedsAPerson };
    if client.json {
        show::json(&found)?;
        return Ok(code);
    }
    let dated = ask.here_as_of.is_some() || ask.there_as_of.is_some();
    let named = |name: &str, as_of: &Option<String>| match as_of {
        Some(instant) => format!("{name} as of {instant}"),
        None if dated => format!("{name} as of now"),
        None => name.to_owned(),
    };
    let (here, there) = (named(&found.here, &ask.here_as_of), named(&found.there, &ask.there_as_of));
    out!("{here} against {there}");
    out!(
        "{} in both: {} the same, {} differ",
        show::counted(found.matched, "bar"),
        show::count(found.equal),
        show::count(found.matched - found.equal)
    );
    let columns: Vec<String> =
        found.differing.iter().filter(|(_, n)| **n > 0).map(|(name, n)| format!("{name} {}", show::count(*n))).collect();
    if !columns.is_empty() {
        out!("differing by column: {}", columns.join(", "));
    }
    alone(&here, found.only_here, &found.only_here_at);
    alone(&there, found.only_there, &found.only_there_at);
    for advice in &found.diagnosis {
        out!("ALL ALONG  {advice}");
    }
    if !found.differences.is_empty() {
        out!("");
        let both = |here: &[Option<String>], there: &[Option<String>], at: usize| {
            let text = |v: &[Option<String>]| v.get(at).cloned().flatten().unwrap_or("absent".to_owned());
            if text(here) == text(there) { text(here) } else { format!("{} ≠ {}", text(here), text(there)) }
        };
        let rows = found.differences.iter().map(|d| {
            let mut row = vec![d.at.clone()];
            row.extend((0..5).map(|at| both(&d.here, &d.there, at)));
            row
        });
        show::table(
            &show::Columns { headers: &["at", "open", "high", "low", "close", "volume"], numbers: &[1, 2, 3, 4, 5], least: &[] },
            rows.collect(),
        );
    }
    Ok(code)
}

fn alone(name: &str, count: u64, at: &[Stretch]) {
    if count == 0 {
        return;
    }
    let shown: Vec<String> = at.iter().take(3).map(|s| format!("{} from {}", s.slots, s.from)).collect();
    let more = if at.len() > 3 { " and others" } else { "" };
    out!("{} only in {name}: {}{more}", show::counted(count, "bar"), shown.join(", "));
}

pub async fn lineage(client: &Client, bar: &str) -> Result<Code, Failure> {
    let (series, at) = bar
        .rsplit_once('@')
        .ok_or_else(|| Failure::usage(format!("`{bar}` is not a bar; write SERIES@MOMENT, as in KBF/1d/harbour@2025-04-09")))?;
    let versions: Vec<BarVersion> = client.get("/lineage", &[("series", series), ("at", at)]).await?;
    if client.json {
        show::json(&versions)?;
        return Ok(Code::Fine);
    }
    let zone = client.zone().await?;
    if let Some(taken) = versions.first().filter(|v| v.series != series) {
        out!("{bar} is taken from {}", taken.series);
    }
    // Few sources tell the open interest.
    let told = if versions.iter().any(|v| v.values.get(5).is_some_and(Option::is_some)) { COLUMNS.len() } else { 5 };
    for (n, v) in versions.iter().enumerate() {
        let values: Vec<&str> = v.values.iter().take(told).map(|v| v.as_deref().unwrap_or("absent")).collect();
        out!("version {} of {}, recorded {} {}", n + 1, versions.len(), zone.wall(&v.recorded_at), zone.name());
        out!("    {}: {}", COLUMNS[..told].join(", "), values.join(", "));
        out!("    fetch {} of run {}: {}", v.fetch, v.run, v.request);
        if let Some(payload) = &v.payload {
            out!("    payload sha256 {payload}");
        }
        match (&v.page, &v.line, &v.text) {
            (Some(page), Some(line), Some(text)) => out!("    page {page}, line {line}: {text}"),
            _ => out!("    its line is not found with the profile as it is now"),
        }
    }
    Ok(Code::Fine)
}

/// Which restatements.
#[derive(Args)]
pub struct Restatements {
    /// Only of this instrument.
    #[arg(long, short)]
    instrument: Option<String>,
    /// Only of this source.
    #[arg(long)]
    source: Option<String>,
    /// How many days back they were learned.
    #[arg(long, default_value_t = 7)]
    days: u32,
}

pub async fn restatements(client: &Client, ask: Restatements) -> Result<Code, Failure> {
    let days = ask.days.to_string();
    let mut query = vec![("days", days.as_str())];
    query.extend(ask.instrument.as_deref().map(|i| ("instrument", i)));
    query.extend(ask.source.as_deref().map(|s| ("source", s)));
    let found: Vec<Restatement> = client.get("/restatements", &query).await?;
    if client.json {
        show::json(&found)?;
        return Ok(Code::Fine);
    }
    if found.is_empty() {
        note!("no source has changed what it said before in {} days", ask.days);
        return Ok(Code::Fine);
    }
    let zone = client.zone().await?;
    let row = |r: &Restatement| {
        let text = |v: &Option<String>| v.clone().unwrap_or("absent".to_owned());
        let changes = COLUMNS.iter().zip(r.was.iter().zip(&r.is)).filter(|(_, (was, is))| was != is);
        let changes: Vec<String> = changes.map(|(name, (was, is))| format!("{name} {} → {}", text(was), text(is))).collect();
        vec![r.series.clone(), r.at.clone(), zone.minute(&r.learned_at), r.fetch.to_string(), changes.join(", ")]
    };
    let learned = format!("learned ({})", zone.name());
    show::table(
        &show::Columns { headers: &["series", "bar", &learned, "fetch", "what changed"], numbers: &[3], least: &[3, 2] },
        found.iter().map(row).collect(),
    );
    Ok(Code::Fine)
}
