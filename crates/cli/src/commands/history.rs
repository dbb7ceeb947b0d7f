//! `mizuno history`: what changed when in the configuration.

use crate::{
    client::Client,
    exit::{Code, Failure},
    show,
};
use clap::Args;
use mizuno_api::{AcceptedConfiguration, FileChange, words::escaped};
use reqwest::Method;

/// Which configuration, and what of it.
#[derive(Args)]
pub struct History {
    /// Show what changed in the configuration of this number.
    number: Option<i64>,
    /// Write this file as it stood in it, as in `ranking.toml`.
    #[arg(requires = "number")]
    file: Option<String>,
}

/// Files named in one row.
const NAMED: usize = 4;

pub async fn history(client: &Client, ask: History) -> Result<Code, Failure> {
    match (ask.number, ask.file) {
        (Some(number), Some(file)) => {
            let answer = client.send::<()>(Method::GET, &format!("/history/{number}/file"), &[("path", &file)], None).await?;
            show::write(answer.text().await.map_err(Failure::new)?.trim_end_matches('\n'));
        }
        (Some(number), None) => {
            let answer = client.send::<()>(Method::GET, &format!("/history/{number}"), &[], None).await?;
            let one: AcceptedConfiguration = answer.json().await.map_err(Failure::new)?;
            if client.json {
                show::json(&one)?;
                return Ok(Code::Fine);
            }
            let zone = client.zone().await?;
            show::heading(&format!("configuration {number}, accepted {} {}", zone.minute(&one.accepted_at), zone.name()));
            for file in &one.changes {
                out!("");
                out!("{}", in_words(file));
                file.difference.as_deref().unwrap_or_default().lines().for_each(|line| out!("  {}", escaped(line)));
            }
            if one.changes.is_empty() {
                out!("nothing changed");
            }
            note!("a file as it stood then: mizuno history {number} FILE");
        }
        (None, _) => {
            let all: Vec<AcceptedConfiguration> = client.get("/history", &[]).await?;
            if client.json {
                show::json(&all)?;
                return Ok(Code::Fine);
            }
            let zone = client.zone().await?;
            let row = |a: &AcceptedConfiguration| vec![a.number.to_string(), zone.minute(&a.accepted_at), a.files.to_string(), changes(a)];
            let accepted = format!("accepted ({})", zone.name());
            let columns = show::Columns { headers: &["number", &accepted, "files", "what changed"], numbers: &[0, 2], least: &[2] };
            show::table(&columns, all.iter().map(row).collect());
            note!("what changed in one of them: mizuno history NUMBER");
        }
    }
    Ok(Code::Fine)
}

fn in_words(file: &FileChange) -> String {
    let lines = match file.change.as_str() {
        "new" => show::counted(file.added, "line"),
        "gone" => show::counted(file.removed, "line"),
        _ => format!("{} added, {} removed", show::counted(file.added, "line"), file.removed),
    };
    format!("{}: {}, {lines}", escaped(&file.path), file.change)
}

/// What changed, in a row: the first files, and how many more.
fn changes(a: &AcceptedConfiguration) -> String {
    if a.number == 1 {
        return "the first that is kept".to_owned();
    }
    let named: Vec<String> = a.changes.iter().take(NAMED).map(|c| format!("{} {}", escaped(&c.path), c.change)).collect();
    match a.changes.len().saturating_sub(NAMED) {
        0 => named.join(", "),
        more => format!("{} and {more} more", named.join(", ")),
    }
}
