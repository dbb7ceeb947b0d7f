//! `mizuno fetches` and `mizuno quarantine`.

use crate::{
    client::Client,
    exit::{Code, Failure},
    show,
};
use clap::Args;
use mizuno_api::{Fetch, Quarantined};
use reqwest::Method;
use std::io::Write;

/// Which fetches.
#[derive(Args)]
pub struct Fetches {
    /// Number of one fetch.
    id: Option<i64>,
    /// Write the exact bytes of its answer to standard output.
    #[arg(long, requires = "id")]
    payload: bool,
    /// Only those that failed.
    #[arg(long)]
    failed: bool,
    /// Only those of this run.
    #[arg(long)]
    run: Option<i64>,
    /// Only those of this source.
    #[arg(long)]
    source: Option<String>,
    /// Only those of this series.
    #[arg(long)]
    series: Option<String>,
    /// Fetches at most.
    #[arg(long, default_value_t = 30)]
    most: u32,
}

pub async fn fetches(client: &Client, ask: Fetches) -> Result<Code, Failure> {
    if let Some(id) = ask.id {
        return if ask.payload { payload(client, id).await } else { one(client, id).await };
    }
    let (most, run) = (ask.most.to_string(), ask.run.map(|r| r.to_string()));
    let mut query = vec![("most", most.as_str())];
    query.extend(run.as_deref().map(|r| ("run", r)));
    query.extend(ask.series.as_deref().map(|s| ("series", s)));
    query.extend(ask.source.as_deref().map(|s| ("source", s)));
    query.extend(ask.failed.then_some(("state", "failed")));
    let found: Vec<Fetch> = client.get("/fetches", &query).await?;
    if client.json {
        show::json(&found)?;
        return Ok(Code::Fine);
    }
    if let Some(run) = ask.run {
        let run: mizuno_api::Run = client.get(&format!("/runs/{run}"), &[]).await?;
        if run.folded > 0 {
            note!("{} more brought nothing new; after thirty days they are only counted", show::count(run.folded));
        }
    }
    let row = |f: &Fetch| {
        let result = match (&f.failure, &f.message) {
            (Some(class), message) => format!("{class}: {}", shorten(message.as_deref().unwrap_or_default())),
            (None, _) => format!("{} new, {} same, {} restated", f.bars_new, f.bars_same, f.restated),
        };
        vec![
            f.id.to_string(),
            f.run.to_string(),
            f.series.clone(),
            f.from.clone(),
            f.to.clone(),
            f.state.clone(),
            f.attempts.to_string(),
            f.rows.to_string(),
            result,
        ]
    };
    show::table(
        &show::Columns {
            headers: &["fetch", "run", "series", "from", "to", "state", "tries", "rows", "result"],
            numbers: &[0, 1, 6, 7],
            least: &[6, 1, 7, 5, 4],
        },
        found.iter().map(row).collect(),
    );
    Ok(Code::Fine)
}

fn shorten(text: &str) -> String {
    if text.chars().count() > 70 { text.chars().take(69).chain(['…']).collect() } else { text.to_owned() }
}

async fn one(client: &Client, id: i64) -> Result<Code, Failure> {
    let f: Fetch = client.get(&format!("/fetches/{id}"), &[]).await?;
    if client.json {
        show::json(&f)?;
        return Ok(Code::Fine);
    }
    let zone = client.zone().await?;
    out!("fetch {} of run {}, {}", f.id, f.run, f.state);
    out!("series     {}", f.series);
    out!("window     {} to {}", f.from, f.to);
    match f.folded {
        true => out!("request    not kept: it brought nothing new, and is older than thirty days"),
        false => out!("request    {}", f.request),
    }
    out!("asked      {} {}, {} attempts", zone.wall(&f.asked_at), zone.name(), f.attempts);
    if let Some(status) = f.status {
        out!("answer     status {status}, {} bytes, {} rows", show::count(f.payload_bytes), f.rows);
    }
    match (&f.failure, &f.message) {
        (Some(class), message) => out!("failed     {class}: {}", message.as_deref().unwrap_or_default()),
        _ => out!(
            "bars       {} new, {} same, {} restated, {} in quarantine, {} unfinished, {} not asked for",
            f.bars_new,
            f.bars_same,
            f.restated,
            f.refused,
            f.unfinished,
            f.outside
        ),
    }
    for (at, page) in f.pages.iter().enumerate().skip(1) {
        out!(
            "page {:<6} {} ({} bytes{})",
            at + 1,
            page.request,
            show::count(page.bytes),
            page.part.as_ref().map_or(String::new(), |p| format!(", {p}"))
        );
    }
    if let (Some(digest), Some(lines)) = (&f.payload, &f.first_lines) {
        out!("payload    sha256 {digest}");
        for line in lines {
            out!("    {line}");
        }
        note!("the whole answer: mizuno fetches {id} --payload");
    }
    Ok(Code::Fine)
}

async fn payload(client: &Client, id: i64) -> Result<Code, Failure> {
    let response = client.send::<()>(Method::GET, &format!("/fetches/{id}/payload"), &[], None).await?;
    let body = response.bytes().await.map_err(|_| Failure::new("the answer broke off"))?;
    std::io::stdout().write_all(&body).map_err(|e| Failure::new(format!("cannot write: {e}")))?;
    Ok(Code::Fine)
}

pub async fn quarantine(client: &Client) -> Result<Code, Failure> {
    let found: Vec<Quarantined> = client.get("/quarantine", &[]).await?;
    if client.json {
        show::json(&found)?;
        return Ok(Code::Fine);
    }
    if found.is_empty() {
        note!("nothing is in quarantine");
    }
    for q in &found {
        show::heading(&format!(
            "{}  {} {}, {} of fetch {}",
            q.id,
            q.series,
            q.at.as_deref().unwrap_or("at no readable time"),
            if q.rows > 1 { format!("{} rows from line {} on", show::count(q.rows), q.line) } else { format!("line {}", q.line) },
            q.fetch
        ));
        out!("    {}: {}", q.flaw, q.because);
        out!("    {}", q.text);
        if let Some(decision) = &q.decision {
            out!("    {decision}");
        }
    }
    if found.iter().any(|q| q.flaw == "held-back" && q.decision.is_none()) {
        note!("decide on a bar that is held back with: mizuno decide NUMBER --take|--refuse --by NAME");
    }
    Ok(Code::Fine)
}
