//! `mizuno gaps` and `mizuno repair`.

use crate::{
    client::Client,
    exit::{Code, Failure},
    progress, show,
};
use clap::Args;
use mizuno_api::{Gap, Hole, Repair, Run};

/// Which gaps.
#[derive(Args)]
pub struct Gaps {
    /// Only this instrument.
    #[arg(long, short)]
    instrument: Option<String>,
    /// Only this source.
    #[arg(long)]
    source: Option<String>,
    /// Only this interval.
    #[arg(long)]
    interval: Option<String>,
    /// Instead the gaps of golden series: what no source has.
    #[arg(long)]
    golden: bool,
    /// Only this cause, or `any`; without it, all but beyond-reach and not-yet-due.
    #[arg(long)]
    cause: Option<String>,
    /// Only from this trade date on.
    #[arg(long)]
    from: Option<String>,
    /// Only up to this trade date, included.
    #[arg(long)]
    to: Option<String>,
}

impl Gaps {
    /// The gaps the filters let through.
    pub async fn find(&self, client: &Client) -> Result<Vec<Gap>, Failure> {
        client.get("/gaps", &self.query()).await
    }

    fn query(&self) -> Vec<(&'static str, &str)> {
        let options = [
            ("instrument", &self.instrument),
            ("source", &self.source),
            ("interval", &self.interval),
            ("cause", &self.cause),
            ("from", &self.from),
            ("to", &self.to),
        ];
        let mut query: Vec<_> = options.into_iter().filter_map(|(name, value)| Some((name, value.as_deref()?))).collect();
        query.extend(self.golden.then_some(("golden", "true")));
        query
    }
}

/// Which gaps, and how to tell of them.
#[derive(Args)]
pub struct ListGaps {
    #[command(flatten)]
    which: Gaps,
    /// Every gap on its own, also those that many series have in common.
    #[arg(long)]
    each: bool,
}

pub async fn gaps(client: &Client, ask: ListGaps) -> Result<Code, Failure> {
    let ListGaps { which: ask, each } = ask;
    let mut found = ask.find(client).await?;
    if client.json {
        show::json(&found)?;
        return Ok(Code::Fine);
    }
    if found.is_empty() {
        note!("no gaps");
        return Ok(Code::Fine);
    }
    let bars: u64 = found.iter().map(|g| g.slots).sum();
    show::heading(&format!("{}, {}", show::counted(found.len() as u64, "gap"), show::counted(bars, "missing bar")));
    if !each && !ask.golden {
        let holes: Vec<Hole> = client.get("/holes", &ask.query()).await?;
        for hole in holes.iter().filter(|h| h.series > 1) {
            out!("");
            show::heading(&format!(
                "{} of {} series of {} at {}{} from {} at once",
                hole.series,
                hole.of,
                hole.venue,
                hole.interval,
                side_of(hole),
                hole.source
            ));
            out!("    {} missing, {}", show::counted(hole.slots, "bar"), hole.when);
            out!("    {}: {}", hole.cause, hole.because);
            out!("    each of them: {}", each_of(hole));
            let told: std::collections::HashSet<&String> = hole.gaps.iter().collect();
            found.retain(|g| !told.contains(&g.id));
        }
    }
    for gap in &found {
        out!("");
        show::heading(&gap.id);
        out!("    {} missing, {}", show::counted(gap.slots, "bar"), gap.when);
        out!("    {}: {}", gap.cause, gap.because);
        if gap.cause != "not-yet-due" {
            out!("    {}", gap.evidence);
        }
        let fetch = gap.fetch.map_or(String::new(), |f| format!(", last by fetch {f}"));
        out!("    asked {}{fetch}; suggestion: {}", show::counted(u64::from(gap.asked), "time"), gap.suggestion);
    }
    note!("close them with: mizuno repair GAP, or accept them with: mizuno excuse GAP --by NAME --note WHY");
    Ok(Code::Fine)
}

/// Which side a hole is of, where it is not trades.
fn side_of(hole: &Hole) -> String {
    if hole.side == "trade" { String::new() } else { format!(" ({})", hole.side) }
}

/// The command that lists the gaps a hole is made of: its cause, and exactly its stretch.
fn each_of(hole: &Hole) -> String {
    // The end of a range of dates is included, that of a range of instants is not.
    let last = match hole.to.parse::<jiff::civil::Date>().ok().filter(|_| hole.to.len() == 10).and_then(|d| d.yesterday().ok()) {
        Some(last) => last.to_string(),
        None => hole.to.clone(),
    };
    format!(
        "mizuno gaps --each --source {} --interval {} --cause {} --from {} --to {last}",
        hole.source, hole.interval, hole.cause, hole.from
    )
}

/// Which gaps to fetch again.
#[derive(Args)]
pub struct RepairGaps {
    /// Ids of gaps, as `mizuno gaps` prints them.
    #[arg(required_unless_present = "all")]
    gaps: Vec<String>,
    /// All gaps that asking again may close, within the filters.
    #[arg(long, conflicts_with = "gaps")]
    all: bool,
    #[command(flatten)]
    filter: Gaps,
}

pub async fn repair(client: &Client, ask: RepairGaps) -> Result<Code, Failure> {
    let gaps = if ask.all { ask.filter.find(client).await?.into_iter().map(|g| g.id).collect() } else { ask.gaps };
    if gaps.is_empty() {
        note!("no gaps to repair");
        return Ok(Code::Fine);
    }
    let runs: Vec<Run> = client.post("/repairs", &Repair { gaps: gaps.clone() }).await?;
    let (runs, stopped) = progress::follow(client, runs).await?;
    let code = progress::conclude(client, &runs, stopped)?;
    if stopped {
        return Ok(code);
    }
    let mut left: Vec<Gap> = client.get("/gaps", &[("cause", "any"), ("most", "100000")]).await?;
    if gaps.iter().any(|id| id.contains("/golden@")) {
        left.extend(client.get::<Vec<Gap>>("/gaps", &[("cause", "any"), ("most", "100000"), ("golden", "true")]).await?);
    }
    let left: Vec<&Gap> = left.iter().filter(|g| gaps.contains(&g.id)).collect();
    note!("{} of {} gaps closed", gaps.len() - left.len(), gaps.len());
    for gap in &left {
        note!("still missing: {} ({}: {})", gap.id, gap.cause, gap.because);
    }
    Ok(if left.is_empty() { code } else { Code::NeedsAPerson })
}
