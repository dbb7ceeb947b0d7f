//! `mizuno bars`.

use crate::{
    client::Client,
    commands::{explain, whose::Whose},
    exit::{Code, Failure},
};
use clap::Args;
use futures_util::StreamExt;
use reqwest::{Method, Response};
use std::{
    collections::BTreeMap,
    fs::File,
    io::{self, IsTerminal, Write},
    path::{Path, PathBuf},
};

/// Which bars, and how.
#[derive(Args)]
pub struct Bars {
    /// Instruments, patterns as 'AL*', or one series as in KBF/1m/harbour; of instruments, the golden series.
    #[arg(value_name = "INSTRUMENT|SERIES", required_unless_present_any = ["question", "search", "saved", "universe"])]
    which: Vec<String>,
    /// Ask what stands in this file, as TOML or JSON (docs/questions.md).
    #[arg(long, value_name = "FILE", conflicts_with_all = ["which", "search", "universe", "interval", "source", "side", "saved"])]
    question: Option<PathBuf>,
    /// Ask the question saved under this name; other options stand in the place of what it says.
    #[arg(long, value_name = "NAME")]
    saved: Option<String>,
    /// Say what the answer would be, and the question in other forms, before a byte of it is written.
    #[arg(long)]
    explain: bool,
    /// Print the question as SQL over the table of this edition, as in --sql=desk/3; of the newest that has one when no name is given.
    #[arg(long, value_name = "EDITION", num_args = 0..=1, require_equals = true, default_missing_value = "", conflicts_with_all = ["explain", "output"])]
    sql: Option<String>,
    /// With --sql: datafusion (also when left out), duckdb or spark.
    #[arg(long, requires = "sql")]
    engine: Option<String>,
    /// Also instruments found by these words.
    #[arg(long, value_name = "WORDS")]
    search: Option<String>,
    /// Also the members of this universe, each on its days as a member.
    #[arg(long, value_name = "NAME")]
    universe: Option<String>,
    /// Of a universe: masked (bars of its days as a member only; also when left out) or whole (whole histories).
    #[arg(long, value_name = "masked|whole")]
    members: Option<String>,
    /// Interval: as collected, or coarser, as in 5m, 1h, 1d, 1w, 1mo, 1q or 1y; 1d when left out.
    #[arg(long)]
    interval: Option<String>,
    #[command(flatten)]
    whose: Whose,
    /// Instead of the bars, what differs from the answer as of this instant: new, changed and gone rows, each with the cause.
    #[arg(long, value_name = "INSTANT")]
    since: Option<String>,
    /// Of a wide file: each series beside the first also as its difference from it, or its ratio to it.
    #[arg(long, value_name = "difference|ratio")]
    against: Option<String>,
    /// The interval that coarser bars are made of; the coarsest collected one that divides them when left out.
    #[arg(long, value_name = "INTERVAL")]
    made_from: Option<String>,
    /// Bars so much coarser that no series has more than so many rows, as for the width of a picture.
    #[arg(long, value_name = "ROWS")]
    fit: Option<String>,
    /// Where coarser bars of a session begin: session (its open, and after each break), or a zone, on whose clock they do.
    #[arg(long, value_name = "session|ZONE")]
    align: Option<String>,
    /// The session that weeks and longer are labelled by: first (also when left out) or last.
    #[arg(long, value_name = "SESSION")]
    label: Option<String>,
    /// Coarser bars of which something is missing: kept (also when left out) or dropped.
    #[arg(long, value_name = "kept|dropped")]
    incomplete: Option<String>,
    /// Prices adjusted for: none (as traded; also when left out), splits, or all (dividends, rights and spin-offs too).
    #[arg(long, value_name = "ACTIONS")]
    adjust: Option<String>,
    /// Continuous series of futures at their rolls: kept (as traded; also when left out), difference or ratio of the two contracts' closes.
    #[arg(long, value_name = "kept|difference|ratio")]
    rolls: Option<String>,
    /// Where adjusted or joined prices are as traded: newest (also when left out), oldest, or with --adjust a trade date after which no action counts.
    #[arg(long, value_name = "newest|oldest|DATE")]
    anchor: Option<String>,
    /// Where an instrument was delisted, the price of its delisting as one bar more: left-out (also when left out) or last-price.
    #[arg(long, value_name = "left-out|last-price")]
    delisting: Option<String>,
    /// long (a row a bar), wide (a row a moment, the instruments side by side) or latest (a row an instrument: its newest bar); long when left out.
    #[arg(long)]
    layout: Option<String>,
    /// Of a wide file: outer (moments that any instrument has) or inner (that all have); outer when left out.
    #[arg(long)]
    join: Option<String>,
    /// Columns in order, as in time,close; further ones are trade_date, epoch, instrument, source, doubted, completeness, action, contract (of continuous series), with --adjust raw_close, price_factor and volume_factor, and of coarser bars average_price, held and expected. Numbers are worked out of bars by name, as in return, range, rises, mean_200 or deviation_20_of_return; docs/derived.md has them all.
    #[arg(long)]
    columns: Option<String>,
    /// Other names for columns, as in close:Close,date:Date.
    #[arg(long)]
    names: Option<String>,
    /// Numbers held against the bar before, where bars are missing between the two: empty (also when left out) or bridged.
    #[arg(long, value_name = "empty|bridged")]
    across_gaps: Option<String>,
    /// Only rows of which this holds, as in 'close > mean_200'; several are parted by commas.
    #[arg(long = "where", value_name = "CONDITIONS")]
    conditions: Option<String>,
    /// Of each instrument only the first so many of these rows.
    #[arg(long, value_name = "ROWS")]
    keep_first: Option<String>,
    /// Of each instrument only the last so many of these rows.
    #[arg(long, value_name = "ROWS")]
    keep_last: Option<String>,
    /// With --layout latest: a number that the rows are sorted by, smallest first; with a minus before it largest first.
    #[arg(long, value_name = "[-]COLUMN", allow_hyphen_values = true)]
    sort: Option<String>,
    /// With --layout latest: only the first so many rows.
    #[arg(long, value_name = "ROWS")]
    limit: Option<String>,
    /// Where there is no bar: absent, rows (a row for every expected slot), or carried (the last close, marked; in wide files).
    #[arg(long)]
    missing: Option<String>,
    /// The clock of stamps: UTC, Pacific/Auckland, +02:00, or +02:00/America/New_York; UTC when left out.
    #[arg(long)]
    zone: Option<String>,
    /// rfc3339, wall, seconds, millis, micros, or a pattern as %d.%m.%Y; rfc3339 when left out.
    #[arg(long)]
    stamp: Option<String>,
    /// open or end of an intraday bar; open when left out.
    #[arg(long, value_name = "END")]
    stamp_at: Option<String>,
    /// Only bars that open between two times at the venue, as in 10:00-12:00.
    #[arg(long)]
    hours: Option<String>,
    /// Only the first minutes of each session.
    #[arg(long, value_name = "MINUTES")]
    first_minutes: Option<String>,
    /// Only the last minutes of each session.
    #[arg(long, value_name = "MINUTES")]
    last_minutes: Option<String>,
    /// Prices to so many decimals, or to the tick.
    #[arg(long, value_name = "DECIMALS|tick")]
    round: Option<String>,
    /// csv, ndjson, json, parquet or xlsx; by the ending of FILE when left out, else csv.
    #[arg(long)]
    format: Option<String>,
    /// What parts the cells of a CSV file: comma, semicolon, tab or pipe.
    #[arg(long)]
    separator: Option<String>,
    /// point or comma, in a CSV file.
    #[arg(long, value_name = "SIGN")]
    decimal_sign: Option<String>,
    /// Whether a CSV file begins with the names of its columns: true or false.
    #[arg(long)]
    header: Option<String>,
    /// Quotation marks in a CSV file: needed, or texts (round every text, stamp and name of a column).
    #[arg(long)]
    quotes: Option<String>,
    /// rows (an object a row) or columns (an array a column), in a JSON file.
    #[arg(long)]
    arrays: Option<String>,
    /// exact or floats, in a Parquet file or a workbook.
    #[arg(long)]
    numbers: Option<String>,
    /// Write to this file instead of standard output.
    #[arg(long, short, value_name = "FILE")]
    output: Option<PathBuf>,
}

/// The longest question that is asked by its address; a longer one is sent as a body.
const ADDRESS: usize = 4_000;

/// A question on its way.
enum Asked {
    Short(Vec<(&'static str, String)>),
    Long(BTreeMap<&'static str, String>),
    File(&'static str, String),
}

impl Bars {
    /// The keys of the question, but for those of a file.
    fn pairs(&self) -> Vec<(&'static str, String)> {
        let series = self.which.len() == 1 && self.which[0].contains('/');
        let which = (!self.which.is_empty()).then(|| self.which.join(","));
        let all = [
            (if series { "series" } else { "instruments" }, &which),
            ("saved", &self.saved),
            ("search", &self.search),
            ("universe", &self.universe),
            ("members", &self.members),
            ("interval", &self.interval),
            ("source", &self.whose.source),
            ("side", &self.whose.side),
            ("from", &self.whose.from),
            ("to", &self.whose.to),
            ("last", &self.whose.last),
            ("this", &self.whose.this),
            ("as_of", &self.whose.as_of),
            ("since", &self.since),
            ("made_from", &self.made_from),
            ("fit", &self.fit),
            ("align", &self.align),
            ("label", &self.label),
            ("incomplete", &self.incomplete),
            ("adjust", &self.adjust),
            ("rolls", &self.rolls),
            ("delisting", &self.delisting),
            ("anchor", &self.anchor),
            ("layout", &self.layout),
            ("join", &self.join),
            ("against", &self.against),
            ("columns", &self.columns),
            ("names", &self.names),
            ("across_gaps", &self.across_gaps),
            ("where", &self.conditions),
            ("keep_first", &self.keep_first),
            ("keep_last", &self.keep_last),
            ("sort", &self.sort),
            ("limit", &self.limit),
            ("missing", &self.missing),
            ("zone", &self.zone),
            ("stamp", &self.stamp),
            ("stamp_at", &self.stamp_at),
            ("hours", &self.hours),
            ("first_minutes", &self.first_minutes),
            ("last_minutes", &self.last_minutes),
            ("round", &self.round),
            ("format", &self.format),
            ("separator", &self.separator),
            ("decimal_sign", &self.decimal_sign),
            ("header", &self.header),
            ("quotes", &self.quotes),
            ("arrays", &self.arrays),
            ("numbers", &self.numbers),
        ];
        all.into_iter().filter_map(|(key, value)| Some((key, value.clone()?))).collect()
    }

    fn asked(&self, json: bool) -> Result<Asked, Failure> {
        let mut pairs = self.pairs();
        if let Some(path) = &self.question {
            if let Some((key, _)) = pairs.first() {
                let option = key.replace('_', "-");
                return Err(Failure::usage(format!("--{option} and --question say the question twice; write {key} into the file instead")));
            }
            let text = std::fs::read_to_string(path).map_err(|e| Failure::usage(format!("cannot read {}: {e}", path.display())))?;
            let json = path.extension().is_some_and(|e| e == "json");
            return Ok(Asked::File(if json { "application/json" } else { "application/toml" }, text));
        }
        // A saved question says its own format.
        if self.format.is_none() && !self.explain && self.sql.is_none() && (self.saved.is_none() || self.output.is_some() || json) {
            pairs.push(("format", format(self.output.as_deref(), json)?));
        }
        match pairs.iter().map(|(_, value)| value.len()).sum::<usize>() > ADDRESS {
            false => Ok(Asked::Short(pairs)),
            true => Ok(Asked::Long(pairs.into_iter().collect())),
        }
    }
}

impl Asked {
    async fn send(&self, client: &Client, path: &str) -> Result<Response, Failure> {
        self.send_with(client, path, &[]).await
    }

    /// The same with more behind the question mark.
    async fn send_with(&self, client: &Client, path: &str, more: &[(&str, &str)]) -> Result<Response, Failure> {
        match self {
            Asked::Short(pairs) => {
                let mut pairs: Vec<(&str, &str)> = pairs.iter().map(|(key, value)| (*key, value.as_str())).collect();
                pairs.extend(more);
                client.send::<()>(Method::GET, path, &pairs, None).await
            }
            Asked::Long(keys) => client.send(Method::POST, path, more, Some(keys)).await,
            Asked::File(kind, text) => client.send_text(path, kind, more, text.clone()).await,
        }
    }
}

pub async fn bars(client: &Client, ask: Bars) -> Result<Code, Failure> {
    let asked = ask.asked(client.json)?;
    if ask.explain {
        return explain::explain(client, asked.send(client, "/explanation").await?).await;
    }
    if let Some(edition) = &ask.sql {
        let more = [("edition", Some(edition.as_str()).filter(|e| !e.is_empty())), ("engine", ask.engine.as_deref())];
        let more: Vec<(&str, &str)> = more.into_iter().filter_map(|(key, value)| Some((key, value?))).collect();
        return sql(client, asked.send_with(client, "/translation", &more).await?).await;
    }
    let response = asked.send(client, "/bars").await?;
    let header = |name| response.headers().get(name).and_then(|v| v.to_str().ok()).unwrap_or("?").to_owned();
    let binary = ["parquet", "spreadsheet"].iter().any(|kind| header("Content-Type").contains(kind));
    if binary && ask.output.is_none() && io::stdout().is_terminal() {
        return Err(Failure::usage("a file of this format is no sight for a terminal; give -o FILE, or send it down a pipe"));
    }
    if let (Some(path), Some(_)) = (&ask.output, &ask.question) {
        fits(path, &header("Content-Disposition"))?;
    }
    let notice = format!("{}: {}", header("Mizuno-Series"), header("Mizuno-Completeness"));
    let next = ask.since.is_some().then(|| format!("these are changes; ask next time: --since {}", header("Mizuno-As-Of")));
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
    if let Some(next) = next {
        note!("{next}");
    }
    Ok(Code::Fine)
}

/// Prints a query, or what it is as JSON.
async fn sql(client: &Client, response: Response) -> Result<Code, Failure> {
    let header = |name| response.headers().get(name).and_then(|v| v.to_str().ok()).unwrap_or("?").to_owned();
    let (edition, as_of) = (header("Mizuno-Edition"), header("Mizuno-As-Of"));
    let text = response.text().await.map_err(Failure::new)?;
    if client.json {
        crate::show::json(&serde_json::json!({ "edition": edition, "as_of": as_of, "sql": text }))?;
        return Ok(Code::Fine);
    }
    out!("{}", text.trim_end());
    note!("mizuno editions {edition} --tables makes its tables known to an engine");
    Ok(Code::Fine)
}

/// A file that a question fills has the ending of the question's format, where its ending is one of a format.
fn fits(path: &Path, disposition: &str) -> Result<(), Failure> {
    let ending = path.extension().map(|e| e.to_string_lossy().into_owned()).unwrap_or_default();
    let is = disposition.trim_end_matches('"').rsplit('.').next().unwrap_or_default();
    match FORMATS.contains(&ending.as_str()) && ending != is {
        true => Err(Failure::usage(format!("-o: the question asks for {is}, and {} ends in .{ending}", path.display()))),
        false => Ok(()),
    }
}

const FORMATS: [&str; 5] = ["csv", "ndjson", "json", "parquet", "xlsx"];

/// The format that the file's ending names.
fn format(output: Option<&Path>, json: bool) -> Result<String, Failure> {
    match output.and_then(Path::extension).map(|e| e.to_string_lossy().into_owned()) {
        Some(ending) if FORMATS.contains(&ending.as_str()) => Ok(ending),
        Some(ending) => Err(Failure::usage(format!(
            "-o: no format is called by the ending .{ending}; there is {}. Say which with --format to write it under this name",
            FORMATS.join(", ")
        ))),
        None => Ok(if json { "json" } else { "csv" }.to_owned()),
    }
}

/// Writes beside the file and moves it there when whole, so that a half file never carries its name.
pub(super) async fn to_file(response: Response, path: &Path) -> Result<u64, Failure> {
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
