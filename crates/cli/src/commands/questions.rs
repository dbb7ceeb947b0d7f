//! `mizuno questions`: questions saved under a name.

use crate::{
    client::Client,
    exit::{Code, Failure},
    show,
};
use clap::Args;
use mizuno_api::{SaveQuestion, SavedQuestion};
use reqwest::Method;
use std::path::PathBuf;

/// Which question, and what to do with it.
#[derive(Args)]
pub struct Questions {
    /// Show the question of this name and what it said before.
    name: Option<String>,
    /// Save what stands in this file under the name, as TOML or JSON.
    #[arg(long, value_name = "FILE", requires_all = ["name", "by"], conflicts_with = "remove")]
    save: Option<PathBuf>,
    /// Take the name away; its history stays.
    #[arg(long, requires_all = ["name", "by"])]
    remove: bool,
    /// Who does it.
    #[arg(long)]
    by: Option<String>,
}

pub async fn questions(client: &Client, ask: Questions) -> Result<Code, Failure> {
    let by = ask.by.unwrap_or_default();
    match (ask.name, ask.save) {
        (Some(name), Some(file)) => {
            let text = std::fs::read_to_string(&file).map_err(|e| Failure::usage(format!("cannot read {}: {e}", file.display())))?;
            client.send(Method::PUT, &format!("/questions/{name}"), &[], Some(&SaveQuestion { text, by })).await?;
            note!("saved; ask it with: mizuno bars --saved {name}");
        }
        (Some(name), None) if ask.remove => {
            client.send::<()>(Method::DELETE, &format!("/questions/{name}"), &[("by", &by)], None).await?;
            note!("{name} is taken away; its history stays");
        }
        (Some(name), None) => {
            let history: Vec<SavedQuestion> =
                client.send::<()>(Method::GET, &format!("/questions/{name}"), &[], None).await?.json().await.map_err(Failure::new)?;
            if client.json {
                show::json(&history)?;
                return Ok(Code::Fine);
            }
            let zone = client.zone().await?;
            for saved in &history {
                show::heading(&format!("{}, {}", saved.name, who(saved, &zone)));
                saved.toml.as_deref().unwrap_or("taken away").lines().for_each(|line| out!("  {}", mizuno_api::words::escaped(line)));
                out!("");
            }
            note!("ask it with: mizuno bars --saved {name}");
        }
        (None, _) => {
            let saved: Vec<SavedQuestion> = client.get("/questions", &[]).await?;
            if client.json {
                show::json(&saved)?;
                return Ok(Code::Fine);
            }
            if saved.is_empty() {
                note!("no question is saved; save one with: mizuno questions NAME --save FILE --by WHO");
                return Ok(Code::Fine);
            }
            let zone = client.zone().await?;
            let row = |s: &SavedQuestion| vec![s.name.clone(), who(s, &zone)];
            show::table(&show::Columns { headers: &["question", "saved"], numbers: &[], least: &[] }, saved.iter().map(row).collect());
        }
    }
    Ok(Code::Fine)
}

fn who(saved: &SavedQuestion, zone: &show::Zone) -> String {
    match (&saved.by, &saved.saved_at) {
        (Some(by), Some(at)) => format!("by {}, {} {}", mizuno_api::words::escaped(by), zone.minute(at), zone.name()),
        _ => "a file of the configuration".to_owned(),
    }
}
