use std::sync::atomic::{AtomicU32, Ordering};

use rstest::rstest;
use tokio::sync::Notify;
use tokio::time::timeout;

use super::*;

/// How a run of a task ends.
#[derive(Clone, Copy, Debug)]
enum End {
    Returns,
    Fails,
    Panics,
}

impl End {
    fn reach(self) -> Result<(), TaskError> {
        match self {
            Self::Returns => Ok(()),
            Self::Fails => Err("no more descriptors".into()),
            Self::Panics => panic!("index out of bounds"),
        }
    }

    fn reason(self) -> &'static str {
        match self {
            Self::Returns => "it returned",
            Self::Fails => "no more descriptors",
            Self::Panics => "it panicked: index out of bounds",
        }
    }
}

/// Starts a task that ends so in its first run and goes on in the second, as a task or as a thread.
fn start(supervisor: &Supervisor, policy: Policy, end: End, on_thread: bool) -> Arc<AtomicU32> {
    let runs = Arc::new(AtomicU32::new(0));
    let counted = Arc::clone(&runs);
    let shutdown = supervisor.shutdown().clone();
    if on_thread {
        let work = move |stop: &Stop| {
            if counted.fetch_add(1, Ordering::Relaxed) == 0 {
                return end.reach();
            }
            while !stop.is_set() {
                std::thread::park_timeout(Duration::from_millis(1));
            }
            Ok(())
        };
        supervisor.spawn_thread(shutdown, "part", policy, work, || {});
    } else {
        supervisor.spawn("part", policy, move || {
            let first = counted.fetch_add(1, Ordering::Relaxed) == 0;
            let shutdown = shutdown.clone();
            async move {
                if first {
                    return end.reach();
                }
                shutdown.cancelled().await;
                Ok(())
            }
        });
    }
    runs
}

async fn until(what: impl Fn() -> bool) {
    while !what() {
        sleep(Duration::from_millis(1)).await;
    }
}

#[rstest]
#[tokio::test]
async fn a_task_that_ends_unexpectedly_is_restarted(
    #[values(End::Returns, End::Fails, End::Panics)] end: End,
    #[values(false, true)] on_thread: bool,
) {
    let supervisor = Supervisor::new(CancellationToken::new());
    let runs = start(&supervisor, Policy::Restart, end, on_thread);
    until(|| runs.load(Ordering::Relaxed) == 2).await;
    let [task] = &supervisor.tasks()[..] else {
        panic!("one task");
    };
    assert_eq!((task.state, task.restarts), (TaskState::Running, 1));
    assert_eq!(task.error.as_deref(), Some(end.reason()));
    supervisor.shutdown().cancel();
    supervisor.join().await;
    assert_eq!(supervisor.tasks(), []);
    assert_eq!(supervisor.failure(), None);
}

#[rstest]
#[tokio::test]
async fn the_end_of_a_fatal_task_stops_the_service(
    #[values(End::Returns, End::Fails, End::Panics)] end: End,
    #[values(false, true)] on_thread: bool,
) {
    let supervisor = Supervisor::new(CancellationToken::new());
    start(&supervisor, Policy::Fatal, end, on_thread);
    supervisor.shutdown().cancelled().await;
    let failure = supervisor.failure().unwrap();
    assert_eq!((&*failure.task, &*failure.reason), ("part", end.reason()));
    assert_eq!(supervisor.tasks()[0].state, TaskState::Failed);
    supervisor.join().await;
}

#[test]
fn pauses_double_up_to_half_a_minute_until_a_task_runs_steadily() {
    let mut backoff = Backoff::default();
    let mut after = |ran| backoff.next_pause(Duration::from_secs(ran)).as_millis();
    let at_once: Vec<_> = (0..10).map(|_| after(0)).collect();
    assert_eq!(
        at_once,
        [100, 200, 400, 800, 1600, 3200, 6400, 12800, 25600, 30000]
    );
    assert_eq!([after(59), after(60), after(1)], [30000, 100, 200]);
}

#[tokio::test]
async fn a_task_that_is_no_longer_needed_is_forgotten() {
    let supervisor = Supervisor::new(CancellationToken::new());
    let end = CancellationToken::new();
    let needed = end.clone();
    supervisor.spawn_until(end.clone(), "part", Policy::Fatal, move || {
        let needed = needed.clone();
        async move {
            needed.cancelled().await;
            Ok(())
        }
    });
    assert_eq!(supervisor.tasks().len(), 1);
    end.cancel();
    until(|| supervisor.tasks().is_empty()).await;
    assert!(!supervisor.shutdown().is_cancelled());
}

#[rstest]
#[tokio::test]
async fn a_killed_task_counts_as_failed(#[values(false, true)] on_thread: bool) {
    let supervisor = Supervisor::new(CancellationToken::new());
    let runs = start(&supervisor, Policy::Restart, End::Returns, on_thread);
    until(|| runs.load(Ordering::Relaxed) == 2).await;
    assert!(!supervisor.kill("another part"));
    assert!(supervisor.kill("part"));
    until(|| runs.load(Ordering::Relaxed) == 3).await;
    supervisor.shutdown().cancel();
    supervisor.join().await;
}

#[tokio::test]
async fn waiting_for_the_end_waits_for_every_task() {
    let supervisor = Supervisor::new(CancellationToken::new());
    let may_end = Arc::new(Notify::new());
    let allowed = Arc::clone(&may_end);
    supervisor.spawn("part", Policy::Restart, move || {
        let allowed = Arc::clone(&allowed);
        async move {
            allowed.notified().await;
            Ok(())
        }
    });
    supervisor.shutdown().cancel();
    let waiting = timeout(Duration::from_millis(20), supervisor.join()).await;
    assert!(waiting.is_err());
    may_end.notify_one();
    supervisor.join().await;
}
