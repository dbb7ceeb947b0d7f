//! `mizuno actions`: corporate actions, what each does to prices, and those that people enter.

use crate::{
    client::Client,
    exit::{Code, Failure},
    show,
};
use clap::Args;
use mizuno_api::{Action, Actions, EnterActions, NewAction, words::escaped};
use reqwest::Method;
use std::{collections::BTreeMap, path::PathBuf};

/// Whose actions, and what to do with them.
#[derive(Args)]
pub struct Which {
    /// The instrument.
    #[arg(required_unless_present_any = ["import", "withdraw"])]
    instrument: Option<String>,
    /// Only what was known at this instant.
    #[arg(long, value_name = "INSTANT", conflicts_with_all = ["enter", "import", "withdraw"])]
    as_of: Option<String>,
    /// Enter an action: its kind and terms, as in 'dividend ex_date=2025-03-24 amount=0.12'.
    #[arg(long, value_name = "ACTION", requires_all = ["by", "reason"])]
    enter: Option<String>,
    /// Enter those of a CSV file with the columns instrument, kind and ex_date, and columns for terms.
    #[arg(long, value_name = "FILE", requires_all = ["by", "reason"], conflicts_with_all = ["instrument", "enter"])]
    import: Option<PathBuf>,
    /// Withdraw the action of this number. It stays known as of instants before.
    #[arg(long, value_name = "ID", requires_all = ["by", "reason"], conflicts_with_all = ["instrument", "enter", "import"])]
    withdraw: Option<i64>,
    /// Who does it.
    #[arg(long)]
    by: Option<String>,
    /// Why.
    #[arg(long)]
    reason: Option<String>,
}

pub async fn actions(client: &Client, ask: Which) -> Result<Code, Failure> {
    let (by, reason) = (ask.by.unwrap_or_default(), ask.reason.unwrap_or_default());
    if let Some(id) = ask.withdraw {
        client.send::<()>(Method::DELETE, &format!("/actions/{id}"), &[("by", &by), ("why", &reason)], None).await?;
        note!("action {id} is withdrawn; it stays known as of instants before");
        return Ok(Code::Fine);
    }
    let entered = match (&ask.instrument, ask.enter, ask.import) {
        (Some(instrument), Some(text), _) => vec![action(instrument, &text)?],
        (_, _, Some(file)) => {
            let text = std::fs::read_to_string(&file).map_err(|e| Failure::usage(format!("cannot read {}: {e}", file.display())))?;
            table(&text).map_err(|why| Failure::usage(format!("{}: {why}", file.display())))?
        }
        (Some(instrument), None, None) => return list(client, instrument, ask.as_of.as_deref()).await,
        (None, ..) => return Err(Failure::usage("name an instrument".to_owned())),
    };
    let count = entered.len();
    let ids: Vec<i64> = client.post("/actions", &EnterActions { actions: entered, by, reason }).await?;
    if client.json {
        show::json(&ids)?;
        return Ok(Code::Fine);
    }
    match ids[..] {
        [id] => note!("entered as action {id}; take it back with: mizuno actions --withdraw {id} --by WHO --reason WHY"),
        _ => note!("{count} actions are entered, from {} to {}", ids.first().unwrap_or(&0), ids.last().unwrap_or(&0)),
    }
    Ok(Code::Fine)
}

/// An action as it is typed: its kind, and terms as KEY=VALUE.
fn action(instrument: &str, text: &str) -> Result<NewAction, Failure> {
    let mut words = text.split_whitespace();
    let kind = words.next().unwrap_or_default().to_owned();
    let mut terms = BTreeMap::new();
    for word in words {
        let Some((key, value)) = word.split_once('=') else {
            return Err(Failure::usage(format!("`{word}` is no term; write terms as in ex_date=2025-03-24 amount=0.12")));
        };
        terms.insert(key.to_owned(), value.to_owned());
    }
    Ok(NewAction { instrument: instrument.to_owned(), kind, terms })
}

/// The actions of a CSV file, a row each.
fn table(text: &str) -> Result<Vec<NewAction>, String> {
    let mut reader = csv::ReaderBuilder::new().trim(csv::Trim::All).from_reader(text.as_bytes());
    let rows = reader.deserialize::<BTreeMap<String, String>>();
    let row = |row: Result<BTreeMap<String, String>, csv::Error>| {
        let mut terms = row.map_err(|e| e.to_string())?;
        let mut take = |column: &str| terms.remove(column).ok_or_else(|| format!("there is no column {column}"));
        let (instrument, kind) = (take("instrument")?, take("kind")?);
        terms.retain(|_, value| !value.is_empty());
        Ok(NewAction { instrument, kind, terms })
    };
    rows.map(row).collect()
}

async fn list(client: &Client, instrument: &str, as_of: Option<&str>) -> Result<Code, Failure> {
    let mut query = vec![("instrument", instrument)];
    query.extend(as_of.map(|at| ("as_of", at)));
    let told: Actions = client.get("/actions", &query).await?;
    if client.json {
        show::json(&told)?;
        return Ok(Code::Fine);
    }
    let zone = client.zone().await?;
    if told.actions.is_empty() {
        note!("no corporate action of {} is known", told.instrument);
    } else {
        show::table(
            &show::Columns {
                headers: &["ex-date", "action", "prices before ×", "volumes ×", "close before", "from", "learned", "number"],
                numbers: &[2, 3, 4, 7],
                least: &[7, 6, 4, 3],
            },
            told.actions.iter().map(|a| row(a, &zone)).collect(),
        );
    }
    for action in &told.actions {
        if let Some(why) = &action.why {
            out!("{} on {} is not applied: {why}", action.terms, action.ex_date);
        } else if action.effect == "after-anchor" {
            out!("{} on {} is still to come", action.terms, action.ex_date);
        } else if action.ex_date != action.counts_on {
            out!("{} on {} counts on {}, since there is no session on its date", action.terms, action.ex_date, action.counts_on);
        }
        if let Some(rate) = action.rate.as_ref().filter(|_| action.effect == "applied") {
            out!("{} on {} counts at the rate of {rate}, by rates.toml", action.terms, action.ex_date);
        }
        if let Some(reason) = &action.reason {
            out!("{} on {}, entered by {}: {reason}", action.terms, action.ex_date, action.from);
        }
    }
    for event in &told.events {
        out!("{}  {}", event.date, event.what);
    }
    for conflict in &told.conflicts {
        out!("told otherwise: {conflict}");
    }
    for check in &told.checked {
        match (check.sessions, check.steps.len()) {
            (None, _) => out!(
                "{} adjusts for {}, and no other source tells its prices as traded, to hold these against",
                check.source,
                check.adjusted_for
            ),
            (Some(sessions), 0) => {
                out!(
                    "{} adjusts for {} as these actions say: {} agree",
                    check.source,
                    check.adjusted_for,
                    show::counted(sessions, "session")
                );
            }
            (Some(sessions), steps) => {
                let (told, times) = (show::counted(sessions, "session"), show::counted(steps as u64, "place"));
                out!("{} adjusts for {}, and otherwise in {times}, of {told}:", check.source, check.adjusted_for);
                check.steps.iter().for_each(|step| out!("  {}", step.says));
            }
        }
    }
    out!("");
    out!("ask for adjusted prices with: mizuno bars {} --adjust all", escaped(&told.instrument));
    Ok(Code::Fine)
}

fn row(a: &Action, zone: &show::Zone) -> Vec<String> {
    vec![
        a.ex_date.clone(),
        a.terms.clone(),
        show::or_dash(&a.price_factor),
        show::or_dash(&a.volume_factor),
        show::or_dash(&a.close),
        a.from.clone(),
        zone.minute(&a.learned_at),
        a.id.map_or_else(|| "-".to_owned(), |id| id.to_string()),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_gives_an_action_a_row() {
        let read = table("instrument,kind,ex_date,amount,new,old\nKBF,dividend,2025-03-24,0.12,,\nSME, split,2025-03-17,,4,1\n").unwrap();
        assert_eq!((read[0].kind.as_str(), read[0].terms.len()), ("dividend", 2));
        assert_eq!((read[1].kind.as_str(), read[1].terms["new"].as_str()), ("split", "4"));
        assert_eq!(table("kind,ex_date\nsplit,2025-03-17\n").unwrap_err(), "there is no column instrument");
    }
}
