use bentlane_core::check::Verdict;
use tokio::sync::broadcast;

/// Events kept for a listener that is slow; one that falls further behind is told to reload.
const BACKLOG: usize = 256;

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
}

impl Events {
    pub(crate) fn new() -> Self {
        Self {
            sender: broadcast::Sender::new(BACKLOG),
        }
    }

    pub(crate) fn tell(&self, event: Event) {
        // Nobody listening is no fault.
        let _ = self.sender.send(event);
    }

    pub(crate) fn listen(&self) -> broadcast::Receiver<Event> {
        self.sender.subscribe()
    }
}
