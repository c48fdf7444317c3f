//! Who trusts our root on this machine, and having it trusted.

use std::collections::BTreeSet;
use std::path::Path;

use bentlane_core::Name;
use bentlane_core::authority::{Anchor, verify};
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use serde::Serialize;
use time::OffsetDateTime;

use crate::plan::SystemError;
use crate::stores::{Root, TrustStore, trust_stores};

/// A store, and what it says of our root.
#[derive(Debug, Serialize)]
pub struct StoreReport {
    /// The store.
    #[serde(flatten)]
    pub store: TrustStore,
    /// What it says.
    #[serde(flatten)]
    pub state: Trusts,
    /// Roots of ours in it, this one or former ones.
    pub ours: Vec<Root>,
    /// The names, and those below them, that it accepts from us; `None` for all that our root can
    /// vouch for.
    pub reach: Option<Vec<Name>>,
}

/// Whether a store trusts our root.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "state")]
pub enum Trusts {
    /// It accepts what our own server shows.
    Trusted,
    /// Another root of ours is in it, and what our server shows is not accepted.
    Former,
    /// It does not.
    NotTrusted {
        /// What is against it.
        reason: String,
    },
    /// It cannot be told.
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

/// What our server shows, and the root that it leads to.
#[derive(Debug)]
pub struct Ours {
    anchor: Anchor,
    /// The root, when it is one that we made: only those come into stores by us.
    root: Option<Root>,
    chain: Vec<CertificateDer<'static>>,
    server_name: String,
    /// The keys of our roots, this one's and former ones' (see [`Anchor::key_sha256`]).
    keys: BTreeSet<String>,
}

impl Ours {
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
        let roots = match store.roots() {
            Ok(roots) => roots,
            Err(reason) => {
                return StoreReport {
                    store,
                    state: Trusts::Unknown { reason },
                    ours: Vec::new(),
                    reach: None,
                };
            }
        };
        let read = |pem: String| Some((Anchor::read(&pem)?, pem));
        let roots: Vec<(Anchor, String)> = roots.into_iter().filter_map(read).collect();
        let is_ours = |anchor: &Anchor| self.keys.contains(&anchor.key_sha256);
        let reach = self.reach(
            roots
                .iter()
                .map(|(anchor, _)| anchor)
                .filter(|it| is_ours(it)),
        );
        let ours = roots.iter().filter(|(anchor, _)| is_ours(anchor));
        let ours: Vec<Root> = ours
            .filter_map(|(anchor, pem)| {
                Some(Root {
                    name: anchor.our_name.clone()?,
                    pem: pem.clone(),
                })
            })
            .collect();
        let anchors: Vec<Anchor> = roots.into_iter().map(|(anchor, _)| anchor).collect();
        let now = OffsetDateTime::now_utc();
        let state = match verify(&self.chain, &self.server_name, &anchors, now) {
            Ok(()) => Trusts::Trusted,
            Err(_) if !ours.is_empty() => Trusts::Former,
            Err(reason) => Trusts::NotTrusted { reason },
        };
        StoreReport {
            store,
            state,
            ours,
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
    pub fn reports(&self, home: &Path) -> Vec<StoreReport> {
        let stores = trust_stores(home).into_iter();
        stores.map(|store| self.look_at(store)).collect()
    }

    /// Whether the root is one that we made. One of a company's is trusted as the company says.
    #[must_use]
    pub fn is_ours(&self) -> bool {
        self.anchor.our_name.is_some()
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
    pub fn plan_attach(&self, home: &Path) -> Vec<StoreStep> {
        let Some(own) = &self.root else {
            return Vec::new();
        };
        let reports = self.reports(home).into_iter();
        let wanting = reports.filter(|report| {
            let known = !matches!(report.state, Trusts::Unknown { .. });
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
    pub fn plan_detach(&self, home: &Path) -> Vec<StoreStep> {
        let reports = self
            .reports(home)
            .into_iter()
            .filter(|report| !report.ours.is_empty());
        let step = |report: StoreReport| StoreStep {
            store: report.store,
            roots: report.ours,
        };
        reports.map(step).collect()
    }

    /// Does the steps one by one. A store that another one's tool has brought up to date meanwhile,
    /// as the system's does with Java's, is left alone.
    ///
    /// # Errors
    /// At the first store that cannot be changed.
    pub fn carry_out(&self, steps: &[StoreStep], adds: bool) -> Result<(), SystemError> {
        for StoreStep { store, roots } in steps {
            let now = self.look_at(store.clone()).ours;
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
