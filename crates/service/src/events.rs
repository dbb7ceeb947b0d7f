//! What happens, told to whoever listens.

use mizuno_api::Event;
use tokio::sync::broadcast;

/// Hands events on to every listener; a listener that is too slow misses the oldest.
#[derive(Clone)]
pub(crate) struct Events(broadcast::Sender<Event>);

impl Events {
    pub(crate) fn new() -> Events {
        Events(broadcast::channel(1024).0)
    }

    pub(crate) fn tell(&self, event: Event) {
        // Nobody listening is no failure.
        let _ = self.0.send(event);
    }

    pub(crate) fn listen(&self) -> broadcast::Receiver<Event> {
        self.0.subscribe()
    }
}
