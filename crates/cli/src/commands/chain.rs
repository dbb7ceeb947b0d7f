//! `mizuno chain`: continuous series of futures, their contracts and rolls.

use crate::{
    client::Client,
    exit::{Code, Failure},
    show,
};
use clap::Args;
use mizuno_api::{Chain, ChainTold, words::escaped};

/// Which continuous series, and as of when.
#[derive(Args)]
pub struct Which {
    /// The continuous series; all of them in short when left out.
    name: Option<String>,
    /// Only what was known at this instant.
    #[arg(long, value_name = "INSTANT")]
    as_of: Option<String>,
}

pub async fn chain(client: &Client, ask: Which) -> Result<Code, Failure> {
    let query: Vec<(&str, &str)> = ask.as_of.as_deref().map(|at| ("as_of", at)).into_iter().collect();
    let Some(name) = &ask.name else { return list(client, &query).await };
    let told: ChainTold = client.get(&format!("/chains/{name}"), &query).await?;
    if client.json {
        show::json(&told)?;
        return Ok(Code::Fine);
    }
    let chain = &told.chain;
    show::heading(&format!("{}, as of {}", escaped(&chain.title), told.as_of));
    out!("{} in each session; rolls {}", chain.made_of, chain.rule);
    out!("");
    show::table(
        &show::Columns {
            headers: &["contract", "expiry", "first notice", "bars from", "bars to", "stands from", "to"],
            numbers: &[],
            least: &[3, 4],
        },
        told.chain_of
            .iter()
            .map(|c| {
                let ends = if c.from.is_some() && c.to.is_none() { "now".to_owned() } else { show::or_dash(&c.to) };
                vec![
                    c.instrument.clone(),
                    show::or_dash(&c.expiry),
                    show::or_dash(&c.first_notice),
                    show::or_dash(&c.bars_from),
                    show::or_dash(&c.bars_to),
                    show::or_dash(&c.from),
                    ends,
                ]
            })
            .collect(),
    );
    out!("");
    if told.rolled.is_empty() {
        out!("it has not rolled yet");
    } else {
        show::table(
            &show::Columns {
                headers: &["from", "old", "new", "closes of", "old close", "new close", "difference", "ratio", "why"],
                numbers: &[4, 5, 6, 7],
                least: &[8, 3],
            },
            told.rolled
                .iter()
                .map(|r| {
                    let late = if r.at_the_latest { "at the latest: " } else { "" };
                    vec![
                        r.from.clone(),
                        r.old.clone(),
                        r.new.clone(),
                        show::or_dash(&r.closes_on),
                        show::or_dash(&r.old_close),
                        show::or_dash(&r.new_close),
                        show::or_dash(&r.difference),
                        show::or_dash(&r.ratio),
                        format!("{late}{}", r.why),
                    ]
                })
                .collect(),
        );
    }
    for note in &told.notes {
        out!("");
        out!("{}", escaped(note));
    }
    Ok(Code::Fine)
}

async fn list(client: &Client, query: &[(&str, &str)]) -> Result<Code, Failure> {
    let all: Vec<Chain> = client.get("/chains", query).await?;
    if client.json {
        show::json(&all)?;
        return Ok(Code::Fine);
    }
    if all.is_empty() {
        note!("no continuous series is configured; docs/futures.md tells what stands in chains/NAME.toml");
        return Ok(Code::Fine);
    }
    let row = |c: &Chain| {
        vec![
            c.name.clone(),
            escaped(&c.title),
            show::or_dash(&c.contract),
            show::or_dash(&c.since),
            c.contracts.to_string(),
            c.rolls.to_string(),
            c.rule.clone(),
        ]
    };
    show::table(
        &show::Columns {
            headers: &["chain", "title", "contract now", "since", "contracts", "rolls", "rolls when"],
            numbers: &[4, 5],
            least: &[6, 1],
        },
        all.iter().map(row).collect(),
    );
    Ok(Code::Fine)
}
