use std::sync::Arc;

use bentlane_checks::Verdict;
use tokio::sync::{OwnedSemaphorePermit, Semaphore, broadcast};

/// Events kept for a listener that is slow; one that falls further behind is told to reload.
const BACKLOG: usize = 256;
/// Those who listen at a time.
const LISTENERS: usize = 32;

/// What the console hears of.
#[derive(Clone, Debug)]
pub(crate) enum Event {
    /// The configuration has this revision now.
    Configuration { revision: u64 },
    /// A check came to this.
    Verdict(Box<Verdict>),
}

/// Hands every event to every listener.
#[derive(Clone, Debug)]
pub(crate) struct Events {
    sender: broadcast::Sender<Event>,
    places: Arc<Semaphore>,
}

impl Events {
    pub(crate) fn new() -> Self {
        Self {
            sender: broadcast::Sender::new(BACKLOG),
            places: Arc::new(Semaphore::new(LISTENERS)),
        }
    }

    pub(crate) fn tell(&self, event: Event) {
        // Nobody listening is no fault.
        let _ = self.sender.send(event);
    }

    /// A place among those who may listen, until it is dropped; `None` when there is none left.
    pub(crate) fn take_place(&self) -> Option<OwnedSemaphorePermit> {
        Arc::clone(&self.places).try_acquire_owned().ok()
    }

    /// Whether somebody listens.
    pub(crate) fn is_followed(&self) -> bool {
        self.sender.receiver_count() > 0
    }

    pub(crate) fn listen(&self) -> broadcast::Receiver<Event> {
        self.sender.subscribe()
    }
}
