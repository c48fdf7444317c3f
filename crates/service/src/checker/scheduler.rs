//! Which routes to check next in the background. No I/O and no clock: times are arguments.

use std::collections::{HashSet, VecDeque};
use std::time::{Duration, Instant};

/// The time between two rounds: while the results are being read, so that a route is shown as proved
/// soon after its server has started, and otherwise.
pub(crate) const ROUND: Duration = Duration::from_secs(2);
pub(crate) const IDLE_ROUND: Duration = Duration::from_secs(10);
/// How long results count as being read after the last call for them.
const READING: Duration = Duration::from_secs(10);
/// A route is not checked again in the background before this.
const SOONEST: Duration = Duration::from_secs(2);
/// Routes that are checked in one round while results are read: those without one, and others.
const NEW_IN_A_ROUND: usize = 64;
const AGAIN_IN_A_ROUND: usize = 16;
/// Checks per second while the results are not being read. One costs about 2 ms of CPU and a dozen
/// wake-ups, so this is 0.25 % of a core.
const CHECKS_PER_SECOND: f64 = 1.2;
/// The most checks that add up while none is due, for use after a change of the configuration.
const LARGEST_BUDGET: f64 = 12.0;
/// The most routes that are examined in one round.
const EXAMINED: usize = 512;

/// The last check of a route.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LastCheck {
    /// The route was removed.
    Gone,
    /// There was none.
    Never,
    /// It ended this long ago.
    Ago {
        /// How long ago it ended.
        ago: Duration,
        /// Whether every hop passed.
        passed: bool,
    },
}

/// The routes in the order in which they are checked: the least recently checked first.
#[derive(Debug)]
pub(crate) struct CheckScheduler {
    /// The time after which a route that passed is due again.
    every: Duration,
    order: VecDeque<String>,
    /// Routes to check before others, in this order.
    forward: VecDeque<String>,
    /// Checks that may be made while the results are not being read.
    budget: f64,
    filled_at: Instant,
    read_at: Option<Instant>,
}

impl CheckScheduler {
    /// A scheduler without routes, in which a route that passed is due again after `every`.
    pub(crate) fn new(every: Duration, now: Instant) -> Self {
        Self {
            every,
            order: VecDeque::new(),
            forward: VecDeque::new(),
            budget: LARGEST_BUDGET,
            filled_at: now,
            read_at: None,
        }
    }

    /// Replaces the routes. New ones come first.
    pub(crate) fn set_routes(&mut self, routes: impl IntoIterator<Item = String>) {
        let mut new: HashSet<String> = routes.into_iter().collect();
        self.order.retain(|address| new.remove(address));
        for address in new {
            self.order.push_front(address);
        }
    }

    /// Checks these routes before others.
    pub(crate) fn bring_forward(&mut self, routes: impl IntoIterator<Item = String>) {
        for address in routes {
            if !self.forward.contains(&address) && self.forward.len() < EXAMINED {
                self.forward.push_back(address);
            }
        }
    }

    /// The results are read. Returns whether they were not shortly before.
    pub(crate) fn results_read(&mut self, now: Instant) -> bool {
        let before = self.is_read(now);
        self.read_at = Some(now);
        !before
    }

    /// Whether the results were read lately.
    pub(crate) fn is_read(&self, now: Instant) -> bool {
        let age = self.read_at.map(|at| now.saturating_duration_since(at));
        age.is_some_and(|age| age < READING)
    }

    /// The routes to check now. `followed` while a client follows events.
    pub(crate) fn next_round(
        &mut self,
        now: Instant,
        followed: bool,
        last_check: impl Fn(&str) -> LastCheck,
    ) -> Vec<String> {
        let since = now.saturating_duration_since(self.filled_at).as_secs_f64();
        self.filled_at = now;
        self.budget = (self.budget + since * CHECKS_PER_SECOND).min(LARGEST_BUDGET);
        let reading = followed || self.is_read(now);
        let (mut new, mut again) = match reading {
            true => (NEW_IN_A_ROUND, AGAIN_IN_A_ROUND),
            false => {
                let all = floor(self.budget);
                (all, all)
            }
        };
        let mut due = Vec::new();
        let mut take = |last: LastCheck, soonest: Duration| {
            let room = match last {
                LastCheck::Gone => return Decision::Remove,
                LastCheck::Never => &mut new,
                LastCheck::Ago { ago, .. } if ago < soonest => return Decision::Wait,
                LastCheck::Ago { .. } => &mut again,
            };
            if *room == 0 {
                return Decision::Wait;
            }
            *room -= 1;
            if !reading {
                // One budget for both.
                new = new.min(again);
                again = new;
            }
            Decision::Check
        };
        for address in std::mem::take(&mut self.forward) {
            match take(last_check(&address), SOONEST) {
                Decision::Check => due.push(address),
                Decision::Wait => self.forward.push_back(address),
                Decision::Remove => {}
            }
        }
        let (every, first) = (self.every, due.len());
        let after = |passed: bool| match (passed, reading) {
            (true, _) => every,
            (false, true) => SOONEST.min(every),
            (false, false) => IDLE_ROUND.min(every),
        };
        let mut waiting = Vec::new();
        for _ in 0..self.order.len().min(EXAMINED) {
            let Some(address) = self.order.pop_front() else {
                break;
            };
            if due[..first].contains(&address) {
                self.order.push_back(address);
                continue;
            }
            let last = last_check(&address);
            let soonest = match last {
                LastCheck::Ago { passed, .. } => after(passed),
                LastCheck::Never | LastCheck::Gone => Duration::ZERO,
            };
            match take(last, soonest) {
                Decision::Check => {
                    due.push(address.clone());
                    self.order.push_back(address);
                }
                Decision::Wait => waiting.push(address),
                Decision::Remove => {}
            }
        }
        for address in waiting.into_iter().rev() {
            self.order.push_front(address);
        }
        if !reading {
            self.budget -= count(due.len());
        }
        due
    }
}

/// What to do with a route in a round.
enum Decision {
    Check,
    Wait,
    Remove,
}

#[allow(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "between 0 and 12"
)]
fn floor(budget: f64) -> usize {
    budget.max(0.0) as usize
}

#[allow(clippy::cast_precision_loss, reason = "at most 12")]
fn count(checks: usize) -> f64 {
    checks as f64
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const EVERY: Duration = Duration::from_secs(30);

    fn scheduler(routes: usize) -> (CheckScheduler, Instant) {
        let now = Instant::now();
        let mut scheduler = CheckScheduler::new(EVERY, now);
        scheduler.set_routes((0..routes).map(|number| number.to_string()));
        (scheduler, now)
    }

    fn ago(seconds: u64, passed: bool) -> LastCheck {
        LastCheck::Ago {
            ago: Duration::from_secs(seconds),
            passed,
        }
    }

    #[rstest]
    #[case(LastCheck::Never, true, true)]
    #[case(LastCheck::Never, false, true)]
    #[case(LastCheck::Gone, true, false)]
    #[case(ago(29, true), true, false)]
    #[case(ago(30, true), true, true)]
    #[case(ago(30, true), false, true)]
    #[case(ago(1, false), true, false)]
    #[case(ago(2, false), true, true)]
    #[case(ago(9, false), false, false)]
    #[case(ago(10, false), false, true)]
    fn a_route_is_due(#[case] last: LastCheck, #[case] followed: bool, #[case] due: bool) {
        let (mut scheduler, now) = scheduler(1);
        assert_eq!(
            scheduler.next_round(now, followed, |_| last).len(),
            usize::from(due)
        );
    }

    #[test]
    fn the_least_recently_checked_route_is_first_and_every_route_is_checked() {
        let (mut scheduler, now) = scheduler(100);
        let first = scheduler.next_round(now, false, |_| LastCheck::Never);
        assert_eq!(first.len(), 12, "one round of the budget");
        let mut seen = HashSet::new();
        seen.extend(first);
        for round in 1..=8 {
            let due = scheduler.next_round(now + IDLE_ROUND * round, false, |_| LastCheck::Never);
            assert!(due.len() <= 12, "1.2 per second");
            for address in due {
                assert!(seen.insert(address) || seen.len() == 100);
            }
        }
        assert_eq!(seen.len(), 100);
    }

    #[test]
    fn a_route_that_was_just_checked_is_not_brought_forward_at_once() {
        let (mut scheduler, now) = scheduler(3);
        scheduler.bring_forward(["2".to_owned(), "2".to_owned(), "gone".to_owned()]);
        let last = |address: &str| match address {
            "gone" => LastCheck::Gone,
            _ => ago(3, true),
        };
        assert_eq!(scheduler.next_round(now, false, last), ["2"]);
        assert_eq!(scheduler.next_round(now, false, last), [""; 0]);
        scheduler.bring_forward(["1".to_owned()]);
        assert_eq!(scheduler.next_round(now, false, |_| ago(1, false)), [""; 0]);
        assert_eq!(
            scheduler.next_round(now, false, |_| ago(2, false)),
            ["1"],
            "it is still first"
        );
    }

    #[test]
    fn more_routes_are_checked_while_results_are_read() {
        let (mut scheduler, now) = scheduler(200);
        scheduler.next_round(now, false, |_| LastCheck::Never);
        assert_eq!(
            scheduler.next_round(now, false, |_| LastCheck::Never).len(),
            0
        );
        assert!(scheduler.results_read(now), "nobody read them before");
        assert!(!scheduler.results_read(now));
        assert_eq!(
            scheduler.next_round(now, false, |_| LastCheck::Never).len(),
            64
        );
        assert_eq!(
            scheduler.next_round(now, false, |_| ago(60, true)).len(),
            16
        );
        assert!(!scheduler.is_read(now + READING));
        assert_eq!(scheduler.next_round(now, true, |_| ago(60, true)).len(), 16);
    }

    #[test]
    fn new_routes_come_first() {
        let (mut scheduler, now) = scheduler(2);
        let last = |address: &str| match address {
            "new" => LastCheck::Never,
            _ => ago(60, true),
        };
        scheduler.set_routes(["0".to_owned(), "new".to_owned()]);
        let due = scheduler.next_round(now, false, last);
        assert_eq!(due, ["new", "0"]);
    }
}
