//! A service in a process of its own, and how long it takes to answer.

use super::median;
use futures_util::StreamExt;
use mizuno_core::clock::ClockFace;
use std::{
    io::{BufRead, BufReader},
    path::Path,
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

/// The service in a process of its own; killed when dropped.
pub struct Service {
    child: Child,
    pub base: String,
}

impl Service {
    pub fn start(config: &Path, data: &Path, clock: &ClockFace) -> Result<Service, Box<dyn std::error::Error>> {
        let mut command = Command::new(env!("CARGO_BIN_EXE_mizuno"));
        command.arg("serve").arg("--config").arg(config).arg("--data").arg(data).args(["--listen", "127.0.0.1:0"]);
        command.args(["--clock", &clock.to_string()]).env("MIZUNO_LOG", "error");
        let mut child = command.stdout(Stdio::piped()).spawn()?;
        let mut line = String::new();
        BufReader::new(child.stdout.take().ok_or("no output")?).read_line(&mut line)?;
        let base = format!("{}/api/v1", line.trim().rsplit(' ').next().unwrap_or_default());
        Ok(Service { child, base })
    }

    /// The most memory that was resident, in MiB.
    pub fn peak_mib(&self) -> Result<u64, Box<dyn std::error::Error>> {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id()))?;
        let line = status.lines().find_map(|l| l.strip_prefix("VmHWM:")).unwrap_or_default();
        Ok(line.split_whitespace().next().ok_or("no peak is told")?.parse::<u64>()? / 1024)
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

pub struct Timed {
    pub first: Duration,
    pub all: Duration,
    pub bytes: usize,
    pub lines: usize,
}

pub fn told(timed: &Timed) -> String {
    format!("{:.1?} to the last of {:.1} MB", timed.all, timed.bytes as f64 / 1e6)
}

pub async fn ask(http: &reqwest::Client, url: &str) -> Result<Timed, reqwest::Error> {
    let began = Instant::now();
    let answer = http.get(url).send().await?.error_for_status()?;
    let mut stream = answer.bytes_stream();
    let (mut first, mut bytes, mut lines) = (None, 0, 0);
    while let Some(piece) = stream.next().await {
        let piece = piece?;
        first.get_or_insert_with(|| began.elapsed());
        bytes += piece.len();
        lines += piece.iter().filter(|b| **b == b'\n').count();
    }
    Ok(Timed { first: first.unwrap_or_default(), all: began.elapsed(), bytes, lines })
}

/// What is quick is asked again and again for so long: a moment in which others use the machine is not to decide.
const LASTING: Duration = Duration::from_secs(2);

/// The middle of seven askings or more.
pub async fn often(http: &reqwest::Client, url: &str) -> Result<Timed, reqwest::Error> {
    let (mut firsts, mut alls, mut last) = (vec![], vec![], (0, 0));
    let began = Instant::now();
    while alls.len() < 7 || began.elapsed() < LASTING {
        let timed = ask(http, url).await?;
        firsts.push(timed.first);
        alls.push(timed.all);
        last = (timed.bytes, timed.lines);
    }
    Ok(Timed { first: median(firsts), all: median(alls), bytes: last.0, lines: last.1 })
}
