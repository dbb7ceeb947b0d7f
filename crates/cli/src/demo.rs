//! `mizuno demo`: the simulated world and the service in one process, on one clock.

use crate::{
    exit::{Code, Failure},
    serve,
};
use clap::Args;
use mizuno_config::Config;
use mizuno_core::{Timestamp, clock::ClockFace};
use mizuno_sim::{LODESTAR_KEY, World, bucket, faults::Faults, street};
use mizuno_store::Store;
use rust_embed::RustEmbed;
use std::{fs, net::SocketAddr, path::PathBuf, sync::Arc};

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
    /// Port of the first simulated source, the others follow (0 for any).
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
        start = start.max(mizuno_service::known_until(&data).await.map_err(Failure::new)?);
    } else {
        Store::discard(&data).map_err(Failure::new)?;
    }
    let clock = ClockFace { start, wall: mizuno_sim::wall(), speed };
    let world = World::new(mizuno_sim::DEMO_SEED, clock, Faults::of_the_demo());
    let mut addresses = vec![];
    for (at, (source, usual, _)) in (0u16..).zip(street::SOURCES) {
        let port = if source_port == 0 { 0 } else { source_port + at };
        let (address, server) = street::start(world.clone(), source, port).map_err(|e| {
            Failure::new(format!(
                "the simulated source {source} cannot listen on port {port}: {e}; is a demo running already? choose another with --source-port"
            ))
        })?;
        addresses.push((format!("http://127.0.0.1:{usual}"), format!("http://{address}")));
        tokio::spawn(server);
    }
    let port = if source_port == 0 { 0 } else { source_port + street::SOURCES.len() as u16 };
    let (address, storage) = bucket::start(Arc::default(), port)
        .map_err(|e| Failure::new(format!("the simulated storage cannot listen on port {port}: {e}; choose another with --source-port")))?;
    addresses.push((format!("http://127.0.0.1:{}", bucket::PORT), format!("http://{address}")));
    tokio::spawn(storage);
    let dir = data.join("config");
    write_config(&dir, &addresses, keep)?;
    let config = Config::load(&dir).map_err(|p| Failure::new(format!("the demo's configuration is not sound:\n{p}")))?;
    let greeting = format!(
        "\n\n  It is {start} at the {} and a second is {speed} seconds long.\n  Open that address, or in another terminal: mizuno status\n  Configuration and data are in {}. Ctrl-C stops.\n",
        config.service.desk,
        data.display()
    );
    serve::run(
        mizuno_service::Options { config, config_dir: Some(dir), data, listen: Some(listen), clock, pasted_profiles: false },
        &greeting,
    )
    .await
}

/// Writes the demo's configuration beside its data, with the sources' real addresses and a key in it.
fn write_config(dir: &std::path::Path, addresses: &[(String, String)], keep: bool) -> Result<(), Failure> {
    for name in DemoConfig::iter() {
        let path = dir.join(name.as_ref());
        if keep && path.exists() && !name.starts_with("sources/") {
            continue;
        }
        let Some(file) = DemoConfig::get(&name) else { continue };
        let text = String::from_utf8_lossy(&file.data).into_owned();
        let text = addresses.iter().fold(text, |text, (usual, real)| text.replace(usual, real));
        let write = || {
            fs::create_dir_all(path.parent().unwrap_or(dir))?;
            fs::write(&path, text)
        };
        write().map_err(|e| Failure::new(format!("cannot write {}: {e}", path.display())))?;
    }
    let path = dir.join(".env");
    let keys = format!("LODESTAR_KEY={LODESTAR_KEY}\nAWS_ACCESS_KEY_ID={}\nAWS_SECRET_ACCESS_KEY={}\n", bucket::KEY, bucket::SECRET);
    fs::write(&path, keys).map_err(|e| Failure::new(format!("cannot write {}: {e}", path.display())))
}
