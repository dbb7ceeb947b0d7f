//! The network interface: routes by topic, and what goes over the wire.
//!
//! [`serve`] opens the desk, puts the room that collects to work, and listens. A handler reads what it is asked, calls one
//! thing of a room ([`mizuno_collect`], [`mizuno_research`], [`mizuno_desk`]) and writes the answer in wire types. It holds
//! no rule about bars, gaps, plans or files.

pub mod error;
mod following;
mod http;

pub use error::ServiceError;
pub use http::{openapi, wire};

use futures_util::future::{BoxFuture, LocalBoxFuture};
use mizuno_collect::Collect;
use mizuno_config::Config;
use mizuno_core::{Timestamp, clock::ClockFace};
use mizuno_desk::{Desk, DeskError};
use mizuno_research::Research;
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
    collect: Arc<Collect>,
    research: Arc<Research>,
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
    let Options { config, config_dir, data, listen, clock, pasted_profiles } = options;
    let listen = listen.unwrap_or(config.service.listen);
    if !listen.ip().is_loopback() {
        return Err(ServiceError::NotLoopback(listen));
    }
    mizuno_research::question::saved::check(&config)?;
    let listener = std::net::TcpListener::bind(listen).map_err(|source| ServiceError::Listen { listen, source })?;
    let address = listener.local_addr().map_err(|source| ServiceError::Listen { listen, source })?;
    let desk = Arc::new(Desk::open(config, config_dir, data, clock).await?);
    let collect = Collect::new(desk.clone(), pasted_profiles);
    let research = Research::new(desk);
    let server = http::server(&collect, &research, listener).map_err(|source| ServiceError::Listen { listen, source })?;
    collect.begin().await?;
    research.keep_making();
    following::keep_following(&collect, &research);
    Ok(Running { address, collect, research, server })
}

impl Running {
    /// Serves until `stop` is done, then ends runs in good order, lets editions rest where they are, keeps what is known and closes the store.
    ///
    /// # Errors
    /// When the server fails.
    pub fn until(self, stop: BoxFuture<'static, ()>) -> BoxFuture<'static, Result<(), ServiceError>> {
        Box::pin(async move {
            let handle = self.server.handle();
            let server = tokio::spawn(self.server);
            stop.await;
            self.collect.stop().await;
            self.research.stop().await;
            handle.stop(true).await;
            let _ = server.await;
            self.collect.desk.store.close().await;
            Ok(())
        })
    }
}

/// Tries a profile in this process, without a service, as `mizuno try` does.
///
/// # Errors
/// When the configuration or the profile is not sound, or there is nothing to ask for.
pub fn try_profile(
    config_dir: PathBuf,
    ask: mizuno_api::Try,
    clock: ClockFace,
) -> LocalBoxFuture<'static, Result<mizuno_api::Tried, DeskError>> {
    Box::pin(async move { Ok(wire::tried(&mizuno_collect::try_profile(config_dir, wire::trial(ask), clock).await?)) })
}

/// What is wrong with the questions that a configuration keeps.
#[must_use]
pub fn question_problems(config: &Config) -> Vec<String> {
    mizuno_research::question::saved::problems(config)
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
