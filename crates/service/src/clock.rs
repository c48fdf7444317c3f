//! Whether the clock was set: the time of day is compared with the time since the system started,
//! which nobody sets.

use std::fs;
use std::sync::{Mutex, MutexGuard, PoisonError};

use time::{Duration, OffsetDateTime};
use tracing::warn;

/// How far the two may drift apart between two looks, as when the clock is adjusted in small steps.
const TOLERANCE: Duration = Duration::seconds(60);
/// How long it is worth knowing.
const WORTH_KNOWING: Duration = Duration::minutes(10);

/// Compares the clock with itself.
#[derive(Debug, Default)]
pub(crate) struct Clock {
    seen: Mutex<Seen>,
}

#[derive(Debug, Default)]
struct Seen {
    /// The time since the system started, and the clock, at the last look.
    last: Option<(Duration, OffsetDateTime)>,
    /// When the clock was set, since the system started, and by how much.
    set: Option<(Duration, Duration)>,
}

impl Clock {
    /// Looks at the clock; gives by how much it was set since the last look.
    pub(crate) fn look(&self) -> Option<Duration> {
        let by = self.seen().look(uptime()?, OffsetDateTime::now_utc())?;
        warn!("the clock was set {}", words(by));
        Some(by)
    }

    /// That the clock was set within the last ten minutes, in a sentence.
    pub(crate) fn was_set(&self) -> Option<String> {
        let (at, by) = self.seen().set?;
        let ago = uptime()? - at;
        (ago < WORTH_KNOWING).then(|| {
            let minutes = ago.whole_minutes();
            format!("{minutes} min ago it was set {}", words(by))
        })
    }

    fn seen(&self) -> MutexGuard<'_, Seen> {
        self.seen.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Seen {
    fn look(&mut self, uptime: Duration, now: OffsetDateTime) -> Option<Duration> {
        let (before, then) = self.last.replace((uptime, now))?;
        let by = (now - then) - (uptime - before);
        if by.abs() < TOLERANCE {
            return None;
        }
        self.set = Some((uptime, by));
        Some(by)
    }
}

/// The time since the system started, time asleep included (`/proc/uptime`, proc(5)).
fn uptime() -> Option<Duration> {
    let text = fs::read_to_string("/proc/uptime").ok()?;
    let seconds: f64 = text.split(' ').next()?.parse().ok()?;
    Some(Duration::seconds_f64(seconds))
}

/// `back by 3 h`, or `ahead by 2 d`.
fn words(by: Duration) -> String {
    let way = if by.is_negative() { "back" } else { "ahead" };
    let by = by.abs();
    let (count, unit) = match (by.whole_days(), by.whole_hours()) {
        (0, 0) => (by.whole_minutes(), "min"),
        (0, hours) => (hours, "h"),
        (days, _) => (days, "d"),
    };
    format!("{way} by {count} {unit}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_clock_that_was_set_is_distinguished_from_one_that_runs() {
        let (start, second) = (OffsetDateTime::UNIX_EPOCH, Duration::SECOND);
        let mut seen = Seen::default();
        assert_eq!(
            seen.look(second * 5, start),
            None,
            "nothing to compare with"
        );
        assert_eq!(seen.look(second * 15, start + second * 12), None);
        // A machine that was asleep for a day.
        let day = Duration::DAY;
        assert_eq!(
            seen.look(second * 15 + day, start + second * 12 + day),
            None
        );
        let by = seen
            .look(second * 25 + day, start + second * 22 - day)
            .unwrap();
        assert_eq!(words(by), "back by 2 d");
        assert_eq!(
            seen.look(second * 35 + day, start + second * 32 - day),
            None
        );
        assert_eq!(words(Duration::minutes(150)), "ahead by 2 h");
        assert_eq!(words(Duration::minutes(2)), "ahead by 2 min");
        assert!(uptime().is_some_and(Duration::is_positive));
    }
}
