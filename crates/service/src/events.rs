use std::sync::Arc;

use bentlane_checks::{AppStatus, Verdict};
use tokio::sync::{OwnedSemaphorePermit, Semaphore, broadcast};

/// Events that are kept for a slow subscriber; one that falls further behind has to reload.
const BACKLOG: usize = 256;
/// The most subscribers at the same time.
const MOST_SUBSCRIBERS: usize = 32;

/// What the console is notified of.
#[derive(Clone, Debug)]
pub(crate) enum Event {
    /// This revision of the configuration is in force.
    Configuration { revision: u64 },
    /// The result of a check.
    Verdict(Box<Verdict>),
    /// An app is otherwise.
    App(Box<AppStatus>),
}

/// Sends every event to every subscriber.
#[derive(Clone, Debug)]
pub(crate) struct Events {
    sender: broadcast::Sender<Event>,
    permits: Arc<Semaphore>,
}

impl Events {
    pub(crate) fn new() -> Self {
        Self {
            sender: broadcast::Sender::new(BACKLOG),
            permits: Arc::new(Semaphore::new(MOST_SUBSCRIBERS)),
        }
    }

    pub(crate) fn send(&self, event: Event) {
        // It fails when there are no subscribers, which is no error.
        let _ = self.sender.send(event);
    }

    /// A permit to subscribe, to be held meanwhile; `None` when there are too many subscribers.
    pub(crate) fn permit(&self) -> Option<OwnedSemaphorePermit> {
        Arc::clone(&self.permits).try_acquire_owned().ok()
    }

    /// Whether there is a subscriber.
    pub(crate) fn is_followed(&self) -> bool {
        self.sender.receiver_count() > 0
    }

    pub(crate) fn subscribe(&self) -> broadcast::Receiver<Event> {
        self.sender.subscribe()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn every_subscriber_gets_every_event() {
        let events = Events::new();
        events.send(Event::Configuration { revision: 1 }); // no one has subscribed
        let (mut one, mut other) = (events.subscribe(), events.subscribe());
        assert!(events.is_followed());
        events.send(Event::Configuration { revision: 2 });
        for subscriber in [&mut one, &mut other] {
            let event = subscriber.recv().await.unwrap();
            assert!(matches!(event, Event::Configuration { revision: 2 }));
        }
        drop((one, other));
        assert!(!events.is_followed());
    }

    #[test]
    fn the_number_of_subscribers_is_limited() {
        let events = Events::new();
        let permits: Vec<_> = std::iter::from_fn(|| events.permit()).collect();
        assert_eq!(permits.len(), MOST_SUBSCRIBERS);
        drop(permits);
        assert!(events.permit().is_some());
    }
}
