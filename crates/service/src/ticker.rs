use std::time::Duration;

use tokio::time::{Interval, interval};
use tokio_util::sync::CancellationToken;

/// Ticks at once and then each period, until the service stops.
#[derive(Debug)]
pub(crate) struct Ticker {
    interval: Interval,
    shutdown: CancellationToken,
}

impl Ticker {
    pub(crate) fn new(period: Duration, shutdown: &CancellationToken) -> Self {
        Self {
            interval: interval(period),
            shutdown: shutdown.clone(),
        }
    }

    /// Waits for the next tick; `false` when the service stops.
    pub(crate) async fn next(&mut self) -> bool {
        tokio::select! {
            biased;
            () = self.shutdown.cancelled() => false,
            _ = self.interval.tick() => true,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn it_ticks_at_once_and_no_more_after_the_stop() {
        let shutdown = CancellationToken::new();
        let mut ticker = Ticker::new(Duration::from_millis(1), &shutdown);
        assert!(ticker.next().await && ticker.next().await);
        shutdown.cancel();
        assert!(!ticker.next().await);
    }
}
