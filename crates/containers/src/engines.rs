//! All engines of this machine, followed at the same time.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::pin::pin;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use bentlane_model::{ContainerSeen, Containers, SilentEngine, chain};
use futures_util::StreamExt;
use tokio::sync::watch;
use tokio::time::{Instant, sleep, timeout_at};

use crate::engine::{Engine, EngineError, NetworkSeen, sockets};

/// For how long events are collected before what they concern is asked for.
const COLLECT: Duration = Duration::from_millis(20);
/// How often an engine is asked for all containers although it has reported no change.
const ASK_EVERY: Duration = Duration::from_secs(10);
/// How long to wait before an engine that did not answer is asked again: at first, and at most.
const FIRST_PAUSE: Duration = Duration::from_millis(500);
const LONGEST_PAUSE: Duration = Duration::from_secs(10);
/// How often it is looked whether there is a socket by now.
const LOOK_FOR_SOCKET: Duration = Duration::from_secs(2);

/// How an engine is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum EngineState {
    /// There is no socket.
    Absent,
    /// It answers.
    Answers,
    /// It does not, and why.
    Silent(String),
}

/// An engine, and how it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EngineStatus {
    /// Its socket.
    pub socket: PathBuf,
    /// How it is.
    pub state: EngineState,
    /// How many containers it has, as far as is known.
    pub containers: usize,
}

/// What is known of an engine.
#[derive(Debug)]
struct Known {
    state: EngineState,
    containers: BTreeMap<String, ContainerSeen>,
}

/// All engines of this machine. Cloning gives another handle to the same.
#[derive(Clone, Debug)]
pub struct Engines(Arc<Inner>);

#[derive(Debug)]
struct Inner {
    sockets: Vec<PathBuf>,
    /// Whether the sockets were named, so that one which is not there is said to be missing.
    are_named: bool,
    known: Mutex<BTreeMap<PathBuf, Known>>,
    containers: watch::Sender<Arc<Containers>>,
}

impl Engines {
    /// Those at the sockets that are `configured`, or else at that of the environment and the usual ones.
    #[must_use]
    pub fn new(configured: &[PathBuf], uid: u32) -> Self {
        Self(Arc::new(Inner {
            sockets: sockets(configured, uid),
            are_named: !configured.is_empty(),
            known: Mutex::default(),
            containers: watch::Sender::default(),
        }))
    }

    /// All containers, as they were reported last.
    #[must_use]
    pub fn containers(&self) -> watch::Receiver<Arc<Containers>> {
        self.0.containers.subscribe()
    }

    /// The engines that are there, and those that were named.
    #[must_use]
    pub fn status(&self) -> Vec<EngineStatus> {
        let known = self.known();
        let all = known.iter().map(|(socket, known)| EngineStatus {
            socket: socket.clone(),
            state: known.state.clone(),
            containers: known.containers.len(),
        });
        let is_shown = |status: &EngineStatus| {
            self.0.are_named || status.state != EngineState::Absent || status.containers > 0
        };
        all.filter(is_shown).collect()
    }

    /// The engine of the container with this name, and the container; one that has just been made is
    /// asked for.
    ///
    /// # Errors
    /// When no engine has it, with why not where one does not answer.
    pub async fn find(&self, name: &str) -> Result<(Engine, ContainerSeen), EngineError> {
        let known = self.0.containers.borrow().clone();
        let at = known.seen.iter().find(|seen| seen.name == name);
        let first = at.map(|seen| PathBuf::from(&seen.engine));
        let is_other = |socket: &&PathBuf| first.as_ref() != Some(*socket) && socket.exists();
        let others: Vec<PathBuf> = self.0.sockets.iter().filter(is_other).cloned().collect();
        let mut failure = None;
        for socket in first.into_iter().chain(others) {
            let engine = Engine::at(&socket)?;
            match engine.container(name).await {
                Ok(Some(seen)) => return Ok((engine, seen)),
                Ok(None) => {}
                Err(error) => failure = Some(error),
            }
        }
        let sockets = self.0.sockets.iter().map(|at| at.display().to_string());
        Err(match failure {
            Some(error) => error,
            None if self.0.sockets.iter().any(|socket| socket.exists()) => {
                EngineError::NoContainer(name.to_owned())
            }
            None => EngineError::NoSocket(sockets.collect()),
        })
    }

    /// The networks of those that answer.
    pub async fn networks(&self) -> Vec<NetworkSeen> {
        let mut networks = Vec::new();
        for socket in self.0.sockets.iter().filter(|socket| socket.exists()) {
            if let Ok(engine) = Engine::at(socket) {
                // What one that does not answer has is not known.
                networks.extend(engine.networks().await.unwrap_or_default());
            }
        }
        networks
    }

    /// Follows all of them; ends when it is dropped.
    pub async fn follow(&self) {
        let each = self.0.sockets.iter().map(|socket| self.follow_one(socket));
        futures_util::future::join_all(each).await;
    }

    async fn follow_one(&self, socket: &Path) {
        let mut pause = FIRST_PAUSE;
        loop {
            let began = Instant::now();
            match Engine::at(socket) {
                Err(EngineError::NoSocket(_)) => {
                    self.set(socket, |known| known.state = EngineState::Absent);
                    sleep(LOOK_FOR_SOCKET).await;
                    continue;
                }
                Err(error) => self.is_silent(socket, &error),
                Ok(engine) => {
                    if let Err(error) = self.listen_to(&engine).await {
                        self.is_silent(socket, &error);
                    }
                }
            }
            if began.elapsed() > LONGEST_PAUSE {
                pause = FIRST_PAUSE;
            }
            sleep(pause).await;
            pause = (pause * 2).min(LONGEST_PAUSE);
        }
    }

    fn is_silent(&self, socket: &Path, error: &EngineError) {
        let reason = chain(error);
        self.set(socket, |known| known.state = EngineState::Silent(reason));
    }

    /// Follows one engine while its stream of events lasts.
    async fn listen_to(&self, engine: &Engine) -> Result<(), EngineError> {
        let mut events = pin!(engine.events());
        let mut states = HashMap::new();
        self.ask_all(engine, &mut states).await?;
        // What happened before the stream of events began is seen soon.
        let mut next = Instant::now() + FIRST_PAUSE;
        loop {
            let mut concerned = BTreeSet::new();
            let mut all = false;
            match timeout_at(next, events.next()).await {
                Err(_) => all = true,
                // The engine has ended, or it reports no changes: it is asked again after a pause.
                Ok(None) => return self.ask_all(engine, &mut states).await,
                Ok(Some(first)) => {
                    let until = Instant::now() + COLLECT;
                    let mut event = first;
                    loop {
                        match event {
                            Some(id) => drop(concerned.insert(id)),
                            None => all = true,
                        }
                        match timeout_at(until, events.next()).await {
                            Ok(Some(another)) => event = another,
                            Ok(None) | Err(_) => break,
                        }
                    }
                }
            }
            if all {
                self.ask_all(engine, &mut states).await?;
                next = Instant::now() + ASK_EVERY;
                continue;
            }
            let changed = engine.several(concerned.into_iter().collect()).await?;
            self.set(engine.socket(), |known| {
                for (id, seen) in changed {
                    match seen {
                        Some(seen) => drop(known.containers.insert(seen.id.clone(), seen)),
                        None => drop(known.containers.remove(&id)),
                    }
                }
            });
        }
    }

    /// Asks for the list, and for each container that is not as it was.
    async fn ask_all(
        &self,
        engine: &Engine,
        states: &mut HashMap<String, String>,
    ) -> Result<(), EngineError> {
        let now: HashMap<String, String> = engine.list().await?.into_iter().collect();
        let is_new = |(id, state): &(&String, &String)| states.get(*id) != Some(*state);
        let changed = now.iter().filter(is_new).map(|(id, _)| id.clone());
        let changed = engine.several(changed.collect()).await?;
        self.set(engine.socket(), |known| {
            known.state = EngineState::Answers;
            known.containers.retain(|id, _| now.contains_key(id));
            let changed = changed.into_iter().filter_map(|(_, seen)| seen);
            known
                .containers
                .extend(changed.map(|seen| (seen.id.clone(), seen)));
        });
        *states = now;
        Ok(())
    }

    fn known(&self) -> MutexGuard<'_, BTreeMap<PathBuf, Known>> {
        self.0.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Changes what is known of an engine, and says so when it makes a difference.
    fn set(&self, socket: &Path, change: impl FnOnce(&mut Known)) {
        let mut known = self.known();
        let of_engine = known.entry(socket.to_owned()).or_insert_with(|| Known {
            state: EngineState::Absent,
            containers: BTreeMap::new(),
        });
        change(of_engine);
        let mut seen: Vec<ContainerSeen> = Vec::new();
        let mut names = HashSet::new();
        let mut silent = Vec::new();
        for (socket, known) in &*known {
            // Of two with one name, that of the first engine counts.
            let others = known.containers.values();
            seen.extend(others.filter(|it| names.insert(it.name.clone())).cloned());
            let reason = match &known.state {
                EngineState::Answers => continue,
                EngineState::Absent => "there is no socket".to_owned(),
                EngineState::Silent(reason) => reason.clone(),
            };
            if self.0.are_named
                || known.state != EngineState::Absent
                || !known.containers.is_empty()
            {
                silent.push(SilentEngine {
                    socket: socket.display().to_string(),
                    reason,
                });
            }
        }
        seen.sort_by(|a, b| a.name.cmp(&b.name));
        let any_answers = known
            .values()
            .any(|known| known.state == EngineState::Answers);
        if silent.is_empty() && !any_answers {
            let tried = self.0.sockets.iter().map(|at| at.display().to_string());
            let tried = EngineError::NoSocket(tried.collect());
            silent = Containers::unknown(&chain(&tried)).silent;
        }
        drop(known);
        let containers = Containers { seen, silent };
        self.0.containers.send_if_modified(|before| {
            let is_other = **before != containers;
            if is_other {
                *before = Arc::new(containers);
            }
            is_other
        });
    }
}
