//! Which processes are ours, in a file: after a crash of the service they are found and ended.

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use serde::{Deserialize, Serialize};
use tracing::warn;

use crate::files::replace;
use crate::processes::{Seen, Tree};

/// A run, as it is written down.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Run {
    pub(crate) pid: i32,
    /// When its first process was started, in ticks since the system was.
    pub(crate) started: u64,
    pub(crate) mark: String,
    /// Which start of the system these ticks are counted from.
    pub(crate) boot: String,
}

impl Run {
    pub(crate) fn of(tree: &Tree, mark: &str) -> Self {
        Self {
            pid: tree.first.pid,
            started: tree.first.started,
            mark: mark.to_owned(),
            boot: boot(),
        }
    }

    /// Its processes, when they can be there still.
    pub(crate) fn tree(&self) -> Option<Tree> {
        let first = Seen {
            pid: self.pid,
            started: self.started,
        };
        (self.boot == boot()).then(|| Tree::new(first, self.mark.clone()))
    }
}

/// A number that is another one with each start of the system.
fn boot() -> String {
    let id = fs::read_to_string("/proc/sys/kernel/random/boot_id");
    id.map(|id| id.trim().to_owned()).unwrap_or_default()
}

/// The file with the runs of this moment, by the names of their apps.
#[derive(Debug)]
pub(crate) struct Record {
    path: PathBuf,
    runs: Mutex<BTreeMap<String, Run>>,
}

impl Record {
    /// The record in `folder`, and what a former service left there.
    pub(crate) fn open(folder: &Path) -> (Self, BTreeMap<String, Run>) {
        let path = folder.join("running.json");
        let left = match fs::read(&path) {
            Ok(octets) => serde_json::from_slice(&octets).unwrap_or_else(|error| {
                warn!(%error, "cannot read which apps ran; what is left of them is not ended");
                BTreeMap::new()
            }),
            Err(_) => BTreeMap::new(),
        };
        let runs = Mutex::default();
        (Self { path, runs }, left)
    }

    /// The runs of this moment.
    pub(crate) fn runs(&self) -> Vec<Run> {
        let runs = self.runs.lock().unwrap_or_else(PoisonError::into_inner);
        runs.values().cloned().collect()
    }

    pub(crate) fn set(&self, name: &str, run: Option<Run>) {
        let mut runs = self.runs.lock().unwrap_or_else(PoisonError::into_inner);
        match run {
            Some(run) => drop(runs.insert(name.to_owned(), run)),
            None => drop(runs.remove(name)),
        }
        let written = serde_json::to_vec(&*runs).map_err(io::Error::from);
        if let Err(error) = written.and_then(|octets| replace(&self.path, &octets)) {
            warn!(%error, "cannot write down which apps run");
        }
    }
}
