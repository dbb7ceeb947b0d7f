//! `mizuno universe`: who belonged when.

use crate::{
    client::Client,
    exit::{Code, Failure},
    show,
};
use clap::Args;
use mizuno_api::{Membership, Universe, UniverseTold, words::escaped};

/// Which universe, and when.
#[derive(Args)]
pub struct Which {
    /// The universe; all of them in short when left out.
    name: Option<String>,
    /// The members on this trade date; on that of the newest session when left out.
    #[arg(long, value_name = "DATE", requires = "name")]
    on: Option<String>,
    /// Every stay of every member, with who says so.
    #[arg(long, requires = "name")]
    stays: bool,
    /// Only what was known at this instant.
    #[arg(long, value_name = "INSTANT")]
    as_of: Option<String>,
}

pub async fn universe(client: &Client, ask: Which) -> Result<Code, Failure> {
    let as_of: Vec<(&str, &str)> = ask.as_of.as_deref().map(|at| ("as_of", at)).into_iter().collect();
    let Some(name) = &ask.name else { return list(client, &as_of).await };
    let mut query = as_of;
    query.extend(ask.on.as_deref().map(|date| ("on", date)));
    let told: UniverseTold = client.get(&format!("/universes/{}", name), &query).await?;
    if client.json {
        show::json(&told)?;
        return Ok(Code::Fine);
    }
    show::heading(&format!("{}, by {}, as of {}", escaped(&told.title), told.made_of, told.as_of));
    let count = told.members.len();
    out!("{count} {} on {}: {}", if count == 1 { "member" } else { "members" }, told.on, told.members.join(", "));
    if let Some(date) = &told.known_from {
        out!("who belonged before {date} is not known: the list shows the members of the day, and was first collected then");
    }
    out!("");
    if ask.stays {
        stays(&told.memberships);
    } else {
        changes(&told);
    }
    doubts(&told);
    Ok(Code::Fine)
}

async fn list(client: &Client, query: &[(&str, &str)]) -> Result<Code, Failure> {
    let all: Vec<Universe> = client.get("/universes", query).await?;
    if client.json {
        show::json(&all)?;
        return Ok(Code::Fine);
    }
    if all.is_empty() {
        note!("no universe is configured; docs/universes.md tells what stands in universes/NAME.toml");
        return Ok(Code::Fine);
    }
    let row = |u: &Universe| {
        let doubts = match (u.unresolved, u.doubts) {
            (0, 0) => "-".to_owned(),
            (0, doubts) => format!("{doubts} told"),
            (names, 0) => format!("{names} names unknown"),
            (names, doubts) => format!("{names} names unknown, {doubts} told"),
        };
        vec![u.name.clone(), escaped(&u.title), u.members.to_string(), u.ever.to_string(), doubts, u.made_of.clone()]
    };
    show::table(
        &show::Columns { headers: &["universe", "title", "members", "ever", "doubts", "made of"], numbers: &[2, 3], least: &[5, 1] },
        all.iter().map(row).collect(),
    );
    Ok(Code::Fine)
}

/// Changes shown at once; older ones are left to --json.
const SHOWN: usize = 40;

fn changes(told: &UniverseTold) {
    if told.changes.is_empty() {
        out!("nobody has joined or left");
        return;
    }
    let names = |all: &Vec<String>| if all.is_empty() { "-".to_owned() } else { all.join(", ") };
    let row = |c: &mizuno_api::MemberChange| vec![c.date.clone(), names(&c.joined), names(&c.left), c.members.to_string()];
    show::table(
        &show::Columns { headers: &["date", "joined", "left", "members then"], numbers: &[3], least: &[1, 2] },
        told.changes.iter().take(SHOWN).map(row).collect(),
    );
    if told.changes.len() > SHOWN {
        note!("{} older changes; --json has them all", told.changes.len() - SHOWN);
    }
}

fn stays(all: &[Membership]) {
    let end = |date: &Option<String>, after: &Option<String>, without: &str| match (date, after) {
        (None, _) => without.to_owned(),
        (Some(date), None) => date.clone(),
        (Some(date), Some(after)) => format!("{date} (seen after {after})"),
    };
    let row = |m: &Membership| {
        let why = [&m.joined, &m.left].into_iter().flatten().cloned().collect::<Vec<_>>().join("; ");
        let called = if m.called == m.instrument || m.called == m.name { "-".to_owned() } else { escaped(&m.called) };
        let (from, to) = (end(&m.from, &m.joined_after, "always"), end(&m.to, &m.left_after, "still"));
        vec![m.instrument.clone(), from, to, called, m.by.clone(), if why.is_empty() { "-".to_owned() } else { escaped(&why) }]
    };
    show::table(
        &show::Columns { headers: &["member", "from", "until", "called", "by", "why"], numbers: &[], least: &[5, 3] },
        all.iter().map(row).collect(),
    );
}

fn doubts(told: &UniverseTold) {
    let section = |title: &str, lines: Vec<String>| {
        if !lines.is_empty() {
            out!("");
            out!("{title}");
            lines.iter().for_each(|line| out!("  {}", escaped(line)));
        }
    };
    let names = told.unresolved.iter().map(|u| format!("`{}` by {}, {}: {}", u.said, u.by, u.days, u.hint));
    section("names that are no instruments of ours:", names.collect());
    section("told otherwise:", told.conflicts.clone());
    section("not understood:", told.unread.clone());
    section("without daily bars:", told.without.iter().map(|w| format!("{}: {}", w.instrument, w.why)).collect());
}
