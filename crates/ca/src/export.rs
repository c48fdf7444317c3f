//! The forms in which trust stores take a root.

use p12_keystore::{Certificate, KeyStore, KeyStoreEntry, PrivateKey, PrivateKeyChain};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivatePkcs8KeyDer};

use super::root::{Authority, AuthorityError};

/// The password of a bundle when none is given: what tools of the trade take for granted.
pub const BUNDLE_PASSWORD: &str = "changeit";

/// A form of the root certificate, without its key.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize, utoipa::ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Form {
    /// Base64 between two lines (RFC 7468).
    Pem,
    /// The plain encoding.
    Der,
    /// A PKCS#12 bundle of a trusted certificate (RFC 7292), as Java and Windows take it.
    Pkcs12,
    /// A profile that adds the root on Apple's systems.
    AppleProfile,
}

impl Form {
    /// Every form.
    pub const ALL: [Self; 4] = [Self::Pem, Self::Der, Self::Pkcs12, Self::AppleProfile];

    /// The usual name of such a file.
    #[must_use]
    pub fn file_name(self) -> &'static str {
        match self {
            Self::Pem => "bentlane-root.pem",
            Self::Der => "bentlane-root.cer",
            Self::Pkcs12 => "bentlane-root.p12",
            Self::AppleProfile => "bentlane-root.mobileconfig",
        }
    }

    /// Its media type.
    #[must_use]
    pub fn media_type(self) -> &'static str {
        match self {
            Self::Pem => "application/x-pem-file",
            Self::Der => "application/pkix-cert",
            Self::Pkcs12 => "application/x-pkcs12",
            Self::AppleProfile => "application/x-apple-aspen-config",
        }
    }

    /// The root certificate in this form. A bundle is sealed with `password`: that keeps nothing
    /// secret, since there is nothing secret in it, but such files have one.
    ///
    /// # Errors
    /// When the bundle cannot be made.
    pub fn of(self, authority: &Authority, password: &str) -> Result<Vec<u8>, AuthorityError> {
        let der = authority.certificate();
        Ok(match self {
            Self::Pem => authority.certificate_pem().as_bytes().to_vec(),
            Self::Der => der.to_vec(),
            Self::Pkcs12 => {
                let certificate =
                    Certificate::from_der(der).map_err(|_| AuthorityError::Certificate)?;
                let mut bundle = KeyStore::new();
                let name = format!("bent lane {}", &authority.summary().fingerprint_sha256[..8]);
                bundle.add_entry(&name, KeyStoreEntry::Certificate(certificate));
                let written = bundle.writer(password).write();
                written.map_err(|_| AuthorityError::Bundle)?
            }
            Self::AppleProfile => profile(authority).into_bytes(),
        })
    }
}

/// A PKCS#12 bundle (RFC 7292) of a server's chain and key, PEM both, sealed with `password`.
///
/// # Errors
/// When a part is damaged, or the bundle cannot be made.
pub fn bundle(chain: &str, key: &str, password: &str) -> Result<Vec<u8>, AuthorityError> {
    let certificate = |der: CertificateDer<'_>| Certificate::from_der(&der);
    let chain: Vec<Certificate> = CertificateDer::pem_slice_iter(chain.as_bytes())
        .map(|der| der.map_err(|_| AuthorityError::Certificate))
        .map(|der| certificate(der?).map_err(|_| AuthorityError::Certificate))
        .collect::<Result<_, _>>()?;
    let key =
        PrivatePkcs8KeyDer::from_pem_slice(key.as_bytes()).map_err(|_| AuthorityError::Key)?;
    let key = PrivateKey::from_der(key.secret_pkcs8_der()).map_err(|_| AuthorityError::Key)?;
    let entry = PrivateKeyChain::new(vec![1], key, chain);
    let mut bundle = KeyStore::new();
    bundle.add_entry("bent lane", KeyStoreEntry::PrivateKeyChain(entry));
    bundle
        .writer(password)
        .write()
        .map_err(|_| AuthorityError::Bundle)
}

/// A configuration profile with one payload, the root. Its identifiers come from the certificate,
/// so that the same root replaces itself and another does not.
fn profile(authority: &Authority) -> String {
    let body: String = authority
        .certificate_pem()
        .lines()
        .filter(|line| !line.starts_with("-----"))
        .map(|line| format!("\t\t\t{line}\n"))
        .collect();
    let fingerprint = &authority.summary().fingerprint_sha256;
    let digits: Vec<&str> = fingerprint.split(':').collect();
    let uuid = |from: usize| {
        let digits = digits[from..from + 16].concat();
        let (a, b, c) = (&digits[..8], &digits[8..12], &digits[13..16]);
        // Version 8: the content of the bits is ours to choose (RFC 9562 §5.8).
        format!("{a}-{b}-8{c}-8{}-{}", &digits[17..20], &digits[20..])
    };
    let (content, profile) = (uuid(0), uuid(16));
    let subject = escaped(&authority.summary().subject);
    format!(
        r#"<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" "http://www.apple.com/DTDs/PropertyList-1.0.dtd">
<plist version="1.0">
<dict>
	<key>PayloadContent</key>
	<array>
		<dict>
			<key>PayloadCertificateFileName</key>
			<string>bentlane-root.cer</string>
			<key>PayloadContent</key>
			<data>
{body}			</data>
			<key>PayloadDescription</key>
			<string>Trusts certificates of {subject}</string>
			<key>PayloadDisplayName</key>
			<string>Bent Lane root</string>
			<key>PayloadIdentifier</key>
			<string>localhost.bentlane.root.{content}</string>
			<key>PayloadType</key>
			<string>com.apple.security.root</string>
			<key>PayloadUUID</key>
			<string>{content}</string>
			<key>PayloadVersion</key>
			<integer>1</integer>
		</dict>
	</array>
	<key>PayloadDisplayName</key>
	<string>Bent Lane root</string>
	<key>PayloadIdentifier</key>
	<string>localhost.bentlane.{profile}</string>
	<key>PayloadType</key>
	<string>Configuration</string>
	<key>PayloadUUID</key>
	<string>{profile}</string>
	<key>PayloadVersion</key>
	<integer>1</integer>
</dict>
</plist>
"#
    )
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;")
        .replace('<', "&lt;")
        .replace('>', "&gt;")
}

#[cfg(test)]
mod tests {
    use time::macros::datetime;

    use super::*;
    use crate::{Limits, Owner};

    #[test]
    fn no_form_holds_the_key() {
        let owner = Owner {
            host: "<fell>".into(),
        };
        let now = datetime!(2026-05-04 12:00 UTC);
        let root = Authority::create(&owner, &Limits::of_root([]), now).unwrap();
        for form in Form::ALL {
            let octets = form.of(&root, "changeit").unwrap();
            let text = String::from_utf8_lossy(&octets);
            assert!(!octets.is_empty() && !text.contains("PRIVATE"), "{form:?}");
        }
        let profile = String::from_utf8(Form::AppleProfile.of(&root, "").unwrap()).unwrap();
        assert!(profile.contains("on &lt;fell&gt;"), "{profile}");
        let bundle = Form::Pkcs12.of(&root, "changeit").unwrap();
        let policy = p12_keystore::Pkcs12ImportPolicy::Strict;
        let read = KeyStore::from_pkcs12(&bundle, "changeit", policy).unwrap();
        let (_, entry) = read.entries().next().unwrap();
        let KeyStoreEntry::Certificate(found) = entry else {
            panic!("a certificate alone");
        };
        assert_eq!(found.as_der(), &**root.certificate());
        assert!(KeyStore::from_pkcs12(&bundle, "other", policy).is_err());
    }
}
