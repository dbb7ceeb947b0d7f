//! `mizuno try`, `mizuno lists`, `mizuno schedule` and `mizuno reload`.

use crate::{
    client::Client,
    exit::{Code, Failure},
    show::{self, Zone},
};
use clap::Args;
use mizuno_api::{Decide, ListChange, ListStatus, Reloaded, Status, Tried, TriedBar, Try};
use mizuno_core::clock::ClockFace;
use reqwest::Method;
use std::path::{Path, PathBuf};

/// What to try.
#[derive(Args)]
pub struct TryIt {
    /// Name of a source at work, or the path of a profile (a file that ends in .toml).
    source: String,
    /// Symbol of the instrument.
    instrument: String,
    /// Interval; the profile's first when left out.
    #[arg(long)]
    interval: Option<String>,
    /// Side: trade, bid, ask or mid.
    #[arg(long)]
    side: Option<String>,
    /// First trade date or instant; the last few sessions when left out.
    #[arg(long)]
    from: Option<String>,
    /// Last trade date, included.
    #[arg(long)]
    to: Option<String>,
    /// For a profile's file: the configuration whose venues and instruments it is tried with; that around the file when left out.
    #[arg(long, value_name = "DIR")]
    config: Option<PathBuf>,
}

pub async fn try_it(client: &Client, ask: TryIt) -> Result<Code, Failure> {
    let TryIt { source, instrument, interval, side, from, to, config } = ask;
    let wanted = Try { source: None, profile: None, instrument, interval, side, from, to };
    let tried: Tried = match source.ends_with(".toml") {
        true => try_file(client, Path::new(&source), config, wanted).await?,
        false => client.post("/tries", &Try { source: Some(source), ..wanted }).await?,
    };
    if client.json {
        show::json(&tried)?;
    } else {
        print(&tried);
    }
    Ok(if tried.failure.is_none() && tried.refused_count == 0 && tried.hints.is_empty() { Code::Fine } else { Code::NeedsAPerson })
}

/// Tries a profile's file in this process, with the rights and the environment of whoever asks.
async fn try_file(client: &Client, file: &Path, config: Option<PathBuf>, wanted: Try) -> Result<Tried, Failure> {
    let text = std::fs::read_to_string(file).map_err(|e| Failure::new(format!("the profile {} cannot be read: {e}", file.display())))?;
    let around = || {
        let folder = std::path::absolute(file).ok()?.parent()?.to_owned();
        let dir = if folder.ends_with("sources") { folder.parent()?.to_owned() } else { folder };
        dir.join("mizuno.toml").exists().then_some(dir)
    };
    let dir = config.or_else(around).ok_or_else(|| {
        Failure::usage(format!(
            "{} stands in no configuration; say with --config DIR whose venues and instruments it is tried with",
            file.display()
        ))
    })?;
    // A service that lives by a clock of its own, as the demo does, is followed.
    let clock = match client.get::<Status>("/status", &[]).await {
        Ok(status) => status.now.parse().map(|start| ClockFace { start, wall: jiff::Timestamp::now().into(), speed: status.speed }).ok(),
        Err(_) => None,
    };
    let wanted = Try { profile: Some(text), ..wanted };
    let tried = mizuno_service::try_profile(dir, wanted, clock.filter(|c| c.speed != 1.0).unwrap_or(ClockFace::REAL));
    tried.await.map_err(Failure::new)
}

fn print(t: &Tried) {
    out!("{} from {} to {}, tried and not kept", t.series, t.from, t.to);
    for page in &t.pages {
        out!("asked      {}", page.request);
        if let Some(status) = page.status {
            out!(
                "answer     status {status}, {}, {} bytes",
                page.media_type.as_deref().unwrap_or("no media type"),
                show::count(page.bytes)
            );
        }
    }
    if let Some(key) = &t.key {
        out!("key        {key}");
    }
    for line in &t.first_lines {
        out!("    {line}");
    }
    if let (Some(class), Some(message)) = (&t.failure, &t.message) {
        out!("failed     {class}: {message}");
    } else {
        out!(
            "understood {} rows: {} sound, {} not finished, {} refused",
            show::count(t.rows),
            show::count(t.sound),
            t.unfinished,
            show::count(t.refused_count)
        );
    }
    if !t.bars.is_empty() {
        out!("");
        let time = format!("time ({})", t.zone);
        let absent = || "absent".to_owned();
        let mut headers = vec![&time[..], "open", "high", "low", "close", "volume"];
        let told = t.bars.iter().any(|b| b.open_interest.is_some());
        headers.extend(told.then_some("open interest"));
        let row = |b: &TriedBar| {
            let mut cells = [&b.time, &b.open, &b.high, &b.low, &b.close].map(String::clone).to_vec();
            cells.push(b.volume.clone().unwrap_or_else(absent));
            cells.extend(told.then(|| b.open_interest.clone().unwrap_or_else(absent)));
            cells
        };
        show::table(&show::Columns { headers: &headers, numbers: &[1, 2, 3, 4, 5, 6], least: &[] }, t.bars.iter().map(row).collect());
    }
    for row in &t.refused {
        out!("refused    line {}: {}", row.line, row.because);
        out!("    {}", row.text);
    }
    for hint in &t.hints {
        out!("hint       {hint}");
    }
}

/// Which lists.
#[derive(Args)]
pub struct Lists {
    /// Collect this one now, written SOURCE/LIST.
    #[arg(conflicts_with = "changes")]
    collect: Option<String>,
    /// Show what the lists said that they had not said before.
    #[arg(long)]
    changes: bool,
    /// How many days of changes.
    #[arg(long, default_value_t = 7)]
    days: u32,
    /// Take this list, which was held back since it is so much shorter than before.
    #[arg(long, requires_all = ["collect", "by"], conflicts_with = "refuse")]
    take: bool,
    /// Refuse it; what it said before stays.
    #[arg(long, requires_all = ["collect", "by"])]
    refuse: bool,
    /// Who decides.
    #[arg(long)]
    by: Option<String>,
}

pub async fn lists(client: &Client, ask: Lists) -> Result<Code, Failure> {
    if ask.changes {
        let changes: Vec<ListChange> = client.get("/lists/changes", &[("days", &ask.days.to_string())]).await?;
        return show_changes(client, &changes).await;
    }
    if let (Some(name), true, Some(by)) = (&ask.collect, ask.take || ask.refuse, &ask.by) {
        let body = Decide { take: ask.take, by: by.clone() };
        client.send(Method::POST, &format!("/lists/{name}/decision"), &[], Some(&body)).await?;
        note!("{name} is {}", if ask.take { "taken from now on" } else { "refused, and what it said before stays" });
        return Ok(Code::Fine);
    }
    let found: Vec<ListStatus> = match &ask.collect {
        Some(name) => {
            let (source, list) =
                name.split_once('/').ok_or_else(|| Failure::usage(format!("`{name}` is not a list; write SOURCE/LIST")))?;
            vec![client.post(&format!("/lists/{source}/{list}"), &()).await?]
        }
        None => client.get("/lists", &[]).await?,
    };
    let code = if found.iter().any(|l| l.failure.is_some() || l.would_end.is_some()) { Code::NeedsAPerson } else { Code::Fine };
    if client.json {
        show::json(&found)?;
        return Ok(code);
    }
    if found.is_empty() {
        note!("no source keeps a list; a profile names them with [[list]]");
        return Ok(code);
    }
    let zone = client.zone().await?;
    let row = |l: &ListStatus| {
        let result = match (&l.failure, &l.message) {
            (Some(class), message) => format!("{class}: {}", message.as_deref().unwrap_or_default()),
            _ if l.would_end.is_some() => {
                let more = l.would_end.unwrap_or_default() > l.ending.len() as u64;
                format!(
                    "HELD BACK: {} {}, which would end {}: {}{}",
                    show::count(l.rows),
                    if l.rows == 1 { "row" } else { "rows" },
                    show::count(l.would_end.unwrap_or_default()),
                    l.ending.join(", "),
                    if more { " and others" } else { "" }
                )
            }
            _ if l.last.is_none() => "not collected yet".to_owned(),
            _ if l.refused > 0 => format!("{} rows, {} not readable", show::count(l.rows), l.refused),
            _ => format!("{} rows", show::count(l.rows)),
        };
        let last = l.last.as_ref().map_or("-".to_owned(), |t| zone.minute(t));
        vec![format!("{}/{}", l.source, l.list), l.of.clone(), l.venue.clone(), last, zone.minute(&l.next), result]
    };
    let last = format!("last ({})", zone.name());
    show::table(
        &show::Columns { headers: &["list", "of", "venue", &last, "next", "result"], numbers: &[], least: &[1, 2, 4] },
        found.iter().map(row).collect(),
    );
    Ok(code)
}

async fn show_changes(client: &Client, changes: &[ListChange]) -> Result<Code, Failure> {
    if client.json {
        show::json(&changes)?;
        return Ok(Code::Fine);
    }
    if changes.is_empty() {
        note!("the lists say what they said before");
        return Ok(Code::Fine);
    }
    let zone = client.zone().await?;
    for c in changes {
        let was = c.was_key.as_ref().map_or(String::new(), |k| format!(" (was {k})"));
        out!("{} {} {}/{} {}: {}{was}", zone.minute(&c.at), zone.name(), c.source, c.list, c.change, c.key);
        if c.change == "changed" {
            out!("    from {}", c.was.as_deref().unwrap_or_default());
            out!("    to   {}", c.is.as_deref().unwrap_or_default());
        }
    }
    Ok(Code::Fine)
}

pub async fn schedule(client: &Client) -> Result<Code, Failure> {
    let status: Status = client.get("/status", &[]).await?;
    if client.json {
        show::json(&status.collectors)?;
        return Ok(Code::Fine);
    }
    let rows = status.collectors.iter().map(|c| {
        let zone = Zone::named(&c.zone);
        let times: Vec<String> = c.next.iter().chain(&c.then).map(|t| zone.minute(t)).collect();
        vec![
            c.name.clone(),
            c.source.clone(),
            c.schedule.clone(),
            if times.is_empty() { "-".to_owned() } else { times.join(", ") },
            c.zone.clone(),
        ]
    });
    show::table(
        &show::Columns { headers: &["collector", "source", "schedule", "next times", "zone"], numbers: &[], least: &[1, 4] },
        rows.collect(),
    );
    Ok(Code::Fine)
}

pub async fn reload(client: &Client) -> Result<Code, Failure> {
    let reloaded: Reloaded = client.post("/reload", &()).await?;
    if client.json {
        show::json(&reloaded)?;
    } else if reloaded.changes.is_empty() {
        out!("taken up; nothing has changed");
    } else {
        for change in &reloaded.changes {
            out!("{change}");
        }
    }
    Ok(Code::Fine)
}
