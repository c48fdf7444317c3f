//! What goes on while an app is to run: starting, waiting until it is ready, watching, stopping, and
//! starting again after a crash.

use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::sync::Arc;
use std::time::Duration;

use bentlane_checks::{AppProblem, AppState};
use bentlane_model::{App, IdleLimit, SUGGESTED_PORTS, StartWhen};
use rustix::process::{WaitId, WaitIdOptions, waitid};
use time::OffsetDateTime;
use tokio::net::unix::pipe::Receiver;
use tokio::sync::mpsc;
use tokio::time::{Instant, sleep, sleep_until};
use tokio_util::task::AbortOnDropHandle;

use crate::changes::{self, Watch};
use crate::launch::launch;
use crate::log_files::{LogFiles, missing_folders};
use crate::output::Output;
use crate::processes::{Seen, Tree, forget_processes, listens_on};
use crate::read::{read_from, source_of};
use crate::ready::{Place, Readiness};
use crate::record::Run;
use crate::runner::{AboutRun, HandedOver, Inner, Live, Slot, add_own, lock, new_mark};
use crate::stop;

/// How often an app that runs is looked at.
const LOOK: Duration = Duration::from_secs(1);
/// How often one that starts is, at first and later on.
const LOOK_SOON: Duration = Duration::from_millis(10);
const LOOK_LATER: Duration = Duration::from_millis(50);
const SOON: Duration = Duration::from_secs(3);
/// After how many crashes in a row an app is not started again.
const MOST_CRASHES: u32 = 5;
/// An app that was ready for so long before it crashed begins to be counted again.
const STEADY: Duration = Duration::from_secs(60);
/// The first pause before it is started again; twice as long each time after.
const FIRST_PAUSE: Duration = Duration::from_secs(1);
/// The exit code of a shell that does not find a command (POSIX, Shell Command Language §2.8.2).
const NOT_FOUND: i32 = 127;

/// What is wanted of a driver.
#[derive(Debug)]
pub(crate) enum Order {
    /// Start, unless it runs; once it has stopped when it is being stopped.
    Start,
    /// Stop, and start again.
    Restart,
    /// Stop.
    Stop,
    /// Serve a process in a terminal in its place.
    ByHand(Seen, String),
    /// Leave it running for the service that starts again in this process.
    HandOver,
    /// Go on with it after that.
    TakeOver(Box<AboutRun>, Vec<OwnedFd>),
}

/// How a run ended.
enum Ended {
    Stopped,
    Again,
    HandedOver,
    ByHand(Seen, String),
    Crashed {
        problem: AppProblem,
        /// For how long it was ready.
        ready: Option<Duration>,
    },
}

/// Runs one app.
#[derive(Debug)]
pub(crate) struct Driver {
    inner: Arc<Inner>,
    slot: Arc<Slot>,
    orders: mpsc::Receiver<Order>,
}

/// A run at work.
#[derive(Debug)]
struct AtWork {
    app: Arc<App>,
    tree: Tree,
    mark: String,
    /// To learn of the end of the first process with; `None` once it has ended.
    first: Option<Receiver>,
    /// How the first process ended, when the ones that it started go on.
    code: Option<i32>,
    /// The ports that it got, by name.
    ports: Vec<(String, u16)>,
    readiness: Readiness,
    ready_since: Option<Instant>,
    began: Instant,
    by_hand: bool,
    sources: Vec<(String, OwnedFd)>,
    readers: Vec<AbortOnDropHandle<()>>,
}

impl Driver {
    pub(crate) fn new(inner: Arc<Inner>, slot: Arc<Slot>, orders: mpsc::Receiver<Order>) -> Self {
        Self {
            inner,
            slot,
            orders,
        }
    }

    /// Follows orders until there is nothing to do.
    pub(crate) async fn drive(mut self) {
        let mut ended = match self.orders.recv().await {
            Some(Order::Start | Order::Restart) => Ended::Again,
            Some(Order::ByHand(first, mark)) => Ended::ByHand(first, mark),
            Some(Order::TakeOver(about, sources)) => self.take_over(*about, sources).await,
            Some(Order::Stop | Order::HandOver) | None => Ended::Stopped,
        };
        let mut crashes = 0;
        loop {
            ended = match ended {
                Ended::Again => self.run().await,
                Ended::ByHand(first, mark) => self.run_by_hand(first, mark).await,
                Ended::HandedOver => return,
                Ended::Crashed { problem, ready } => {
                    if ready.is_some_and(|ready| ready >= STEADY) {
                        crashes = 0;
                    }
                    crashes += 1;
                    let next = self.after_crash(problem, ready.is_some(), crashes).await;
                    if matches!(next, Ended::Again) && self.slot.live.borrow().again_at.is_none() {
                        // It was started by a person or by a change of a file, so crashes are counted from zero.
                        crashes = 0;
                    }
                    next
                }
                Ended::Stopped => {
                    crashes = 0;
                    match self.next_order() {
                        Some(next) => next,
                        None => return,
                    }
                }
            };
        }
    }

    /// What was ordered meanwhile; without an order the app is stopped, and this driver ends.
    fn next_order(&mut self) -> Option<Ended> {
        let mut driver = lock(&self.slot.driver);
        while let Ok(order) = self.orders.try_recv() {
            match order {
                Order::Start | Order::Restart => return Some(Ended::Again),
                Order::ByHand(first, mark) => return Some(Ended::ByHand(first, mark)),
                Order::Stop | Order::HandOver | Order::TakeOver(..) => {}
            }
        }
        self.inner.set(&self.slot, |live| {
            *live = Live {
                since: Some(OffsetDateTime::now_utc()),
                ..Live::default()
            };
        });
        *driver = None;
        None
    }

    fn crashed(problem: AppProblem) -> Ended {
        Ended::Crashed {
            problem,
            ready: None,
        }
    }

    /// Starts the app and watches it until it ends.
    async fn run(&mut self) -> Ended {
        let app = self.slot.app();
        let settings = &app.settings;
        self.inner.set(&self.slot, |live| {
            *live = Live {
                state: AppState::Starting,
                since: Some(OffsetDateTime::now_utc()),
                began: Some(OffsetDateTime::now_utc()),
                crashes: live.crashes,
                ..Live::default()
            };
        });
        if !settings.folder.is_dir() {
            return Self::crashed(AppProblem::FolderMissing);
        }
        let ports = match self.free_ports(&app) {
            Ok(ports) => ports,
            Err(problem) => return Self::crashed(problem),
        };
        let mut environment = self.inner.environment(&self.slot, &app).await;
        let mark = new_mark();
        let named = ports.iter().map(|(name, port)| (name.as_str(), *port));
        add_own(&mut environment, &app.name, &mark, named);
        let launched = launch(
            &self.inner.setup.program,
            &settings.command,
            &settings.folder,
            &environment,
            settings.has_terminal(),
        );
        let launched = match launched {
            Ok(launched) => launched,
            Err(error) => {
                let reason = error.to_string();
                return Self::crashed(AppProblem::NotStarted { reason });
            }
        };
        let port = ports.first().map_or(0, |(_, port)| *port);
        self.slot.output.say(&format!(
            "started `{}` with PORT={port} as process {}",
            settings.command, launched.first.pid
        ));
        let sources = launched.sources.into_iter();
        let sources = sources
            .map(|(stream, fd)| (stream.to_owned(), fd))
            .collect();
        let tree = Tree::new(launched.first, mark.clone());
        self.watch(app, tree, mark, ports, sources, false).await
    }

    /// Serves a process in a terminal in the app's place.
    async fn run_by_hand(&mut self, first: Seen, mark: String) -> Ended {
        let app = self.slot.app();
        let ports = app.ports();
        let ports = ports
            .iter()
            .map(|(name, port)| ((*name).to_owned(), port.get()));
        let ports = ports.collect();
        self.inner.set(&self.slot, |live| {
            *live = Live {
                state: AppState::Starting,
                since: Some(OffsetDateTime::now_utc()),
                by_hand: true,
                ..Live::default()
            };
        });
        self.slot
            .output
            .say("it runs in a terminal, which has its output");
        let tree = Tree::new(first, mark.clone());
        self.watch(app, tree, mark, ports, Vec::new(), true).await
    }

    async fn take_over(&mut self, about: AboutRun, sources: Vec<OwnedFd>) -> Ended {
        let Some(tree) = about.run.tree() else {
            return Ended::Stopped;
        };
        let app = self.slot.app();
        let sources = about.streams.into_iter().zip(sources).collect();
        let (mark, by_hand) = (about.run.mark, about.by_hand);
        self.watch(app, tree, mark, about.ports, sources, by_hand)
            .await
    }

    /// The ports that the app gets: where another program has one that was assigned, the
    /// next free one.
    fn free_ports(&self, app: &App) -> Result<Vec<(String, u16)>, AppProblem> {
        let mut ports: Vec<(String, u16)> = Vec::new();
        for (name, port) in app.ports() {
            let is_chosen = app.settings.port == Some(port);
            let port = port.get();
            if !listens_on(port) {
                ports.push((name.to_owned(), port));
                continue;
            }
            let (holder, since) = crate::processes::holder(port).unzip();
            let held = || AppProblem::PortHeld {
                port,
                holder: holder.clone(),
                since: since.flatten(),
                app: self.inner.app_on(port),
            };
            if is_chosen {
                return Err(held());
            }
            let is_free =
                |other: &u16| !listens_on(*other) && ports.iter().all(|(_, known)| known != other);
            let mut others = (port + 1..=*SUGGESTED_PORTS.end()).chain(SUGGESTED_PORTS);
            let Some(other) = others.find(is_free) else {
                return Err(held());
            };
            let holder = holder.unwrap_or_else(|| "something else".to_owned());
            self.slot.output.say(&format!(
                "{holder} has its port {port}, so it gets {other} this time"
            ));
            ports.push((name.to_owned(), other));
        }
        Ok(ports)
    }

    /// Watches a run until it ends.
    async fn watch(
        &mut self,
        app: Arc<App>,
        tree: Tree,
        mark: String,
        ports: Vec<(String, u16)>,
        sources: Vec<(String, OwnedFd)>,
        by_hand: bool,
    ) -> Ended {
        let output = &self.slot.output;
        let run = Run::of(&tree, &mark);
        if !by_hand {
            self.inner.record.set(app.name.as_str(), Some(run));
        }
        let pid = u32::try_from(tree.first.pid).ok();
        let logs_missing = missing_folders(&app.settings.folder, &app.settings.log);
        self.inner.set(&self.slot, |live| {
            live.state = AppState::Starting;
            live.pid = pid;
            live.port = ports.first().map(|(_, port)| *port);
            live.by_hand = by_hand;
            live.logs_missing = logs_missing;
        });
        let mut at_work = AtWork {
            first: tree.first.open().and_then(|fd| source_of(fd).ok()),
            readers: Vec::new(),
            readiness: Readiness::new(&app.settings.ready, output.lines(0, 0).1),
            code: None,
            ready_since: None,
            began: Instant::now(),
            app,
            tree,
            mark,
            ports,
            by_hand,
            sources: Vec::new(),
        };
        if let Err(error) = at_work.read(output, sources) {
            output.say(&format!("its output cannot be read: {error}"));
        }
        let ended = self.until_end(&mut at_work).await;
        if matches!(ended, Ended::HandedOver) {
            let about = AboutRun {
                name: self.slot.name.clone(),
                run: Run::of(&at_work.tree, &at_work.mark),
                ports: at_work.ports,
                streams: at_work
                    .sources
                    .iter()
                    .map(|(name, _)| name.clone())
                    .collect(),
                by_hand,
            };
            drop(at_work.readers);
            let sources = at_work.sources.into_iter().map(|(_, fd)| fd).collect();
            if let Ok(about) = serde_json::to_string(&about) {
                lock(&self.inner.handed_over).push(HandedOver { about, sources });
            }
            return ended;
        }
        self.inner.record.set(self.slot.name.as_str(), None);
        ended
    }

    async fn until_end(&mut self, at_work: &mut AtWork) -> Ended {
        let app = Arc::clone(&at_work.app);
        let settings = &app.settings;
        let limit = at_work.began + settings.start_limit();
        let mut files = self.watch_files(settings.restart_on.as_slice(), &app);
        let _logs = (!settings.log.is_empty())
            .then(|| LogFiles::follow(&settings.folder, &settings.log, self.slot.output.clone()));
        let mut next_look = Instant::now();
        loop {
            tokio::select! {
                order = self.orders.recv() => match order {
                    Some(Order::Stop) | None => {
                        return self.stop(at_work, stop::GRACE, Ended::Stopped).await;
                    }
                    Some(Order::Restart) => {
                        return self.stop(at_work, stop::GRACE, Ended::Again).await;
                    }
                    Some(Order::ByHand(first, mark)) => {
                        let next = Ended::ByHand(first, mark);
                        return self.stop(at_work, stop::GRACE, next).await;
                    }
                    Some(Order::HandOver) if at_work.ready_since.is_some() => {
                        return Ended::HandedOver;
                    }
                    Some(Order::HandOver) => {
                        return self.stop(at_work, stop::LAST_GRACE, Ended::Stopped).await;
                    }
                    Some(Order::Start | Order::TakeOver(..)) => {}
                },
                () = self.inner.ending.cancelled() => {
                    return self.stop(at_work, stop::LAST_GRACE, Ended::Stopped).await;
                }
                () = end_of(&at_work.first) => {
                    if let Some(ended) = self.first_ended(at_work).await {
                        return ended;
                    }
                }
                path = changed(&mut files) => {
                    self.slot.output.say(&format!("{path} has changed: it is restarted"));
                    return self.stop(at_work, stop::GRACE, Ended::Again).await;
                }
                () = sleep_until(next_look) => {
                    if let Some(ended) = self.look(at_work).await {
                        return ended;
                    }
                    if at_work.ready_since.is_none() && Instant::now() >= limit {
                        let problem = AppProblem::NotReady {
                            limit: in_words(settings.start_limit()),
                            waited_for: at_work.readiness.waited_for(&at_work.ports),
                        };
                        let ended = Self::crashed(problem);
                        return self.stop(at_work, stop::GRACE, ended).await;
                    }
                    next_look = Instant::now() + at_work.pause();
                }
            }
        }
    }

    fn watch_files(&self, globs: &[String], app: &App) -> Option<Watch> {
        if globs.is_empty() {
            return None;
        }
        match Watch::new(&app.settings.folder, globs) {
            Ok(watch) => Some(watch),
            Err(reason) => {
                let say = format!("its files cannot be watched, so it is not restarted: {reason}");
                self.slot.output.say(&say);
                None
            }
        }
    }

    /// Looks where the app listens, and whether it is ready, idle or gone.
    async fn look(&mut self, at_work: &mut AtWork) -> Option<Ended> {
        if let (Some(code), None) = (at_work.code, &at_work.first)
            && at_work.tree.living().is_empty()
        {
            return Some(at_work.crash(AppProblem::Exited { code }));
        }
        let is_ready = at_work.ready_since.is_some();
        let place = at_work
            .readiness
            .look(
                &mut at_work.tree,
                &at_work.ports,
                &self.slot.output,
                is_ready,
            )
            .await;
        match place {
            Place::At(places) => {
                if !is_ready {
                    at_work.ready_since = Some(Instant::now());
                    *lock(&self.slot.last_good) = Some(OffsetDateTime::now_utc());
                    let took = at_work.began.elapsed();
                    self.slot
                        .output
                        .say(&format!("ready after {} ms", took.as_millis()));
                }
                self.inner.set(&self.slot, |live| {
                    if live.state != AppState::Running {
                        live.state = AppState::Running;
                        live.since = Some(OffsetDateTime::now_utc());
                        live.crashes = 0;
                    }
                    live.listens = places.iter().flat_map(|it| it.at.clone()).collect();
                    live.ports = places;
                });
            }
            Place::NotYet => {}
        }
        self.end_when_idle(at_work).await
    }

    async fn end_when_idle(&mut self, at_work: &mut AtWork) -> Option<Ended> {
        let IdleLimit::After(limit) = at_work.app.settings.stop_when_idle else {
            return None;
        };
        let ready = at_work.ready_since?.elapsed();
        let idle = (self.inner.setup.idle_for)(&self.slot.name)?.min(ready);
        if idle < limit || at_work.by_hand {
            return None;
        }
        let say = format!(
            "nothing was asked of it for {}: it is stopped",
            in_words(limit)
        );
        self.slot.output.say(&say);
        Some(self.stop(at_work, stop::GRACE, Ended::Stopped).await)
    }

    /// The first process has ended: with it the run, unless it went well and has left others at work.
    async fn first_ended(&mut self, at_work: &mut AtWork) -> Option<Ended> {
        let problem = at_work.first.take().map(|fd| how_it_ended(&fd));
        if at_work.by_hand {
            return Some(Ended::Stopped);
        }
        let problem = problem.unwrap_or(AppProblem::Exited { code: 0 });
        at_work.drain(&self.slot.output).await;
        if problem == (AppProblem::Exited { code: 0 }) {
            // It may have started them a moment ago.
            forget_processes();
            let living = at_work.tree.living().len();
            if living > 0 {
                at_work.code = Some(0);
                let say = format!(
                    "its first process has ended with code 0; {living} that it started in the \
                     background go on"
                );
                self.slot.output.say(&say);
                return None;
            }
        }
        self.slot.output.say(&problem.in_words());
        let ended = at_work.crash(problem);
        stop::stop(&mut at_work.tree, stop::LAST_GRACE).await;
        Some(ended)
    }

    async fn stop(&mut self, at_work: &mut AtWork, grace: Duration, ended: Ended) -> Ended {
        if at_work.by_hand {
            // It is not ours to end.
            return ended;
        }
        self.inner.set(&self.slot, |live| {
            live.state = AppState::Stopping;
            live.since = Some(OffsetDateTime::now_utc());
            live.ports.clear();
        });
        let stopped = stop::stop(&mut at_work.tree, grace).await;
        if let Some(fd) = at_work.first.take() {
            // How it ended, we know: we ended it.
            let _ = how_it_ended(&fd);
        }
        at_work.drain(&self.slot.output).await;
        self.slot.output.say(match stopped {
            true => "stopped",
            false => "it does not end, not even by SIGKILL",
        });
        ended
    }

    /// Says that the app crashed, and waits until it is to be started again.
    async fn after_crash(&mut self, problem: AppProblem, was_ready: bool, crashes: u32) -> Ended {
        let app = self.slot.app();
        let since = *lock(&self.slot.last_good);
        let folder = app.settings.folder.clone();
        let changed_files = match since {
            Some(since) => tokio::task::spawn_blocking(move || changes::since(&folder, since))
                .await
                .unwrap_or_default(),
            None => Vec::new(),
        };
        let may_help = matches!(problem, AppProblem::Exited { code } if code != 0 && code != NOT_FOUND)
            || matches!(problem, AppProblem::Killed { .. });
        let is_loop = crashes >= MOST_CRASHES;
        let pause = FIRST_PAUSE * 2u32.saturating_pow(crashes - 1);
        // What fails at once fails again, unless it waits for something that starts with the system.
        let is_tried = was_ready || app.settings.start == StartWhen::Service;
        let again = may_help && is_tried && !is_loop;
        let now = OffsetDateTime::now_utc();
        self.inner.set(&self.slot, |live| {
            *live = Live {
                state: if is_loop {
                    AppState::CrashLoop
                } else {
                    AppState::Crashed
                },
                since: Some(now),
                problem: Some(problem),
                crashes,
                began: live.began,
                again_at: again.then(|| now + pause),
                changed: changed_files,
                logs_missing: live.logs_missing.clone(),
                port: live.port,
                ..Live::default()
            };
        });
        let mut files = self.watch_files(&app.settings.restart_on, &app);
        let paused = async {
            match again {
                true => sleep(pause).await,
                false => std::future::pending().await,
            }
        };
        tokio::pin!(paused);
        loop {
            tokio::select! {
                order = self.orders.recv() => match order {
                    Some(Order::Start | Order::Restart) => {
                        self.inner.set(&self.slot, |live| live.again_at = None);
                        return Ended::Again;
                    }
                    Some(Order::ByHand(first, mark)) => return Ended::ByHand(first, mark),
                    Some(Order::Stop | Order::HandOver) | None => return Ended::Stopped,
                    Some(Order::TakeOver(..)) => {}
                },
                () = self.inner.ending.cancelled() => return Ended::Stopped,
                path = changed(&mut files) => {
                    self.slot.output.say(&format!("{path} has changed: it is started again"));
                    self.inner.set(&self.slot, |live| live.again_at = None);
                    return Ended::Again;
                }
                () = &mut paused => return Ended::Again,
            }
        }
    }
}

impl AtWork {
    /// Reads what the app prints; keeps a handle to each place for a service that starts again.
    fn read(&mut self, output: &Output, sources: Vec<(String, OwnedFd)>) -> io::Result<()> {
        for (stream, source) in sources {
            let kept = source.try_clone()?;
            let reading = tokio::spawn(read_from(source_of(source)?, output.from(&stream)));
            self.readers.push(AbortOnDropHandle::new(reading));
            self.sources.push((stream, kept));
        }
        Ok(())
    }

    /// Waits for the last of what was printed.
    async fn drain(&mut self, output: &Output) {
        const LAST: Duration = Duration::from_millis(200);
        let end = Instant::now() + LAST;
        for mut reader in std::mem::take(&mut self.readers) {
            // What processes in the background print goes on to be read.
            if tokio::time::timeout_at(end, &mut reader).await.is_err() {
                self.readers.push(reader);
            }
        }
        output.flush();
    }

    fn crash(&self, problem: AppProblem) -> Ended {
        let problem = match problem {
            AppProblem::Exited { code: NOT_FOUND } => AppProblem::CommandMissing,
            problem => problem,
        };
        Ended::Crashed {
            problem,
            ready: self.ready_since.map(|since| since.elapsed()),
        }
    }

    fn pause(&self) -> Duration {
        match self.ready_since {
            Some(_) => LOOK,
            None if self.began.elapsed() < SOON => LOOK_SOON,
            None => LOOK_LATER,
        }
    }
}

/// Waits until the process ends; never ends once it has.
async fn end_of(first: &Option<Receiver>) {
    match first {
        // It stays readable from then on, and an error is as good as an end.
        Some(fd) => drop(fd.readable().await),
        None => std::future::pending().await,
    }
}

async fn changed(files: &mut Option<Watch>) -> String {
    match files {
        Some(files) => files.changed().await.display().to_string(),
        None => std::future::pending().await,
    }
}

/// How a process of ours that has ended did so.
fn how_it_ended(fd: &Receiver) -> AppProblem {
    let status = waitid(WaitId::PidFd(fd.as_fd()), WaitIdOptions::EXITED);
    let Ok(Some(status)) = status else {
        return AppProblem::Exited { code: 0 };
    };
    if let Some(signal) = status.terminating_signal() {
        let signal = signal_name(signal);
        return AppProblem::Killed { signal };
    }
    let code = status.exit_status().unwrap_or(0);
    AppProblem::Exited { code }
}

fn signal_name(number: i32) -> String {
    let name = match number {
        1 => "SIGHUP",
        2 => "SIGINT",
        3 => "SIGQUIT",
        4 => "SIGILL",
        6 => "SIGABRT",
        7 => "SIGBUS",
        8 => "SIGFPE",
        9 => "SIGKILL",
        11 => "SIGSEGV",
        13 => "SIGPIPE",
        15 => "SIGTERM",
        other => return format!("signal {other}"),
    };
    name.to_owned()
}

fn in_words(time: Duration) -> String {
    let seconds = time.as_secs();
    match seconds {
        0 => format!("{} ms", time.as_millis()),
        seconds if seconds % 3600 == 0 => format!("{} h", seconds / 3600),
        seconds if seconds % 60 == 0 => format!("{} min", seconds / 60),
        seconds => format!("{seconds} s"),
    }
}
