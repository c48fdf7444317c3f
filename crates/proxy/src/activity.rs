//! Closes connections on which nothing was asked for a while.

use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::task::{Context, Poll};
use std::time::{Duration, Instant};

use tokio::time::{Instant as TokioInstant, Sleep, sleep};

/// The shortest wait before a connection is checked again.
const SHORTEST_WAIT: Duration = Duration::from_millis(5);

/// Whether requests are at work on a connection, and since when none is. Cloning gives another
/// handle to the same.
#[derive(Clone, Debug)]
pub(crate) struct Activity(Arc<Requests>);

#[derive(Debug)]
struct Requests {
    start: Instant,
    at_work: AtomicUsize,
    /// Milliseconds from the start to when the last one ended.
    last: AtomicU64,
}

/// A request at work, until it is dropped.
#[derive(Debug)]
pub(crate) struct Busy(Activity);

impl Default for Activity {
    fn default() -> Self {
        Self(Arc::new(Requests {
            start: Instant::now(),
            at_work: AtomicUsize::new(0),
            last: AtomicU64::new(0),
        }))
    }
}

impl Activity {
    pub(crate) fn begin(&self) -> Busy {
        self.0.at_work.fetch_add(1, Ordering::Relaxed);
        Busy(self.clone())
    }

    /// How many requests are at work.
    pub(crate) fn at_work(&self) -> usize {
        self.0.at_work.load(Ordering::Relaxed)
    }

    /// How long the connection has been open without a first request; `None` once there was one.
    pub(crate) fn unasked_for(&self) -> Option<Duration> {
        let Requests {
            start,
            at_work,
            last,
        } = &*self.0;
        let none = at_work.load(Ordering::Relaxed) == 0 && last.load(Ordering::Relaxed) == 0;
        none.then(|| start.elapsed())
    }

    /// How long nothing has been at work; `None` while something is.
    pub(crate) fn idle_for(&self) -> Option<Duration> {
        if self.0.at_work.load(Ordering::Relaxed) > 0 {
            return None;
        }
        let last = Duration::from_millis(self.0.last.load(Ordering::Relaxed));
        Some(self.0.start.elapsed().saturating_sub(last))
    }
}

impl Drop for Busy {
    fn drop(&mut self) {
        let Requests {
            start,
            at_work,
            last,
        } = &*self.0.0;
        let millis = u64::try_from(start.elapsed().as_millis()).unwrap_or(u64::MAX);
        last.store(millis, Ordering::Relaxed);
        at_work.fetch_sub(1, Ordering::Relaxed);
    }
}

/// How long after its start a connection may still bring its first request when the proxy stops.
const FIRST_REQUEST: Duration = Duration::from_millis(500);

/// The wait for the first request of a connection when the proxy stops.
#[derive(Debug, Default)]
pub(crate) struct FirstRequest(Option<Pin<Box<Sleep>>>);

impl FirstRequest {
    /// Whether it may still come; the task is woken when it may not any more.
    pub(crate) fn is_awaited(&mut self, activity: &Activity, context: &mut Context<'_>) -> bool {
        let Some(age) = activity.unasked_for() else {
            return false;
        };
        let left = FIRST_REQUEST.saturating_sub(age);
        let wait = self.0.get_or_insert_with(|| Box::pin(sleep(left)));
        wait.as_mut().poll(context).is_pending()
    }
}

/// A connection of HTTP/2 that is ended once nothing has been asked over it for a while. One of
/// HTTP/1.1 ends by the time that a head may take.
pub(crate) struct UntilIdle<C> {
    connection: Pin<Box<C>>,
    stop: fn(Pin<&mut C>),
    activity: Activity,
    limit: Duration,
    next_look: Pin<Box<Sleep>>,
}

impl<C> UntilIdle<C> {
    pub(crate) fn new(
        connection: C,
        stop: fn(Pin<&mut C>),
        activity: Activity,
        limit: Duration,
    ) -> Self {
        Self {
            connection: Box::pin(connection),
            stop,
            activity,
            limit,
            next_look: Box::pin(sleep(limit)),
        }
    }

    pub(crate) fn stop(self: Pin<&mut Self>) {
        let this = self.get_mut();
        (this.stop)(this.connection.as_mut());
    }
}

impl<C: Future> Future for UntilIdle<C> {
    type Output = C::Output;

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<C::Output> {
        let this = self.get_mut();
        while this.next_look.as_mut().poll(context).is_ready() {
            let left = match this.activity.idle_for() {
                Some(idle) if idle >= this.limit => {
                    (this.stop)(this.connection.as_mut());
                    this.limit
                }
                Some(idle) => this.limit.saturating_sub(idle),
                None => this.limit,
            };
            // Not at once again: the clocks differ by a little.
            let left = left.max(SHORTEST_WAIT);
            this.next_look.as_mut().reset(TokioInstant::now() + left);
        }
        this.connection.as_mut().poll(context)
    }
}

#[cfg(test)]
mod tests {
    use std::pin::pin;

    use tokio::time::timeout;

    use super::*;

    /// A connection that can be ended from elsewhere.
    struct StoppableConnection(bool);

    impl Future for StoppableConnection {
        type Output = ();

        fn poll(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<()> {
            if self.0 {
                Poll::Ready(())
            } else {
                Poll::Pending
            }
        }
    }

    #[tokio::test]
    async fn a_connection_ends_once_it_has_been_idle_long_enough() {
        let activity = Activity::default();
        let limit = Duration::from_millis(30);
        let mut connection = pin!(UntilIdle::new(
            StoppableConnection(false),
            |mut connection| connection.0 = true,
            activity.clone(),
            limit,
        ));
        let busy = activity.begin();
        let early = timeout(limit * 4, connection.as_mut()).await;
        assert!(early.is_err(), "a request is at work");
        drop(busy);
        assert!(activity.idle_for().is_some_and(|idle| idle < limit * 4));
        let ended = timeout(Duration::from_secs(20), connection).await;
        assert!(ended.is_ok(), "nothing is at work");
    }
}
