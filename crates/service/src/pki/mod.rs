//! The certificates that are served: the authority that issues them, and those imported from elsewhere.

mod authority_store;
mod imports;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::Duration;

use arc_swap::ArcSwap;
use bentlane_ca::{AuthorityError, Issuer, Owner, Passphrase, chain_pem};
use bentlane_model::{Name, Snapshot, Zone, chain};
use bentlane_proxy::Certificates;
use bentlane_store::{DataDir, DataDirError};
use bentlane_system::{OwnRoot, StoreReport, System, TrustState};
use time::OffsetDateTime;
use tokio::sync::{Mutex, MutexGuard};
use tokio::task::spawn_blocking;
use tokio::time::Instant;
use tokio_util::sync::CancellationToken;
use tracing::{error, info, warn};

pub(crate) use authority_store::{AuthorityStore, AuthorityStoreError, BUNDLE};
pub(crate) use imports::{ImportError, Imported, Imports, LARGEST_FILE};

use crate::checker::RouteChecker;
use crate::clock::Clock;
use crate::listening::OWN_NAME;
use crate::ticker::Ticker;
use authority_store::RootChange;

/// How often it is checked whether the issuing certificate has to be renewed: the clock may be set.
const CHECK_RENEWAL: Duration = Duration::from_secs(10);
/// How often the bundle of roots is compared with the system's, and how long until a renewal that failed
/// is tried again.
const REFRESH_BUNDLE: Duration = Duration::from_secs(300);
/// How often the files of imported certificates are checked.
const CHECK_FILES: Duration = Duration::from_secs(2);

/// The certificates that are served, and what issues them.
#[derive(Debug)]
pub(crate) struct Pki {
    pub(crate) authority: AuthorityStore,
    pub(crate) imports: Imports,
    /// What the TLS listener serves.
    pub(crate) served: Arc<Certificates>,
    pub(crate) clock: Clock,
    data_dir: DataDir,
    snapshot: Arc<ArcSwap<Snapshot>>,
    checker: Arc<RouteChecker>,
    changing: Mutex<()>,
}

/// The right to change certificates: one change at a time.
pub(crate) type Changing<'a> = MutexGuard<'a, ()>;

/// What the root's certificate says of where it was made.
pub(crate) fn owner() -> Owner {
    let uname = rustix::system::uname();
    Owner {
        host: uname.nodename().to_string_lossy().into_owned(),
    }
}

/// The names that certificates are issued for: the zones, and our own name.
pub(crate) fn certified(zones: impl IntoIterator<Item = Name>) -> Vec<Name> {
    zones.into_iter().chain(OWN_NAME.parse()).collect()
}

impl Pki {
    pub(crate) fn new(
        data_dir: &DataDir,
        authority: AuthorityStore,
        imports: Imports,
        served: Arc<Certificates>,
        snapshot: Arc<ArcSwap<Snapshot>>,
        checker: Arc<RouteChecker>,
    ) -> Self {
        Self {
            authority,
            imports,
            served,
            clock: Clock::default(),
            data_dir: data_dir.clone(),
            snapshot,
            checker,
            changing: Mutex::new(()),
        }
    }

    /// Waits for the right to change certificates.
    pub(crate) async fn lock(&self) -> Changing<'_> {
        self.changing.lock().await
    }

    /// Has certificates issued for `zones` from now on; for a zone that the root's limits do not cover,
    /// the root is replaced.
    pub(crate) fn certify(
        &self,
        _: &Changing<'_>,
        zones: &[Name],
    ) -> Result<(), AuthorityStoreError> {
        let change = self
            .authority
            .cover(zones, &owner(), || self.is_trusted())?;
        let issuer = self.authority.issuer(certified(zones.iter().cloned()))?;
        match change {
            RootChange::None => self.served.replace_issuer(issuer),
            RootChange::Remade | RootChange::Succeeded => {
                self.use_issuer(issuer)?;
                self.authority.refresh_bundle()?;
            }
        }
        Ok(())
    }

    /// The names that certificates are issued for now.
    pub(crate) fn certified_names(&self) -> Vec<Name> {
        let snapshot = self.snapshot.load();
        let zones: &[Zone] = &snapshot.configuration().zones;
        certified(zones.iter().map(|zone| zone.name.clone()))
    }

    /// Issues with another issuing certificate from now on, and trusts the current root in checks.
    pub(crate) fn use_issuer(&self, issuer: Issuer) -> Result<(), AuthorityError> {
        self.trust_in_checks(self.imports.all().values())?;
        self.served.replace_issuer(issuer);
        self.checker.configuration_changed();
        Ok(())
    }

    /// Issues with the root that was just made or imported, whose key is needed once for that.
    pub(crate) fn use_new_root(&self) -> Result<(), AuthorityStoreError> {
        let issuer = self.authority.issuer(self.certified_names());
        self.authority.lock()?;
        self.use_issuer(issuer?)?;
        self.authority.refresh_bundle()?;
        info!("another root is in force");
        Ok(())
    }

    /// The files of the keys, by their names: the root, the issuing certificate and those imported.
    pub(crate) fn key_files(&self) -> Result<BTreeMap<String, String>, DataDirError> {
        let mut files = self.authority.files()?;
        files.extend(self.imports.files()?);
        Ok(files)
    }

    /// Uses the keys in these files from now on; the former root is kept beside them.
    pub(crate) fn restore_keys(
        &self,
        files: &BTreeMap<String, String>,
    ) -> Result<(), AuthorityStoreError> {
        self.authority.restore(files)?;
        self.use_new_root()?;
        self.imports.restore(self, files)
    }

    /// Issues within the limits of the current zones, with the root's key opened for that if it is
    /// locked.
    pub(crate) fn unlock(
        &self,
        passphrase: Option<&Passphrase>,
    ) -> Result<(), AuthorityStoreError> {
        let names = self.certified_names();
        let issuer = match passphrase {
            Some(passphrase) => self.authority.issuer_with(passphrase, names)?,
            None => self.authority.issuer(names)?,
        };
        Ok(self.use_issuer(issuer)?)
    }

    /// Serves these imported certificates and no others.
    pub(crate) fn serve_imports(
        &self,
        imported: &BTreeMap<String, Imported>,
    ) -> Result<(), ImportError> {
        let pairs = imported.values().map(|it| it.pair.clone()).collect();
        self.served.import(pairs).map_err(ImportError::Engine)?;
        self.trust_in_checks(imported.values())
            .map_err(|cause| ImportError::Engine(cause.to_string()))?;
        self.checker.configuration_changed();
        Ok(())
    }

    /// Trusts in checks the current root, and the last certificate in the chain of each of these.
    fn trust_in_checks<'a>(
        &self,
        imported: impl IntoIterator<Item = &'a Imported>,
    ) -> Result<(), AuthorityError> {
        let root = self.authority.root().certificate().clone();
        let imported = imported.into_iter();
        let ends = imported.filter_map(|imported| imported.pair.chain.last().cloned());
        self.checker
            .trust(std::iter::once(root).chain(ends))
            .map_err(|_| AuthorityError::Certificate)
    }

    /// What trust stores are asked about: our root, and the chain that our own server shows.
    pub(crate) fn ours(&self) -> Option<OwnRoot> {
        let served = self.served.shown(OWN_NAME)?;
        let root = self.authority.root();
        OwnRoot::new(
            root.certificate_pem(),
            &chain_pem(&served.chain),
            OWN_NAME,
            self.keys_of_roots(),
        )
    }

    /// The keys of the roots that this service had, and of those that were added to trust stores for
    /// its data folder.
    pub(crate) fn keys_of_roots(&self) -> BTreeSet<String> {
        let mut keys = self.authority.known_keys();
        if let Ok(Some(approved)) = System::default().approved()
            && approved.data_dir == self.data_dir.root()
        {
            keys.extend(approved.roots);
        }
        keys
    }

    /// Whether a trust store of this machine holds a root of ours.
    fn is_trusted(&self) -> bool {
        let home = std::env::var_os("HOME").unwrap_or_default();
        let reports = self.ours().map(|ours| ours.reports(&[home.into()]));
        let holds =
            |report: &StoreReport| !report.ours.is_empty() || report.state == TrustState::Trusted;
        reports.is_some_and(|reports| reports.iter().any(holds))
    }
}

/// Renews the issuing certificate in time, also when the clock was set, and keeps the bundle of roots up
/// to date, until the service stops.
pub(crate) async fn renew(pki: Arc<Pki>, shutdown: CancellationToken) {
    let mut ticker = Ticker::new(CHECK_RENEWAL, &shutdown);
    let mut refresh_at = Instant::now();
    let mut retry_at = Instant::now();
    loop {
        let goes_on = tokio::select! {
            goes_on = ticker.next() => goes_on,
            () = pki.served.outdated() => true,
        };
        if !goes_on {
            return;
        }
        if pki.clock.look().is_some() {
            // At once: what was to be tried again later may succeed now, and every proof is of before.
            (refresh_at, retry_at) = (Instant::now(), Instant::now());
            pki.checker.configuration_changed();
        }
        if Instant::now() >= refresh_at {
            refresh_at = Instant::now() + REFRESH_BUNDLE;
            let refreshing = Arc::clone(&pki);
            match spawn_blocking(move || refreshing.authority.refresh_bundle()).await {
                Ok(Ok(())) => {}
                Ok(Err(cause)) => {
                    error!(cause = chain(&cause), "the bundle of roots is out of date");
                }
                Err(cause) => {
                    return error!(%cause, "the bundle of roots is no longer kept up to date");
                }
            }
        }
        let issuer = pki.served.issuer();
        let is_current = issuer.is_current(OffsetDateTime::now_utc());
        let renewable = !pki.authority.root().issues_itself();
        if is_current || !renewable || Instant::now() < retry_at {
            continue;
        }
        let _changing = pki.lock().await;
        let renewing = Arc::clone(&pki);
        let renewed = spawn_blocking(move || {
            let issuer = renewing.authority.issuer(renewing.certified_names())?;
            renewing
                .use_issuer(issuer)
                .map_err(AuthorityStoreError::from)
        });
        match renewed.await {
            Ok(Ok(())) if issuer.is_made_later(OffsetDateTime::now_utc()) => warn!(
                "the clock was set back: the issuing certificate was not valid yet, and was made again"
            ),
            Ok(Ok(())) => info!("renewed the issuing certificate"),
            Ok(Err(cause)) => {
                retry_at = Instant::now() + REFRESH_BUNDLE;
                error!(
                    cause = chain(&cause),
                    "cannot renew the issuing certificate"
                );
            }
            Err(cause) => {
                return error!(%cause, "the issuing certificate is no longer renewed");
            }
        }
    }
}

/// Reads imported certificates again when their files change, until the service stops.
pub(crate) async fn follow_imports(pki: Arc<Pki>, shutdown: CancellationToken) {
    let mut ticker = Ticker::new(CHECK_FILES, &shutdown);
    while ticker.next().await {
        if pki.imports.is_empty() {
            continue;
        }
        let _changing = pki.lock().await;
        let refreshing = Arc::clone(&pki);
        let refreshed = spawn_blocking(move || refreshing.imports.refresh(&refreshing)).await;
        if let Err(cause) = refreshed {
            return error!(%cause, "the files of imported certificates are no longer followed");
        }
    }
}
