//! Who trusts our root on this machine, and having it trusted.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use bentlane_ca::{Anchor, verify};
use bentlane_model::Name;
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use serde::Serialize;
use time::OffsetDateTime;

use crate::browsers::{Browser, Family, installed_browsers};
use crate::error::SystemError;
use crate::stores::{Root, StoreKind, StoredCertificate, TrustStore, certificates, trust_stores};

/// A store, and what it says of our root.
#[derive(Debug, Serialize)]
pub struct StoreReport {
    /// The store.
    #[serde(flatten)]
    pub store: TrustStore,
    /// What it says.
    #[serde(flatten)]
    pub state: TrustState,
    /// Roots of ours that it trusts, this one or former ones.
    pub ours: Vec<Root>,
    /// Roots of ours in it that it does not trust by itself, as a browser keeps those of a policy.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub copies: Vec<Root>,
    /// The names, and those below them, that it accepts from us; `None` for all that our root may
    /// certify.
    pub reach: Option<Vec<Name>>,
}

/// A program, or all those of one kind, and whether it trusts our root when it is started now.
#[derive(Clone, Debug, Serialize)]
pub struct ClientTrust {
    /// Which, in words.
    pub client: String,
    /// The browser, where it is one that is installed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub browser: Option<Browser>,
    /// Its version, as it says itself.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// The store that makes it trust us, or the one that prevents it.
    pub store: PathBuf,
    /// What kind of store that is.
    pub kind: StoreKind,
    /// Whether it trusts us.
    #[serde(flatten)]
    pub state: TrustState,
    /// The names, and those below them, that it accepts from us; `None` for all that our root may
    /// certify.
    pub reach: Option<Vec<Name>>,
    /// Whether it is a browser in a snap or Flatpak, for which this was never tested.
    pub untested: bool,
}

/// Whether a store trusts our root.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "state")]
pub enum TrustState {
    /// It accepts what our own server shows.
    Trusted,
    /// Another root of ours is in it, and what our server shows is not accepted.
    Former,
    /// It does not.
    NotTrusted {
        /// What is against it.
        reason: String,
    },
    /// It is unknown.
    Unknown {
        /// Why.
        reason: String,
    },
}

/// What is to be done to a store.
#[derive(Debug, Serialize)]
pub struct StoreStep {
    /// The store.
    pub store: TrustStore,
    /// The roots that come or go.
    pub roots: Vec<Root>,
}

impl StoreStep {
    /// Which store that is, in words, and what follows when the root is added (`adds`).
    #[must_use]
    pub fn in_words(&self, adds: bool) -> String {
        let store = &self.store;
        let kind = match store.browser() {
            Some(browser) => format!("{browser}'s policy"),
            None => match store.kind {
                StoreKind::System => "the system's trust store",
                StoreKind::Browser => "a browser's trust store",
                StoreKind::Policy => "a browser's policy",
                StoreKind::Java => "Java's trust store",
            }
            .to_owned(),
        };
        match store.kind {
            StoreKind::System if adds => format!("{kind}, for every user"),
            StoreKind::Policy if adds => {
                format!("{kind}, for every user; the browser then says that it is managed")
            }
            StoreKind::Browser if adds && !store.exists => format!("{kind}, made for it"),
            _ => kind,
        }
    }
}

/// What our server shows, and the root that it leads to.
#[derive(Debug)]
pub struct OwnRoot {
    anchor: Anchor,
    /// The root, when it is one that we made: only those come into stores by us.
    root: Option<Root>,
    chain: Vec<CertificateDer<'static>>,
    server_name: String,
    /// The keys of our roots, this one's and former ones' (see [`Anchor::key_sha256`]).
    keys: BTreeSet<String>,
}

impl OwnRoot {
    /// What a service presents: its root and the chain that its server shows under `server_name`,
    /// PEM both, and the keys of former roots. `None` when the root cannot be read.
    #[must_use]
    pub fn new(
        root_pem: &str,
        chain_pem: &str,
        server_name: &str,
        former_keys: impl IntoIterator<Item = String>,
    ) -> Option<Self> {
        let anchor = Anchor::read(root_pem)?;
        let own = std::iter::once(anchor.key_sha256.clone());
        let chain = CertificateDer::pem_slice_iter(chain_pem.as_bytes());
        let chain = chain.filter_map(Result::ok).map(CertificateDer::into_owned);
        Some(Self {
            keys: own.chain(former_keys).collect(),
            root: anchor
                .our_name
                .clone()
                .filter(|_| anchor.is_constrained)
                .map(|name| Root {
                    name,
                    pem: root_pem.to_owned(),
                }),
            anchor,
            chain: chain.collect(),
            server_name: server_name.to_owned(),
        })
    }

    fn look_at(&self, store: TrustStore) -> StoreReport {
        let roots = match store.held() {
            Ok(roots) => roots,
            Err(reason) => {
                return StoreReport {
                    store,
                    state: TrustState::Unknown { reason },
                    ours: Vec::new(),
                    copies: Vec::new(),
                    reach: None,
                };
            }
        };
        let read = |held: StoredCertificate| Some((Anchor::read(&held.pem)?, held));
        let held: Vec<(Anchor, StoredCertificate)> = roots.into_iter().filter_map(read).collect();
        let (roots, others): (Vec<_>, Vec<_>) = held.into_iter().partition(|(_, it)| it.trusted);
        let is_ours = |anchor: &Anchor| self.keys.contains(&anchor.key_sha256);
        let reach = self.reach(
            roots
                .iter()
                .map(|(anchor, _)| anchor)
                .filter(|it| is_ours(it)),
        );
        let of_ours = |all: &[(Anchor, StoredCertificate)]| -> Vec<Root> {
            let ours = all.iter().filter(|(anchor, _)| is_ours(anchor));
            let root = |(anchor, held): &(Anchor, StoredCertificate)| {
                Some(Root {
                    name: anchor.our_name.clone()?,
                    pem: held.pem.clone(),
                })
            };
            ours.filter_map(root).collect()
        };
        let (ours, copies) = (of_ours(&roots), of_ours(&others));
        let anchors: Vec<Anchor> = roots.into_iter().map(|(anchor, _)| anchor).collect();
        let now = OffsetDateTime::now_utc();
        let state = match verify(&self.chain, &self.server_name, &anchors, now) {
            Ok(()) => TrustState::Trusted,
            Err(_) if !ours.is_empty() => TrustState::Former,
            Err(reason) => TrustState::NotTrusted { reason },
        };
        StoreReport {
            store,
            state,
            ours,
            copies,
            reach,
        }
    }

    /// What a store with these roots of ours accepts: former ones reach no further than their own
    /// limits.
    fn reach<'a>(&self, ours: impl Iterator<Item = &'a Anchor>) -> Option<Vec<Name>> {
        let mut names = Vec::new();
        for anchor in ours {
            if anchor.key_sha256 == self.anchor.key_sha256 {
                return None;
            }
            names.extend_from_slice(anchor.limits.as_ref()?.names());
        }
        (!names.is_empty()).then_some(names)
    }

    /// Every store with what it says of our root.
    #[must_use]
    pub fn reports(&self, homes: &[PathBuf]) -> Vec<StoreReport> {
        let stores = trust_stores(homes, &installed_browsers());
        // Each is read by a different tool, which takes a while.
        std::thread::scope(|scope| {
            let asking = stores.into_iter();
            let asking: Vec<_> = asking
                .map(|store| (store.clone(), scope.spawn(|| self.look_at(store))))
                .collect();
            let told = asking.into_iter().map(|(store, asked)| {
                asked.join().unwrap_or_else(|_| StoreReport {
                    store,
                    state: TrustState::Unknown {
                        reason: "looking at it failed".to_owned(),
                    },
                    ours: Vec::new(),
                    copies: Vec::new(),
                    reach: None,
                })
            });
            told.collect()
        })
    }

    /// The same, with what each store says and the versions of browsers. Each is run for that.
    #[must_use]
    pub fn clients_with_versions(&self, home: &Path) -> (Vec<StoreReport>, Vec<ClientTrust>) {
        let browsers = installed_browsers();
        let asking: Vec<_> = browsers
            .iter()
            .map(|browser| {
                let asked = browser.clone();
                std::thread::spawn(move || asked.version())
            })
            .collect();
        let reports = self.reports(&[home.to_owned()]);
        let mut all = clients(&reports, &browsers, home);
        for (browser, version) in browsers.iter().zip(asking) {
            // Only a version that is not known is missing.
            let version = version.join().unwrap_or_default();
            let of_browser = |it: &&mut ClientTrust| it.browser.as_ref() == Some(browser);
            for client in all.iter_mut().filter(of_browser) {
                client.version.clone_from(&version);
            }
        }
        (reports, all)
    }

    /// What each program does when it is started now by the user whose home folder this is.
    #[must_use]
    pub fn clients(&self, home: &Path) -> Vec<ClientTrust> {
        let reports = self.reports(&[home.to_owned()]);
        clients(&reports, &installed_browsers(), home)
    }

    /// Whether a file with roots has ours, as programs that take one file see it.
    ///
    /// # Errors
    /// Why it is unknown.
    pub fn is_trusted_by(&self, file: &Path) -> Result<bool, String> {
        let bytes = std::fs::read(file).map_err(|cause| cause.to_string())?;
        let roots = certificates(&String::from_utf8_lossy(&bytes));
        let anchors: Vec<Anchor> = roots.iter().filter_map(|pem| Anchor::read(pem)).collect();
        let now = OffsetDateTime::now_utc();
        Ok(verify(&self.chain, &self.server_name, &anchors, now).is_ok())
    }

    /// Whether the root is one that we made. One of a company's is trusted as the company says.
    #[must_use]
    pub fn is_ours(&self) -> bool {
        self.anchor.our_name.is_some()
    }

    /// Why it is not put into trust stores; `None` when it is.
    #[must_use]
    pub fn refusal(&self) -> Option<&'static str> {
        if !self.is_constrained() {
            Some(
                "the root in force is unconstrained: it can vouch for any name, so it is not put \
                 into trust stores; `bentlane authority rotate` makes one that vouches for your \
                 zones alone",
            )
        } else if !self.is_ours() {
            Some(
                "this root was not made by Bent Lane: it is trusted where whoever made it has it \
                 trusted; `bentlane system show` tells where that is",
            )
        } else {
            None
        }
    }

    /// Whether the root is constrained as ours are: no other comes into trust stores by us.
    #[must_use]
    pub fn is_constrained(&self) -> bool {
        self.anchor.is_constrained
    }

    /// The keys of our roots.
    #[must_use]
    pub fn keys(&self) -> &BTreeSet<String> {
        &self.keys
    }

    /// The stores that are to trust our root and do not hold it yet.
    #[must_use]
    pub fn plan_attach(&self, homes: &[PathBuf]) -> Vec<StoreStep> {
        let Some(own) = &self.root else {
            return Vec::new();
        };
        let reports = self.reports(homes).into_iter();
        let wanting = reports.filter(|report| {
            let known = !matches!(report.state, TrustState::Unknown { .. });
            known && !report.ours.iter().any(|root| root.name == own.name)
        });
        let step = |report: StoreReport| StoreStep {
            store: report.store,
            roots: vec![own.clone()],
        };
        wanting.map(step).collect()
    }

    /// The stores that hold roots of ours.
    #[must_use]
    pub fn plan_detach(&self, homes: &[PathBuf]) -> Vec<StoreStep> {
        let reports = self
            .reports(homes)
            .into_iter()
            .filter(|report| !report.ours.is_empty() || !report.copies.is_empty());
        let step = |report: StoreReport| StoreStep {
            store: report.store,
            roots: [report.ours, report.copies].concat(),
        };
        reports.map(step).collect()
    }

    /// Does the steps one by one, and says before each which. A store that another one's tool has brought up to date meanwhile,
    /// as the system's does with Java's, is left alone.
    ///
    /// # Errors
    /// At the first store that cannot be changed.
    pub fn carry_out(
        &self,
        steps: &[StoreStep],
        adds: bool,
        mut begins: impl FnMut(&TrustStore),
    ) -> Result<(), SystemError> {
        for StoreStep { store, roots } in steps {
            begins(store);
            let now = self.look_at(store.clone());
            let now = match adds {
                true => now.ours,
                false => [now.ours, now.copies].concat(),
            };
            let is_there = |root: &Root| now.iter().any(|there| there.name == root.name);
            for root in roots.iter().filter(|root| is_there(root) != adds) {
                if adds {
                    store.add(root)?;
                } else {
                    store.remove(root)?;
                }
            }
        }
        Ok(())
    }
}

/// What the stores come to for each program: a browser goes by its policy, or else by its databases.
fn clients(reports: &[StoreReport], browsers: &[Browser], home: &Path) -> Vec<ClientTrust> {
    let of_kind = |kind| reports.iter().filter(move |it| it.store.kind == kind);
    let mut all: Vec<ClientTrust> = of_kind(StoreKind::System)
        .map(|report| client("the system".to_owned(), report))
        .collect();
    let shared = |report: &&StoreReport| report.store.family == Some(Family::Chromium);
    let profile = |report: &&StoreReport| report.store.family == Some(Family::Firefox);
    for browser in browsers {
        let is_policy = |it: &&StoreReport| it.store.family == Some(browser.family);
        let policy = of_kind(StoreKind::Policy).find(is_policy);
        let databases: Vec<&StoreReport> = match browser.family.shares_a_database() {
            true => of_kind(StoreKind::Browser).filter(shared).collect(),
            false => of_kind(StoreKind::Browser).filter(profile).collect(),
        };
        let trusts = |report: &&&StoreReport| report.state == TrustState::Trusted;
        let chosen = match policy.filter(|policy| policy.state == TrustState::Trusted) {
            Some(policy) => Some(policy),
            // Each profile has its own database, so the one that refuses counts.
            None => databases
                .iter()
                .find(|report| !trusts(report))
                .or(databases.first())
                .copied()
                .or(policy),
        };
        all.extend(chosen.map(|report| ClientTrust {
            browser: Some(browser.clone()),
            ..client(browser.family.name().to_owned(), report)
        }));
    }
    let has = |family: Family| browsers.iter().any(|it| it.family == family);
    let alone = of_kind(StoreKind::Browser).filter(|report| match report.store.family {
        Some(Family::Firefox) => !has(Family::Firefox),
        // The one that is not used while there is an older one.
        None => !browsers.iter().any(|it| it.family.shares_a_database()) || is_packed(report, home),
        Some(_) => false,
    });
    all.extend(alone.map(|report| {
        let packed = is_packed(report, home);
        let whose = match packed {
            true => "a packaged browser (snap or Flatpak)",
            false => "a browser",
        };
        ClientTrust {
            untested: packed,
            ..client(format!("{whose}, {}", report.store.path.display()), report)
        }
    }));
    all.extend(of_kind(StoreKind::Java).map(|report| client("Java".to_owned(), report)));
    all
}

fn client(client: String, report: &StoreReport) -> ClientTrust {
    ClientTrust {
        client,
        browser: None,
        version: None,
        store: report.store.path.clone(),
        kind: report.store.kind,
        state: report.state.clone(),
        reach: report.reach.clone(),
        untested: false,
    }
}

fn is_packed(report: &StoreReport, home: &Path) -> bool {
    let folders = ["snap", ".var/app"];
    folders
        .iter()
        .any(|folder| report.store.path.starts_with(home.join(folder)))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const HOME: &str = "/home/rowan";

    fn browsers(families: &[Family]) -> Vec<Browser> {
        let browser = |family: &Family| Browser {
            family: *family,
            program: format!("/usr/bin/{}", family.name()).into(),
        };
        families.iter().map(browser).collect()
    }

    fn report(kind: StoreKind, family: Option<Family>, path: &str, trusts: bool) -> StoreReport {
        StoreReport {
            store: TrustStore::stand_in(kind, family, path),
            state: match trusts {
                true => TrustState::Trusted,
                false => TrustState::NotTrusted {
                    reason: "unknown issuer".to_owned(),
                },
            },
            ours: Vec::new(),
            copies: Vec::new(),
            reach: None,
        }
    }

    use Family::{Chromium, Edge, Firefox};
    use StoreKind::{Browser as Database, Policy};

    #[rstest]
    // A policy is enough, with or without a profile.
    #[case(&[Chromium], vec![report(Policy, Some(Chromium), "/etc/c", true), report(Database, Some(Chromium), "/home/rowan/.local/share/pki/nssdb", false)], &["Chromium /etc/c true"])]
    #[case(&[Firefox], vec![report(Policy, Some(Firefox), "/etc/f", true)], &["Firefox /etc/f true"])]
    // So is the database that Chromium and its relatives share.
    #[case(&[Chromium, Edge], vec![report(Policy, Some(Edge), "/etc/e", false), report(Database, Some(Chromium), "/home/rowan/.pki/nssdb", true)], &["Chromium /home/rowan/.pki/nssdb true", "Edge /home/rowan/.pki/nssdb true"])]
    // Every profile of Firefox's counts, and one that does not exist yet does, too.
    #[case(&[Firefox], vec![report(Database, Some(Firefox), "/home/rowan/.mozilla/firefox/a", true), report(Database, Some(Firefox), "/home/rowan/.mozilla/firefox/b", false)], &["Firefox /home/rowan/.mozilla/firefox/b false"])]
    #[case(&[Firefox], vec![report(Policy, Some(Firefox), "/etc/f", false)], &["Firefox /etc/f false"])]
    // Databases of browsers that PATH does not lead to.
    #[case(&[], vec![report(Database, Some(Firefox), "/home/rowan/.mozilla/firefox/a", true)], &["a browser, /home/rowan/.mozilla/firefox/a /home/rowan/.mozilla/firefox/a true"])]
    #[case(&[Chromium], vec![report(Database, Some(Chromium), "/home/rowan/.pki/nssdb", true), report(Database, None, "/home/rowan/.local/share/pki/nssdb", false), report(Database, None, "/home/rowan/snap/x", false)], &["Chromium /home/rowan/.pki/nssdb true", "a packaged browser (snap or Flatpak), /home/rowan/snap/x /home/rowan/snap/x false"])]
    fn each_browser_has_the_store_that_it_reads(
        #[case] installed: &[Family],
        #[case] reports: Vec<StoreReport>,
        #[case] wanted: &[&str],
    ) {
        let clients = clients(&reports, &browsers(installed), Path::new(HOME));
        let told: Vec<String> = clients
            .iter()
            .map(|it| {
                let trusts = it.state == TrustState::Trusted;
                format!("{} {} {trusts}", it.client, it.store.display())
            })
            .collect();
        assert_eq!(told, wanted);
    }
}
