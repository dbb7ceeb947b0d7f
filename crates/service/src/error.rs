//! Why the service cannot start, in words a person can act on.

use mizuno_desk::DeskError;
use std::net::SocketAddr;

/// A failure of the service as a whole.
#[derive(Debug, thiserror::Error)]
pub enum ServiceError {
    /// The address to listen on is open to others.
    #[error("cannot listen on {0}: only loopback addresses are served, since there are no tokens yet; use 127.0.0.1 and a tunnel")]
    NotLoopback(SocketAddr),
    /// The address cannot be listened on.
    #[error("cannot listen on {listen}: {source}; is another mizuno running? choose another address with --listen")]
    Listen {
        /// The address.
        listen: SocketAddr,
        /// What the system said.
        source: std::io::Error,
    },
    /// The desk cannot be opened, or the store not read.
    #[error(transparent)]
    Desk(#[from] DeskError),
}

impl From<mizuno_store::StoreError> for ServiceError {
    fn from(error: mizuno_store::StoreError) -> ServiceError {
        DeskError::from(error).into()
    }
}
