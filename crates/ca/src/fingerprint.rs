//! Fingerprints of certificates and keys.

use x509_parser::certificate::X509Certificate;

/// SHA-256 of a certificate's public key with its algorithm (SubjectPublicKeyInfo), hexadecimal.
pub(super) fn key_sha256(certificate: &X509Certificate<'_>) -> String {
    let key = certificate.public_key().raw;
    let digest = aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, key);
    digest
        .as_ref()
        .iter()
        .map(|byte| format!("{byte:02x}"))
        .collect()
}

/// SHA-256 of a certificate: hexadecimal pairs with colons between.
pub(super) fn fingerprint(certificate: &[u8]) -> String {
    let digest = aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, certificate);
    digest
        .as_ref()
        .iter()
        .map(|octet| format!("{octet:02X}"))
        .collect::<Vec<_>>()
        .join(":")
}
