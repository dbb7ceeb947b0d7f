//! `mizuno excuse` and `mizuno excuses`.

use crate::{
    client::Client,
    exit::{Code, Failure},
    show,
};
use clap::Args;
use mizuno_api::NewExcuse;
use reqwest::Method;

/// What to accept, who does, and why.
#[derive(Args)]
pub struct Excuse {
    /// Id of a gap, or the name of a series with --from and --to.
    #[arg(value_name = "GAP|SERIES")]
    what: String,
    /// First trade date or instant, with a series.
    #[arg(long, requires = "to")]
    from: Option<String>,
    /// Last trade date, included, or an instant, not included.
    #[arg(long, requires = "from")]
    to: Option<String>,
    /// Who accepts it.
    #[arg(long)]
    by: String,
    /// Why.
    #[arg(long)]
    note: String,
}

pub async fn excuse(client: &Client, ask: Excuse) -> Result<Code, Failure> {
    let gap = ask.what.contains('@');
    let body = NewExcuse {
        gap: gap.then(|| ask.what.clone()),
        series: (!gap).then_some(ask.what),
        from: ask.from,
        to: ask.to,
        by: ask.by,
        note: ask.note,
    };
    let given: mizuno_api::Excuse = client.post("/excuses", &body).await?;
    if client.json {
        show::json(&given)?;
    } else {
        println!("excuse {}: {} from {} to {} needs no bars; take it back with: mizuno excuses --revoke {}", given.id, given.series, given.from, given.to, given.id);
    }
    Ok(Code::Fine)
}

pub async fn excuses(client: &Client, revoke: Option<i64>) -> Result<Code, Failure> {
    if let Some(id) = revoke {
        client.send::<()>(Method::DELETE, &format!("/excuses/{id}"), &[], None).await?;
        eprintln!("excuse {id} is taken back; its slots are missing again");
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
        vec![e.id.to_string(), e.series.clone(), e.from.clone(), e.to.clone(), state.to_owned(), e.by.clone(), zone.minute(&e.given_at), e.note.clone()]
    };
    let given = format!("given ({})", zone.name());
    show::table(&["id", "series", "from", "to", "state", "by", &given, "note"], &[0], all.iter().map(row).collect());
    Ok(Code::Fine)
}
