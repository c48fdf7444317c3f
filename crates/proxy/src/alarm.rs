//! Limits on waiting that hardly any wait reaches, such as how long a target may take to answer.
//!
//! A timer of the runtime costs each request a place in its queue. An alarm costs it a store: every
//! thread looks at its own alarms twice a second, so that one rings half a second late at most.

use std::cell::RefCell;
use std::future::Future;
use std::pin::Pin;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, LazyLock};
use std::task::{Context, Poll};
use std::time::{Duration, Instant};

use atomic_waker::AtomicWaker;
use hyper::rt::{Sleep, Timer};

/// How often a thread looks at its alarms, as long as it has any.
const LOOK: Duration = Duration::from_millis(500);
/// When an alarm is due that is not set, and one that has rung.
const NEVER: u64 = u64::MAX;
const RUNG: u64 = 0;

/// An alarm, for one wait at a time. Cloning gives another handle to the same one.
#[derive(Clone, Debug)]
pub(crate) struct Alarm(Arc<Bell>);

#[derive(Debug)]
struct Bell {
    /// In milliseconds, see [`millis`].
    due: AtomicU64,
    waker: AtomicWaker,
}

impl Alarm {
    /// One that is not set. The runtime of the current thread, which has no other threads, looks at it.
    pub(crate) fn new() -> Self {
        let bell = Arc::new(Bell {
            due: AtomicU64::new(NEVER),
            waker: AtomicWaker::new(),
        });
        ALARMS.with_borrow_mut(|alarms| alarms.add(Arc::clone(&bell)));
        Self(bell)
    }

    /// Rings at `at`.
    pub(crate) fn set(&self, at: Instant) {
        self.0
            .due
            .store(millis(at).max(RUNG + 1), Ordering::Relaxed);
    }

    pub(crate) fn unset(&self) {
        self.0.due.store(NEVER, Ordering::Relaxed);
    }

    /// Whether it has rung; who asks is woken when it does.
    pub(crate) fn poll(&self, context: &Context<'_>) -> Poll<()> {
        self.0.waker.register(context.waker());
        if self.0.due.load(Ordering::Relaxed) == RUNG {
            Poll::Ready(())
        } else {
            Poll::Pending
        }
    }
}

/// Milliseconds from the first alarm of this process to `at`.
fn millis(at: Instant) -> u64 {
    static START: LazyLock<Instant> = LazyLock::new(Instant::now);
    let since = at.saturating_duration_since(*START);
    u64::try_from(since.as_millis()).unwrap_or(NEVER - 1)
}

thread_local! {
    static ALARMS: RefCell<Alarms> = RefCell::default();
}

/// The alarms of one thread.
#[derive(Debug, Default)]
struct Alarms {
    bells: Vec<Arc<Bell>>,
    /// Whether a task looks at them.
    watched: bool,
}

impl Alarms {
    fn add(&mut self, bell: Arc<Bell>) {
        self.bells.push(bell);
        if !self.watched {
            self.watched = true;
            tokio::spawn(watch());
        }
    }

    /// Rings those that are due, and forgets those that nobody has any more. Gives whether any are
    /// left.
    fn look(&mut self, now: u64) -> bool {
        self.bells.retain(|bell| {
            if bell.due.load(Ordering::Relaxed) <= now {
                bell.due.store(RUNG, Ordering::Relaxed);
                bell.waker.wake();
            }
            Arc::strong_count(bell) > 1
        });
        if self.bells.len() < self.bells.capacity() / 4 {
            self.bells.shrink_to(self.bells.len() * 2);
        }
        self.watched = !self.bells.is_empty();
        self.watched
    }
}

async fn watch() {
    loop {
        tokio::time::sleep(LOOK).await;
        if !ALARMS.with_borrow_mut(|alarms| alarms.look(millis(Instant::now()))) {
            return;
        }
    }
}

/// What the HTTP/1.1 engine measures a head's time with: it waits for one thing at a time, so that its
/// waits share an alarm.
#[derive(Debug)]
pub(crate) struct HeadTimer(Alarm);

impl HeadTimer {
    pub(crate) fn new() -> Self {
        Self(Alarm::new())
    }
}

impl Timer for HeadTimer {
    fn sleep(&self, duration: Duration) -> Pin<Box<dyn Sleep>> {
        self.sleep_until(Instant::now() + duration)
    }

    fn sleep_until(&self, deadline: Instant) -> Pin<Box<dyn Sleep>> {
        self.0.set(deadline);
        Box::pin(Ringing(self.0.clone()))
    }
}

/// Over when the alarm rings; not set any more when nobody waits for that.
#[derive(Debug)]
struct Ringing(Alarm);

impl Sleep for Ringing {}

impl Future for Ringing {
    type Output = ();

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<()> {
        self.0.poll(context)
    }
}

impl Drop for Ringing {
    fn drop(&mut self) {
        self.0.unset();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn an_alarm_rings_once_it_is_due_and_not_before() {
        let timer = HeadTimer::new();
        let late = timer.sleep(Duration::from_secs(3600));
        assert!(tokio::time::timeout(LOOK * 2, late).await.is_err());
        timer.sleep(Duration::ZERO).await;
        let looked_at = || ALARMS.with_borrow(|alarms| alarms.bells.len());
        assert_eq!(looked_at(), 1);
        drop(timer);
        tokio::time::sleep(LOOK * 2).await;
        assert_eq!(looked_at(), 0, "nobody has it any more");
    }
}
