//! The local certificate authority: what it may vouch for, and the certificates it issues.
//!
//! The [`Authority`] holds the root. For the zones of the moment it makes an [`Issuer`], whose
//! certificate carries critical name constraints (RFC 5280 §4.2.1.10), so that whatever its key
//! signs is worthless outside those zones. The issuer makes a [`Leaf`] for each server name.

mod accept;
mod export;
mod fingerprint;
mod limits;
mod order;
mod pair;
mod parts;
mod root;
mod safe;
mod sealed;
mod verify;

pub use accept::OneCertificate;
pub use export::{BUNDLE_PASSWORD, Form, bundle};
pub use limits::Limits;
pub use order::{CertName, OrderError, USUAL_DAYS, request};
pub use pair::{Pair, PairError, covers};
pub use parts::{CertificatePart, PartKind};
pub use root::{Authority, AuthorityError, Issuer, Leaf, LeafKey, Owner, Summary};
pub use safe::{Passphrase, Safe};
pub use sealed::{seal, unseal};
pub use verify::{Anchor, CertificateInfo, chain_pem, verify};

#[cfg(test)]
mod fixture {
    use time::OffsetDateTime;
    use time::macros::datetime;

    use super::{Authority, Issuer, Limits, Owner};

    pub(super) const NOW: OffsetDateTime = datetime!(2026-05-04 12:00 UTC);

    pub(super) fn owner() -> Owner {
        Owner {
            host: "fell".into(),
        }
    }

    pub(super) fn root() -> Authority {
        Authority::create(&owner(), &Limits::of_root([]), NOW).unwrap()
    }

    /// An issuer for `moor.test`, and for a zone that the root cannot vouch for.
    pub(super) fn issuer(root: &Authority) -> Issuer {
        let zones = ["moor.test", "moor.example"].map(|zone| zone.parse().unwrap());
        root.issuer_for(zones, NOW).unwrap()
    }
}
