//! The simulated world as a program of its own.

use clap::Parser;
use mizuno_core::clock::ClockFace;
use mizuno_sim::{DEMO_SEED, World, faults::Faults, harbour};

/// Plays the outside world on loopback ports: made-up sources with made-up prices.
#[derive(Parser)]
struct Options {
    /// The clock, shared with the service: START@WALLxSPEED.
    #[arg(long)]
    clock: ClockFace,
    /// Port of the source `harbour` (0 for any).
    #[arg(long, default_value_t = 7411)]
    harbour: u16,
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
    let (address, server) = harbour::start(world, options.harbour)?;
    println!("harbour listens on http://{address}");
    let handle = server.handle();
    actix_web::rt::spawn(async move {
        let _ = actix_web::rt::signal::ctrl_c().await;
        handle.stop(false).await;
    });
    server.await
}
