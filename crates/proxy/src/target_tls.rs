//! TLS to targets: whom we believe there.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::SystemTime;

use bentlane_ca::OneCertificate;
use bentlane_model::{Destination, TargetTls};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName};
use rustls::{ClientConfig, RootCertStore};

/// The roots that certificates of targets are verified with: one PEM file, read again when it
/// changes.
#[derive(Clone, Debug)]
pub struct TargetRoots {
    file: Arc<PathBuf>,
    read: Arc<Mutex<Option<Read>>>,
}

#[derive(Debug)]
struct Read {
    changed: Option<SystemTime>,
    roots: Arc<RootCertStore>,
}

impl TargetRoots {
    /// The roots in this file.
    #[must_use]
    pub fn new(file: PathBuf) -> Self {
        Self {
            file: Arc::new(file),
            read: Arc::default(),
        }
    }

    /// The roots of now. Those that the TLS engine cannot use are left out: a system's bundle has
    /// some.
    fn now(&self) -> io::Result<Arc<RootCertStore>> {
        let mut read = self.read.lock().unwrap_or_else(PoisonError::into_inner);
        let changed = fs::metadata(&*self.file)?.modified().ok();
        if let Some(known) = read.as_ref().filter(|known| known.changed == changed) {
            return Ok(Arc::clone(&known.roots));
        }
        let text = fs::read(&*self.file)?;
        let mut roots = RootCertStore::empty();
        let certificates = CertificateDer::pem_slice_iter(&text).filter_map(Result::ok);
        roots.add_parsable_certificates(certificates);
        let roots = Arc::new(roots);
        *read = Some(Read {
            changed,
            roots: Arc::clone(&roots),
        });
        Ok(roots)
    }
}

/// How the TLS connection to `destination` is made: over HTTP/1.1 alone when it shall be upgraded.
pub(crate) fn config(
    destination: &Destination,
    roots: &TargetRoots,
    http1_only: bool,
) -> io::Result<ClientConfig> {
    let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
    let builder = ClientConfig::builder_with_provider(Arc::clone(&provider))
        .with_safe_default_protocol_versions()
        .map_err(io::Error::other)?;
    let mut config = match &destination.tls {
        TargetTls::Verify => builder.with_root_certificates(roots.now()?),
        TargetTls::Unverified => builder
            .dangerous()
            .with_custom_certificate_verifier(Arc::new(OneCertificate {
                wanted: None,
                provider,
            })),
        TargetTls::Pinned(file) => builder
            .dangerous()
            .with_custom_certificate_verifier(Arc::new(OneCertificate {
                wanted: Some(pinned(file)?),
                provider,
            })),
    }
    .with_no_client_auth();
    let protocols: &[&[u8]] = if http1_only {
        &[b"http/1.1"]
    } else {
        &[b"h2", b"http/1.1"]
    };
    config.alpn_protocols = protocols.iter().map(|name| name.to_vec()).collect();
    Ok(config)
}

fn pinned(file: &Path) -> io::Result<CertificateDer<'static>> {
    let unusable = |cause: String| {
        let text = format!(
            "cannot use the certificate to accept, {}: {cause}",
            file.display()
        );
        io::Error::other(text)
    };
    let text = fs::read(file).map_err(|cause| unusable(cause.to_string()))?;
    CertificateDer::from_pem_slice(&text).map_err(|cause| unusable(cause.to_string()))
}

/// The name that the target is asked for, and its certificate is verified with.
pub(crate) fn server_name(destination: &Destination) -> io::Result<ServerName<'static>> {
    let name = destination.to.server_name(destination.name.as_ref());
    ServerName::try_from(name).map_err(io::Error::other)
}
