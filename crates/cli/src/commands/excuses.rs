//! `mizuno excuse` and `mizuno excuses`.

use crate::{
    client::Client,
    commands::gaps::Gaps,
    exit::{Code, Failure},
    show,
};
use clap::Args;
use mizuno_api::NewExcuse;
use reqwest::Method;

/// What to accept, who does, and why.
#[derive(Args)]
pub struct Excuse {
    /// Ids of gaps or of findings, or the name of one series with --since and --until.
    #[arg(value_name = "GAP|FINDING|SERIES", required_unless_present = "all")]
    what: Vec<String>,
    /// With a series: first trade date or instant.
    #[arg(long, requires = "until")]
    since: Option<String>,
    /// With a series: last trade date, included, or an instant, not included.
    #[arg(long, requires = "since")]
    until: Option<String>,
    /// All gaps within the filters.
    #[arg(long, conflicts_with = "what")]
    all: bool,
    #[command(flatten)]
    filter: Gaps,
    /// Who accepts it.
    #[arg(long)]
    by: String,
    /// Why.
    #[arg(long)]
    note: String,
}

pub async fn excuse(client: &Client, ask: Excuse) -> Result<Code, Failure> {
    let Excuse { what, since, until, all, filter, by, note } = ask;
    let body = match &what[..] {
        [series] if since.is_some() => NewExcuse { series: Some(series.clone()), from: since, to: until, by, note, ..NewExcuse::default() },
        findings if !all && findings.iter().all(|id| id.contains('#')) => {
            NewExcuse { findings: findings.to_vec(), by, note, ..NewExcuse::default() }
        }
        gaps if !all => NewExcuse { gaps: gaps.to_vec(), by, note, ..NewExcuse::default() },
        _ => NewExcuse { gaps: filter.find(client).await?.into_iter().map(|g| g.id).collect(), by, note, ..NewExcuse::default() },
    };
    if all && body.gaps.is_empty() {
        note!("no gaps to excuse");
        return Ok(Code::Fine);
    }
    let given: Vec<mizuno_api::Excuse> = client.post("/excuses", &body).await?;
    if client.json {
        show::json(&given)?;
        return Ok(Code::Fine);
    }
    for excuse in &given {
        match &excuse.finding {
            None => out!("excuse {}: {} needs no bars from {} to {}", excuse.id, excuse.series, excuse.from, excuse.to),
            Some(check) => out!("excuse {}: {} of {} from {} to {} is accepted", excuse.id, check, excuse.series, excuse.from, excuse.to),
        }
    }
    note!("take one back with: mizuno excuses --revoke NUMBER");
    Ok(Code::Fine)
}

pub async fn excuses(client: &Client, revoke: Option<i64>) -> Result<Code, Failure> {
    if let Some(id) = revoke {
        client.send::<()>(Method::DELETE, &format!("/excuses/{id}"), &[], None).await?;
        note!("excuse {id} is taken back");
        return Ok(Code::Fine);
    }
    let all: Vec<mizuno_api::Excuse> = client.get("/excuses", &[]).await?;
    if client.json {
        show::json(&all)?;
        return Ok(Code::Fine);
    }
    let zone = client.zone().await?;
    let row = |e: &mizuno_api::Excuse| {
        let state = if e.revoked_at.is_some() { "taken back" } else { "in force" };
        vec![
            e.id.to_string(),
            e.series.clone(),
            e.from.clone(),
            e.to.clone(),
            e.finding.clone().unwrap_or("absence".to_owned()),
            state.to_owned(),
            e.by.clone(),
            zone.minute(&e.given_at),
            e.note.clone(),
        ]
    };
    let given = format!("given ({})", zone.name());
    show::table(
        &show::Columns { headers: &["id", "series", "from", "to", "of", "state", "by", &given, "note"], numbers: &[0], least: &[7, 4, 5] },
        all.iter().map(row).collect(),
    );
    Ok(Code::Fine)
}
