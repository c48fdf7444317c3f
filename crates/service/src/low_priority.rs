use std::io;
use std::thread;

use rustix::process::setpriority_process;
use tokio::runtime::Handle;
use tokio::sync::oneshot;
use tracing::warn;

/// The nice value of threads of low priority (setpriority(2)).
const NICE: i32 = 10;

/// Lowers the priority of the current thread (on Linux, of that thread alone), so that the threads
/// that serve requests run first.
pub(crate) fn lower_priority() {
    if let Err(cause) = setpriority_process(None, NICE) {
        warn!(%cause, "cannot lower the priority of a thread");
    }
}

/// Runs `work` on a new thread of low priority, and then `cleanup` there, which
/// the caller does not wait for. The work is done even when the caller is dropped.
///
/// # Errors
/// When the thread cannot be started, or `work` panicked.
pub(crate) async fn run<T: Send + 'static>(
    work: impl Future<Output = T> + Send + 'static,
    cleanup: impl FnOnce() + Send + 'static,
) -> io::Result<T> {
    let (sender, outcome) = oneshot::channel();
    let runtime = Handle::current();
    thread::Builder::new()
        .name("change".to_owned())
        .spawn(move || {
            lower_priority();
            let _ = sender.send(runtime.block_on(work)); // the caller may have been dropped
            cleanup();
        })?;
    outcome.await.map_err(|_| io::Error::other("it panicked"))
}

#[cfg(test)]
mod tests {
    use std::sync::mpsc;

    use super::*;

    #[tokio::test]
    async fn the_work_finishes_even_when_its_result_is_dropped() {
        assert_eq!(run(async { 7 }, || {}).await.unwrap(), 7);
        let (sender, done) = mpsc::channel();
        drop(tokio::spawn(run(async {}, move || {
            sender.send(()).unwrap()
        })));
        tokio::task::spawn_blocking(move || done.recv().unwrap())
            .await
            .unwrap();
    }

    #[tokio::test]
    async fn a_panic_is_an_error() {
        let outcome = run(async { assert!(std::hint::black_box(false)) }, || {}).await;
        assert!(outcome.is_err());
    }
}
