use std::collections::{BTreeMap, HashMap};
use std::time::Duration;

use foldhash::fast::RandomState;
use hdrhistogram::Histogram;
use time::OffsetDateTime;

use super::{Ending, RouteTraffic, TrafficPoint};

/// Seconds that are counted together.
const SPAN: i64 = 10;
/// Spans that it reaches back.
const SPANS: i64 = 360;
/// Counts that are kept at most, each of one route and span: with many busy routes it reaches less far
/// back.
const MOST: usize = 20_000;
/// Significant digits of a time that are kept, so that a percentile is off by a sixteenth at most.
const DIGITS: u8 = 1;

/// Longer times are counted as this one, in microseconds: a day.
const LONGEST: u64 = 86_400_000_000;

/// What exchanges come to, by route, over the last hour. It takes the same room however many there
/// are, and leaves none out.
#[derive(Debug, Default)]
pub struct Tally {
    /// By the span's number and the route's address, which is empty for no route.
    spans: BTreeMap<i64, HashMap<Box<str>, Count, RandomState>>,
    counts: usize,
}

/// What is counted of an exchange.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Outcome {
    /// The status of the response.
    pub status: u16,
    /// How it ended.
    pub ending: Ending,
    /// Bytes of the response's body.
    pub sent: u64,
    /// The whole time, in microseconds.
    pub total_us: u64,
}

#[derive(Clone, Debug)]
struct Count {
    exchanges: u64,
    errors: u64,
    sent: u64,
    /// Times in microseconds. It grows to the longest time, and takes 2 KB at most.
    times: Histogram<u32>,
}

impl Default for Count {
    fn default() -> Self {
        let mut times = Histogram::new(DIGITS).expect("one digit is possible");
        times.auto(true);
        Self {
            exchanges: 0,
            errors: 0,
            sent: 0,
            times,
        }
    }
}

impl Tally {
    /// How far back it reaches.
    pub const REACH: Duration = Duration::from_secs((SPANS * SPAN).unsigned_abs());

    /// Counts an exchange of a route, or of none, that ended `now`.
    pub fn add(&mut self, route: Option<&str>, outcome: Outcome, now: OffsetDateTime) {
        let span = now.unix_timestamp().div_euclid(SPAN);
        let routes = self.spans.entry(span).or_default();
        let route = route.unwrap_or_default();
        // Looked up first: most are there, and a key would be made for nothing.
        if let Some(count) = routes.get_mut(route) {
            return count.add(outcome);
        }
        routes.entry(route.into()).or_default().add(outcome);
        self.counts += 1;
        self.forget_before(span - SPANS);
    }

    fn forget_before(&mut self, span: i64) {
        while let Some(first) = self.spans.first_entry()
            && (*first.key() < span || self.counts > MOST)
        {
            self.counts -= first.remove().len();
        }
    }

    /// What the exchanges of the last `over` come to, the busiest route first.
    #[must_use]
    pub fn sum_up(&self, over: Duration, now: OffsetDateTime) -> Vec<RouteTraffic> {
        let since = (now - over).unix_timestamp().div_euclid(SPAN);
        let mut routes: HashMap<&str, Count> = HashMap::new();
        for (route, count) in self.spans.range(since..).flat_map(|(_, routes)| routes) {
            routes.entry(route).or_default().join(count);
        }
        let mut lines: Vec<RouteTraffic> = routes
            .into_iter()
            .map(|(route, count)| count.line(route, over))
            .collect();
        lines.sort_by(|a, b| {
            let by_count = b.exchanges.cmp(&a.exchanges);
            by_count.then_with(|| a.route.cmp(&b.route))
        });
        lines
    }

    /// What the exchanges of `route`, or of all routes, come to in each `step` of the last `over`, oldest
    /// first. Both are rounded up to whole spans of ten seconds.
    #[must_use]
    pub fn series(
        &self,
        route: Option<&str>,
        over: Duration,
        step: Duration,
        now: OffsetDateTime,
    ) -> (u32, Vec<TrafficPoint>) {
        let spans = |time: Duration| {
            let seconds = i64::try_from(time.as_secs()).unwrap_or(i64::MAX);
            (seconds.saturating_add(SPAN - 1) / SPAN).clamp(1, SPANS)
        };
        let (step, over) = (spans(step), spans(over));
        // Steps begin at the same times whenever they are asked for.
        let last = now.unix_timestamp().div_euclid(SPAN).div_euclid(step);
        let points = (last - (over - 1) / step..=last).map(|number| {
            let mut sum = Count::default();
            let first = number * step;
            for (own, count) in self
                .spans
                .range(first..first + step)
                .flat_map(|(_, all)| all)
            {
                if route.is_none_or(|route| route == &**own) {
                    sum.join(count);
                }
            }
            let at = OffsetDateTime::from_unix_timestamp(first * SPAN);
            TrafficPoint {
                at: at.unwrap_or(OffsetDateTime::UNIX_EPOCH),
                exchanges: sum.exchanges,
                errors: sum.errors,
                p50_us: sum.times.value_at_quantile(0.5),
                p95_us: sum.times.value_at_quantile(0.95),
                p99_us: sum.times.value_at_quantile(0.99),
            }
        });
        let seconds = u32::try_from(step * SPAN).unwrap_or(u32::MAX);
        (seconds, points.collect())
    }
}

impl Count {
    fn add(&mut self, outcome: Outcome) {
        self.exchanges += 1;
        self.sent = self.sent.saturating_add(outcome.sent);
        if outcome.status >= 500 || outcome.ending == Ending::TargetBrokeOff {
            self.errors += 1;
        }
        // A stream lasts as long as a client wants, which says nothing about the app.
        if !matches!(outcome.ending, Ending::Stream | Ending::Upgraded) {
            let time = outcome.total_us.min(LONGEST);
            self.times
                .record(time)
                .expect("it grows to the longest time");
        }
    }

    fn join(&mut self, other: &Self) {
        self.exchanges += other.exchanges;
        self.errors += other.errors;
        self.sent = self.sent.saturating_add(other.sent);
        self.times
            .add(&other.times)
            .expect("both have the same digits, and grow");
    }

    fn line(&self, route: &str, over: Duration) -> RouteTraffic {
        #[allow(clippy::cast_precision_loss, reason = "counts are far below 2^52")]
        let per_second = self.exchanges as f64 / over.as_secs_f64().max(1.0);
        RouteTraffic {
            route: (!route.is_empty()).then(|| route.to_owned()),
            exchanges: self.exchanges,
            per_second,
            errors: self.errors,
            sent: self.sent,
            p50_us: self.times.value_at_quantile(0.5),
            p95_us: self.times.value_at_quantile(0.95),
            p99_us: self.times.value_at_quantile(0.99),
        }
    }
}

#[cfg(test)]
mod tests {
    use time::macros::datetime;

    use super::*;

    const NOW: OffsetDateTime = datetime!(2026-11-25 17:04:05 UTC);

    const BUSY: Option<&str> = Some("booking.moor.test/api");

    fn took(micros: u64) -> Outcome {
        Outcome {
            status: 200,
            ending: Ending::Whole,
            sent: 1024,
            total_us: micros,
        }
    }

    #[test]
    fn a_series_has_a_point_for_each_step() {
        let mut tally = Tally::default();
        let before = |seconds: i64| NOW - time::Duration::seconds(seconds);
        for (route, ago, micros) in [
            (BUSY, 65, 10),
            (BUSY, 64, 20),
            (None, 64, 30),
            (BUSY, 1, 40),
        ] {
            tally.add(route, took(micros), before(ago));
        }
        let minute = Duration::from_secs(60);
        let counts = |route| {
            let (seconds, points) = tally.series(route, minute * 3, minute, NOW);
            assert_eq!(seconds, 60);
            points.iter().map(|it| it.exchanges).collect::<Vec<_>>()
        };
        assert_eq!(counts(None), [0, 3, 1]);
        assert_eq!(counts(BUSY), [0, 2, 1]);
        assert_eq!(counts(Some("other.moor.test")), [0, 0, 0]);
        let (_, points) = tally.series(BUSY, minute * 3, minute, NOW);
        assert_eq!(points[2].at, datetime!(2026-11-25 17:04:00 UTC));
        assert!(points[1].p99_us >= points[1].p50_us && points[1].p50_us > 0);
    }

    #[test]
    fn routes_are_counted_separately() {
        let mut tally = Tally::default();
        for micros in 1..=100 {
            tally.add(BUSY, took(micros * 1_000), NOW);
        }
        let broken = Outcome {
            status: 502,
            ..took(5)
        };
        tally.add(None, broken, NOW);
        let cut = Outcome {
            ending: Ending::TargetBrokeOff,
            ..took(5)
        };
        tally.add(None, cut, NOW);
        let long = Outcome {
            ending: Ending::Upgraded,
            ..took(1 << 40)
        };
        tally.add(BUSY, long, NOW);
        let [busy, none] = <[_; 2]>::try_from(tally.sum_up(Duration::from_secs(100), NOW)).unwrap();
        assert_eq!(busy.route.as_deref(), BUSY);
        assert_eq!(
            (busy.exchanges, busy.errors, busy.sent),
            (101, 0, 101 * 1024)
        );
        let near = |found: u64, wanted: u64| (wanted..=wanted + wanted / 16).contains(&found);
        assert!(
            near(busy.p50_us, 50_000) && near(busy.p95_us, 95_000),
            "{busy:?}"
        );
        assert!(
            near(busy.p99_us, 99_000),
            "the upgrade is left out: {busy:?}"
        );
        assert!((busy.per_second - 1.01).abs() < 1e-9);
        assert_eq!((none.route, none.exchanges, none.errors), (None, 2, 2));
    }

    #[test]
    fn old_counts_are_dropped() {
        let mut tally = Tally::default();
        let minutes = |count: i64| time::Duration::minutes(count);
        tally.add(BUSY, took(1), NOW);
        tally.add(BUSY, took(1), NOW + minutes(20));
        let count = |tally: &Tally, over, now| -> u64 {
            let lines = tally.sum_up(over, now);
            lines.iter().map(|line| line.exchanges).sum()
        };
        let now = NOW + minutes(20);
        assert_eq!(count(&tally, Duration::from_secs(900), now), 1);
        assert_eq!(count(&tally, Tally::REACH, now), 2);
        tally.add(BUSY, took(1), NOW + minutes(70));
        assert_eq!(tally.counts, 2);
        for number in 0..MOST {
            let route = format!("n{number}.moor.test");
            tally.add(Some(&route), took(1), NOW + minutes(71));
        }
        assert_eq!(tally.counts, MOST, "the oldest went first");
    }
}
