//! Several containers that answer for the same route.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use crate::activity::{Activity, Busy};
use crate::pool::Pool;

/// For how long one that accepted no connection is left out.
const LEFT_OUT: Duration = Duration::from_secs(5);

/// The containers of a service, each with its own connections.
#[derive(Debug)]
pub(crate) struct Replicas {
    began: Instant,
    all: Vec<Replica>,
    /// Where the next choice begins, so that those with the same load take turns.
    next: AtomicUsize,
}

#[derive(Debug)]
struct Replica {
    pool: Arc<Pool>,
    activity: Activity,
    /// Milliseconds from the beginning until it is asked again.
    left_out_until: AtomicU64,
}

/// The choice for one request.
#[derive(Debug)]
pub(crate) struct Choice {
    at: usize,
    pub(crate) pool: Arc<Pool>,
    /// Counts the request for as long as it is kept.
    pub(crate) busy: Busy,
}

impl Replicas {
    pub(crate) fn new(pools: impl IntoIterator<Item = Arc<Pool>>) -> Self {
        let all = pools.into_iter().map(|pool| Replica {
            pool,
            activity: Activity::default(),
            left_out_until: AtomicU64::new(0),
        });
        Self {
            began: Instant::now(),
            all: all.collect(),
            next: AtomicUsize::new(0),
        }
    }

    pub(crate) fn pools(&self) -> impl Iterator<Item = &Arc<Pool>> {
        self.all.iter().map(|replica| &replica.pool)
    }

    /// The one with the fewest requests at work, of those that have not failed a moment ago, if any.
    pub(crate) fn choose(&self) -> Option<Choice> {
        let now = self.now();
        let first = self.next.fetch_add(1, Ordering::Relaxed);
        let order = (0..self.all.len()).map(|it| (first + it) % self.all.len());
        let at = order.min_by_key(|at| {
            let replica = &self.all[*at];
            let until = replica.left_out_until.load(Ordering::Relaxed);
            (until > now, replica.activity.at_work())
        })?;
        let replica = &self.all[at];
        Some(Choice {
            at,
            pool: Arc::clone(&replica.pool),
            busy: replica.activity.begin(),
        })
    }

    /// Leaves out what was chosen for a moment, and gives another one, unless all are left out.
    pub(crate) fn instead_of(&self, failed: &Choice) -> Option<Choice> {
        let now = self.now();
        let until = now + u64::try_from(LEFT_OUT.as_millis()).unwrap_or(u64::MAX);
        let failed = &self.all[failed.at];
        failed.left_out_until.store(until, Ordering::Relaxed);
        let is_well = |replica: &Replica| replica.left_out_until.load(Ordering::Relaxed) <= now;
        if !self.all.iter().any(is_well) {
            return None;
        }
        self.choose()
    }

    fn now(&self) -> u64 {
        u64::try_from(self.began.elapsed().as_millis()).unwrap_or(u64::MAX)
    }
}

#[cfg(test)]
mod tests {
    use bentlane_model::{Destination, Observed, Route};

    use super::*;
    use crate::target_tls::TargetRoots;

    fn replicas(count: u16) -> Replicas {
        let pool = |port: u16| {
            let address = "a.moor.test".parse().unwrap();
            let route = Route::new(address, (4310 + port).to_string().parse().unwrap());
            let destination = Destination::of(&route, &Observed::default());
            Arc::new(Pool::new(destination, TargetRoots::new("/nowhere".into())))
        };
        Replicas::new((0..count).map(pool))
    }

    #[test]
    fn requests_go_to_the_one_with_the_least_to_do() {
        let replicas = replicas(3);
        let held: Vec<Choice> = (0..6).map(|_| replicas.choose().unwrap()).collect();
        for at in 0..3 {
            assert_eq!(
                held.iter().filter(|choice| choice.at == at).count(),
                2,
                "{at}"
            );
        }
        let mut held = held;
        let free = held.remove(4).at;
        assert_eq!(replicas.choose().unwrap().at, free);
    }

    #[test]
    fn one_that_fails_is_left_out_and_comes_back_when_all_fail() {
        let replicas = replicas(2);
        let first = replicas.choose().unwrap();
        let second = replicas.instead_of(&first).unwrap();
        assert_ne!(first.at, second.at);
        for _ in 0..4 {
            assert_eq!(replicas.choose().unwrap().at, second.at);
        }
        assert!(replicas.instead_of(&second).is_none(), "none is left");
        assert!(replicas.choose().is_some());
    }
}
