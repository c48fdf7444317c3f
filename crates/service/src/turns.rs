use std::time::Duration;

use tokio::time::{Interval, interval};
use tokio_util::sync::CancellationToken;

/// The turns of work that is done again and again until the service stops.
#[derive(Debug)]
pub(crate) struct Turns {
    interval: Interval,
    shutdown: CancellationToken,
}

impl Turns {
    /// A turn at once, and then one each `period`, until `shutdown`.
    pub(crate) fn new(period: Duration, shutdown: &CancellationToken) -> Self {
        Self {
            interval: interval(period),
            shutdown: shutdown.clone(),
        }
    }

    /// Waits for the next turn; gives whether there is one.
    pub(crate) async fn next(&mut self) -> bool {
        tokio::select! {
            () = self.shutdown.cancelled() => false,
            _ = self.interval.tick() => true,
        }
    }
}
