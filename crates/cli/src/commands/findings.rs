//! `mizuno findings`, `mizuno checks`, `mizuno lineup` and `mizuno decide`.

use crate::{
    client::Client,
    exit::{Code, Failure},
    show,
};
use clap::Args;
use mizuno_api::{CheckInfo, Decide, Finding, Lineup, Settle};
use mizuno_core::finding::Rules;
use mizuno_sim::{bases, specimen};
use reqwest::Method;

/// Which findings.
#[derive(Args)]
pub struct Findings {
    /// Only of this instrument.
    #[arg(long, short)]
    instrument: Option<String>,
    /// Only of this source.
    #[arg(long)]
    source: Option<String>,
    /// Only of this check.
    #[arg(long)]
    check: Option<String>,
    /// Also those that were accepted.
    #[arg(long)]
    accepted: bool,
}

pub async fn findings(client: &Client, ask: Findings) -> Result<Code, Failure> {
    let options = [("instrument", &ask.instrument), ("source", &ask.source), ("check", &ask.check)];
    let mut query: Vec<_> = options.into_iter().filter_map(|(name, value)| Some((name, value.as_deref()?))).collect();
    query.extend(ask.accepted.then_some(("accepted", "true")));
    let found: Vec<Finding> = client.get("/findings", &query).await?;
    let code = if found.iter().any(|f| !f.accepted) { Code::NeedsAPerson } else { Code::Fine };
    if client.json {
        show::json(&found)?;
        return Ok(code);
    }
    if found.is_empty() {
        note!("the checks find nothing");
        return Ok(Code::Fine);
    }
    show::heading(&show::counted(found.len() as u64, "finding"));
    for f in &found {
        out!("");
        show::heading(&f.id);
        let accepted = if f.accepted { ", accepted" } else { "" };
        out!("    {}{accepted}: {}, {}", f.severity, show::counted(f.bars, "bar"), f.when);
        out!("    {}", f.detail);
        out!("    {}", f.evidence);
        out!("    {}", f.explanation);
    }
    note!("\naccept one with: mizuno excuse FINDING --by NAME --note WHY");
    Ok(code)
}

/// Whether to measure the checks.
#[derive(Args)]
pub struct Checks {
    /// Run them over made-up series with known faults, and print how many they find and invent.
    #[arg(long)]
    measure: bool,
    /// With --measure: specimens for each check.
    #[arg(long, default_value_t = 100, requires = "measure", value_parser = clap::value_parser!(u32).range(1..=2000))]
    specimens: u32,
    /// With --measure: the seed they are made from.
    #[arg(long, default_value_t = 1, requires = "measure")]
    seed: u64,
}

pub async fn checks(client: &Client, ask: Checks) -> Result<Code, Failure> {
    if ask.measure {
        return measure(client.json, &ask);
    }
    let all: Vec<CheckInfo> = client.get("/checks", &[]).await?;
    if client.json {
        show::json(&all)?;
        return Ok(Code::Fine);
    }
    for c in &all {
        let unit = if c.limit == 1.0 { c.unit.trim_end_matches('s') } else { &c.unit };
        out!("{:<22} {}, limit {} {unit}", c.name, c.severity, c.limit);
        out!("{:<22} {}", "", c.explanation);
    }
    note!("checks.toml in the configuration sets other limits and switches checks off");
    Ok(Code::Fine)
}

/// The precision that every check is to have, and the recall.
const WANTED: (f64, f64) = (0.98, 0.95);

fn measure(json: bool, ask: &Checks) -> Result<Code, Failure> {
    let found = specimen::measure(ask.seed, ask.specimens as usize, &Rules::default());
    let bases = bases::measure(ask.seed, 20 * ask.specimens as usize);
    let good = found.scores.iter().all(|(_, s)| s.precision() >= WANTED.0 && s.recall() >= WANTED.1);
    let code = if good { Code::Fine } else { Code::NeedsAPerson };
    if json {
        let score = |(check, s): &(mizuno_core::finding::Check, specimen::Score)| {
            serde_json::json!({ "check": check.word(), "planted": s.planted, "found": s.found, "right": s.right, "wrong": s.wrong,
                "precision": s.precision(), "recall": s.recall() })
        };
        let scores: Vec<_> = found.scores.iter().map(score).collect();
        let of_bases =
            serde_json::json!({ "changed": bases.changed, "found": bases.found, "corrected": bases.corrected, "mistaken": bases.mistaken });
        show::json(&serde_json::json!({ "checks": scores, "clean_bars": found.clean_bars, "false_alarms": found.false_alarms,
            "bases": of_bases }))?;
        return Ok(code);
    }
    let row = |(check, s): &(mizuno_core::finding::Check, specimen::Score)| {
        let share = |x: f64| format!("{x:.3}");
        vec![check.to_string(), s.planted.to_string(), s.found.to_string(), s.wrong.to_string(), share(s.precision()), share(s.recall())]
    };
    show::table(
        &show::Columns {
            headers: &["check", "planted", "found", "invented", "precision", "recall"],
            numbers: &[1, 2, 3, 4, 5],
            least: &[],
        },
        found.scores.iter().map(row).collect(),
    );
    out!("");
    out!("{} in {} bars without a fault", show::counted(found.false_alarms, "false alarm"), show::count(found.clean_bars));
    out!(
        "changed basis: {} of {} found; {} of {} corrections taken for one",
        show::count(bases.found),
        show::count(bases.changed),
        show::count(bases.mistaken),
        show::count(bases.corrected)
    );
    for (check, _) in &found.scores {
        for (planted, f) in found.invented.iter().filter(|(_, f)| f.check == *check).take(3) {
            let among = planted.map_or("sound bars".to_owned(), |p| format!("bars with a fault for {p}"));
            out!("invented among {among}: {check}, {}", f.detail);
        }
    }
    Ok(code)
}

/// Whose golden series.
#[derive(Args)]
pub struct WhoseLineup {
    /// The instrument.
    instrument: String,
    /// Interval; 1d when left out.
    #[arg(long)]
    interval: Option<String>,
    /// trade (also when left out), bid, ask or mid.
    #[arg(long)]
    side: Option<String>,
}

pub async fn lineup(client: &Client, ask: WhoseLineup) -> Result<Code, Failure> {
    let mut query = vec![("instrument", ask.instrument.as_str())];
    query.extend(ask.interval.as_deref().map(|i| ("interval", i)));
    query.extend(ask.side.as_deref().map(|s| ("side", s)));
    let found: Lineup = client.get("/lineup", &query).await?;
    if client.json {
        show::json(&found)?;
        return Ok(Code::Fine);
    }
    out!("{}: {} complete", found.series, show::percent(&found.completeness));
    for rank in &found.ranks {
        let since = rank.from.as_ref().map_or(String::new(), |d| format!("from {d} on: "));
        out!("{since}{}", if rank.sources.is_empty() { "no source".to_owned() } else { rank.sources.join(", then ") });
    }
    let names = found.sources.iter().map(|s| &s.source).chain(found.left_out.iter().map(|l| &l.source));
    let width = names.map(|name| name.chars().count()).max().unwrap_or_default();
    for s in &found.sources {
        let doubted = if s.doubted > 0 { format!(", {} doubted", show::counted(s.doubted, "bar")) } else { String::new() };
        let unclear = match s.unclear {
            0 => String::new(),
            n => format!(", {} left out: several prices, or none, fit what it told", show::counted(n, "bar")),
        };
        out!("    {:<width$} {} complete, {}{doubted}{unclear}", s.source, show::percent(&s.completeness), s.basis);
    }
    for l in &found.left_out {
        out!("    {:<width$} left out: {}", l.source, l.why);
    }
    Ok(Code::Fine)
}

/// What to decide of a bar that was held back.
#[derive(Args)]
pub struct Decision {
    /// Number of the row, as `mizuno quarantine` prints it.
    id: i64,
    /// Take the bar as the source says it now.
    #[arg(long, conflicts_with = "refuse", required_unless_present = "refuse")]
    take: bool,
    /// Leave the bar held before.
    #[arg(long)]
    refuse: bool,
    /// Who decides.
    #[arg(long)]
    by: String,
}

pub async fn decide(client: &Client, ask: Decision) -> Result<Code, Failure> {
    let body = Decide { take: ask.take, by: ask.by };
    client.send(Method::POST, &format!("/quarantine/{}/decision", ask.id), &[], Some(&body)).await?;
    let what =
        if ask.take { "is taken, and the one before it kept as an earlier version" } else { "is refused, and the one before it stays" };
    note!("the bar of row {} {what}", ask.id);
    Ok(Code::Fine)
}

/// Which series to settle.
#[derive(Args)]
pub struct SettleIt {
    /// The series, as in KBF/1d/lodestar.
    series: String,
    /// Who decides that.
    #[arg(long)]
    by: String,
}

pub async fn settle(client: &Client, ask: SettleIt) -> Result<Code, Failure> {
    let body = Settle { series: ask.series, by: ask.by };
    client.send(Method::POST, "/settlements", &[], Some(&body)).await?;
    note!("{} is read as it is from now on; bars that could not be collected again keep their old basis", body.series);
    Ok(Code::Fine)
}
