//! The service's log: lines on standard error, of which one cause gets a few a minute.

use std::collections::HashMap;
use std::fmt;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use tracing::callsite::Identifier;
use tracing::level_filters::LevelFilter;
use tracing::{Event, Level, Metadata, Subscriber};
use tracing_subscriber::EnvFilter;
use tracing_subscriber::fmt::format::{Format, Writer};
use tracing_subscriber::fmt::{FmtContext, FormatEvent, FormatFields};
use tracing_subscriber::layer::{Context, Filter, SubscriberExt};
use tracing_subscriber::registry::LookupSpan;
use tracing_subscriber::util::SubscriberInitExt;
use tracing_subscriber::{Layer, fmt as lines};

/// Warnings and errors of one kind in a period. A peer can cause some as often as it likes.
const MOST: u32 = 20;
const PERIOD: Duration = Duration::from_secs(60);

/// Logs from here on, what `BENTLANE_LOG` names or what matters.
pub(super) fn start(colour: bool) {
    let filter = EnvFilter::try_from_env("BENTLANE_LOG")
        .unwrap_or_else(|_| EnvFilter::new("info,sqlx=warn,sea_orm_migration=warn"));
    let repeats = Repeats::default();
    let format = Format::default().with_target(false).with_ansi(colour);
    let lines = lines::layer()
        .with_writer(std::io::stderr)
        .with_ansi(colour)
        // The terminal may be closed, and saying so there would panic.
        .log_internal_errors(false)
        .event_format(Counted {
            format,
            repeats: repeats.clone(),
        });
    tracing_subscriber::registry()
        .with(lines.with_filter(repeats).with_filter(filter))
        .init();
}

/// How often each kind of warning came lately.
#[derive(Clone, Debug, Default)]
struct Repeats(Arc<Mutex<HashMap<Identifier, Recent>>>);

#[derive(Clone, Copy, Debug)]
struct Recent {
    since: Instant,
    shown: u32,
    left_out: u64,
}

impl Repeats {
    fn recent(&self) -> MutexGuard<'_, HashMap<Identifier, Recent>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether another line of this kind is to be shown at `now`.
    fn admits(&self, kind: Identifier, now: Instant) -> bool {
        let mut recent = self.recent();
        let recent = recent.entry(kind).or_insert(Recent {
            since: now,
            shown: 0,
            left_out: 0,
        });
        if now.duration_since(recent.since) >= PERIOD {
            (recent.since, recent.shown) = (now, 0);
        }
        if recent.shown < MOST {
            recent.shown += 1;
            return true;
        }
        recent.left_out += 1;
        false
    }

    /// How many lines of this kind were left out before the one that is written now.
    fn take_left_out(&self, kind: &Identifier) -> u64 {
        let mut recent = self.recent();
        let recent = recent.get_mut(kind);
        recent.map_or(0, |recent| std::mem::take(&mut recent.left_out))
    }
}

impl<S> Filter<S> for Repeats {
    fn enabled(&self, _: &Metadata<'_>, _: &Context<'_, S>) -> bool {
        true
    }

    fn event_enabled(&self, event: &Event<'_>, _: &Context<'_, S>) -> bool {
        let about = event.metadata();
        *about.level() > Level::WARN || self.admits(about.callsite(), Instant::now())
    }

    fn max_level_hint(&self) -> Option<LevelFilter> {
        None
    }
}

/// A line, with how many like it were left out before.
struct Counted {
    format: Format,
    repeats: Repeats,
}

impl<S, N> FormatEvent<S, N> for Counted
where
    S: Subscriber + for<'a> LookupSpan<'a>,
    N: for<'a> FormatFields<'a> + 'static,
{
    fn format_event(
        &self,
        context: &FmtContext<'_, S, N>,
        mut writer: Writer<'_>,
        event: &Event<'_>,
    ) -> fmt::Result {
        let left_out = self.repeats.take_left_out(&event.metadata().callsite());
        if left_out > 0 {
            writeln!(writer, "{left_out} lines like the next one were left out")?;
        }
        self.format.format_event(context, writer, event)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_cause_gets_a_few_lines_a_minute() {
        let (repeats, start) = (Repeats::default(), Instant::now());
        let site =
            tracing::callsite!(name: "test", kind: tracing::metadata::Kind::EVENT, fields: message);
        let kind = || Identifier(site);
        let shown = |at| (0..100).filter(|_| repeats.admits(kind(), at)).count();
        assert_eq!(shown(start), 20);
        assert_eq!(repeats.take_left_out(&kind()), 80);
        assert_eq!(shown(start + PERIOD / 2), 0);
        assert_eq!(shown(start + PERIOD), 20);
        assert_eq!(repeats.take_left_out(&kind()), 180);
        assert_eq!(repeats.take_left_out(&kind()), 0);
    }
}
