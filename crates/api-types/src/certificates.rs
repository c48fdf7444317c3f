//! Certificates: issued, imported, exported.

use std::path::PathBuf;

use bentlane_ca::{CertificateInfo, CertificatePart};
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// A request for a certificate (PKCS#10). Its key stays with who made it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SignRequest {
    /// The request, PEM; the names are those of its subjectAltName.
    pub request: String,
    /// How long the certificate is valid, in days; 90 when it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub days: Option<u16>,
}

/// A certificate that was signed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Signed {
    /// The certificate, PEM.
    pub certificate: String,
    /// What servers show behind it, PEM: the issuing certificate, and what leads on from it.
    pub chain: String,
    /// What is in it.
    #[serde(flatten)]
    pub info: CertificateInfo,
}

/// A pair from elsewhere: where its files are on the service's machine.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ImportRequest {
    /// The file with the certificate and its chain, PEM or DER.
    #[schema(value_type = String)]
    pub certificate: PathBuf,
    /// The file with the key, PEM.
    #[schema(value_type = String)]
    pub key: PathBuf,
}

/// A pair that was taken.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImportedView {
    /// The first name in it, which identifies it.
    pub name: String,
    /// What is in it.
    #[serde(flatten)]
    pub info: CertificateInfo,
    /// Whom clients have to know, when the chain in the file does not lead to a root.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub leads_to: Option<String>,
    /// Whether it ends within 21 days.
    pub ends_soon: bool,
    /// The routes under whose names it is shown.
    pub routes: Vec<String>,
}

/// The certificate of a name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CertificateView {
    /// The name that a client asks for.
    pub name: String,
    /// Why this one is shown.
    pub reason: String,
    /// What is in it; absent for a name without a request since the start, whose certificate is made
    /// with the first one.
    #[serde(flatten, skip_serializing_if = "Option::is_none")]
    pub info: Option<CertificateInfo>,
    /// When the next one is made, without a connection being dropped.
    #[serde(
        default,
        with = "time::serde::rfc3339::option",
        skip_serializing_if = "Option::is_none"
    )]
    pub renewed_from: Option<OffsetDateTime>,
    /// Whether it expires within 21 days and has to be renewed by hand.
    #[serde(default)]
    pub ends_soon: bool,
    /// The certificate and its chain, PEM; only when one certificate is requested.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub chain: Option<String>,
}

/// The certificates of all names.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Certificates {
    /// By name.
    pub certificates: Vec<CertificateView>,
    /// Exports that are kept up to date.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub exported: Vec<ExportedView>,
}

/// A certificate and its key to be kept fresh in a folder of the service's machine.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ExportRequest {
    /// DNS names, `*.NAME` included, and loopback addresses.
    pub names: Vec<String>,
    /// The folder, by its whole path.
    #[schema(value_type = String)]
    pub folder: PathBuf,
    /// The files: `certificate`, `chain`, `key`, `both` or `pkcs12`, with `=NAME` where wanted; chain
    /// and key when it is left out.
    #[serde(default)]
    #[schema(value_type = Vec<String>)]
    pub parts: Vec<CertificatePart>,
    /// The container that the folder is in; the service's machine when it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub container: Option<String>,
    /// A command for the shell, run in the folder when the files are new.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub then: Option<String>,
}

/// An export that is kept up to date.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ExportedView {
    /// The names.
    pub names: Vec<String>,
    /// The folder.
    #[schema(value_type = String)]
    pub folder: PathBuf,
    /// The files.
    #[schema(value_type = Vec<String>)]
    pub files: Vec<PathBuf>,
    /// The container and the folder in it that get a copy.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub container: Option<String>,
    /// What is run when they are new.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub then: Option<String>,
    /// Last moment of the certificate; absent when it cannot be read from the files.
    #[serde(
        default,
        with = "time::serde::rfc3339::option",
        skip_serializing_if = "Option::is_none"
    )]
    pub not_after: Option<OffsetDateTime>,
    /// When the next one is written.
    #[serde(
        default,
        with = "time::serde::rfc3339::option",
        skip_serializing_if = "Option::is_none"
    )]
    pub renewed_from: Option<OffsetDateTime>,
    /// What went wrong last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
}
