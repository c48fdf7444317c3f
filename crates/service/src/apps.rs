//! Apps and the routes that lead to them: the runner learns which apps there are, and the data plane
//! where they are.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use bentlane_apps::{AppRunner, OutputLine, Unknown};
use bentlane_checks::{AppState, AppStatus};
use bentlane_containers::Engines;
use bentlane_model::{AppName, ContainerTarget, chain};
use bentlane_probe::{Spoken, spoken};
use bentlane_proxy::{AppHost, AppNews, Coming, SocketPair};
use tokio::sync::broadcast::error::RecvError;
use tokio::time::timeout;
use tokio_util::sync::CancellationToken;
use tracing::error;

use crate::api::uid_of;
use crate::configuration::ActiveConfiguration;
use crate::containers;
use crate::events::{Event, Events};

/// How long the place of an app that is ready may take to be known.
const PLACE_LIMIT: Duration = Duration::from_millis(500);
/// How long a server may take to show that it speaks HTTP.
const SPEAK_LIMIT: Duration = Duration::from_secs(2);
/// Ports of which it is remembered.
const MOST_KNOWN: usize = 1024;
/// Lines that a page shows at first.
const FIRST_LINES: usize = 60;
/// Lines that a page gets at once later on.
const MORE_LINES: usize = 500;

/// Runs apps for visitors.
#[derive(Debug)]
pub(crate) struct Host {
    pub(crate) runner: AppRunner,
    pub(crate) configuration: Arc<ActiveConfiguration>,
    pub(crate) engines: Engines,
    /// Whether processes speak HTTP on their ports.
    pub(crate) speaking: Arc<Mutex<HashMap<(u16, u32), bool>>>,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl AppHost for Host {
    fn ready(&self, app: &AppName) -> Coming<Option<Box<AppStatus>>> {
        let (runner, configuration) = (self.runner.clone(), Arc::clone(&self.configuration));
        let app = app.clone();
        Box::pin(async move {
            if !runner.visit(&app) {
                return runner.status(&app).map(Box::new);
            }
            let status = settled(&runner, &configuration, &app).await.ok()?;
            (status.state != AppState::Running).then(|| Box::new(status))
        })
    }

    fn status(&self, app: &AppName) -> Option<AppStatus> {
        self.runner.status(app)
    }

    fn news(&self, app: &AppName, after: u64) -> Coming<Option<AppNews>> {
        let (runner, app) = (self.runner.clone(), app.clone());
        Box::pin(async move {
            let is_first = after == u64::MAX;
            if !is_first {
                runner.news_beyond(&app, after).await;
            }
            let (after, most) = match is_first {
                true => (0, FIRST_LINES),
                false => (after, MORE_LINES),
            };
            let (lines, last) = runner.output(&app, after, most).ok()?;
            Some(AppNews {
                status: runner.status(&app)?,
                lines: lines.iter().map(OutputLine::shown_plain).collect(),
                last,
            })
        })
    }

    fn may_see(&self, pair: &SocketPair) -> bool {
        let own = rustix::process::geteuid().as_raw();
        uid_of(pair).is_some_and(|uid| uid == own || uid == 0)
    }

    fn container_ready(&self, target: &ContainerTarget, start: bool) -> Coming<Option<String>> {
        let (engines, configuration) = (self.engines.clone(), Arc::clone(&self.configuration));
        let target = target.clone();
        Box::pin(async move { containers::ready(&engines, &configuration, &target, start).await })
    }

    fn refuses_port(&self, port: u16) -> Coming<Option<String>> {
        let configuration = Arc::clone(&self.configuration);
        let speaking = Arc::clone(&self.speaking);
        Box::pin(async move {
            let own = rustix::process::geteuid().as_raw();
            let all = configuration.listeners().await;
            let Some(seen) = all.into_iter().find(|seen| seen.port == port) else {
                return Some(format!("nothing listens on port {port} of this machine"));
            };
            let Some((pid, at)) = seen.holder.as_ref().map(|it| it.pid).zip(seen.at()) else {
                return Some(format!("port {port} is another user's"));
            };
            if seen.uid != own {
                return Some(format!("port {port} is another user's"));
            }
            if pid == std::process::id() {
                return Some(format!("port {port} is Bent Lane's own"));
            }
            let known = lock(&speaking).get(&(port, pid)).copied();
            let speaks = match known {
                Some(speaks) => speaks,
                None => {
                    let speaks = matches!(spoken(at, SPEAK_LIMIT).await, Spoken::Http(_));
                    let mut speaking = lock(&speaking);
                    if speaking.len() >= MOST_KNOWN {
                        speaking.clear();
                    }
                    speaking.insert((port, pid), speaks);
                    speaks
                }
            };
            (!speaks).then(|| format!("what listens on port {port} does not speak HTTP"))
        })
    }

    fn restart(&self, app: &AppName) {
        // One that is gone has no page any more.
        let _ = self.runner.restart(app);
    }
}

/// Waits until an app is neither on its way up nor down, and routes lead to it if it runs.
pub(crate) async fn settled(
    runner: &AppRunner,
    configuration: &Arc<ActiveConfiguration>,
    app: &AppName,
) -> Result<AppStatus, Unknown> {
    let status = runner.settled(app).await?;
    if status.state == AppState::Running {
        // The state is known a moment before the place is, unless it has changed again.
        let mut places = runner.places();
        let is_there = places.wait_for(|places| places.contains_key(app));
        let _ = timeout(PLACE_LIMIT, is_there).await;
        publish(runner, configuration).await;
    }
    Ok(status)
}

/// Has routes lead to where apps are now.
async fn publish(runner: &AppRunner, configuration: &Arc<ActiveConfiguration>) {
    let places = runner.places().borrow().clone();
    if let Err(cause) = configuration.set_apps(places).await {
        error!(
            cause = chain(&cause),
            "cannot have routes lead to the apps that run now"
        );
    }
}

/// Keeps the runner and the routes up to date until the service stops.
pub(crate) async fn follow(
    runner: AppRunner,
    configuration: Arc<ActiveConfiguration>,
    events: Events,
    shutdown: CancellationToken,
) {
    runner.end_left_over().await;
    let mut places = runner.places();
    let mut news = runner.news();
    runner.want(&configuration.snapshot().configuration().apps);
    loop {
        tokio::select! {
            () = shutdown.cancelled() => return,
            () = configuration.apps_changed() => {
                runner.want(&configuration.snapshot().configuration().apps);
            }
            // The sender lives as long as the runner.
            _ = places.changed() => publish(&runner, &configuration).await,
            changed = news.recv() => match changed {
                Ok(name) => {
                    if let Some(status) = runner.status(&name) {
                        events.send(Event::App(Box::new(status)));
                    }
                    configuration.app_changed(&name);
                }
                // What was missed is sent with the next change of the same app.
                Err(RecvError::Lagged(_)) => {}
                Err(RecvError::Closed) => return,
            },
        }
    }
}
