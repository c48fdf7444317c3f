//! Java's trust store, read without starting Java, which takes half a second.

use std::path::Path;

use bentlane_ca::chain_pem;
use rustls::pki_types::CertificateDer;

use crate::file_error::FileError;
use crate::files::read_file;

/// What a store in Java's own format (JKS) begins with.
const MAGIC: u32 = 0xFEED_FEED;
/// The version of the format that names the type of each certificate, and all stores of this century have.
const VERSION: u32 = 2;
/// An entry with a certificate that is trusted, and no key.
const TRUSTED: u32 = 2;
/// A store is a few hundred kilobytes long.
const LONGEST: u64 = 64 * 1024 * 1024;

/// The trusted certificates of the store at `path`, PEM; `None` when it is in another format, which
/// Java's own tool reads.
///
/// # Errors
/// When it cannot be read.
pub(super) fn trusted(path: &Path) -> Result<Option<Vec<String>>, FileError> {
    Ok(certificates(&read_file(path, LONGEST)?))
}

/// The certificates of a store that has nothing else.
fn certificates(mut octets: &[u8]) -> Option<Vec<String>> {
    let rest = &mut octets;
    if number(rest)? != MAGIC || number(rest)? != VERSION {
        return None;
    }
    let entries = number(rest)?;
    let certificate = |_| {
        if number(rest)? != TRUSTED {
            return None;
        }
        let alias = short(rest)?;
        let created = 8;
        part(rest, alias)?;
        part(rest, created)?;
        let kind = short(rest)?;
        let is_x509 = part(rest, kind)? == b"X.509";
        let length = number(rest)?.try_into().ok()?;
        let der = part(rest, length)?;
        is_x509.then(|| chain_pem(&[CertificateDer::from(der)]))
    };
    (0..entries).map(certificate).collect()
}

fn part<'a>(rest: &mut &'a [u8], length: usize) -> Option<&'a [u8]> {
    rest.split_off(..length)
}

fn number(rest: &mut &[u8]) -> Option<u32> {
    Some(u32::from_be_bytes(part(rest, 4)?.try_into().ok()?))
}

fn short(rest: &mut &[u8]) -> Option<usize> {
    Some(u16::from_be_bytes(part(rest, 2)?.try_into().ok()?).into())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// A store with one entry of this kind, whose certificate is `A`.
    fn store(kind: u32, certificate: &str) -> Vec<u8> {
        let text = |text: &str| {
            let length = u16::try_from(text.len()).unwrap().to_be_bytes();
            [&length[..], text.as_bytes()].concat()
        };
        let numbers = [MAGIC, VERSION, 1, kind].map(u32::to_be_bytes).concat();
        let created = [0; 8];
        let der = [0, 0, 0, 1, b'A'];
        let digest = [0; 20];
        [
            &numbers,
            &text("fell")[..],
            &created,
            &text(certificate),
            &der,
            &digest,
        ]
        .concat()
    }

    #[rstest]
    #[case(TRUSTED, "X.509", Some("QQ=="))]
    #[case(TRUSTED, "PGP", None)]
    #[case(1, "X.509", None)]
    fn certificates_are_read(
        #[case] kind: u32,
        #[case] certificate: &str,
        #[case] wanted: Option<&str>,
    ) {
        let found = certificates(&store(kind, certificate));
        let found = found.map(|all| all.join(""));
        assert_eq!(found.is_some(), wanted.is_some());
        assert!(
            found
                .unwrap_or_default()
                .contains(wanted.unwrap_or_default())
        );
    }

    #[test]
    fn a_store_that_is_cut_off_is_left_to_java() {
        let whole = store(TRUSTED, "X.509");
        for length in 0..whole.len() - 20 {
            assert_eq!(certificates(&whole[..length]), None, "{length}");
        }
    }
}
