//! `mizuno collect`, `mizuno runs`, `mizuno cancel` and `mizuno resume`.

use crate::{
    client::Client,
    exit::{Code, Failure},
    progress, show,
};
use clap::Args;
use mizuno_api::{Resume, Run, StartAudit, StartRun};
use std::collections::BTreeMap;

/// What to collect now.
#[derive(Args)]
pub struct Collect {
    /// The collector.
    collector: String,
    /// Only these instruments of it.
    #[arg(long = "instrument", short, value_name = "SYMBOL")]
    instruments: Vec<String>,
    /// First trade date, when not the collector's own.
    #[arg(long)]
    from: Option<String>,
    /// Last trade date, included.
    #[arg(long)]
    to: Option<String>,
    /// Ask also for what is held already, to see whether the source has changed it.
    #[arg(long)]
    again: bool,
    /// Start it and return at once.
    #[arg(long)]
    no_wait: bool,
}

pub async fn collect(client: &Client, ask: Collect) -> Result<Code, Failure> {
    let Collect { collector, instruments, from, to, again, no_wait } = ask;
    let run: Run = client.post("/runs", &StartRun { collector, instruments, from, to, again }).await?;
    if no_wait {
        if client.json {
            show::json(&run)?;
        } else {
            out!("run {} of {} has begun; look at it with: mizuno runs {}", run.id, run.collector, run.id);
        }
        return Ok(Code::Fine);
    }
    let (runs, stopped) = progress::follow(client, vec![run]).await?;
    progress::conclude(client, &runs, stopped)
}

/// Which runs.
#[derive(Args)]
pub struct Runs {
    /// Number of one run.
    id: Option<i64>,
    /// Only runs of this collector.
    #[arg(long)]
    collector: Option<String>,
    /// Runs at most.
    #[arg(long, default_value_t = 20)]
    most: u32,
}

pub async fn runs(client: &Client, ask: Runs) -> Result<Code, Failure> {
    let found = match ask.id {
        Some(id) => vec![client.run(id).await?],
        None => {
            let most = ask.most.to_string();
            let mut query = vec![("most", most.as_str())];
            query.extend(ask.collector.as_deref().map(|c| ("collector", c)));
            client.get("/runs", &query).await?
        }
    };
    if client.json {
        show::json(&found)?;
        return Ok(Code::Fine);
    }
    let zone = client.zone().await?;
    let row = |r: &Run| {
        vec![
            r.id.to_string(),
            r.collector.clone(),
            r.reason.clone(),
            r.state.clone(),
            zone.wall(&r.started_at),
            r.ended_at.as_ref().map_or("-".to_owned(), |t| zone.wall(t)),
            r.waits_for.as_ref().map_or_else(|| format!("{}/{}", r.done, r.windows), |_| "-".to_owned()),
            r.failed.to_string(),
            show::count(r.bars_new),
            show::count(r.bars_same),
            r.restated.to_string(),
            r.refused.to_string(),
            show::bytes(r.bytes),
            show::count(r.calls),
        ]
    };
    let began = format!("began ({})", zone.name());
    let headers = &[
        "run",
        "collector",
        "reason",
        "state",
        &began,
        "ended",
        "windows",
        "failed",
        "new",
        "same",
        "restated",
        "quarantine",
        "bytes",
        "calls",
    ];
    show::table(
        &show::Columns { headers, numbers: &[0, 6, 7, 8, 9, 10, 11, 12, 13], least: &[13, 12, 9, 5, 10, 11, 2, 8] },
        found.iter().map(row).collect(),
    );
    let mut waiting: BTreeMap<&str, Vec<String>> = BTreeMap::new();
    for run in &found {
        if let Some(what) = &run.waits_for {
            waiting.entry(what).or_default().push(run.id.to_string());
        }
    }
    for (what, runs) in &waiting {
        let (word, wait) = if runs.len() == 1 { ("run", "waits") } else { ("runs", "wait") };
        out!("{word} {} {wait} for {what}; read how it went with: mizuno lists", runs.join(", "));
    }
    if ask.id.is_some() {
        for (class, n) in found.iter().flat_map(|r| &r.failures) {
            out!("{n} failed: {class}");
        }
    }
    Ok(Code::Fine)
}

/// Which run to take up again.
#[derive(Args)]
pub struct ResumeRun {
    /// Number of the run.
    run: i64,
    /// Ask only for the windows that failed in it.
    #[arg(long)]
    failed: bool,
}

pub async fn resume(client: &Client, ask: ResumeRun) -> Result<Code, Failure> {
    let run: Run = client.post(&format!("/runs/{}/resume", ask.run), &Resume { failed_only: ask.failed }).await?;
    let (runs, stopped) = progress::follow(client, vec![run]).await?;
    progress::conclude(client, &runs, stopped)
}

/// What to audit.
#[derive(Args)]
pub struct AuditIt {
    /// The collector.
    collector: String,
    /// Windows of what it holds to ask for again, taken at random.
    #[arg(long, default_value_t = 10, value_parser = clap::value_parser!(u32).range(1..))]
    windows: u32,
}

pub async fn audit(client: &Client, ask: AuditIt) -> Result<Code, Failure> {
    let run: Run = client.post("/audits", &StartAudit { collector: ask.collector, windows: ask.windows }).await?;
    let (runs, stopped) = progress::follow(client, vec![run]).await?;
    let code = progress::conclude(client, &runs, stopped)?;
    let changed: u64 = runs.iter().map(|r| r.restated).sum();
    if changed > 0 {
        note!("{} changed since they were collected; see: mizuno restatements --days 1", show::counted(changed, "bar"));
        return Ok(Code::NeedsAPerson);
    }
    Ok(code)
}

pub async fn cancel(client: &Client, run: i64) -> Result<Code, Failure> {
    let run: Run = client.post(&format!("/runs/{run}/cancel"), &()).await?;
    progress::conclude(client, &[run], false).map(|_| Code::Fine)
}
