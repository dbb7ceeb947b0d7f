//! `mizuno watch`.

use crate::{
    client::Client,
    exit::{Code, Failure},
    show::Zone,
};
use futures_util::StreamExt;
use mizuno_api::Event;
use reqwest::Method;

pub async fn watch(client: &Client) -> Result<Code, Failure> {
    let zone = client.zone().await?;
    let response = client.send::<()>(Method::GET, "/events", &[], None).await?;
    let mut stream = response.bytes_stream();
    let mut waiting = Vec::new();
    note!("following what happens; times are {}; Ctrl-C ends", zone.name());
    loop {
        let piece = tokio::select! {
            piece = stream.next() => piece,
            _ = tokio::signal::ctrl_c() => return Ok(Code::Interrupted),
        };
        let Some(Ok(piece)) = piece else { return Err(Failure::unreachable("the service has gone")) };
        waiting.extend_from_slice(&piece);
        while let Some(end) = waiting.iter().position(|b| *b == b'\n') {
            let line: Vec<u8> = waiting.drain(..=end).collect();
            let line = String::from_utf8_lossy(&line);
            let Some(data) = line.strip_prefix("data: ") else { continue };
            let shown = if client.json { Some(data.trim_end().to_owned()) } else { event(data).and_then(|e| told(&e, &zone)) };
            if let Some(text) = shown {
                crate::show::write(&text);
            }
        }
    }
}

/// An event with every text in it fit to be shown.
fn event(data: &str) -> Option<Event> {
    let mut value = serde_json::from_str(data).ok()?;
    crate::client::escape(&mut value);
    serde_json::from_value(value).ok()
}

/// An event in a line, if a person wants to read it.
fn told(event: &Event, zone: &Zone) -> Option<String> {
    match event {
        Event::Run { run } if run.state == "running" && run.done + run.failed == 0 && run.windows == 0 => {
            Some(format!("{}  run {} of {} begins ({})", zone.wall(&run.started_at), run.id, run.collector, run.reason))
        }
        Event::Run { run } if run.state != "running" => {
            let at = run.ended_at.as_deref().map(|t| zone.wall(t)).unwrap_or_default();
            Some(format!(
                "{at}  run {} of {} {}: {} of {} windows, {} bars new, {} restated, {} failed",
                run.id, run.collector, run.state, run.done, run.windows, run.bars_new, run.restated, run.failed
            ))
        }
        Event::Fetch { fetch } if fetch.failure.is_some() || fetch.refused > 0 || fetch.restated > 0 => {
            let what = match (&fetch.failure, &fetch.message) {
                (Some(class), message) => format!("failed, {class}: {}", message.as_deref().unwrap_or_default()),
                _ => format!("{} rows in quarantine, {} bars restated", fetch.refused, fetch.restated),
            };
            Some(format!("{}  fetch {} of {}: {what}", zone.wall(&fetch.answered_at), fetch.id, fetch.series))
        }
        _ => None,
    }
}
