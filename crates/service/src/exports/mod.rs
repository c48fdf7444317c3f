//! Certificates and keys that are kept up to date in folders and containers.

mod command;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use bentlane_ca::{
    Anchor, AuthorityError, CertName, CertificateInfo, CertificatePart, OrderError, Pair, PartKind,
    USUAL_DAYS, request, verify,
};
use bentlane_containers::Engines;
use bentlane_model::chain;
use bentlane_store::{DataDir, DataDirError};
use bentlane_system::{FileError, Folder};
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use tokio::task::spawn_blocking;
use tokio_util::sync::CancellationToken;
use tracing::{error, info, warn};

use crate::pki::Pki;
use crate::ticker::Ticker;
use command::run_as_owner;

/// The list of exports, in the data folder.
const FILE: &str = "exports.json";
/// A copy of a list that could not be read, which is then replaced.
const UNREADABLE: &str = "exports.json.unreadable";
/// How often the files are checked.
const CHECK_EVERY: Duration = Duration::from_secs(5);
/// The most bytes of a file that we wrote.
const LARGEST_FILE: u64 = 1024 * 1024;

/// The exports, by folder.
#[derive(Debug)]
pub(crate) struct Exports {
    data_dir: DataDir,
    pki: Arc<Pki>,
    engines: Engines,
    exports: Mutex<BTreeMap<PathBuf, Export>>,
}

/// An export: the names, and the files for them.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Export {
    pub(crate) names: Vec<String>,
    pub(crate) parts: Vec<CertificatePart>,
    pub(crate) then: Option<String>,
    /// The container that gets a copy of the files.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) into: Option<InContainer>,
    /// Whether the label of that container asks for them.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub(crate) of_label: bool,
    /// What went wrong last.
    #[serde(skip)]
    pub(crate) trouble: Option<String>,
}

/// A folder of a container.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct InContainer {
    pub(crate) container: String,
    pub(crate) folder: String,
    /// The id of the container that has the current files.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) has_them: Option<String>,
}

/// Why an export failed.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ExportError {
    #[error(transparent)]
    Order(#[from] OrderError),
    #[error("two parts would have the name {0}")]
    SameFile(String),
    #[error(transparent)]
    File(#[from] FileError),
    #[error(transparent)]
    DataDir(#[from] DataDirError),
}

impl From<AuthorityError> for ExportError {
    fn from(error: AuthorityError) -> Self {
        Self::Order(error.into())
    }
}

impl Export {
    /// The files, with the kind of each.
    pub(crate) fn files(&self, folder: &Path) -> Result<Vec<(PartKind, PathBuf)>, ExportError> {
        let first = self.names.first().map_or("", String::as_str);
        let mut files: Vec<(PartKind, PathBuf)> = Vec::new();
        for part in &self.parts {
            let name = part.file_name(first);
            let path = folder.join(&name);
            if files.iter().any(|(_, other)| *other == path) {
                return Err(ExportError::SameFile(name));
            }
            files.push((part.kind, path));
        }
        Ok(files)
    }

    /// Whether the files are complete and need no renewal; `None` when one cannot be read.
    fn is_current(&self, folder: &Path, root: &str, now: OffsetDateTime) -> Option<bool> {
        let files = self.files(folder).ok()?;
        let handle = Folder::open(folder).ok()?;
        let content = |path: &Path| handle.read(path.file_name()?, LARGEST_FILE).ok()?;
        let read = |kinds: &[PartKind]| {
            let found = files.iter().find(|(kind, _)| kinds.contains(kind));
            found.map(|(_, path)| content(path))
        };
        let all_there = files.iter().all(|(_, path)| content(path).is_some());
        let chain = match read(&[PartKind::Chain, PartKind::Both]) {
            Some(chain) => chain?,
            // For a certificate alone, or a bundle, only the age can be checked.
            None => read(&[PartKind::Certificate]).flatten()?,
        };
        let text = String::from_utf8_lossy(&chain);
        let info = CertificateInfo::from_pem(&text)?;
        let mut wanted = self.names.clone();
        let mut held = info.names.clone();
        wanted.sort();
        held.sort();
        let whole = match read(&[PartKind::Key, PartKind::Both]) {
            Some(key) => {
                let pair = Pair::read(&chain, &key?, now).ok()?;
                let anchor = Anchor::read(root)?;
                let name = self.names.first()?.replace('*', "any");
                pair.chain.len() < 2 || verify(&pair.chain, &name, &[anchor], now).is_ok()
            }
            None => true,
        };
        Some(all_there && whole && wanted == held && now < info.renewed_from())
    }
}

impl Exports {
    pub(crate) fn load(
        data_dir: &DataDir,
        pki: Arc<Pki>,
        engines: Engines,
    ) -> Result<Self, DataDirError> {
        let kept = data_dir.read(FILE)?.unwrap_or_default();
        let exports = match serde_json::from_str(&kept) {
            Ok(exports) => exports,
            Err(_) if kept.is_empty() => BTreeMap::new(),
            Err(cause) => {
                data_dir.write(UNREADABLE, kept.as_bytes())?;
                let copy = UNREADABLE;
                error!(%cause, copy, "cannot read the list of exports; none is renewed");
                BTreeMap::new()
            }
        };
        Ok(Self {
            data_dir: data_dir.clone(),
            pki,
            engines,
            exports: Mutex::new(exports),
        })
    }

    /// The folder of ours, for the owner alone, with the files for a folder of a container.
    pub(crate) fn folder_for(&self, into: &InContainer) -> Result<PathBuf, ExportError> {
        let plain = |c: char| if c.is_ascii_alphanumeric() { c } else { '_' };
        let name: String = format!("{}{}", into.container, into.folder)
            .chars()
            .map(plain)
            .collect();
        let folder = self.data_dir.private("exported")?.private(&name)?;
        Ok(folder.root().to_owned())
    }

    /// Every export, by folder.
    pub(crate) fn all(&self) -> BTreeMap<PathBuf, Export> {
        self.exports().clone()
    }

    /// Writes the files, and renews them from now on.
    pub(crate) fn add(&self, folder: &Path, export: Export) -> Result<(), ExportError> {
        self.write(folder, &export)?;
        let mut next = self.all();
        next.insert(folder.to_owned(), export);
        self.save(next)
    }

    /// Stops renewing a folder's files; returns whether they were.
    pub(crate) fn remove(&self, folder: &Path) -> Result<bool, ExportError> {
        let mut next = self.all();
        if next.remove(folder).is_none() {
            return Ok(false);
        }
        self.save(next)?;
        Ok(true)
    }

    /// Keeps what labels ask for, and no longer what they do not ask for any more. An export that a person
    /// asked for stays.
    pub(crate) fn set_of_labels(&self, wanted: Vec<(PathBuf, Export)>) -> Result<(), ExportError> {
        let before = self.all();
        let mut next = before.clone();
        next.retain(|folder, export| {
            !export.of_label || wanted.iter().any(|(wanted, _)| wanted == folder)
        });
        for (folder, export) in wanted {
            match next.get(&folder) {
                Some(known) if !known.of_label || known.names == export.names => {}
                _ => drop(next.insert(folder, export)),
            }
        }
        let is_same = next.len() == before.len()
            && next.iter().all(|(folder, export)| {
                before
                    .get(folder)
                    .is_some_and(|known| known.names == export.names)
            });
        if is_same {
            return Ok(());
        }
        self.save(next)
    }

    fn save(&self, next: BTreeMap<PathBuf, Export>) -> Result<(), ExportError> {
        let text = serde_json::to_string_pretty(&next)
            .expect("folders came as JSON, so their paths are text");
        self.data_dir.write(FILE, text.as_bytes())?;
        *self.exports() = next;
        Ok(())
    }

    /// Writes the files that have to be renewed; returns their exports.
    fn renew(&self) -> Vec<(PathBuf, Export)> {
        let now = OffsetDateTime::now_utc();
        let root = self.pki.authority.root();
        let mut renewed = Vec::new();
        for (folder, export) in self.all() {
            if export.is_current(&folder, root.certificate_pem(), now) == Some(true) {
                continue;
            }
            let outcome = self
                .write(&folder, &export)
                .and_then(|()| match &export.into {
                    Some(_) => self.set_delivered(&folder, None),
                    None => Ok(()),
                });
            let trouble = outcome.as_ref().err().map(|cause| chain(cause));
            if trouble.is_some() && trouble != export.trouble {
                let cause = trouble.as_deref().unwrap_or_default();
                warn!(folder = %folder.display(), cause, "cannot renew an exported certificate");
            }
            self.set_trouble(&folder, trouble);
            if outcome.is_ok() {
                info!(folder = %folder.display(), "renewed an exported certificate");
                renewed.push((folder, export));
            }
        }
        renewed
    }

    /// Sets which container has the files of a folder; `None` when they are new.
    fn set_delivered(&self, folder: &Path, id: Option<String>) -> Result<(), ExportError> {
        let mut next = self.all();
        if let Some(into) = next.get_mut(folder).and_then(|it| it.into.as_mut()) {
            into.has_them = id;
        }
        self.save(next)
    }

    /// Sets what went wrong last with an export.
    pub(crate) fn set_trouble(&self, folder: &Path, trouble: Option<String>) {
        if let Some(export) = self.exports().get_mut(folder) {
            export.trouble = trouble;
        }
    }

    /// Makes a key and a certificate and writes the files, the key first: a server that reads them in
    /// between has a key that does not match, and the next check writes both again.
    fn write(&self, folder: &Path, export: &Export) -> Result<(), ExportError> {
        let mut files = export.files(folder)?;
        let names = export.names.iter().map(|name| name.parse());
        let names: Vec<CertName> = names.collect::<Result<_, _>>()?;
        let (key, request) = request(&names)?;
        let issuer = self.pki.served.issuer();
        let signed = issuer.sign(&request, USUAL_DAYS, OffsetDateTime::now_utc())?;
        let certificate = signed.first().cloned().unwrap_or_default();
        let chain = signed.concat();
        // The folder's owner uses the files, and owns them where root writes them.
        let handle = Folder::open(folder)?;
        files.sort_by_key(|(kind, _)| *kind != PartKind::Key);
        for (kind, path) in files {
            let content = kind.content(&certificate, &chain, &key)?;
            let name = path.file_name().unwrap_or_default();
            handle.write(name, &content, kind.mode())?;
        }
        Ok(())
    }

    /// Brings the container of an export up to date, and then runs its command. Returns what went wrong.
    pub(crate) async fn deliver(&self, folder: &Path, export: &Export) -> Option<String> {
        if let Some(into) = &export.into {
            match self.copy_into(folder, export, into).await {
                Ok(None) => return None,
                Ok(Some(id)) => {
                    if let Err(error) = self.set_delivered(folder, Some(id)) {
                        return Some(chain(&error));
                    }
                }
                Err(trouble) => {
                    if export.trouble.as_ref() != Some(&trouble) {
                        warn!(
                            container = into.container,
                            trouble, "cannot copy a certificate into a container"
                        );
                    }
                    return Some(trouble);
                }
            }
        }
        run_afterwards(folder, export).await
    }

    /// Copies the files of `folder` into a container, unless it has them. Returns its id if it did.
    async fn copy_into(
        &self,
        folder: &Path,
        export: &Export,
        into: &InContainer,
    ) -> Result<Option<String>, String> {
        let found = self.engines.find(&into.container).await;
        let (engine, seen) = found.map_err(|error| chain(&error))?;
        let id = seen.id;
        if into.has_them.as_ref() == Some(&id) {
            return Ok(None);
        }
        let handle = Folder::open(folder).map_err(|error| chain(&error))?;
        let mut files = Vec::new();
        for (kind, path) in export.files(folder).map_err(|error| chain(&error))? {
            let name = path.file_name().unwrap_or_default();
            let content = handle.read(name, LARGEST_FILE);
            let content = content.map_err(|error| chain(&error))?;
            let content = content.ok_or_else(|| format!("{} is missing", path.display()))?;
            files.push((name.to_string_lossy().into_owned(), content, kind.mode()));
        }
        let copied = engine.put_files(&into.container, &into.folder, &files);
        copied.await.map_err(|error| chain(&error))?;
        Ok(Some(id))
    }

    fn exports(&self) -> MutexGuard<'_, BTreeMap<PathBuf, Export>> {
        self.exports.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Runs the command of an export whose files are new; returns what went wrong.
async fn run_afterwards(folder: &Path, export: &Export) -> Option<String> {
    let command = export.then.as_deref()?;
    let trouble = match run_as_owner(folder, command).await {
        Ok((status, _)) if status.success() => return None,
        Ok((status, output)) => {
            let last = output.lines().next_back().unwrap_or_default();
            format!("`{command}` ended with {status}: {last}")
        }
        Err(trouble) => format!("`{command}` {trouble}"),
    };
    warn!(folder = %folder.display(), trouble, "the command after an export failed");
    Some(trouble)
}

/// Keeps the folders up to date until the service stops.
pub(crate) async fn run(exports: Arc<Exports>, shutdown: CancellationToken) {
    let mut ticker = Ticker::new(CHECK_EVERY, &shutdown);
    while ticker.next().await {
        let renewing = Arc::clone(&exports);
        match spawn_blocking(move || renewing.renew()).await {
            Ok(renewed) => {
                for (folder, export) in renewed.iter().filter(|(_, it)| it.into.is_none()) {
                    let trouble = run_afterwards(folder, export).await;
                    exports.set_trouble(folder, trouble);
                }
                // Containers without the current files: the files are new, or the container is.
                let all = exports.all().into_iter();
                for (folder, export) in all.filter(|(_, export)| export.into.is_some()) {
                    let trouble = exports.deliver(&folder, &export).await;
                    exports.set_trouble(&folder, trouble);
                }
            }
            Err(cause) => return error!(%cause, "exported certificates are no longer renewed"),
        }
    }
}
