use std::any::Any;
use std::io;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::Builder;
use std::time::Duration;

use tokio::sync::oneshot;
use tokio::time::sleep;
use tokio_util::sync::CancellationToken;

use crate::{Policy, Supervisor, TaskError};

/// How often a thread is woken that should stop.
const WAKE_AGAIN: Duration = Duration::from_millis(20);

/// The signal for a thread to stop. Cloning gives another handle to the same one.
#[derive(Clone, Debug, Default)]
pub struct Stop {
    flag: Arc<AtomicBool>,
    token: CancellationToken,
}

impl Stop {
    /// Whether to stop: one relaxed load.
    #[must_use]
    pub fn is_set(&self) -> bool {
        self.flag.load(Ordering::Relaxed)
    }

    /// Waits until it is set.
    pub async fn wait(&self) {
        self.token.cancelled().await;
    }

    fn set(&self) {
        self.flag.store(true, Ordering::Relaxed);
        self.token.cancel();
    }
}

impl Supervisor {
    /// Runs `work` on its own thread until `end` is cancelled.
    ///
    /// `work` is called again for each restart, and has to return soon after its [`Stop`] is set. One
    /// that waits in a call of the system is woken by `wake`, which is called again and again until
    /// the thread is gone.
    ///
    /// # Panics
    /// Outside a Tokio runtime.
    pub fn spawn_thread<W>(
        &self,
        end: CancellationToken,
        name: impl Into<Arc<str>>,
        policy: Policy,
        work: W,
        wake: impl Fn() + Clone + Send + Sync + 'static,
    ) where
        W: FnMut(&Stop) -> Result<(), TaskError> + Send + 'static,
    {
        let name = name.into();
        let thread_name = Arc::clone(&name);
        // Lent to the thread of each run, which gives it back when it ends.
        let mut work = Some(work);
        let (give_back, mut returned) = tokio::sync::mpsc::channel(1);
        let until = end.clone();
        self.watch(until, name, policy, move |kill| {
            let stop = Stop::default();
            let lent = work.take().or_else(|| returned.try_recv().ok());
            let started = lent.ok_or_else(|| io::Error::other("its work was lost")).and_then(|work| {
                start(&thread_name, work, stop.clone(), give_back.clone())
            });
            let (end, wake) = (end.clone(), wake.clone());
            async move {
                let mut ended = started?;
                tokio::select! {
                    outcome = &mut ended => return outcome.unwrap_or_else(|lost| Err(lost.into())),
                    () = end.cancelled() => {}
                    () = kill.cancelled() => {}
                }
                stop.set();
                loop {
                    wake();
                    tokio::select! {
                        outcome = &mut ended => return outcome.unwrap_or_else(|lost| Err(lost.into())),
                        () = sleep(WAKE_AGAIN) => {}
                    }
                }
            }
        });
    }
}

type Outcome = Result<(), TaskError>;

/// Starts the thread of one run; gives where its outcome is to be heard.
fn start<W>(
    name: &str,
    mut work: W,
    stop: Stop,
    give_back: tokio::sync::mpsc::Sender<W>,
) -> io::Result<oneshot::Receiver<Outcome>>
where
    W: FnMut(&Stop) -> Outcome + Send + 'static,
{
    let (tell, ended) = oneshot::channel();
    // The system shows 15 bytes of it.
    Builder::new().name(name.to_owned()).spawn(move || {
        let outcome = catch_unwind(AssertUnwindSafe(|| work(&stop)));
        let outcome = outcome
            .unwrap_or_else(|payload| Err(format!("it panicked: {}", message(&*payload)).into()));
        // The channel has room for it, and after the end it has no reader.
        let _ = give_back.try_send(work);
        let _ = tell.send(outcome);
    })?;
    Ok(ended)
}

/// What a panic said.
pub(crate) fn message(payload: &(dyn Any + Send)) -> &str {
    let text = payload.downcast_ref::<&str>().copied();
    let text = text.or_else(|| payload.downcast_ref::<String>().map(String::as_str));
    text.unwrap_or("no message")
}
