//! `mizuno demo`: the simulated world and the service in one process, on one clock.

use crate::{
    exit::{Code, Failure},
    serve,
};
use clap::Args;
use mizuno_config::Config;
use mizuno_core::{Timestamp, clock::ClockFace};
use mizuno_sim::{World, faults::Faults, harbour};
use mizuno_store::Store;
use rust_embed::RustEmbed;
use std::{fs, net::SocketAddr, path::PathBuf};

#[derive(RustEmbed)]
#[folder = "../../demo/config"]
struct DemoConfig;

/// How to run the demo.
#[derive(Args)]
pub struct Demo {
    /// Where the demo keeps its data and a copy of its configuration.
    #[arg(long, value_name = "DIR", default_value = "demo-data")]
    data: PathBuf,
    /// Go on from where the demo was stopped, instead of afresh.
    #[arg(long)]
    keep: bool,
    /// Service seconds per second: 60 shows a minute bar every second.
    #[arg(long, default_value_t = 60.0)]
    speed: f64,
    /// Listen here.
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1:7400")]
    listen: SocketAddr,
    /// Port of the simulated source (0 for any).
    #[arg(long, value_name = "PORT", default_value_t = 7411)]
    source_port: u16,
}

pub async fn demo(options: Demo) -> Result<Code, Failure> {
    let Demo { data, keep, speed, listen, source_port } = options;
    if !(speed.is_finite() && speed > 0.0) {
        return Err(Failure::usage(format!("--speed {speed}: it must be above zero")));
    }
    let mut start: Timestamp = mizuno_sim::DEMO_START.parse().map_err(Failure::new)?;
    if keep {
        let store = Store::open(&data).await.map_err(Failure::new)?;
        start = start.max(store.last_recorded());
        store.close().await;
    } else {
        Store::discard(&data).map_err(Failure::new)?;
    }
    let clock = ClockFace { start, wall: mizuno_sim::wall(), speed };
    let world = World::new(mizuno_sim::DEMO_SEED, clock, Faults::of_the_demo());
    let (source, server) = harbour::start(world, source_port).map_err(|e| {
        Failure::new(format!(
            "the simulated source cannot listen on port {source_port}: {e}; is a demo running already? choose another with --source-port"
        ))
    })?;
    tokio::spawn(server);
    let config = data.join("config");
    write_config(&config, source, keep)?;
    let config = Config::load(&config).map_err(|p| Failure::new(format!("the demo's configuration is not sound:\n{p}")))?;
    let greeting = format!(
        "\n\n  It is {start} at the {} and a second is {speed} seconds long.\n  Open that address, or in another terminal: mizuno status\n  Configuration and data are in {}. Ctrl-C stops.\n",
        config.service.desk,
        data.display()
    );
    serve::run(mizuno_service::Options { config, data, listen: Some(listen), clock }, &greeting).await
}

/// Writes the demo's configuration beside its data, with the source's real address in it.
fn write_config(dir: &std::path::Path, source: SocketAddr, keep: bool) -> Result<(), Failure> {
    for name in DemoConfig::iter() {
        let path = dir.join(name.as_ref());
        if keep && path.exists() && !name.starts_with("sources/") {
            continue;
        }
        let Some(file) = DemoConfig::get(&name) else { continue };
        let text = String::from_utf8_lossy(&file.data).replace("http://127.0.0.1:7411", &format!("http://{source}"));
        let write = || {
            fs::create_dir_all(path.parent().unwrap_or(dir))?;
            fs::write(&path, text)
        };
        write().map_err(|e| Failure::new(format!("cannot write {}: {e}", path.display())))?;
    }
    Ok(())
}
