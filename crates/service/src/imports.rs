use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, SystemTime};

use bentlane_ca::{CertificateInfo, Pair, PairError};
use bentlane_checks::{FindingKind, PairFacts};
use bentlane_model::chain;
use bentlane_store::{DataDir, DataDirError};
use bentlane_system::{FileError, read_file};
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use time::OffsetDateTime;
use tokio::task::spawn_blocking;
use tracing::{error, info, warn};

use crate::state::State;
use crate::turns::Turns;

/// The folder of the pairs, in that of the keys.
const FOLDER: &str = "imported";
/// Bytes of a file with a certificate or a key.
pub(crate) const LARGEST_FILE: u64 = 1024 * 1024;
/// How often the files that the pairs came from are looked at.
const LOOK_AGAIN: Duration = Duration::from_secs(2);
/// What stands before the paths in a kept pair.
const CERTIFICATE_FROM: &str = "# certificate from: ";
const KEY_FROM: &str = "# key from: ";

/// Certificates that come from elsewhere, by the first name in each.
#[derive(Debug)]
pub(crate) struct Imports {
    folder: DataDir,
    pairs: Mutex<BTreeMap<String, Imported>>,
    /// Those that could not be used when the service started.
    refused: Vec<PairFacts>,
}

/// A pair, and the files that it came from.
#[derive(Clone, Debug)]
pub(crate) struct Imported {
    pub(crate) pair: Pair,
    pub(crate) certificate_file: PathBuf,
    pub(crate) key_file: PathBuf,
    /// What is in its files now that cannot be used, and why.
    pub(crate) fault: Option<(FindingKind, String)>,
    /// How the files were when they were read last.
    stamps: [Option<(SystemTime, u64)>; 2],
}

/// Why a pair is not taken.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ImportError {
    #[error(transparent)]
    File(#[from] FileError),
    #[error(transparent)]
    Pair(#[from] PairError),
    #[error(transparent)]
    DataDir(#[from] DataDirError),
    #[error("the TLS engine does not take the key: {0}")]
    Engine(String),
}

impl ImportError {
    /// What a check makes of it.
    fn kind(&self) -> FindingKind {
        match self {
            Self::Pair(cause) => kind(cause),
            Self::File(_) | Self::DataDir(_) | Self::Engine(_) => FindingKind::PairKeyMismatch,
        }
    }
}

fn kind(cause: &PairError) -> FindingKind {
    match cause {
        PairError::Expired { .. } => FindingKind::PairExpired,
        PairError::NotYet { .. } => FindingKind::PairEarly,
        _ => FindingKind::PairKeyMismatch,
    }
}

/// What is known of a kept pair that cannot be used.
fn unused(text: &str, file: PathBuf, cause: &PairError) -> Option<PairFacts> {
    let mut certificates = CertificateDer::pem_slice_iter(text.as_bytes());
    let info = CertificateInfo::read(&certificates.next()?.ok()?)?;
    Some(PairFacts {
        name: info.names.first()?.clone(),
        names: info.names,
        not_before: info.not_before,
        not_after: info.not_after,
        pinned: false,
        file: file.display().to_string(),
        shown: false,
        fault: Some((kind(cause), cause.to_string())),
    })
}

impl Imports {
    /// Takes up the pairs in the folder of the keys. One that cannot be used is left where it is,
    /// and told of.
    pub(crate) fn take_up(keys: &DataDir) -> Result<Self, DataDirError> {
        let folder = keys.private(FOLDER)?;
        let (mut pairs, mut refused) = (BTreeMap::new(), Vec::new());
        let entries = fs::read_dir(folder.root()).into_iter().flatten().flatten();
        let names = entries.filter_map(|entry| entry.file_name().into_string().ok());
        for file in names.filter(|name| name.ends_with(".pem")) {
            let text = folder.read_secret(&file)?.unwrap_or_default();
            let path = |mark: &str| {
                let line = text.lines().find_map(|line| line.strip_prefix(mark));
                PathBuf::from(line.unwrap_or_default())
            };
            match Pair::read(text.as_bytes(), text.as_bytes(), OffsetDateTime::now_utc()) {
                Ok(pair) => {
                    let imported = Imported {
                        pair,
                        certificate_file: path(CERTIFICATE_FROM),
                        key_file: path(KEY_FROM),
                        fault: None,
                        stamps: [None; 2],
                    };
                    pairs.insert(imported.name(), imported);
                }
                Err(cause) => {
                    error!(file, %cause, "an imported certificate is not used");
                    refused.extend(unused(&text, path(CERTIFICATE_FROM), &cause));
                }
            }
        }
        Ok(Self {
            folder,
            refused,
            pairs: Mutex::new(pairs),
        })
    }

    /// What a check has to know of each pair.
    pub(crate) fn notes(&self) -> Vec<PairFacts> {
        let pairs = self.pairs();
        let now = pairs.values().map(|it| PairFacts {
            name: it.name(),
            names: it.pair.info.names.clone(),
            not_before: it.pair.info.not_before,
            not_after: it.pair.info.not_after,
            pinned: false,
            file: it.certificate_file.display().to_string(),
            shown: true,
            fault: it.fault.clone(),
        });
        let before = self.refused.iter();
        let before = before.filter(|it| !pairs.contains_key(&it.name)).cloned();
        now.chain(before).collect()
    }

    /// Every pair, by its first name.
    pub(crate) fn all(&self) -> BTreeMap<String, Imported> {
        self.pairs().clone()
    }

    /// Reads a pair from these files, checks it, keeps it and has it shown. What was there under
    /// its first name makes room.
    pub(crate) fn import(
        &self,
        state: &State,
        certificate_file: &Path,
        key_file: &Path,
    ) -> Result<Imported, ImportError> {
        let stamps = [stamp(certificate_file), stamp(key_file)];
        let (certificates, key) = (read(certificate_file)?, read(key_file)?);
        let pair = Pair::read(&certificates, &key, OffsetDateTime::now_utc())?;
        let imported = Imported {
            pair,
            certificate_file: certificate_file.to_owned(),
            key_file: key_file.to_owned(),
            fault: None,
            stamps,
        };
        let mut next = self.all();
        next.insert(imported.name(), imported.clone());
        // The engine may still refuse; nothing is kept then.
        show(state, &next)?;
        let text = format!(
            "{CERTIFICATE_FROM}{}\n{KEY_FROM}{}\n{}{}\n",
            certificate_file.display(),
            key_file.display(),
            imported.pair.chain_pem(),
            String::from_utf8_lossy(&key),
        );
        self.folder.write(&imported.file(), text.as_bytes())?;
        *self.pairs() = next;
        Ok(imported)
    }

    /// No longer shows the pair with this first name; gives whether there was one.
    pub(crate) fn remove(&self, state: &State, name: &str) -> Result<bool, ImportError> {
        let mut next = self.all();
        let Some(gone) = next.remove(name) else {
            return Ok(false);
        };
        self.folder.remove(&gone.file())?;
        show(state, &next)?;
        *self.pairs() = next;
        Ok(true)
    }

    /// Reads pairs anew whose files have changed. What cannot be used leaves the former one shown.
    fn refresh(&self, state: &State) {
        for (name, imported) in self.all() {
            let now = [stamp(&imported.certificate_file), stamp(&imported.key_file)];
            if now == imported.stamps || now.contains(&None) {
                continue;
            }
            let (certificate_file, key_file) = (&imported.certificate_file, &imported.key_file);
            match self.import(state, certificate_file, key_file) {
                Ok(_) if imported.stamps.contains(&None) => {}
                Ok(_) => info!(
                    name,
                    "the imported certificate's files have changed: read anew"
                ),
                Err(cause) => {
                    warn!(
                        name,
                        cause = chain(&cause),
                        "the imported certificate's files have changed and cannot be used: the \
                         former is shown"
                    );
                    if let Some(known) = self.pairs().get_mut(&name) {
                        known.stamps = now; // said once for each change
                        known.fault = Some((cause.kind(), chain(&cause)));
                    }
                }
            }
        }
    }

    fn pairs(&self) -> MutexGuard<'_, BTreeMap<String, Imported>> {
        self.pairs.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Imported {
    /// The first name in the certificate.
    pub(crate) fn name(&self) -> String {
        self.pair.info.names.first().cloned().unwrap_or_default()
    }

    fn file(&self) -> String {
        let plain = |c: char| {
            if c.is_ascii_alphanumeric() || ".-".contains(c) {
                c
            } else {
                '_'
            }
        };
        let name: String = self.name().chars().map(plain).collect();
        format!("{name}.pem")
    }
}

/// Has these pairs shown, and believed by our own checks.
pub(crate) fn show(state: &State, pairs: &BTreeMap<String, Imported>) -> Result<(), ImportError> {
    let shown = pairs
        .values()
        .map(|imported| imported.pair.clone())
        .collect();
    let certificates = state.proxy.certificates();
    certificates.import(shown).map_err(ImportError::Engine)?;
    state
        .trust_anew(pairs.values())
        .map_err(|cause| ImportError::Engine(cause.to_string()))?;
    state.board.configuration_changed();
    Ok(())
}

/// Looks at the files of imported pairs, until the service stops.
pub(crate) async fn keep(state: Arc<State>) {
    let mut turns = Turns::new(LOOK_AGAIN, &state.shutdown);
    while turns.next().await {
        if state.imports.all().is_empty() {
            continue;
        }
        let _one = state.reloading.lock().await;
        let looking = Arc::clone(&state);
        let looked = spawn_blocking(move || looking.imports.refresh(&looking)).await;
        if let Err(cause) = looked {
            return error!(%cause, "no longer looking after imported certificates");
        }
    }
}

fn read(path: &Path) -> Result<Vec<u8>, ImportError> {
    Ok(read_file(path, LARGEST_FILE)?)
}

fn stamp(path: &Path) -> Option<(SystemTime, u64)> {
    let metadata = fs::metadata(path).ok()?;
    Some((metadata.modified().ok()?, metadata.len()))
}
