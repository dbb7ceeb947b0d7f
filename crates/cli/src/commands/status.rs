//! `mizuno status`.

use crate::{
    client::Client,
    exit::{Code, Failure},
    show::{self, Zone},
};
use mizuno_api::{CollectorStatus, SourceStatus, Status};

pub async fn status(client: &Client) -> Result<Code, Failure> {
    let status: Status = client.get("/status", &[]).await?;
    if client.json {
        show::json(&status)?;
    } else {
        print(&status);
    }
    Ok(if status.concerns.iter().any(|c| c.needs_a_person) { Code::NeedsAPerson } else { Code::Fine })
}

fn print(status: &Status) {
    let zone = Zone::of(status);
    show::heading(&format!("{}, {} {}", status.desk, zone.minute(&status.now), zone.name()));
    for venue in &status.venues {
        let (Some(opens), Some(closes)) = (&venue.opens, &venue.closes) else { continue };
        let closes = zone.minute(closes);
        match venue.open {
            true => out!("{} is open until {}", venue.code, &closes[11..]),
            false => out!("{} is closed; session {} to {}", venue.code, zone.minute(opens), &closes[11..]),
        }
    }
    out!("");
    if status.all_clear {
        out!("All clear: nothing is late, failed, missing, in quarantine, suspicious or restated.");
    }
    for concern in &status.concerns {
        show::heading(&format!("{:<12}  {}", concern.kind.to_uppercase(), concern.what));
        out!("{:<12}  {} ({})", "", concern.next, concern.command);
    }
    out!("");
    show::table(
        &show::Columns {
            headers: &["collector", "last run", "state", "next", "complete", "missing", "schedule"],
            numbers: &[4, 5],
            least: &[6, 1, 3],
        },
        status.collectors.iter().map(|c| collector(c, &zone)).collect(),
    );
    out!("");
    for source in &status.sources {
        out!("{}", source_line(source, &zone));
    }
    let t = &status.totals;
    out!(
        "{} bars of {} instruments in {} series, {} on disk",
        show::count(t.bars),
        show::count(t.instruments),
        show::count(t.series),
        show::bytes(t.database_bytes)
    );
}

fn source_line(s: &SourceStatus, zone: &Zone) -> String {
    let mut text = format!("{}: {} of {} calls used in the last minute", s.name, s.calls_in_last_minute, s.calls_a_minute);
    if let (Some(used), Some(most)) = (s.calls_today, s.calls_a_day) {
        text += &format!(", {} of {} today", show::count(u64::from(used)), show::count(u64::from(most)));
    }
    if !s.limits_shared_with.is_empty() {
        text += &format!(", together with {}", s.limits_shared_with.join(", "));
    }
    if s.key == Some(false) {
        text += ", without its key";
    }
    if let Some(until) = &s.until {
        let how = match s.state.as_str() {
            "paused" => "paused after failures, probed at",
            "used-up" => "its calls of the day are used up until",
            _ => "left alone until",
        };
        text += &format!("; {how} {} {}", zone.minute(until), zone.name());
    }
    text
}

fn collector(c: &CollectorStatus, zone: &Zone) -> Vec<String> {
    let state = match &c.last {
        _ if c.late => "LATE".to_owned(),
        Some(run) if run.state == "running" => format!("running {}/{}", run.done + run.failed, run.windows),
        Some(run) => run.state.clone(),
        None => "never ran".to_owned(),
    };
    vec![
        c.name.clone(),
        c.last.as_ref().map_or("-".to_owned(), |r| zone.minute(&r.started_at)),
        state,
        c.next.as_ref().map_or("-".to_owned(), |n| zone.minute(n)),
        show::percent(&c.completeness),
        show::count(c.completeness.missing),
        c.schedule.clone(),
    ]
}
