//! `mizuno bars`.

use crate::{
    client::Client,
    exit::{Code, Failure},
};
use clap::Args;
use futures_util::StreamExt;
use reqwest::{Method, Response};
use std::{
    fs::File,
    io::{self, IsTerminal, Write},
    path::{Path, PathBuf},
};

/// Which bars, and how.
#[derive(Args)]
pub struct Bars {
    /// An instrument, or a series as in KBF/1m/harbour; of an instrument, the golden series.
    #[arg(value_name = "INSTRUMENT|SERIES")]
    which: String,
    /// Interval, as collected; 1d when left out.
    #[arg(long)]
    interval: Option<String>,
    /// One source's series instead of the golden one.
    #[arg(long)]
    source: Option<String>,
    /// trade (also when left out, where there are trades), bid, ask or mid.
    #[arg(long)]
    side: Option<String>,
    /// First trade date, or an instant.
    #[arg(long)]
    from: Option<String>,
    /// Last trade date, included, or an instant, not included.
    #[arg(long)]
    to: Option<String>,
    /// Only what was known at this instant.
    #[arg(long, value_name = "INSTANT")]
    as_of: Option<String>,
    /// Columns in order, as in time,close.
    #[arg(long)]
    columns: Option<String>,
    /// csv, ndjson, json or parquet; by the ending of FILE when left out, else csv.
    #[arg(long)]
    format: Option<String>,
    /// Zone to write instants in, as in Pacific/Auckland; UTC when left out.
    #[arg(long)]
    zone: Option<String>,
    /// Write to this file instead of standard output.
    #[arg(long, short, value_name = "FILE")]
    output: Option<PathBuf>,
}

pub async fn bars(client: &Client, ask: Bars) -> Result<Code, Failure> {
    let format = format(&ask, client.json)?;
    if format == "parquet" && ask.output.is_none() && io::stdout().is_terminal() {
        return Err(Failure::usage("a Parquet file is no sight for a terminal; give -o FILE, or send it down a pipe"));
    }
    let which = if ask.which.contains('/') { "series" } else { "instrument" };
    let mut query = vec![(which, ask.which.as_str()), ("format", &format)];
    let options = [
        ("source", &ask.source),
        ("side", &ask.side),
        ("from", &ask.from),
        ("to", &ask.to),
        ("as_of", &ask.as_of),
        ("columns", &ask.columns),
        ("zone", &ask.zone),
    ];
    query.extend(options.into_iter().filter_map(|(name, value)| Some((name, value.as_deref()?))));
    match (which, ask.interval.as_deref()) {
        (_, Some(interval)) => query.push(("interval", interval)),
        ("instrument", None) => query.push(("interval", "1d")),
        _ => {}
    }
    let response = client.send::<()>(Method::GET, "/bars", &query, None).await?;
    let header = |name| response.headers().get(name).and_then(|v| v.to_str().ok()).unwrap_or("?").to_owned();
    let notice = format!("{}: {}", header("Mizuno-Series"), header("Mizuno-Completeness"));
    match &ask.output {
        None => tokio::select! {
            copied = copy(response, io::stdout().lock()) => copied.map(|_| ())?,
            _ = tokio::signal::ctrl_c() => return Ok(Code::Interrupted),
        },
        Some(path) => {
            let bytes = to_file(response, path).await?;
            note!("wrote {} ({})", path.display(), crate::show::bytes(bytes));
        }
    }
    note!("{notice}");
    Ok(Code::Fine)
}

const FORMATS: [&str; 4] = ["csv", "ndjson", "json", "parquet"];

/// The format asked for, or the one that the file's ending names.
fn format(ask: &Bars, json: bool) -> Result<String, Failure> {
    let ending = ask.output.as_ref().and_then(|p| p.extension()).map(|e| e.to_string_lossy().into_owned());
    match (&ask.format, ending) {
        (Some(format), _) => Ok(format.clone()),
        (None, Some(ending)) if FORMATS.contains(&ending.as_str()) => Ok(ending),
        (None, Some(ending)) => Err(Failure::usage(format!(
            "-o: no format is called by the ending .{ending}; there is {}. Say which with --format to write it under this name",
            FORMATS.join(", ")
        ))),
        (None, None) => Ok(if json { "json" } else { "csv" }.to_owned()),
    }
}

/// Writes beside the file and moves it there when whole, so that a half file never carries its name.
async fn to_file(response: Response, path: &Path) -> Result<u64, Failure> {
    let mut part = path.as_os_str().to_owned();
    part.push(".part");
    let part = PathBuf::from(part);
    let failed = |e: io::Error| Failure::new(format!("cannot write {}: {e}", path.display()));
    let file = File::create(&part).map_err(failed)?;
    let copied = tokio::select! {
        copied = copy(response, file) => copied,
        _ = tokio::signal::ctrl_c() => Err(Failure::interrupted(format!("stopped; {} is as it was before", path.display()))),
    };
    let bytes = match copied {
        Ok(bytes) => bytes,
        Err(e) => {
            let _ = std::fs::remove_file(&part);
            return Err(e);
        }
    };
    std::fs::rename(&part, path).map_err(failed)?;
    Ok(bytes)
}

async fn copy(response: Response, mut to: impl Write) -> Result<u64, Failure> {
    let mut stream = response.bytes_stream();
    let mut bytes = 0;
    while let Some(piece) = stream.next().await {
        let piece = piece.map_err(|_| {
            Failure::new("the answer broke off before its end, and what was written is not whole; the log of the service says why")
        })?;
        bytes += piece.len() as u64;
        match to.write_all(&piece) {
            Err(e) if e.kind() == io::ErrorKind::BrokenPipe => return Ok(bytes),
            other => other.map_err(|e| Failure::new(format!("cannot write: {e}")))?,
        }
    }
    match to.flush() {
        Err(e) if e.kind() != io::ErrorKind::BrokenPipe => Err(Failure::new(format!("cannot write: {e}"))),
        _ => Ok(bytes),
    }
}
