use rustix::process::setpriority_process;
use tracing::warn;

/// The nice value of threads that give way (setpriority(2)).
const NICE: i32 = 10;

/// Has the current thread, and on Linux that alone, give way to those which serve requests.
pub(crate) fn give_way() {
    if let Err(cause) = setpriority_process(None, NICE) {
        warn!(%cause, "a thread has the priority of everybody");
    }
}
