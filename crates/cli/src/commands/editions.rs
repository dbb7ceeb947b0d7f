//! `mizuno editions`: sets of files that never change.

use super::copying;
use crate::{
    client::Client,
    exit::{Code, Failure},
    show,
};
use clap::{ArgGroup, Args};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use mizuno_api::{
    DecideEdition, Edition, EditionDifference, EditionSpec, EditionTold, EditionVerdict, MakeEdition, VerifyEdition, words::escaped,
};
use reqwest::Method;
use std::{io::IsTerminal, path::PathBuf, time::Duration};

/// Which edition, and what to do with it.
#[derive(Args)]
#[command(group(ArgGroup::new("deed").args(["make", "verify", "diff", "pin", "unpin", "withdraw", "cancel", "expire", "copy", "tables"]).requires("name")))]
pub struct Editions {
    /// A spec, as `monthly`, or one of its editions: `monthly/2` by number, `monthly/2025-03` by label, `monthly/latest`.
    name: Option<String>,
    /// Make one now, and watch it.
    #[arg(long, requires = "by")]
    make: bool,
    /// Hold its files against their sums.
    #[arg(long)]
    verify: bool,
    /// With --verify: make it once more from its record, and hold that against it too.
    #[arg(long, requires = "verify")]
    again: bool,
    /// Show what differs from an older one: from this, or from the one before.
    #[arg(long, value_name = "OLDER", num_args = 0..=1, default_missing_value = "")]
    diff: Option<String>,
    /// Keep it when others expire, for this reason.
    #[arg(long, value_name = "WHY", requires = "by")]
    pin: Option<String>,
    /// Let it expire as others do.
    #[arg(long, requires = "by")]
    unpin: bool,
    /// Serve it to nobody any more; whoever asks for it reads this reason.
    #[arg(long, value_name = "WHY", requires = "by")]
    withdraw: Option<String>,
    /// Stop making it.
    #[arg(long, requires = "by")]
    cancel: bool,
    /// Take away the files of editions that the spec does not keep.
    #[arg(long)]
    expire: bool,
    /// With --expire: only say which.
    #[arg(long, requires = "expire")]
    preview: bool,
    /// Keep a copy of it in this folder: only what changed is fetched, and `current` there is always a whole edition.
    #[arg(long, value_name = "DIR")]
    copy: Option<PathBuf>,
    /// Print the statements that make its tables known to a SQL engine: datafusion (also when left out), duckdb or spark.
    #[arg(long, value_name = "ENGINE", num_args = 0..=1, default_missing_value = "datafusion")]
    tables: Option<String>,
    /// With --tables: the folder of the edition as the engine sees it; where it was published when left out.
    #[arg(long, value_name = "PLACE", requires = "tables")]
    place: Option<String>,
    /// Who does it.
    #[arg(long)]
    by: Option<String>,
}

pub async fn editions(client: &Client, ask: Editions) -> Result<Code, Failure> {
    let by = ask.by.clone().unwrap_or_default();
    let Some(name) = &ask.name else { return specs(client).await };
    let (spec, which) = name.split_once('/').map_or((name.as_str(), None), |(spec, which)| (spec, Some(which)));
    if ask.make {
        if which.is_some() {
            return Err(Failure::usage(format!("an edition is made of a spec: mizuno editions {spec} --make --by {by}")));
        }
        let edition: Edition = client.post(&format!("/editions/{spec}"), &MakeEdition { by }).await?;
        return follow(client, edition).await;
    }
    if ask.expire {
        let preview = ask.preview.to_string();
        let response = client.send::<()>(Method::POST, &format!("/editions/{spec}/expire"), &[("preview", &preview)], None).await?;
        let gone: Vec<Edition> = response.json().await.map_err(Failure::new)?;
        return expired(client, spec, &gone, ask.preview);
    }
    let deed = ask.verify
        || ask.diff.is_some()
        || ask.pin.is_some()
        || ask.unpin
        || ask.withdraw.is_some()
        || ask.cancel
        || ask.copy.is_some()
        || ask.tables.is_some();
    // What is to be cancelled is what is being made.
    let making = match which {
        None if ask.cancel => {
            let all: Vec<Edition> = client.get(&format!("/editions/{spec}"), &[]).await?;
            let found = all.into_iter().find(|e| e.state == "making").map(|e| e.number.to_string());
            Some(found.ok_or_else(|| Failure::new(format!("no edition of {spec} is being made")))?)
        }
        _ => None,
    };
    let Some(which) = which.or(making.as_deref()).or(deed.then_some("latest")) else { return list(client, spec).await };
    let path = format!("/editions/{spec}/{which}");
    let decide = |to: &str, why: Option<String>| DecideEdition { to: to.to_owned(), by: by.clone(), why: why.unwrap_or_default() };
    if ask.verify {
        return verdict(client, client.post(&format!("{path}/verify"), &VerifyEdition { again: ask.again }).await?, name);
    }
    if let Some(older) = &ask.diff {
        let query: Vec<(&str, &str)> = Some(older.as_str()).filter(|o| !o.is_empty()).map(|o| ("from", o)).into_iter().collect();
        return difference(client, client.get(&format!("{path}/difference"), &query).await?);
    }
    if let Some(engine) = &ask.tables {
        let query: Vec<(&str, &str)> = [("engine", Some(engine.as_str())), ("place", ask.place.as_deref())]
            .into_iter()
            .filter_map(|(key, value)| Some((key, value?)))
            .collect();
        let response = client.send::<()>(Method::GET, &format!("{path}/tables"), &query, None).await?;
        out!("{}", response.text().await.map_err(Failure::new)?.trim_end());
        return Ok(Code::Fine);
    }
    if let Some(folder) = &ask.copy {
        return copying::copy(client, client.get(&path, &[]).await?, folder).await;
    }
    let decision = match () {
        () if ask.pin.is_some() => decide("pin", ask.pin),
        () if ask.unpin => decide("unpin", None),
        () if ask.withdraw.is_some() => decide("withdraw", ask.withdraw),
        () if ask.cancel => decide("cancel", None),
        () => return told(client, client.get(&path, &[]).await?).await,
    };
    let edition: Edition = client.post(&format!("{path}/decision"), &decision).await?;
    if client.json {
        show::json(&edition)?;
    } else {
        note!("{}: {}", called(&edition), standing(&edition));
    }
    Ok(Code::Fine)
}

/// What an edition is called: its spec and number, and its label.
fn called(edition: &Edition) -> String {
    format!("{}/{} ({})", edition.spec, edition.number, edition.label)
}

/// How it stands, in a few words.
fn standing(edition: &Edition) -> String {
    if let Some(withdrawn) = &edition.withdrawn {
        return format!("withdrawn by {}: {}", withdrawn.by, withdrawn.why);
    }
    match (&edition.pinned, &edition.remark) {
        (Some(pinned), _) => format!("{}, kept by {}: {}", edition.state, pinned.by, pinned.why),
        (None, Some(remark)) => format!("{}; {remark}", edition.state),
        (None, None) => edition.state.clone(),
    }
}

async fn specs(client: &Client) -> Result<Code, Failure> {
    let all: Vec<EditionSpec> = client.get("/editions", &[]).await?;
    if client.json {
        show::json(&all)?;
        return Ok(Code::Fine);
    }
    if all.is_empty() {
        note!("no edition is configured; write one into editions/ of the configuration, as docs/editions.md shows");
        return Ok(Code::Fine);
    }
    let zone = client.zone().await?;
    let row = |s: &EditionSpec| {
        let next = match (&s.held_up, &s.making, &s.next) {
            (Some(held), ..) => format!("held up since {}", zone.minute(&held.due)),
            (None, Some(_), _) => "being made".to_owned(),
            (None, None, Some(next)) => zone.minute(next),
            (None, None, None) => "when asked".to_owned(),
        };
        let newest = s.latest.as_ref().map_or("-".to_owned(), |e| format!("{} ({})", e.number, e.label));
        vec![s.name.clone(), s.title.clone(), newest, show::count(s.editions), next]
    };
    let next = format!("next ({})", zone.name());
    let columns = show::Columns { headers: &["edition", "what it is", "latest", "kept", &next], numbers: &[3], least: &[1, 3] };
    show::table(&columns, all.iter().map(row).collect());
    for (spec, held) in all.iter().filter_map(|s| Some((s, s.held_up.as_ref()?))) {
        note!("{} is held up: {}; make it as it is with: mizuno editions {} --make --by NAME", spec.name, held.why.join("; "), spec.name);
    }
    for (spec, why) in all.iter().filter_map(|s| Some((s, s.storage_behind.as_ref()?))) {
        note!("the object storage of {} is behind: {why}; it is tried again by itself", spec.name);
    }
    Ok(Code::Fine)
}

async fn list(client: &Client, spec: &str) -> Result<Code, Failure> {
    let all: Vec<Edition> = client.get(&format!("/editions/{spec}"), &[]).await?;
    if client.json {
        show::json(&all)?;
        return Ok(Code::Fine);
    }
    if all.is_empty() {
        note!("none was made yet; make one with: mizuno editions {spec} --make --by NAME");
        return Ok(Code::Fine);
    }
    let zone = client.zone().await?;
    let why = |e: &Edition| match (&e.due, &e.asked_by) {
        (Some(due), _) => format!("due {}", zone.minute(due)),
        (None, by) => format!("asked for by {}", show::or_dash(by)),
    };
    // What did not hold is a long story; the edition itself tells it.
    let state = |e: &Edition| match (e.state.as_str(), &e.remark) {
        ("made", Some(_)) => "made, marked".to_owned(),
        _ => standing(e),
    };
    let row = |e: &Edition| vec![e.number.to_string(), e.label.clone(), zone.minute(&e.as_of), why(e), state(e)];
    let as_of = format!("as of ({})", zone.name());
    let columns = show::Columns { headers: &["number", "label", &as_of, "made because", "state"], numbers: &[0], least: &[3] };
    show::table(&columns, all.iter().map(row).collect());
    Ok(Code::Fine)
}

async fn told(client: &Client, told: EditionTold) -> Result<Code, Failure> {
    if client.json {
        show::json(&told)?;
        return Ok(Code::Fine);
    }
    let edition = &told.edition;
    show::heading(&format!("{}, as of {}", called(edition), edition.as_of));
    match (edition.state.as_str(), &edition.remark) {
        ("made", Some(remark)) => out!("made although this does not hold: {remark}"),
        _ => out!("{}", standing(edition)),
    }
    if let Some(before) = told.before {
        out!(
            "{} of {} bytes are those of {}/{before}",
            show::count(told.linked_bytes as u64),
            show::count(told.bytes as u64),
            edition.spec
        );
    }
    if let Some(published) = &edition.published {
        out!("published to {} on {}", published.to, published.at);
    }
    if let Some(sums) = &edition.sums {
        out!("SHA256SUMS {sums}");
    }
    if told.content.is_empty() {
        return Ok(Code::Fine);
    }
    out!("");
    let row = |f: &mizuno_api::EditionFile| {
        let rows = if f.rows > 0 { show::count(f.rows as u64) } else { "-".to_owned() };
        vec![
            f.path.clone(),
            rows,
            show::bytes(f.bytes as u64),
            f.sha256[..12].to_owned(),
            if f.linked { "as before" } else { "new" }.to_owned(),
        ]
    };
    let columns = show::Columns { headers: &["file", "rows", "bytes", "sha256", "made"], numbers: &[1, 2], least: &[3, 4] };
    show::table(&columns, told.content.iter().map(row).collect());
    if edition.state == "made" {
        let first = told.content.iter().find(|f| f.rows > 0 && !f.path.starts_with("about/")).map_or("index.html", |f| f.path.as_str());
        note!("open one by its address: {}/api/v1/editions/{}/{}/files/{first}", client.base(), edition.spec, edition.number);
        note!("keep a copy with: mizuno editions {}/latest --copy DIR", edition.spec);
    }
    Ok(Code::Fine)
}

/// Watches an edition until it is made. Ctrl-C cancels it.
async fn follow(client: &Client, mut edition: Edition) -> Result<Code, Failure> {
    let target = if std::io::stderr().is_terminal() { ProgressDrawTarget::stderr() } else { ProgressDrawTarget::hidden() };
    let style =
        ProgressStyle::with_template("{prefix} {bar:20} {pos}/{len} files  {wide_msg}").unwrap_or_else(|_| ProgressStyle::default_bar());
    let bar = ProgressBar::with_draw_target(Some(0), target).with_style(style.progress_chars("=> ")).with_prefix(called(&edition));
    let path = format!("/editions/{}/{}", edition.spec, edition.number);
    let interrupt = tokio::signal::ctrl_c();
    tokio::pin!(interrupt);
    while edition.state == "making" {
        if let Some(p) = &edition.progress {
            bar.set_length(p.files);
            bar.set_position(p.done);
            bar.set_message(format!("{} rows, {}, {} as before", show::count(p.rows), show::bytes(p.bytes), p.linked));
        }
        tokio::select! {
            () = tokio::time::sleep(Duration::from_millis(150)) => edition = client.get(&path, &[]).await?,
            _ = &mut interrupt => {
                let stop = DecideEdition { to: "cancel".to_owned(), by: "Ctrl-C".to_owned(), why: String::new() };
                bar.finish_and_clear();
                let _: Edition = client.post(&format!("{path}/decision"), &stop).await?;
                return Err(Failure::interrupted(format!("{} is cancelled; what was made of it is taken away", called(&edition))));
            }
        }
    }
    bar.finish_and_clear();
    match edition.state.as_str() {
        "made" => told(client, client.get(&path, &[]).await?).await,
        state => {
            Err(Failure::new(format!("{} is {state}: {}", called(&edition), edition.remark.as_deref().map(escaped).unwrap_or_default())))
        }
    }
}

fn verdict(client: &Client, found: EditionVerdict, name: &str) -> Result<Code, Failure> {
    let code = if found.sound { Code::Fine } else { Code::NeedsAPerson };
    if client.json {
        show::json(&found)?;
        return Ok(code);
    }
    for (path, what) in &found.damaged {
        out!("{path}: {what}");
    }
    for path in &found.differ {
        match found.same_contents.contains(path) {
            true => out!("{path}: made again it has other bytes and the same contents"),
            false => out!("{path}: comes out otherwise when it is made again"),
        }
    }
    if let (Some(program), false) = (&found.other_program, found.differ.is_empty()) {
        out!("version {program} made it, and this is {}", env!("CARGO_PKG_VERSION"));
    }
    let again = match (found.again, found.differ.is_empty()) {
        (false, _) => "",
        (true, true) => ", and made again they are the same",
        (true, false) => ", and made again they say the same",
    };
    match found.sound {
        true => out!("{}: {} files are as they were made{again}", escaped(name), found.files),
        false => note!("the record of {} has the sums; make a new one, or put the files back from a copy", escaped(name)),
    }
    Ok(code)
}

fn difference(client: &Client, found: EditionDifference) -> Result<Code, Failure> {
    let same = found.new.is_empty() && found.gone.is_empty() && found.changed.is_empty();
    let code = if same { Code::Fine } else { Code::NeedsAPerson };
    if client.json {
        show::json(&found)?;
        return Ok(code);
    }
    show::heading(&format!("From {} to {}", called(&found.from), called(&found.to)));
    out!("{} files are the same, {} changed, {} are new, {} are gone", found.same, found.changed.len(), found.new.len(), found.gone.len());
    for (what, files) in [("changed", &found.changed), ("new", &found.new), ("gone", &found.gone)] {
        for file in files.iter().take(SHOWN) {
            out!("  {what:8} {}", file.path);
        }
        if files.len() > SHOWN {
            out!("  {what:8} and {} more; --json has all of them", files.len() - SHOWN);
        }
    }
    for question in &found.asked_otherwise {
        out!("the question {question} is asked otherwise");
    }
    if found.rows.is_empty() {
        return Ok(code);
    }
    out!("");
    let row = |r: &mizuno_api::EditionChange| {
        let columns: Vec<String> = r.columns.iter().map(|(name, n)| format!("{name} {n}")).collect();
        vec![r.question.clone(), r.change.clone(), r.cause.clone(), show::count(r.rows), columns.join(", ")]
    };
    let columns = show::Columns { headers: &["question", "change", "because of", "rows", "in columns"], numbers: &[3], least: &[4] };
    show::table(&columns, found.rows.iter().map(row).collect());
    for (question, command) in &found.commands {
        note!("each row of {question}: {command}");
    }
    Ok(code)
}

/// Files named at most.
const SHOWN: usize = 20;

fn expired(client: &Client, spec: &str, gone: &[Edition], preview: bool) -> Result<Code, Failure> {
    if client.json {
        show::json(&gone)?;
        return Ok(Code::Fine);
    }
    let would = if preview { "would be taken away" } else { "is taken away; its record stays" };
    gone.iter().for_each(|edition| out!("{} {would}", called(edition)));
    if gone.is_empty() {
        out!("nothing of {spec} is to be taken away");
    }
    Ok(Code::Fine)
}
