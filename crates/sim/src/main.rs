//! The simulated world as a program of its own.

use clap::Parser;
use mizuno_core::clock::ClockFace;
use mizuno_sim::{DEMO_SEED, World, faults::Faults, street};

/// Plays the outside world on loopback ports: made-up sources with made-up prices.
#[derive(Parser)]
struct Options {
    /// The clock, shared with the service: START@WALLxSPEED.
    #[arg(long)]
    clock: ClockFace,
    /// Any free ports instead of the demo's.
    #[arg(long)]
    any_port: bool,
    /// What the prices are made from.
    #[arg(long, default_value_t = DEMO_SEED)]
    seed: u64,
    /// Leave out the demo's faults.
    #[arg(long)]
    no_faults: bool,
}

#[actix_web::main]
async fn main() -> std::io::Result<()> {
    let options = Options::parse();
    let faults = if options.no_faults { Faults::default() } else { Faults::of_the_demo() };
    let world = World::new(options.seed, options.clock, faults);
    let mut handles = vec![];
    for (source, port, _) in street::SOURCES {
        let (address, server) = street::start(world.clone(), source, if options.any_port { 0 } else { port })?;
        println!("{source} listens on http://{address}");
        handles.push(server.handle());
        actix_web::rt::spawn(server);
    }
    let _ = actix_web::rt::signal::ctrl_c().await;
    for handle in handles {
        handle.stop(false).await;
    }
    Ok(())
}
