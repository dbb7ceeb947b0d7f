//! `mizuno serve` and `mizuno check`.

use crate::exit::{Code, Failure};
use clap::Args;
use mizuno_config::Config;
use mizuno_core::clock::ClockFace;
use std::{
    net::SocketAddr,
    path::{Path, PathBuf},
};

/// How to run the service.
#[derive(Args)]
pub struct Serve {
    /// The configuration directory.
    #[arg(long, value_name = "DIR")]
    config: PathBuf,
    /// The data directory; one service at a time uses it.
    #[arg(long, value_name = "DIR")]
    data: PathBuf,
    /// Listen here instead of where the configuration says.
    #[arg(long, value_name = "ADDRESS")]
    listen: Option<SocketAddr>,
    /// Let profiles that are pasted into the console use environment variables, files and any address.
    #[arg(long)]
    pasted_profiles: bool,
    /// Live by another clock than the wall's: START@WALLxSPEED. For demos and tests.
    #[arg(long, hide = true)]
    clock: Option<ClockFace>,
}

pub async fn serve(options: Serve) -> Result<Code, Failure> {
    let config = Config::load(&options.config)
        .map_err(|p| Failure::new(format!("the configuration in {} is not sound:\n{p}", options.config.display())))?;
    let clock = options.clock.unwrap_or(ClockFace::REAL);
    let Serve { config: dir, data, listen, pasted_profiles, .. } = options;
    run(mizuno_service::Options { config, config_dir: Some(dir), data, listen, clock, pasted_profiles }, "").await
}

/// Runs the service until Ctrl-C or a polite kill.
pub async fn run(options: mizuno_service::Options, greeting: &str) -> Result<Code, Failure> {
    let running = mizuno_service::serve(options).await.map_err(Failure::new)?;
    out!("mizuno listens on http://{}{greeting}", running.address);
    running.until(Box::pin(told_to_stop())).await.map_err(Failure::new)?;
    Ok(Code::Fine)
}

async fn told_to_stop() {
    let mut terminate = tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate()).ok();
    let terminated = async {
        match &mut terminate {
            Some(signal) => signal.recv().await,
            None => std::future::pending().await,
        }
    };
    tokio::select! {
        _ = tokio::signal::ctrl_c() => {}
        _ = terminated => {}
    }
    eprintln!("stopping: runs under way are taken up again at the next start");
}

pub fn check(dir: &Path) -> Result<Code, Failure> {
    let config = Config::load(dir).map_err(Failure::new)?;
    let wrong = mizuno_service::question_problems(&config);
    if !wrong.is_empty() {
        return Err(Failure::new(wrong.join("\n")));
    }
    out!(
        "{}: sound; {} venues, {} instruments, {} sources, {} collectors, {} universes, {} chains",
        dir.display(),
        config.venues.len(),
        config.instruments.len(),
        config.sources.len(),
        config.collectors.len(),
        config.universes.len(),
        config.chains.len()
    );
    Ok(Code::Fine)
}
