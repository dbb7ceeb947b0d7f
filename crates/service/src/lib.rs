//! The long-running service: collectors at work, and the network interface.
//!
//! [`serve`] opens the data directory, finishes what a killed process left
//! ([`recovery`]), starts a task for each collector's schedule ([`schedule`])
//! and listens. Everything shared stands in [`Desk`].
//!
//! It holds no rule of its own about bars, gaps or plans; those are in the core.

mod basis;
mod checking;
mod concerns;
pub mod desk;
pub mod encode;
pub mod error;
mod events;
mod findings;
mod folding;
mod golden;
mod http;
mod lateness;
mod lineage;
mod lists;
mod moments;
mod recovery;
mod reload;
mod run;
mod schedule;
pub mod setup;
mod sight;
mod trying;
mod views;

pub use desk::Desk;
pub use error::ServiceError;
pub use http::openapi;
pub use setup::Setup;
pub use trying::try_profile;

use futures_util::future::{BoxFuture, LocalBoxFuture};
use mizuno_config::Config;
use mizuno_core::{Timestamp, clock::ClockFace};
use mizuno_store::Store;
use std::{
    net::SocketAddr,
    path::{Path, PathBuf},
    sync::Arc,
};

/// What a service is started with.
pub struct Options {
    /// The configuration, checked.
    pub config: Config,
    /// Where it was read from, to read it again.
    pub config_dir: Option<PathBuf>,
    /// The data directory.
    pub data: PathBuf,
    /// Where to listen, instead of where the configuration says.
    pub listen: Option<SocketAddr>,
    /// The clock it lives by.
    pub clock: ClockFace,
    /// Whether a profile that is sent to be tried may use the environment, files and any address.
    pub pasted_profiles: bool,
}

/// A service that listens.
pub struct Running {
    /// Where.
    pub address: SocketAddr,
    /// What it shares.
    pub desk: Arc<Desk>,
    server: actix_web::dev::Server,
}

/// Starts the service.
///
/// # Errors
/// When the data directory is in use or cannot be read, the address is taken
/// or not on loopback, or a source cannot be set up.
///
/// The future is boxed: otherwise the whole service would be compiled once more into everything that awaits it.
pub fn serve(options: Options) -> LocalBoxFuture<'static, Result<Running, ServiceError>> {
    Box::pin(start(options))
}

async fn start(options: Options) -> Result<Running, ServiceError> {
    let listen = options.listen.unwrap_or(options.config.service.listen);
    if !listen.ip().is_loopback() {
        return Err(ServiceError::NotLoopback(listen));
    }
    let listener = std::net::TcpListener::bind(listen).map_err(|source| ServiceError::Listen { listen, source })?;
    let address = listener.local_addr().map_err(|source| ServiceError::Listen { listen, source })?;
    let desk = Desk::open(options).await?;
    let server = http::server(desk.clone(), listener).map_err(|source| ServiceError::Listen { listen, source })?;
    recovery::recover(&desk).await?;
    schedule::keep_all(&desk);
    folding::keep_folding(&desk);
    Ok(Running { address, desk, server })
}

impl Running {
    /// Serves until `stop` is done, then ends runs in good order, keeps what is known and closes the store.
    ///
    /// # Errors
    /// When the server fails.
    pub fn until(self, stop: BoxFuture<'static, ()>) -> BoxFuture<'static, Result<(), ServiceError>> {
        Box::pin(async move {
            let handle = self.server.handle();
            let server = tokio::spawn(self.server);
            stop.await;
            self.desk.stop().await;
            handle.stop(true).await;
            let _ = server.await;
            self.desk.store.close().await;
            Ok(())
        })
    }
}

/// The instant up to which a data directory knows anything.
///
/// # Errors
/// When it is in use or cannot be read.
pub fn known_until(data: &Path) -> LocalBoxFuture<'_, Result<Timestamp, ServiceError>> {
    Box::pin(async move {
        let store = Store::open(data, Arc::new(|| Timestamp::MIN)).await?;
        let last = store.newest();
        store.close().await;
        Ok(last)
    })
}
