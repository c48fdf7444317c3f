//! The certificate authority, and who trusts it.

use std::path::PathBuf;

use bentlane_ca::{Passphrase, Summary};
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// The local certificate authority.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AuthorityView {
    /// Subject, fingerprint and validity of the root.
    #[serde(flatten)]
    pub summary: Summary,
    /// The suffixes that the root can vouch for, besides the loopback addresses; `null` for
    /// anything at all, as roots of earlier versions could.
    pub limits: Option<Vec<String>>,
    /// Whether it lacks the constraints of our own roots, so that its key can certify any
    /// name, and it is not added to trust stores.
    #[serde(default)]
    pub unconstrained: bool,
    /// SHA-256 of the public key of each root that there was, this one included.
    #[serde(default)]
    pub keys: Vec<String>,
    /// The names for which certificates are issued, and everything below them.
    pub covers: Vec<String>,
    /// Zones that the root cannot vouch for: no client accepts certificates there.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub uncovered: Vec<String>,
    /// Whether the root's key is under a passphrase.
    pub locked: bool,
    /// Last moment of the issuing certificate; a new one is made before, for which the root's key
    /// is needed.
    #[serde(with = "time::serde::rfc3339")]
    pub issuing_until: OffsetDateTime,
    /// Whether the root before this one certified its key, so that what trusts that one trusts
    /// this one.
    pub follows_another: bool,
    /// The root certificate: what a trust store takes.
    pub certificate_pem: String,
    /// A file with the system's roots and this one, for programs that take one file alone.
    pub bundle: String,
    /// What our own server shows under the name `server_name`, PEM: to try a trust store with.
    pub server_chain: String,
    /// The name of our server.
    pub server_name: String,
}

/// What opens the root's key.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Unlock {
    /// The passphrase; needed when the key is locked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub passphrase: Option<Passphrase>,
}

/// How the root's key is kept from now on.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Protect {
    /// The passphrase of now; needed when the key is locked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub passphrase: Option<Passphrase>,
    /// The new passphrase; none stores the key unencrypted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<Passphrase>,
}

/// What a trust store of this machine says of our root.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StoreView {
    /// Who goes by it: the system, a browser, Java.
    pub client: String,
    /// `system`, `policy`, `browser` (its database) or `java`.
    pub kind: String,
    /// Its file or folder.
    pub path: String,
    /// `trusted`, `former` (another root of ours is in it), `not-trusted`, or `unknown`.
    pub state: String,
    /// Why it is not trusted, or why that is unknown.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
}

/// The trust stores of this machine and their users, as far as the service's user can read them.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Stores {
    /// The stores.
    pub stores: Vec<StoreView>,
}

/// A root from elsewhere: where its files are on the service's machine.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ImportRoot {
    /// The file with the root certificate, PEM.
    #[schema(value_type = String)]
    pub certificate: PathBuf,
    /// The file with its key, PKCS#8 PEM, unencrypted or with a passphrase; it may be the same file.
    #[schema(value_type = String)]
    pub key: PathBuf,
    /// What opens the key.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub passphrase: Option<Passphrase>,
    /// Whether it is taken also when it could vouch for any name.
    #[serde(default)]
    pub unconstrained: bool,
}
