use std::collections::BTreeMap;
use std::fmt;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, Once, PoisonError};
use std::time::Duration;

use bentlane_checks::{AppProblem, AppState, AppStatus, ChangedFile};
use bentlane_model::{App, AppName, Apps, RunningPort, StartWhen};
use rustix::fd::OwnedFd;
use rustix::process::Signal;
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use tokio::sync::{broadcast, mpsc, watch};
use tokio::time::timeout;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;
use tracing::{error, info, warn};

use crate::driver::{Driver, Order};
use crate::environment;
use crate::launch::Environment;
use crate::output::{Output, OutputLine};
use crate::processes::Seen;
use crate::record::{Record, Run};
use crate::stop;

/// Lines of output that a status has.
const SHOWN_LINES: usize = 60;
/// What can be wanted of an app before it is done.
const WAITING_ORDERS: usize = 64;
/// How long the apps may take to end when the service does.
const LAST_STOP: Duration = Duration::from_secs(6);

/// How long nothing was asked of an app; `None` while something is.
pub type IdleFor = Arc<dyn Fn(&AppName) -> Option<Duration> + Send + Sync>;

/// Runs apps. Cloning gives another handle to the same.
#[derive(Clone, Debug)]
pub struct AppRunner(Arc<Inner>);

/// What a runner needs.
pub struct Setup {
    /// This program.
    pub program: PathBuf,
    /// Where it keeps what apps print, and which run.
    pub folder: PathBuf,
    /// Says how long an app has been idle.
    pub idle_for: IdleFor,
}

#[derive(Debug)]
pub(crate) struct Inner {
    pub(crate) setup: Setup,
    slots: Mutex<BTreeMap<AppName, Arc<Slot>>>,
    places: watch::Sender<Arc<Apps>>,
    /// The names of apps that changed.
    news: broadcast::Sender<AppName>,
    pub(crate) record: Record,
    left: Mutex<BTreeMap<String, Run>>,
    tasks: TaskTracker,
    /// Whether apps that start with the service have been started.
    has_begun: AtomicBool,
    pub(crate) ending: CancellationToken,
    /// What goes on while the service starts again.
    pub(crate) handed_over: Mutex<Vec<HandedOver>>,
}

/// A run that goes on while the service starts again.
#[derive(Debug)]
pub struct HandedOver {
    /// What is to be known of it, as JSON.
    pub about: String,
    /// What it prints to.
    pub sources: Vec<OwnedFd>,
}

/// What is said of a run that goes on.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct AboutRun {
    pub(crate) name: AppName,
    pub(crate) run: Run,
    pub(crate) ports: Vec<(String, u16)>,
    pub(crate) streams: Vec<String>,
    pub(crate) by_hand: bool,
}

/// One app.
#[derive(Debug)]
pub(crate) struct Slot {
    pub(crate) name: AppName,
    app: Mutex<Arc<App>>,
    pub(crate) live: watch::Sender<Live>,
    pub(crate) output: Output,
    pub(crate) driver: Mutex<Option<mpsc::Sender<Order>>>,
    pub(crate) last_good: Mutex<Option<OffsetDateTime>>,
}

/// An app at a moment.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Live {
    pub(crate) state: AppState,
    pub(crate) since: Option<OffsetDateTime>,
    /// When the run began, whose output is of interest.
    pub(crate) began: Option<OffsetDateTime>,
    pub(crate) problem: Option<AppProblem>,
    pub(crate) crashes: u32,
    pub(crate) again_at: Option<OffsetDateTime>,
    pub(crate) pid: Option<u32>,
    pub(crate) port: Option<u16>,
    pub(crate) listens: Vec<SocketAddr>,
    pub(crate) ports: Vec<RunningPort>,
    pub(crate) by_hand: bool,
    pub(crate) changed: Vec<ChangedFile>,
    pub(crate) logs_missing: Vec<String>,
}

impl fmt::Debug for Setup {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Setup")
            .field("folder", &self.folder)
            .finish_non_exhaustive()
    }
}

/// There is no app with this name.
#[derive(Debug, thiserror::Error)]
#[error("there is no app `{0}`: see `bentlane app list`")]
pub struct Unknown(pub AppName);

/// What an app that runs in a terminal gets.
#[derive(Debug)]
pub struct ByHand {
    /// Its whole environment.
    pub environment: Environment,
    /// What marks its processes; it is in the environment, too.
    pub mark: String,
}

impl Slot {
    pub(crate) fn app(&self) -> Arc<App> {
        Arc::clone(&lock(&self.app))
    }

    fn order(&self, order: Order) {
        if let Some(driver) = &*lock(&self.driver) {
            // It has just ended, and so has the app; or it has more to do than anybody can have asked for.
            let _ = driver.try_send(order);
        }
    }

    fn status(&self) -> AppStatus {
        let app = self.app();
        let live = self.live.borrow().clone();
        let settings = &app.settings;
        let is_settled = matches!(live.state, AppState::Stopped | AppState::Running);
        let output = match is_settled {
            true => Vec::new(),
            false => self.output.last_plain(SHOWN_LINES, live.began),
        };
        AppStatus {
            name: self.name.clone(),
            state: live.state,
            since: live.since,
            starts_on_visit: settings.start == StartWhen::Visit,
            problem: live.problem,
            crashes: live.crashes,
            again_at: live.again_at,
            command: settings.command.clone(),
            folder: settings.folder.display().to_string(),
            pid: live.pid,
            port: live.port,
            listens: live.listens,
            by_hand: live.by_hand,
            output,
            changed: live.changed,
            logs_missing: live.logs_missing,
        }
    }
}

impl AppRunner {
    /// A runner without apps. What a former service left running is ended by [`AppRunner::end_left_over`].
    #[must_use]
    pub fn new(setup: Setup) -> Self {
        let (record, left) = Record::open(&setup.folder);
        Self(Arc::new(Inner {
            setup,
            slots: Mutex::default(),
            places: watch::Sender::default(),
            news: broadcast::Sender::new(256),
            record,
            left: Mutex::new(left),
            tasks: TaskTracker::new(),
            has_begun: AtomicBool::new(false),
            ending: CancellationToken::new(),
            handed_over: Mutex::default(),
        }))
    }

    /// Ends what a service that crashed left running.
    pub async fn end_left_over(&self) {
        let left = std::mem::take(&mut *lock(&self.0.left));
        for (name, run) in left {
            let Some(mut tree) = run.tree() else {
                continue;
            };
            if !tree.living().is_empty() {
                info!(
                    app = name,
                    "ends what is left of an app of a former service"
                );
                stop::stop(&mut tree, stop::LAST_GRACE).await;
            }
        }
    }

    /// Knows these apps, before any is started, and goes on with runs that this process handed over to itself.
    pub fn take_over(&self, apps: &[App], handed: Vec<HandedOver>) {
        for app in apps {
            *lock(&self.0.slot_of(&app.name).app) = Arc::new(app.clone());
        }
        for HandedOver { about, sources } in handed {
            let about: AboutRun = match serde_json::from_str(&about) {
                Ok(about) => about,
                Err(error) => {
                    warn!(%error, "cannot go on with an app");
                    continue;
                }
            };
            lock(&self.0.left).remove(about.name.as_str());
            let slot = self.0.slot_of(&about.name);
            self.drive(&slot, Order::TakeOver(Box::new(about), sources));
        }
    }

    /// Has these apps; those that are gone are stopped. Those that start with the service are started the first
    /// time, or when they are new.
    pub fn want(&self, apps: &[App]) {
        let is_first = !self.0.has_begun.swap(true, Ordering::Relaxed);
        let mut gone = Vec::new();
        let mut starting = Vec::new();
        {
            let mut slots = lock(&self.0.slots);
            slots.retain(|name, slot| {
                let stays = apps.iter().any(|app| app.name == *name);
                if !stays {
                    gone.push(Arc::clone(slot));
                }
                stays
            });
            for app in apps {
                let starts = app.settings.start == StartWhen::Service;
                if starts && (is_first || !slots.contains_key(&app.name)) {
                    starting.push(app.name.clone());
                }
                match slots.get(&app.name) {
                    Some(slot) => {
                        let mut known = lock(&slot.app);
                        if known.settings.folder != app.settings.folder {
                            // Another folder may have another environment.
                            let kept = environment::kept_in(&self.0.folder_of(&app.name));
                            let _ = std::fs::remove_file(kept);
                        }
                        *known = Arc::new(app.clone());
                    }
                    None => {
                        let slot = self.0.new_slot(app.clone());
                        slots.insert(app.name.clone(), slot);
                    }
                }
            }
        }
        for slot in gone {
            slot.order(Order::Stop);
        }
        for name in starting {
            // It was added a moment ago.
            let _ = self.start(&name);
        }
        self.0.publish();
    }

    /// Starts an app, unless it runs.
    ///
    /// # Errors
    /// When there is none with this name.
    pub fn start(&self, name: &AppName) -> Result<(), Unknown> {
        let slot = self.slot(name)?;
        self.drive(&slot, Order::Start);
        Ok(())
    }

    /// Starts an app for a visitor: unless it runs, is to be started by a person alone, or has crashed.
    /// Gives whether it can become ready.
    pub fn visit(&self, name: &AppName) -> bool {
        let Ok(slot) = self.slot(name) else {
            return false;
        };
        let (state, starts) = (slot.live.borrow().state, slot.app().settings.start);
        match state {
            AppState::Starting | AppState::Running => true,
            AppState::Stopped | AppState::Stopping if starts == StartWhen::Visit => {
                self.drive(&slot, Order::Start);
                true
            }
            AppState::Stopped | AppState::Stopping | AppState::Crashed | AppState::CrashLoop => {
                false
            }
        }
    }

    /// Stops an app and starts it again.
    ///
    /// # Errors
    /// When there is none with this name.
    pub fn restart(&self, name: &AppName) -> Result<(), Unknown> {
        let slot = self.slot(name)?;
        self.drive(&slot, Order::Restart);
        Ok(())
    }

    /// Stops an app.
    ///
    /// # Errors
    /// When there is none with this name.
    pub fn stop(&self, name: &AppName) -> Result<(), Unknown> {
        self.slot(name)?.order(Order::Stop);
        Ok(())
    }

    /// Stops an app, and waits until it has ended; it may have been started again by then.
    ///
    /// # Errors
    /// When there is none with this name.
    pub async fn stop_and_wait(&self, name: &AppName) -> Result<(), Unknown> {
        let slot = self.slot(name)?;
        let mut live = slot.live.subscribe();
        let pid = live.borrow().pid;
        slot.order(Order::Stop);
        // The sender lives as long as the slot.
        let ended = |live: &Live| live.state == AppState::Stopped || live.pid != pid;
        let _ = live.wait_for(ended).await;
        Ok(())
    }

    /// Waits until the state of an app is one of `states`, and gives its status.
    ///
    /// # Errors
    /// When there is none with this name.
    pub async fn wait_for(
        &self,
        name: &AppName,
        is_reached: impl Fn(AppState) -> bool,
    ) -> Result<AppStatus, Unknown> {
        let slot = self.slot(name)?;
        let mut live = slot.live.subscribe();
        // The sender lives as long as the slot.
        let _ = live.wait_for(|live| is_reached(live.state)).await;
        drop(live);
        Ok(slot.status())
    }

    /// Waits until an app that was started is ready or cannot become so.
    ///
    /// # Errors
    /// When there is none with this name.
    pub async fn settled(&self, name: &AppName) -> Result<AppStatus, Unknown> {
        let is_settled = |state| !matches!(state, AppState::Starting | AppState::Stopping);
        self.wait_for(name, is_settled).await
    }

    /// How an app is.
    #[must_use]
    pub fn status(&self, name: &AppName) -> Option<AppStatus> {
        Some(self.slot(name).ok()?.status())
    }

    /// How all apps are.
    #[must_use]
    pub fn statuses(&self) -> Vec<AppStatus> {
        let slots: Vec<Arc<Slot>> = lock(&self.0.slots).values().cloned().collect();
        slots.iter().map(|slot| slot.status()).collect()
    }

    /// The last lines of an app's output behind the one with the number `after`, and the number of the
    /// last line of all.
    ///
    /// # Errors
    /// When there is none with this name.
    pub fn output(
        &self,
        name: &AppName,
        after: u64,
        most: usize,
    ) -> Result<(Vec<OutputLine>, u64), Unknown> {
        Ok(self.slot(name)?.output.lines(after, most))
    }

    /// Waits until an app prints something behind the line with this number, or is in another state.
    pub async fn news_beyond(&self, name: &AppName, number: u64) {
        let Ok(slot) = self.slot(name) else {
            return;
        };
        let mut live = slot.live.subscribe();
        live.mark_unchanged();
        tokio::select! {
            () = slot.output.wait_beyond(number) => {}
            // The sender lives as long as the slot.
            _ = live.changed() => {}
        }
    }

    /// The environment that an app gets, without the ports.
    ///
    /// # Errors
    /// When there is none with this name.
    pub async fn environment(&self, name: &AppName) -> Result<Environment, Unknown> {
        let slot = self.slot(name)?;
        let app = slot.app();
        Ok(self.0.environment(&slot, &app).await)
    }

    /// Reads the environment of an app from the user's shell again.
    ///
    /// # Errors
    /// When there is none with this name.
    pub async fn refresh_environment(&self, name: &AppName) -> Result<Environment, Unknown> {
        let slot = self.slot(name)?;
        // What is not there is not old, either.
        let _ = std::fs::remove_file(environment::kept_in(&self.0.folder_of(name)));
        let app = slot.app();
        Ok(self.0.environment(&slot, &app).await)
    }

    /// What to run an app with in a terminal.
    ///
    /// # Errors
    /// When there is none with this name.
    pub async fn by_hand(&self, name: &AppName) -> Result<ByHand, Unknown> {
        let slot = self.slot(name)?;
        let app = slot.app();
        let mark = new_mark();
        let mut environment = self.0.environment(&slot, &app).await;
        let ports = app.ports();
        let ports = ports.iter().map(|(name, port)| (*name, port.get()));
        add_own(&mut environment, name, &mark, ports);
        Ok(ByHand { environment, mark })
    }

    /// Serves the process `pid`, which was started in a terminal, in place of the app until it ends.
    ///
    /// # Errors
    /// When there is no such app.
    pub fn take_by_hand(&self, name: &AppName, pid: i32, mark: String) -> Result<bool, Unknown> {
        let slot = self.slot(name)?;
        let Some(first) = Seen::of(pid) else {
            return Ok(false);
        };
        self.drive(&slot, Order::ByHand(first, mark));
        Ok(true)
    }

    /// Where apps can be connected to, as it changes.
    #[must_use]
    pub fn places(&self) -> watch::Receiver<Arc<Apps>> {
        self.0.places.subscribe()
    }

    /// The names of apps whose status has changed, from now on.
    #[must_use]
    pub fn news(&self) -> broadcast::Receiver<AppName> {
        self.0.news.subscribe()
    }

    /// Stops every app, for the end of the service.
    pub async fn end(&self) {
        self.0.ending.cancel();
        self.0.tasks.close();
        if timeout(LAST_STOP, self.0.tasks.wait()).await.is_err() {
            warn!("some apps did not end in time");
        }
    }

    /// Ends every app at once, for a service that has no time left.
    pub fn kill(&self) {
        for run in self.0.record.runs() {
            if let Some(mut tree) = run.tree() {
                tree.signal(Signal::KILL);
            }
        }
    }

    /// Hands every app over to a service that starts again in this process; none is stopped.
    pub async fn hand_over(&self) -> Vec<HandedOver> {
        let slots: Vec<Arc<Slot>> = lock(&self.0.slots).values().cloned().collect();
        for slot in slots {
            slot.order(Order::HandOver);
        }
        self.0.tasks.close();
        // What is being started or stopped at this moment is ended.
        if timeout(Duration::from_secs(1), self.0.tasks.wait())
            .await
            .is_err()
        {
            self.end().await;
        }
        std::mem::take(&mut *lock(&self.0.handed_over))
    }

    fn slot(&self, name: &AppName) -> Result<Arc<Slot>, Unknown> {
        let slots = lock(&self.0.slots);
        slots
            .get(name)
            .cloned()
            .ok_or_else(|| Unknown(name.clone()))
    }

    /// Sends `order` to the task that runs the app, which is started when there is none.
    fn drive(&self, slot: &Arc<Slot>, order: Order) {
        static ADOPTS: Once = Once::new();
        // Processes whose parent ends become ours, so that we see them and learn of their end.
        ADOPTS.call_once(|| {
            let own = rustix::process::getpid();
            if let Err(error) = rustix::process::set_child_subreaper(Some(own)) {
                warn!(%error, "processes that apps leave behind are not ours");
            }
        });
        let mut driver = lock(&slot.driver);
        let rests = matches!(
            slot.live.borrow().state,
            AppState::Stopped | AppState::Crashed | AppState::CrashLoop
        );
        // So that who starts an app and then waits does not find it as it was.
        if matches!(order, Order::Start | Order::Restart) && rests {
            self.0.set(slot, |live| {
                *live = Live {
                    state: AppState::Starting,
                    since: Some(OffsetDateTime::now_utc()),
                    began: Some(OffsetDateTime::now_utc()),
                    ..Live::default()
                };
            });
        }
        let sender = match &*driver {
            Some(sender) if !sender.is_closed() => sender.clone(),
            _ => {
                if self.0.ending.is_cancelled() {
                    return;
                }
                let (sender, orders) = mpsc::channel(WAITING_ORDERS);
                let work = Driver::new(Arc::clone(&self.0), Arc::clone(slot), orders);
                let (inner, watched) = (Arc::clone(&self.0), Arc::clone(slot));
                self.0.tasks.spawn(async move {
                    if let Err(cause) = tokio::spawn(work.drive()).await {
                        error!(%cause, app = %watched.name, "what runs an app has failed");
                        inner.set(&watched, |live| *live = Live::default());
                    }
                });
                *driver = Some(sender.clone());
                sender
            }
        };
        // The receiver is there as long as its task runs, which takes the lock before it ends.
        let _ = sender.try_send(order);
    }
}

impl Inner {
    fn new_slot(&self, app: App) -> Arc<Slot> {
        Arc::new(Slot {
            output: Output::new(self.folder_of(&app.name)),
            name: app.name.clone(),
            app: Mutex::new(Arc::new(app)),
            live: watch::Sender::default(),
            driver: Mutex::default(),
            last_good: Mutex::default(),
        })
    }

    fn slot_of(&self, name: &AppName) -> Arc<Slot> {
        let mut slots = lock(&self.slots);
        let slot = slots.entry(name.clone());
        let slot = slot.or_insert_with(|| self.new_slot(App::new(name.clone())));
        Arc::clone(slot)
    }

    /// The app that listens on `port`.
    pub(crate) fn app_on(&self, port: u16) -> Option<AppName> {
        let slots = lock(&self.slots);
        let has_it = |slot: &&Arc<Slot>| {
            let live = slot.live.borrow();
            live.listens.iter().any(|at| at.port() == port)
        };
        slots.values().find(has_it).map(|slot| slot.name.clone())
    }

    pub(crate) fn folder_of(&self, name: &AppName) -> PathBuf {
        self.setup.folder.join(name.as_str())
    }

    /// Changes what is known of an app, and reports the change.
    pub(crate) fn set(&self, slot: &Slot, change: impl FnOnce(&mut Live)) {
        let mut has_moved = false;
        let is_new = slot.live.send_if_modified(|live| {
            let before = live.clone();
            change(live);
            has_moved = before.ports != live.ports;
            before != *live
        });
        if has_moved {
            self.publish();
        }
        if is_new {
            // There may be no receiver.
            let _ = self.news.send(slot.name.clone());
        }
    }

    /// Publishes where apps can be connected to.
    fn publish(&self) {
        let mut places = Apps::new();
        for (name, slot) in lock(&self.slots).iter() {
            let live = slot.live.borrow();
            if live.state == AppState::Running {
                places.insert(name.clone(), live.ports.clone());
            }
        }
        self.places.send_if_modified(|known| {
            let is_new = **known != places;
            if is_new {
                *known = Arc::new(places);
            }
            is_new
        });
    }

    /// The environment of an app without its ports: that of the shell, which is kept, with the app's files
    /// and variables.
    pub(crate) async fn environment(&self, slot: &Slot, app: &App) -> Environment {
        let kept = environment::kept_in(&self.folder_of(&slot.name));
        let mut environment = match environment::read_kept(&kept) {
            Some(environment) => environment,
            None => match environment::read(&self.setup.program, &app.settings.folder).await {
                Ok(environment) => {
                    if let Err(error) = environment::keep(&kept, &environment) {
                        warn!(%error, "cannot keep the environment of an app");
                    }
                    environment
                }
                Err(reason) => {
                    let say = format!(
                        "the environment of your login shell could not be read ({reason}), so it gets \
                         that of the service"
                    );
                    slot.output.say(&say);
                    environment::own()
                }
            },
        };
        for file in &app.settings.env_file {
            match environment::read_file(file) {
                Ok(variables) => environment.extend(
                    variables
                        .into_iter()
                        .map(|(name, value)| (name.into(), value.into())),
                ),
                Err(reason) => slot.output.say(&reason),
            }
        }
        let own = app.settings.env.iter();
        environment.extend(own.map(|own| (own.name.clone().into(), own.value.clone().into())));
        environment
    }
}

/// Adds what we hand over: the ports, and what shows that a process is of this run.
pub(crate) fn add_own<'a>(
    environment: &mut Environment,
    name: &AppName,
    mark: &str,
    ports: impl IntoIterator<Item = (&'a str, u16)>,
) {
    for (position, (name, port)) in ports.into_iter().enumerate() {
        if position == 0 {
            environment.insert("PORT".into(), port.to_string().into());
        }
        let variable = bentlane_model::PortName::variable(name);
        environment.insert(variable.into(), port.to_string().into());
    }
    environment.insert("BENTLANE_APP".into(), name.as_str().into());
    environment.insert(crate::processes::MARK.into(), mark.into());
    environment.insert("TERM".into(), "xterm-256color".into());
}

pub(crate) fn new_mark() -> String {
    format!("{:032x}", rand::random::<u128>())
}

pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
