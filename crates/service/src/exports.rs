use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::path::{Path, PathBuf};
use std::process::{ExitStatus, Stdio};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use bentlane_ca::{
    Anchor, AuthorityError, CertName, CertificateInfo, CertificatePart, OrderError, Pair, PartKind,
    USUAL_DAYS, request, verify,
};
use bentlane_containers::Engine;
use bentlane_model::chain;
use bentlane_store::{DataDir, DataDirError};
use bentlane_system::{FileError, Folder};
use nix::unistd::{Uid, User};
use rustix::process::{Pid, Signal, kill_process_group};
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use tokio::io::{AsyncRead, AsyncReadExt, copy, sink};
use tokio::process::Command;
use tokio::task::spawn_blocking;
use tokio::time::timeout;
use tracing::{error, info, warn};

use crate::state::State;
use crate::turns::Turns;

/// Where it is written down which folders are looked after.
const FILE: &str = "exports.json";
/// Where a list goes that cannot be read, before another takes its place.
const UNREADABLE: &str = "exports.json.unreadable";
/// How often the files are looked at.
const LOOK_AGAIN: Duration = Duration::from_secs(5);
/// How long a command may take.
const COMMAND_LIMIT: Duration = Duration::from_secs(60);
/// How long to wait for the rest of what a command said after its end.
const REST_LIMIT: Duration = Duration::from_secs(1);
/// Bytes of what a command says that are kept, of each stream.
const MOST_SAID: u64 = 16 * 1024;
/// Where the commands of the shell are for a command.
const COMMAND_PATH: &str = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";
/// Bytes of a file that we wrote.
const LARGEST_FILE: u64 = 1024 * 1024;

/// Certificates and keys that are kept fresh in folders, by folder.
#[derive(Debug)]
pub(crate) struct Exports {
    data_dir: DataDir,
    exports: Mutex<BTreeMap<PathBuf, Export>>,
}

/// What a folder holds.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct Export {
    pub(crate) names: Vec<String>,
    pub(crate) parts: Vec<CertificatePart>,
    pub(crate) then: Option<String>,
    /// The container that gets a copy of the files.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) into: Option<InContainer>,
    /// What went wrong last; not written down.
    #[serde(skip)]
    pub(crate) trouble: Option<String>,
}

/// A folder of a container.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct InContainer {
    pub(crate) container: String,
    pub(crate) folder: String,
    /// The container that has the files of now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) has_them: Option<String>,
}

/// Why files are not written.
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
    /// The files, with what is in each.
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

    /// Whether the files that are there will do for a while; `None` when one cannot be read.
    fn is_fresh(&self, folder: &Path, state: &State, now: OffsetDateTime) -> Option<bool> {
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
            // A certificate alone, or a bundle: its age is all that can be told.
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
                let anchor = Anchor::read(state.trust.root().certificate_pem())?;
                let name = self.names.first()?.replace('*', "any");
                pair.chain.len() < 2 || verify(&pair.chain, &name, &[anchor], now).is_ok()
            }
            None => true,
        };
        Some(all_there && whole && wanted == held && now < info.renewed_from())
    }
}

impl Exports {
    pub(crate) fn take_up(data_dir: &DataDir) -> Result<Self, DataDirError> {
        let kept = data_dir.read(FILE)?.unwrap_or_default();
        let exports = match serde_json::from_str(&kept) {
            Ok(exports) => exports,
            Err(_) if kept.is_empty() => BTreeMap::new(),
            Err(cause) => {
                data_dir.write(UNREADABLE, kept.as_bytes())?;
                let aside = UNREADABLE;
                error!(%cause, aside, "no folder is kept fresh: the list of them cannot be read");
                BTreeMap::new()
            }
        };
        Ok(Self {
            data_dir: data_dir.clone(),
            exports: Mutex::new(exports),
        })
    }

    /// Where the files for a folder of a container are kept, for its owner alone.
    pub(crate) fn folder_for(&self, into: &InContainer) -> Result<PathBuf, ExportError> {
        let plain = |c: char| if c.is_ascii_alphanumeric() { c } else { '_' };
        let name: String = format!("{}{}", into.container, into.folder)
            .chars()
            .map(plain)
            .collect();
        let folder = self.data_dir.private("exported")?.private(&name)?;
        Ok(folder.root().to_owned())
    }

    /// Every folder that is looked after.
    pub(crate) fn all(&self) -> BTreeMap<PathBuf, Export> {
        self.exports().clone()
    }

    /// Writes the files, and keeps them fresh from now on.
    pub(crate) fn add(
        &self,
        state: &State,
        folder: &Path,
        export: Export,
    ) -> Result<(), ExportError> {
        write(state, folder, &export)?;
        let mut next = self.all();
        next.insert(folder.to_owned(), export);
        self.keep(next)
    }

    /// No longer looks after a folder; gives whether it was.
    pub(crate) fn remove(&self, folder: &Path) -> Result<bool, ExportError> {
        let mut next = self.all();
        if next.remove(folder).is_none() {
            return Ok(false);
        }
        self.keep(next)?;
        Ok(true)
    }

    fn keep(&self, next: BTreeMap<PathBuf, Export>) -> Result<(), ExportError> {
        let text = serde_json::to_string_pretty(&next)
            .expect("folders came as JSON, so their paths are text");
        self.data_dir.write(FILE, text.as_bytes())?;
        *self.exports() = next;
        Ok(())
    }

    /// Writes what is due; gives the folders that are new.
    fn refresh(&self, state: &State) -> Vec<(PathBuf, Export)> {
        let now = OffsetDateTime::now_utc();
        let mut fresh = Vec::new();
        for (folder, export) in self.all() {
            if export.is_fresh(&folder, state, now) == Some(true) {
                continue;
            }
            let outcome = write(state, &folder, &export).and_then(|()| match &export.into {
                Some(_) => self.has_files(&folder, None),
                None => Ok(()),
            });
            let trouble = outcome.as_ref().err().map(|cause| chain(cause));
            if trouble.is_some() && trouble != export.trouble {
                let cause = trouble.as_deref().unwrap_or_default();
                warn!(folder = %folder.display(), cause, "a certificate is not kept fresh");
            }
            self.note(&folder, trouble);
            if outcome.is_ok() {
                info!(folder = %folder.display(), "wrote a new certificate");
                fresh.push((folder, export));
            }
        }
        fresh
    }

    /// Notes which container has the files of a folder; none while they are new.
    fn has_files(&self, folder: &Path, id: Option<String>) -> Result<(), ExportError> {
        let mut next = self.all();
        if let Some(into) = next.get_mut(folder).and_then(|it| it.into.as_mut()) {
            into.has_them = id;
        }
        self.keep(next)
    }

    pub(crate) fn note(&self, folder: &Path, trouble: Option<String>) {
        if let Some(export) = self.exports().get_mut(folder) {
            export.trouble = trouble;
        }
    }

    fn exports(&self) -> MutexGuard<'_, BTreeMap<PathBuf, Export>> {
        self.exports.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Makes a key and a certificate and puts them into the files, the key first: a server that reads in
/// between has a key that does not fit, and the next look writes both anew.
fn write(state: &State, folder: &Path, export: &Export) -> Result<(), ExportError> {
    let files = export.files(folder)?;
    let names: Vec<CertName> = export
        .names
        .iter()
        .map(|name| name.parse())
        .collect::<Result<_, _>>()?;
    let (key, request) = request(&names)?;
    let issuer = state.proxy.certificates().issuer();
    let signed = issuer.sign(&request, USUAL_DAYS, OffsetDateTime::now_utc())?;
    let certificate = signed.first().cloned().unwrap_or_default();
    let chain = signed.concat();
    // Whoever has the folder has a use for the files, and gets them where root writes them.
    let handle = Folder::open(folder)?;
    let mut files = files;
    files.sort_by_key(|(kind, _)| *kind != PartKind::Key);
    for (kind, path) in files {
        let content = kind.content(&certificate, &chain, &key)?;
        let name = path.file_name().unwrap_or_default();
        handle.write(name, &content, kind.mode())?;
    }
    Ok(())
}

/// Puts the files of `folder` into a container, unless `has_them` says that it has them; gives its
/// id.
async fn put_into(
    socket: Option<&Path>,
    folder: &Path,
    export: &Export,
    into: &InContainer,
) -> Result<Option<String>, String> {
    let text = |error: &(dyn std::error::Error + 'static)| chain(error);
    let uid = rustix::process::geteuid().as_raw();
    let engine = Engine::find(socket, uid).map_err(|error| text(&error))?;
    let id = engine
        .id(&into.container)
        .await
        .map_err(|error| text(&error))?;
    let Some(id) = id else {
        return Err(format!("there is no container {}", into.container));
    };
    if into.has_them.as_ref() == Some(&id) {
        return Ok(None);
    }
    let mut files = Vec::new();
    for (kind, path) in export.files(folder).map_err(|error| text(&error))? {
        let name = path.file_name().unwrap_or_default().to_string_lossy();
        let handle = Folder::open(folder).map_err(|error| text(&error))?;
        let read = handle.read(path.file_name().unwrap_or_default(), LARGEST_FILE);
        let content = read.map_err(|error| text(&error))?;
        let content = content.ok_or_else(|| format!("{} is gone", path.display()))?;
        files.push((name.into_owned(), content, kind.mode()));
    }
    let put = engine
        .put_files(&into.container, &into.folder, &files)
        .await;
    put.map_err(|error| text(&error))?;
    Ok(Some(id))
}

/// Brings the container of an export up to date, and then runs what is to be run when files are new;
/// gives what went wrong.
pub(crate) async fn deliver(state: &State, folder: &Path, export: &Export) -> Option<String> {
    if let Some(into) = &export.into {
        match put_into(state.engine.as_deref(), folder, export, into).await {
            Ok(None) => return None,
            Ok(Some(id)) => {
                if let Err(error) = state.exports.has_files(folder, Some(id)) {
                    return Some(chain(&error));
                }
            }
            Err(trouble) => {
                if export.trouble.as_ref() != Some(&trouble) {
                    warn!(
                        container = into.container,
                        trouble, "a container has no certificate"
                    );
                }
                return Some(trouble);
            }
        }
    }
    run_afterwards(folder, export).await
}

/// Runs what is to be run when files are new; gives what went wrong.
async fn run_afterwards(folder: &Path, export: &Export) -> Option<String> {
    let command = export.then.as_deref()?;
    let trouble = match run_as_owner(folder, command).await {
        Ok((status, _)) if status.success() => return None,
        Ok((status, said)) => {
            let said = said.lines().next_back().unwrap_or_default();
            format!("`{command}` ended with {status}: {said}")
        }
        Err(trouble) => format!("`{command}` {trouble}"),
    };
    warn!(folder = %folder.display(), trouble, "the command after an export failed");
    Some(trouble)
}

/// Runs a command of the shell in a folder, as the folder's owner and with an environment of its own:
/// whoever may write to the folder gets no more by it than they have. Gives how it ended and the end
/// of what it said.
async fn run_as_owner(folder: &Path, command: &str) -> Result<(ExitStatus, String), String> {
    let handle = Folder::open(folder).map_err(|error| format!("is not run: {error}"))?;
    let (uid, gid) = handle.owner();
    let own = rustix::process::geteuid();
    let user = User::from_uid(Uid::from_raw(uid)).ok().flatten();
    let name = user
        .as_ref()
        .map_or_else(|| uid.to_string(), |user| user.name.clone());
    let home = user.map_or_else(|| PathBuf::from("/"), |user| user.dir);
    let mut shell = Command::new("/bin/sh");
    shell
        .args(["-c", command])
        .current_dir(folder)
        .env_clear()
        .envs([
            ("PATH", OsStr::new(COMMAND_PATH)),
            ("HOME", home.as_os_str()),
        ])
        .envs([("USER", &*name), ("LOGNAME", &*name), ("SHELL", "/bin/sh")])
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .process_group(0)
        .kill_on_drop(true);
    if own.is_root() {
        // Without the groups of root: the standard library clears them with the user.
        shell.uid(uid).gid(gid);
    } else if uid != own.as_raw() {
        return Err(format!(
            "is not run: it would run as the owner of the folder, {name}, and the service is another \
             user's"
        ));
    }
    let mut child = shell
        .spawn()
        .map_err(|cause| format!("cannot be run: {cause}"))?;
    let group = child
        .id()
        .and_then(|id| Pid::from_raw(i32::try_from(id).ok()?));
    let (out, err) = (child.stdout.take(), child.stderr.take());
    // Both are read, so that the command never waits for that.
    drop(tokio::spawn(start_of(out)));
    let said = tokio::spawn(start_of(err));
    match timeout(COMMAND_LIMIT, child.wait()).await {
        Ok(Ok(status)) => {
            // What it left running in the background may have its output still open.
            let said = timeout(REST_LIMIT, said).await;
            Ok((status, said.ok().and_then(Result::ok).unwrap_or_default()))
        }
        Ok(Err(cause)) => Err(format!("cannot be waited for: {cause}")),
        Err(_) => {
            if let Some(group) = group {
                // It may be over by now.
                let _ = kill_process_group(group, Signal::KILL);
            }
            Err(format!("took more than {} s", COMMAND_LIMIT.as_secs()))
        }
    }
}

/// The start of what a command says; the rest is read and dropped.
async fn start_of(stream: Option<impl AsyncRead + Unpin>) -> String {
    let mut said = Vec::new();
    if let Some(mut stream) = stream {
        // What cannot be read is said by the exit code.
        let _ = (&mut stream).take(MOST_SAID).read_to_end(&mut said).await;
        let _ = copy(&mut stream, &mut sink()).await;
    }
    String::from_utf8_lossy(&said).into_owned()
}

/// Looks after the folders until the service stops.
pub(crate) async fn keep(state: Arc<State>) {
    let mut turns = Turns::new(LOOK_AGAIN, &state.shutdown);
    while turns.next().await {
        let looking = Arc::clone(&state);
        match spawn_blocking(move || looking.exports.refresh(&looking)).await {
            Ok(fresh) => {
                for (folder, export) in fresh.iter().filter(|(_, it)| it.into.is_none()) {
                    let trouble = run_afterwards(folder, export).await;
                    state.exports.note(folder, trouble);
                }
                // Containers that have not got the files of now: they are new, or the container is.
                let all = state.exports.all().into_iter();
                for (folder, export) in all.filter(|(_, export)| export.into.is_some()) {
                    let trouble = deliver(&state, &folder, &export).await;
                    state.exports.note(&folder, trouble);
                }
            }
            Err(cause) => return error!(%cause, "no longer keeping exported certificates fresh"),
        }
    }
}
