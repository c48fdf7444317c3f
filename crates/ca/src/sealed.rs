//! Secrets under a passphrase, in a copy that leaves this machine.

use aws_lc_rs::rand;
use data_encoding::BASE64;
use pkcs8::der::asn1::OctetString;
use pkcs8::der::{Decode, Encode};
use pkcs8::pkcs5::{EncryptionScheme, pbes2, scrypt};
use pkcs8::{EncryptedPrivateKeyInfo, EncryptedPrivateKeyInfoRef};

use super::root::AuthorityError;
use super::safe::Passphrase;

/// The cost of a try of a passphrase: 2^15 blocks of 1 KiB.
const LOG_N: u8 = 15;
const R: u16 = 8;
const P: u16 = 1;

/// `secret` under `passphrase`, as base64 of the structure that RFC 5958 §3 has for encrypted keys:
/// scrypt (RFC 7914) and AES-256-GCM, so that it cannot be changed either.
///
/// # Errors
/// When there is no randomness, or the secret is too long.
pub fn seal(secret: &[u8], passphrase: &Passphrase) -> Result<String, AuthorityError> {
    let failed = |_| AuthorityError::Key;
    let (mut salt, mut nonce) = ([0; 16], [0; 12]);
    rand::fill(&mut salt).map_err(|_| AuthorityError::Key)?;
    rand::fill(&mut nonce).map_err(|_| AuthorityError::Key)?;
    let cost = scrypt::Params::new(LOG_N, R.into(), P.into()).map_err(|_| AuthorityError::Key)?;
    let scheme = pbes2::Parameters::scrypt_aes256gcm(cost, &salt, nonce).map_err(failed)?;
    let sealed = scheme.encrypt(passphrase.text(), secret).map_err(failed)?;
    let whole = EncryptedPrivateKeyInfo {
        encryption_algorithm: EncryptionScheme::from(scheme),
        encrypted_data: OctetString::new(sealed).map_err(|_| AuthorityError::Key)?,
    };
    let octets = whole.to_der().map_err(|_| AuthorityError::Key)?;
    Ok(BASE64.encode(&octets))
}

/// What was [sealed](seal).
///
/// # Errors
/// When that is not the passphrase, or the text was changed.
pub fn unseal(sealed: &str, passphrase: &Passphrase) -> Result<Vec<u8>, AuthorityError> {
    let octets = BASE64.decode(sealed.trim().as_bytes());
    let octets = octets.map_err(|_| AuthorityError::Key)?;
    let whole = EncryptedPrivateKeyInfoRef::from_der(&octets).map_err(|_| AuthorityError::Key)?;
    let scheme = whole.encryption_algorithm;
    // Its cost is the file's word: one that would take all memory is no work of ours.
    let cost = scheme
        .pbes2()
        .and_then(|scheme| scheme.kdf.scrypt().cloned());
    let is_ours = cost.is_some_and(|cost| {
        cost.cost_parameter == 1 << LOG_N && (cost.block_size, cost.parallelization) == (R, P)
    });
    if !is_ours {
        return Err(AuthorityError::Key);
    }
    let opened = scheme.decrypt(passphrase.text(), whole.encrypted_data.as_bytes());
    opened.map_err(|_| AuthorityError::WrongPassphrase)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn secrets_open_by_their_passphrase_alone() {
        let passphrase = Passphrase::new("correct horse".into());
        let sealed = seal(b"the keys", &passphrase).unwrap();
        assert_eq!(unseal(&sealed, &passphrase).unwrap(), b"the keys");
        let wrong = unseal(&sealed, &Passphrase::new("correct hors".into()));
        assert!(matches!(wrong, Err(AuthorityError::WrongPassphrase)));

        let octets = BASE64.decode(sealed.as_bytes()).unwrap();
        for place in [octets.len() - 1, octets.len() - 17] {
            let mut changed = octets.clone();
            changed[place] ^= 1;
            assert!(
                unseal(&BASE64.encode(&changed), &passphrase).is_err(),
                "{place}"
            );
        }
        for text in ["", "AAAA", "no base64"] {
            assert!(matches!(
                unseal(text, &passphrase),
                Err(AuthorityError::Key)
            ));
        }
    }
}
