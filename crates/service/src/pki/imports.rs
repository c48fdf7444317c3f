use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::SystemTime;

use bentlane_ca::{CertificateInfo, Pair, PairError};
use bentlane_checks::{FindingKind, PairFacts};
use bentlane_model::chain;
use bentlane_store::{DataDir, DataDirError};
use bentlane_system::{FileError, read_file};
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use time::OffsetDateTime;
use tracing::{error, info, warn};

use super::{AuthorityStoreError, Pki};

/// The folder of the pairs, in that of the keys.
const FOLDER: &str = "imported";
/// The most bytes of a file with a certificate or a key.
pub(crate) const LARGEST_FILE: u64 = 1024 * 1024;
/// What precedes the paths in a stored pair.
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
    /// Why the files as they are now cannot be used.
    pub(crate) fault: Option<(FindingKind, String)>,
    /// Time and size of the files when they were read last.
    stamps: [Option<(SystemTime, u64)>; 2],
}

/// Why a pair is refused.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ImportError {
    #[error(transparent)]
    File(#[from] FileError),
    #[error(transparent)]
    Pair(#[from] PairError),
    #[error(transparent)]
    DataDir(#[from] DataDirError),
    #[error("the TLS library does not accept the key: {0}")]
    Engine(String),
}

impl ImportError {
    /// What a check reports.
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

/// What checks know of a stored pair that cannot be used.
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
    /// Loads the pairs in the folder of the keys. One that cannot be used is left where it is and
    /// logged.
    pub(crate) fn load(keys: &DataDir) -> Result<Self, DataDirError> {
        let folder = keys.private(FOLDER)?;
        let (mut pairs, mut refused) = (BTreeMap::new(), Vec::new());
        let entries = fs::read_dir(folder.root()).into_iter().flatten().flatten();
        let names = entries.filter_map(|entry| entry.file_name().into_string().ok());
        for file in names.filter(|name| name.ends_with(".pem")) {
            let text = folder.read_secret(&file)?.unwrap_or_default();
            match Imported::read(&text) {
                Ok(imported) => {
                    pairs.insert(imported.name(), imported);
                }
                Err(cause) => {
                    error!(file, %cause, "an imported certificate is not used");
                    refused.extend(unused(&text, path_in(&text, CERTIFICATE_FROM), &cause));
                }
            }
        }
        Ok(Self {
            folder,
            refused,
            pairs: Mutex::new(pairs),
        })
    }

    /// What checks know of each pair.
    pub(crate) fn facts(&self) -> Vec<PairFacts> {
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

    /// Whether there is none.
    pub(super) fn is_empty(&self) -> bool {
        self.pairs().is_empty()
    }

    /// Every pair, by its first name.
    pub(crate) fn all(&self) -> BTreeMap<String, Imported> {
        self.pairs().clone()
    }

    /// Reads a pair from these files, checks it, stores a copy and serves it, instead of the one with
    /// the same first name.
    pub(crate) fn import(
        &self,
        pki: &Pki,
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
        // The TLS library may still refuse it; nothing is stored then.
        pki.serve_imports(&next)?;
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

    /// The files of the pairs, by their names.
    pub(super) fn files(&self) -> Result<BTreeMap<String, String>, DataDirError> {
        let mut files = BTreeMap::new();
        for imported in self.all().values() {
            let name = imported.file();
            let text = self.folder.read_secret(&name)?;
            files.extend(text.map(|text| (format!("{FOLDER}/{name}"), text)));
        }
        Ok(files)
    }

    /// Serves the pairs in `files`, beside those that there are. One that cannot be used is logged.
    pub(super) fn restore(
        &self,
        pki: &Pki,
        files: &BTreeMap<String, String>,
    ) -> Result<(), AuthorityStoreError> {
        let mut next = self.all();
        for (name, text) in files.iter().filter(|(name, _)| name.starts_with(FOLDER)) {
            match Imported::read(text) {
                Ok(imported) => {
                    self.folder.write(&imported.file(), text.as_bytes())?;
                    next.insert(imported.name(), imported);
                }
                Err(cause) => error!(name, %cause, "an imported certificate is not restored"),
            }
        }
        if let Err(cause) = pki.serve_imports(&next) {
            error!(
                cause = chain(&cause),
                "cannot serve the imported certificates"
            );
        }
        *self.pairs() = next;
        Ok(())
    }

    /// Stops serving the pair with this first name; returns whether there was one.
    pub(crate) fn remove(&self, pki: &Pki, name: &str) -> Result<bool, ImportError> {
        let mut next = self.all();
        let Some(gone) = next.remove(name) else {
            return Ok(false);
        };
        self.folder.remove(&gone.file())?;
        pki.serve_imports(&next)?;
        *self.pairs() = next;
        Ok(true)
    }

    /// Reads pairs again whose files have changed. One that cannot be used leaves the former in use.
    pub(super) fn refresh(&self, pki: &Pki) {
        for (name, imported) in self.all() {
            let now = [stamp(&imported.certificate_file), stamp(&imported.key_file)];
            if now == imported.stamps || now.contains(&None) {
                continue;
            }
            let (certificate_file, key_file) = (&imported.certificate_file, &imported.key_file);
            match self.import(pki, certificate_file, key_file) {
                Ok(_) if imported.stamps.contains(&None) => {}
                Ok(_) => info!(
                    name,
                    "read the imported certificate again: its files have changed"
                ),
                Err(cause) => {
                    warn!(
                        name,
                        cause = chain(&cause),
                        "the imported certificate's files have changed and cannot be used: the \
                         former is still served"
                    );
                    if let Some(known) = self.pairs().get_mut(&name) {
                        known.stamps = now; // reported once for each change
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

/// The path that a stored pair names after `mark`.
fn path_in(text: &str, mark: &str) -> PathBuf {
    let line = text.lines().find_map(|line| line.strip_prefix(mark));
    PathBuf::from(line.unwrap_or_default())
}

impl Imported {
    /// A pair as it is stored.
    fn read(text: &str) -> Result<Self, PairError> {
        Ok(Self {
            pair: Pair::read(text.as_bytes(), text.as_bytes(), OffsetDateTime::now_utc())?,
            certificate_file: path_in(text, CERTIFICATE_FROM),
            key_file: path_in(text, KEY_FROM),
            fault: None,
            stamps: [None; 2],
        })
    }

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

fn read(path: &Path) -> Result<Vec<u8>, ImportError> {
    Ok(read_file(path, LARGEST_FILE)?)
}

fn stamp(path: &Path) -> Option<(SystemTime, u64)> {
    let metadata = fs::metadata(path).ok()?;
    Some((metadata.modified().ok()?, metadata.len()))
}
