use std::sync::Arc;
use std::sync::atomic::{AtomicU16, Ordering};

use tokio_util::sync::{CancellationToken, WaitForCancellationFutureOwned};

/// What a WebSocket is closed with when the service stops, and when it starts again at once (RFC 6455
/// §7.4.1, and the registry of close codes at IANA).
const GOING_AWAY: u16 = 1001;
const SERVICE_RESTART: u16 = 1012;

/// Whether connections are to end with the request that is at work. Cloning gives another handle to
/// the same.
#[derive(Clone, Debug, Default)]
pub(crate) struct Stopping {
    /// The code to close WebSockets with; 0 until it has begun.
    code: Arc<AtomicU16>,
    told: CancellationToken,
}

impl Stopping {
    /// Before they are woken it is there to be seen.
    pub(crate) fn begin(&self, restarts: bool) {
        let code = if restarts {
            SERVICE_RESTART
        } else {
            GOING_AWAY
        };
        self.code.store(code, Ordering::Release);
        self.told.cancel();
    }

    pub(crate) fn has_begun(&self) -> bool {
        self.close_code() != 0
    }

    /// What WebSockets are closed with, once it has begun.
    pub(crate) fn close_code(&self) -> u16 {
        self.code.load(Ordering::Acquire)
    }

    /// Waits until it begins.
    pub(crate) fn told(&self) -> WaitForCancellationFutureOwned {
        self.told.clone().cancelled_owned()
    }
}
