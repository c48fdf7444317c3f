//! Which routes the background checks next. No I/O, no clock: times are arguments.

use std::collections::{HashSet, VecDeque};
use std::time::{Duration, Instant};

/// How often the background looks which routes are due: while somebody looks, so that a lane turns
/// solid soon after its server has started, and otherwise.
pub(crate) const TURN: Duration = Duration::from_secs(2);
pub(crate) const IDLE_TURN: Duration = Duration::from_secs(10);
/// For how long somebody is taken to look after `status` was shown or a list of routes was read.
const LOOKING: Duration = Duration::from_secs(10);
/// A route is not checked again in the background before this.
const SOONEST: Duration = Duration::from_secs(2);
/// Routes that are checked in one turn while somebody looks: without a verdict, and again.
const NEW_IN_A_TURN: usize = 64;
const AGAIN_IN_A_TURN: usize = 16;
/// Checks a second while nobody looks. A check costs about 2 ms of CPU, so this is 0.3 % of a core.
const CHECKS_A_SECOND: f64 = 1.5;
/// Checks that are saved up for a change of the configuration.
const SAVED_UP: f64 = 32.0;
/// Routes that are looked at in one turn at most, whether they are due.
const EXAMINED: usize = 512;

/// What is known of a route.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LastCheck {
    /// There is no such route any more.
    Gone,
    /// It was not checked yet.
    Never,
    /// It was checked so long ago.
    Ago {
        /// How long.
        ago: Duration,
        /// Whether every hop passed.
        passed: bool,
    },
}

/// The routes in the order in which they are checked: the least recently checked first.
#[derive(Debug)]
pub(crate) struct Schedule {
    /// After how long a route that passed is due again.
    every: Duration,
    order: VecDeque<String>,
    /// Routes that something happened to, in the order in which it did.
    forward: VecDeque<String>,
    /// Checks that may be made while nobody looks.
    budget: f64,
    filled_at: Instant,
    looked_at: Option<Instant>,
}

impl Schedule {
    /// A schedule without routes. A route that passed is due again after `every`.
    pub(crate) fn new(every: Duration, now: Instant) -> Self {
        Self {
            every,
            order: VecDeque::new(),
            forward: VecDeque::new(),
            budget: SAVED_UP,
            filled_at: now,
            looked_at: None,
        }
    }

    /// Goes by these routes from now on. Those that are new come first.
    pub(crate) fn set_routes(&mut self, routes: impl IntoIterator<Item = String>) {
        let mut new: HashSet<String> = routes.into_iter().collect();
        self.order.retain(|address| new.remove(address));
        for address in new {
            self.order.push_front(address);
        }
    }

    /// Has these routes checked before others.
    pub(crate) fn bring_forward(&mut self, routes: impl IntoIterator<Item = String>) {
        for address in routes {
            if !self.forward.contains(&address) && self.forward.len() < EXAMINED {
                self.forward.push_back(address);
            }
        }
    }

    /// Somebody looks at what checks came to. Gives whether nobody did before.
    pub(crate) fn looked(&mut self, now: Instant) -> bool {
        let before = self.is_looked_at(now);
        self.looked_at = Some(now);
        !before
    }

    /// Whether somebody has looked lately.
    pub(crate) fn is_looked_at(&self, now: Instant) -> bool {
        let since = self.looked_at.map(|at| now.saturating_duration_since(at));
        since.is_some_and(|since| since < LOOKING)
    }

    /// The routes to check now. `watched` while somebody follows events.
    pub(crate) fn turn(
        &mut self,
        now: Instant,
        watched: bool,
        last_check: impl Fn(&str) -> LastCheck,
    ) -> Vec<String> {
        let since = now.saturating_duration_since(self.filled_at).as_secs_f64();
        self.filled_at = now;
        self.budget = (self.budget + since * CHECKS_A_SECOND).min(SAVED_UP);
        let looking = watched || self.is_looked_at(now);
        let (mut new, mut again) = match looking {
            true => (NEW_IN_A_TURN, AGAIN_IN_A_TURN),
            false => {
                let all = whole_part(self.budget);
                (all, all)
            }
        };
        let mut due = Vec::new();
        let mut take = |address: &str, soonest: Duration| {
            let room = match last_check(address) {
                LastCheck::Gone => return Fate::Forgotten,
                LastCheck::Never => &mut new,
                LastCheck::Ago { ago, .. } if ago < soonest => return Fate::Waits,
                LastCheck::Ago { .. } => &mut again,
            };
            if *room == 0 {
                return Fate::Waits;
            }
            *room -= 1;
            if !looking {
                // One budget for both.
                new = new.min(again);
                again = new;
            }
            Fate::Due
        };
        for address in std::mem::take(&mut self.forward) {
            match take(&address, SOONEST) {
                Fate::Due => due.push(address),
                Fate::Waits => self.forward.push_back(address),
                Fate::Forgotten => {}
            }
        }
        let (every, first) = (self.every, due.len());
        let after = |passed: bool| match (passed, looking) {
            (true, _) => every,
            (false, true) => SOONEST.min(every),
            (false, false) => IDLE_TURN.min(every),
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
            let soonest = match last_check(&address) {
                LastCheck::Ago { passed, .. } => after(passed),
                LastCheck::Never | LastCheck::Gone => Duration::ZERO,
            };
            match take(&address, soonest) {
                Fate::Due => {
                    due.push(address.clone());
                    self.order.push_back(address);
                }
                Fate::Waits => waiting.push(address),
                Fate::Forgotten => {}
            }
        }
        for address in waiting.into_iter().rev() {
            self.order.push_front(address);
        }
        if !looking {
            self.budget -= count(due.len());
        }
        due
    }
}

/// What becomes of a route in a turn.
enum Fate {
    Due,
    Waits,
    Forgotten,
}

#[allow(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "between 0 and 32"
)]
fn whole_part(budget: f64) -> usize {
    budget.max(0.0) as usize
}

#[allow(clippy::cast_precision_loss, reason = "at most 32")]
fn count(checks: usize) -> f64 {
    checks as f64
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const EVERY: Duration = Duration::from_secs(30);

    fn schedule(routes: usize) -> (Schedule, Instant) {
        let now = Instant::now();
        let mut schedule = Schedule::new(EVERY, now);
        schedule.set_routes((0..routes).map(|number| number.to_string()));
        (schedule, now)
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
    fn a_route_is_due(#[case] last: LastCheck, #[case] watched: bool, #[case] due: bool) {
        let (mut schedule, now) = schedule(1);
        assert_eq!(
            schedule.turn(now, watched, |_| last).len(),
            usize::from(due)
        );
    }

    #[test]
    fn the_least_recently_checked_comes_first_and_none_is_left_out() {
        let (mut schedule, now) = schedule(100);
        let first = schedule.turn(now, false, |_| LastCheck::Never);
        assert_eq!(first.len(), 32, "what was saved up");
        let mut seen = HashSet::new();
        seen.extend(first);
        for turn in 1..=5 {
            let due = schedule.turn(now + IDLE_TURN * turn, false, |_| LastCheck::Never);
            assert!(due.len() <= 15, "1.5 a second");
            for address in due {
                assert!(seen.insert(address) || seen.len() == 100);
            }
        }
        assert_eq!(seen.len(), 100);
    }

    #[test]
    fn what_something_happened_to_is_brought_forward_but_not_again_at_once() {
        let (mut schedule, now) = schedule(3);
        schedule.bring_forward(["2".to_owned(), "2".to_owned(), "gone".to_owned()]);
        let last = |address: &str| match address {
            "gone" => LastCheck::Gone,
            _ => ago(3, true),
        };
        assert_eq!(schedule.turn(now, false, last), ["2"]);
        assert_eq!(schedule.turn(now, false, last), [""; 0]);
        schedule.bring_forward(["1".to_owned()]);
        assert_eq!(schedule.turn(now, false, |_| ago(1, false)), [""; 0]);
        assert_eq!(
            schedule.turn(now, false, |_| ago(2, false)),
            ["1"],
            "it was kept in mind"
        );
    }

    #[test]
    fn while_somebody_looks_there_is_more_to_spend() {
        let (mut schedule, now) = schedule(200);
        schedule.turn(now, false, |_| LastCheck::Never);
        assert_eq!(schedule.turn(now, false, |_| LastCheck::Never).len(), 0);
        assert!(schedule.looked(now), "nobody did before");
        assert!(!schedule.looked(now));
        assert_eq!(schedule.turn(now, false, |_| LastCheck::Never).len(), 64);
        assert_eq!(schedule.turn(now, false, |_| ago(60, true)).len(), 16);
        assert!(!schedule.is_looked_at(now + LOOKING));
        assert_eq!(schedule.turn(now, true, |_| ago(60, true)).len(), 16);
    }

    #[test]
    fn routes_that_are_new_come_before_others() {
        let (mut schedule, now) = schedule(2);
        let last = |address: &str| match address {
            "new" => LastCheck::Never,
            _ => ago(60, true),
        };
        schedule.set_routes(["0".to_owned(), "new".to_owned()]);
        let due = schedule.turn(now, false, last);
        assert_eq!(due, ["new", "0"]);
    }
}
