//! Ending the processes of a run.

use std::time::Duration;

use rustix::process::Signal;
use tokio::time::{Instant, sleep};

use crate::processes::Tree;

/// How long an app may take to end after SIGTERM.
pub(crate) const GRACE: Duration = Duration::from_secs(10);
/// The same when the service ends.
pub(crate) const LAST_GRACE: Duration = Duration::from_secs(4);
/// How often it is looked whether it has ended.
const LOOK: Duration = Duration::from_millis(20);
/// How long after SIGKILL nothing is waited for any more.
const GIVE_UP: Duration = Duration::from_secs(2);

/// Sends SIGTERM, and SIGKILL after `grace` to what is left then. Gives whether nothing is left.
pub(crate) async fn stop(tree: &mut Tree, grace: Duration) -> bool {
    let begin = Instant::now();
    if tree.signal(Signal::TERM) == 0 {
        return true;
    }
    // One that is stopped (SIGSTOP) gets it once it goes on.
    tree.signal(Signal::CONT);
    loop {
        sleep(LOOK).await;
        let since = begin.elapsed();
        if tree.living().is_empty() {
            return true;
        }
        if since > grace + GIVE_UP {
            return false;
        }
        if since > grace {
            tree.signal(Signal::KILL);
        }
    }
}
