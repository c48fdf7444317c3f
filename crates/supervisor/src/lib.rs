//! Starts the tasks and threads that run for as long as the service does, and acts when one of them
//! ends before its time, by a panic, an error or a plain return.
//!
//! Each task has a name and a [`Policy`]: it is started again, or its end is fatal and stops the
//! service. Start from [`Supervisor::spawn`]; [`Supervisor::tasks`] reports the state of each, and
//! [`Supervisor::failure`] the fatal one. Work that ends with a connection or a request is not
//! started here.

mod thread;

use std::error::Error;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::Duration;

use bentlane_model::chain;
use tokio::task::JoinError;
use tokio::time::{Instant, sleep};
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;
use tracing::{error, info};

pub use thread::Stop;

/// How long to wait before a task is started again for the first time; twice as long each time after.
const FIRST_PAUSE: Duration = Duration::from_millis(100);
const LONGEST_PAUSE: Duration = Duration::from_secs(30);
/// A task that ran this long before it ended starts with the first pause again.
const STEADY: Duration = Duration::from_secs(60);

/// Why a task ended.
pub type TaskError = Box<dyn Error + Send + Sync>;

/// What to do when a task ends before its time.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Policy {
    /// Start it again, after a pause that doubles each time, from 0.1 s to 30 s.
    Restart,
    /// Stop the service.
    Fatal,
}

/// Whether a task runs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TaskState {
    /// It runs.
    Running,
    /// It ended before its time, and is about to be started again.
    Restarting,
    /// It ended before its time, and the service stops.
    Failed,
}

/// One task, as it is now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TaskReport {
    /// Its name, such as `https 127.0.0.1:443`. Two tasks may have the same.
    pub name: Arc<str>,
    /// What happens when it ends before its time.
    pub policy: Policy,
    /// Whether it runs.
    pub state: TaskState,
    /// How often it was started again.
    pub restarts: u32,
    /// Why it ended the last time it did so before its time.
    pub error: Option<String>,
}

/// The end of a task whose policy is [`Policy::Fatal`].
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Failure {
    /// The task's name.
    pub task: Arc<str>,
    /// Why it ended.
    pub reason: String,
}

/// Starts tasks and watches them. Cloning gives another handle to the same one.
#[derive(Clone, Debug)]
pub struct Supervisor(Arc<Inner>);

#[derive(Debug)]
struct Inner {
    shutdown: CancellationToken,
    tasks: Mutex<Vec<Arc<Task>>>,
    watchers: TaskTracker,
    failure: OnceLock<Failure>,
    restarting: AtomicBool,
}

#[derive(Debug)]
struct Task {
    name: Arc<str>,
    policy: Policy,
    progress: Mutex<Progress>,
}

#[derive(Debug)]
struct Progress {
    state: TaskState,
    restarts: u32,
    error: Option<String>,
    /// Ends the current run, see [`Supervisor::kill`].
    kill: CancellationToken,
}

impl Supervisor {
    /// A supervisor that expects tasks to end once `shutdown` is cancelled, and cancels it itself when
    /// a fatal task ends.
    #[must_use]
    pub fn new(shutdown: CancellationToken) -> Self {
        Self(Arc::new(Inner {
            shutdown,
            tasks: Mutex::default(),
            watchers: TaskTracker::new(),
            failure: OnceLock::new(),
            restarting: AtomicBool::new(false),
        }))
    }

    /// Stops the service to start it again at once: what listens is to be left as it is.
    pub fn restart(&self) {
        self.0.restarting.store(true, Ordering::Release);
        self.0.shutdown.cancel();
    }

    /// Whether it stops to start again.
    #[must_use]
    pub fn is_restarting(&self) -> bool {
        self.0.restarting.load(Ordering::Acquire)
    }

    /// The token that stops the service.
    #[must_use]
    pub fn shutdown(&self) -> &CancellationToken {
        &self.0.shutdown
    }

    /// Runs `work` as a task of the current runtime until the service stops.
    ///
    /// `work` is called again for each restart. From the moment at which the shutdown token is
    /// cancelled the task may end, and has to by itself: it is not aborted.
    ///
    /// # Panics
    /// Outside a Tokio runtime.
    pub fn spawn<W, F>(&self, name: impl Into<Arc<str>>, policy: Policy, work: W)
    where
        W: FnMut() -> F + Send + 'static,
        F: Future<Output = Result<(), TaskError>> + Send + 'static,
    {
        self.spawn_until(self.0.shutdown.clone(), name, policy, work);
    }

    /// The same for a task that may end earlier: once `end` is cancelled.
    ///
    /// # Panics
    /// Outside a Tokio runtime.
    pub fn spawn_until<W, F>(
        &self,
        end: CancellationToken,
        name: impl Into<Arc<str>>,
        policy: Policy,
        mut work: W,
    ) where
        W: FnMut() -> F + Send + 'static,
        F: Future<Output = Result<(), TaskError>> + Send + 'static,
    {
        let run = move |kill: CancellationToken| {
            let working = work();
            let task = tokio::spawn(async move {
                tokio::select! {
                    outcome = working => outcome,
                    () = kill.cancelled() => panic!("it was killed"),
                }
            });
            async { task.await.unwrap_or_else(|cause| Err(panicked(cause))) }
        };
        self.watch(end, name.into(), policy, run);
    }

    /// Watches what `run` does, and calls it again as often as it has to be started again.
    fn watch<R, F>(&self, end: CancellationToken, name: Arc<str>, policy: Policy, mut run: R)
    where
        R: FnMut(CancellationToken) -> F + Send + 'static,
        F: Future<Output = Result<(), TaskError>> + Send + 'static,
    {
        let task = Arc::new(Task {
            name,
            policy,
            progress: Mutex::new(Progress {
                state: TaskState::Running,
                restarts: 0,
                error: None,
                kill: CancellationToken::new(),
            }),
        });
        self.tasks_mut().push(Arc::clone(&task));
        let supervisor = self.clone();
        self.0.watchers.spawn(async move {
            let mut backoff = Backoff::default();
            loop {
                let kill = task.start();
                let started = Instant::now();
                let outcome = run(kill).await;
                if end.is_cancelled() {
                    if let Err(cause) = outcome {
                        error!(task = &*task.name, %cause, "ended with an error");
                    }
                    break;
                }
                let reason = match outcome {
                    Ok(()) => "it returned".to_owned(),
                    Err(cause) => chain(&*cause),
                };
                if policy == Policy::Fatal {
                    supervisor.fail(&task, reason);
                    return;
                }
                let pause = backoff.next_pause(started.elapsed());
                error!(task = &*task.name, reason, again_in = ?pause, "a task ended; it is started again");
                task.ended(TaskState::Restarting, reason);
                tokio::select! {
                    () = sleep(pause) => {}
                    () = end.cancelled() => break,
                }
                info!(task = &*task.name, "started again");
            }
            supervisor.tasks_mut().retain(|other| !Arc::ptr_eq(other, &task));
        });
    }

    fn fail(&self, task: &Task, reason: String) {
        error!(
            task = &*task.name,
            reason, "a task ended; the service stops"
        );
        let failure = Failure {
            task: Arc::clone(&task.name),
            reason: reason.clone(),
        };
        // The first failure is the reason; others follow from it.
        let _ = self.0.failure.set(failure);
        task.ended(TaskState::Failed, reason);
        self.0.shutdown.cancel();
    }

    /// Each task that has not ended in its time, in the order in which they were started.
    #[must_use]
    pub fn tasks(&self) -> Vec<TaskReport> {
        let tasks = self.tasks_mut();
        tasks.iter().map(|task| task.report()).collect()
    }

    /// The fatal task that ended before its time, if one did.
    #[must_use]
    pub fn failure(&self) -> Option<Failure> {
        self.0.failure.get().cloned()
    }

    /// Waits until all tasks have ended. To be called after the shutdown token was cancelled.
    ///
    /// # Cancel safety
    /// Nothing is lost when the future is dropped.
    pub async fn join(&self) {
        self.0.watchers.close();
        self.0.watchers.wait().await;
    }

    /// Ends the tasks with this name as if they had failed, for tests of what follows. Gives whether
    /// there was one.
    pub fn kill(&self, name: &str) -> bool {
        let tasks = self.tasks_mut();
        let named = tasks.iter().filter(|task| *task.name == *name);
        named.map(|task| task.progress().kill.cancel()).count() > 0
    }

    fn tasks_mut(&self) -> MutexGuard<'_, Vec<Arc<Task>>> {
        self.0.tasks.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Task {
    /// Notes that it runs again; gives what ends this run.
    fn start(&self) -> CancellationToken {
        let mut progress = self.progress();
        if progress.state == TaskState::Restarting {
            progress.restarts = progress.restarts.saturating_add(1);
        }
        progress.state = TaskState::Running;
        progress.kill = CancellationToken::new();
        progress.kill.clone()
    }

    fn ended(&self, state: TaskState, reason: String) {
        let mut progress = self.progress();
        progress.state = state;
        progress.error = Some(reason);
    }

    fn report(&self) -> TaskReport {
        let progress = self.progress();
        TaskReport {
            name: Arc::clone(&self.name),
            policy: self.policy,
            state: progress.state,
            restarts: progress.restarts,
            error: progress.error.clone(),
        }
    }

    fn progress(&self) -> MutexGuard<'_, Progress> {
        self.progress.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// How long to wait before a task is started again.
#[derive(Debug, Default)]
struct Backoff(Option<Duration>);

impl Backoff {
    /// The pause after a run that lasted `ran`.
    fn next_pause(&mut self, ran: Duration) -> Duration {
        let last = self.0.filter(|_| ran < STEADY);
        let next = last.map_or(FIRST_PAUSE, |last| last.saturating_mul(2));
        *self.0.insert(next.min(LONGEST_PAUSE))
    }
}

fn panicked(cause: JoinError) -> TaskError {
    match cause.try_into_panic() {
        Ok(payload) => format!("it panicked: {}", thread::message(&*payload)).into(),
        Err(cause) => cause.into(),
    }
}

#[cfg(test)]
mod tests;
