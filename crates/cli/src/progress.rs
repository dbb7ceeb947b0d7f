//! Watching a run to its end. Ctrl-C cancels the run and waits for it to end in good order.

use crate::{client::Client, exit::Code, exit::Failure, show};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use mizuno_api::Run;
use std::{io::IsTerminal, time::Duration};

/// Follows some runs; returns them as they ended, and whether a person stopped them.
pub async fn follow(client: &Client, runs: Vec<Run>) -> Result<(Vec<Run>, bool), Failure> {
    let mut ended = vec![];
    let mut stopped = false;
    for run in runs {
        if stopped {
            ended.push(cancel(client, run.id).await?);
            continue;
        }
        let (run, by_hand) = follow_one(client, run).await?;
        stopped |= by_hand;
        ended.push(run);
    }
    Ok((ended, stopped))
}

async fn follow_one(client: &Client, mut run: Run) -> Result<(Run, bool), Failure> {
    let bar = bar(&run);
    let interrupt = tokio::signal::ctrl_c();
    tokio::pin!(interrupt);
    while run.state == "running" {
        bar.set_length(run.windows);
        bar.set_position(run.done + run.failed);
        bar.set_message(line(&run));
        tokio::select! {
            () = tokio::time::sleep(Duration::from_millis(150)) => run = client.run(run.id).await?,
            _ = &mut interrupt => {
                bar.finish_and_clear();
                note!("stopping run {}: what is under way is finished and kept", run.id);
                return Ok((cancel(client, run.id).await?, true));
            }
        }
    }
    bar.finish_and_clear();
    Ok((run, false))
}

/// Cancels a run; one that ended in the meantime is as good.
async fn cancel(client: &Client, id: i64) -> Result<Run, Failure> {
    match client.post(&format!("/runs/{id}/cancel"), &()).await {
        Ok(run) => Ok(run),
        Err(_) => client.run(id).await,
    }
}

fn bar(run: &Run) -> ProgressBar {
    let target = if std::io::stderr().is_terminal() { ProgressDrawTarget::stderr() } else { ProgressDrawTarget::hidden() };
    let style =
        ProgressStyle::with_template("{prefix} {bar:20} {pos}/{len} windows  {wide_msg}").unwrap_or_else(|_| ProgressStyle::default_bar());
    let prefix = format!("run {} {}", run.id, run.collector);
    ProgressBar::with_draw_target(Some(run.windows), target).with_style(style.progress_chars("=> ")).with_prefix(prefix)
}

fn line(run: &Run) -> String {
    if let Some(what) = &run.waits_for {
        return format!("waits for {what}");
    }
    let mut parts = vec![format!(
        "{} new, {} same, {} restated, {}",
        show::count(run.bars_new),
        show::count(run.bars_same),
        show::count(run.restated),
        show::bytes(run.bytes)
    )];
    if let (Some(used), Some(most)) = (run.calls_in_last_minute, run.calls_a_minute) {
        parts.push(format!("{used} of {most} calls a minute"));
    }
    if run.failed > 0 {
        let classes: Vec<String> = run.failures.iter().map(|(class, n)| format!("{n} {class}")).collect();
        parts.push(format!("{} failed ({})", run.failed, classes.join(", ")));
    }
    if let (Some(rate), Some(left)) = (run.rate, run.seconds_left) {
        parts.push(format!("{rate:.0}/s, {left:.0} s left"));
    }
    parts.join(", ")
}

/// Prints runs that have ended, and says in the exit code whether all went well.
pub fn conclude(client: &Client, runs: &[Run], stopped: bool) -> Result<Code, Failure> {
    if client.json {
        show::json(&runs)?;
    } else {
        for run in runs {
            out!("{}", sentence(run));
        }
        if let Some(run) = runs.iter().find(|r| r.failed > 0) {
            note!("read why with: mizuno fetches --failed --run {}", run.id);
        }
    }
    let well = runs.iter().all(|r| r.state == "complete");
    Ok(if stopped {
        Code::Interrupted
    } else if well {
        Code::Fine
    } else {
        Code::NeedsAPerson
    })
}

/// A run that has ended, in one line.
fn sentence(run: &Run) -> String {
    let Run { id, collector, state, windows, done, failed, .. } = run;
    if *windows == 0 && state == "complete" {
        return format!("run {id} of {collector}: complete, nothing to ask for");
    }
    let mut text = format!(
        "run {id} of {collector}: {state}, {done} of {windows} windows, {} bars new, {} same, {} restated",
        show::count(run.bars_new),
        show::count(run.bars_same),
        show::count(run.restated),
    );
    if state == "interrupted" {
        text += ", and another run goes on with it";
    }
    if run.refused > 0 {
        text += &format!(", {} in quarantine", run.refused);
    }
    if *failed > 0 {
        let classes: Vec<String> = run.failures.iter().map(|(class, n)| format!("{n} {class}")).collect();
        text += &format!(", {failed} failed ({})", classes.join(", "));
    }
    text
}
