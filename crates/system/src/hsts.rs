//! The hosts that browsers open over HTTPS alone, since a response of theirs said so (RFC 6797).

use std::fs;
use std::path::Path;

use bentlane_checks::{ForcedHost, ForcedHttps};
use serde_json::Value;
use time::{Duration, OffsetDateTime};

use crate::browsers::CHROMIUM_LIKE;
use crate::files::read_file;
use crate::profiles::profiles;

/// Bytes of such a file.
const LARGEST: u64 = 16 * 1024 * 1024;
/// Bytes of Firefox's records: a checksum, a score and a day, two each; a host; and a value, both with
/// zeros behind.
const RECORD: usize = 286;
const HOST: std::ops::Range<usize> = 6..262;
/// The state of a record whose policy holds.
const SET: &str = "1";

/// What the browsers of the user with this home folder remember.
#[must_use]
pub fn browsers_forcing_https(home: &Path) -> Vec<ForcedHttps> {
    let mut all = Vec::new();
    for (browser, folder) in CHROMIUM_LIKE {
        let profiles = fs::read_dir(home.join(folder)).into_iter().flatten();
        for profile in profiles.flatten() {
            let file = profile.path().join("TransportSecurity");
            if let Ok(octets) = read_file(&file, LARGEST) {
                all.extend(of_chromium(&octets).map(|seen| seen.in_file(browser, &file)));
            }
        }
    }
    for profile in profiles(home) {
        let file = profile.join("SiteSecurityServiceState.bin");
        if let Ok(octets) = read_file(&file, LARGEST) {
            all.extend(of_firefox(&octets).map(|seen| seen.in_file("Firefox", &file)));
        }
    }
    all
}

struct Seen {
    host: ForcedHost,
    subdomains: bool,
    until: OffsetDateTime,
}

impl Seen {
    fn in_file(self, browser: &str, file: &Path) -> ForcedHttps {
        ForcedHttps {
            browser: browser.to_owned(),
            file: file.display().to_string(),
            host: self.host,
            subdomains: self.subdomains,
            until: self.until,
        }
    }
}

/// The entries of a file `TransportSecurity`.
fn of_chromium(text: &[u8]) -> impl Iterator<Item = Seen> + use<> {
    let file: Value = serde_json::from_slice(text).unwrap_or_default();
    let entries = file["sts"].as_array().cloned().unwrap_or_default();
    entries.into_iter().filter_map(|entry| {
        let seconds = entry["expiry"].as_f64()?;
        let forces = entry["mode"] == "force-https";
        let seen = Seen {
            host: ForcedHost::Hash(entry["host"].as_str()?.to_owned()),
            subdomains: entry["sts_include_subdomains"] == true,
            until: OffsetDateTime::UNIX_EPOCH
                .checked_add(Duration::checked_seconds_f64(seconds)?)?,
        };
        forces.then_some(seen)
    })
}

/// The records of a file `SiteSecurityServiceState.bin`.
fn of_firefox(octets: &[u8]) -> impl Iterator<Item = Seen> {
    octets.chunks_exact(RECORD).filter_map(|record| {
        let text = |part: &[u8]| {
            let end = part.iter().position(|octet| *octet == 0);
            String::from_utf8(part[..end.unwrap_or(part.len())].to_vec()).ok()
        };
        let host = text(record.get(HOST)?)?;
        let value = text(record.get(HOST.end..)?)?;
        // Behind the host there may be the site that it was asked for.
        let host = host.split('^').next()?.to_owned();
        let mut parts = value.split(',');
        let until = parts.next()?.parse().ok()?;
        let (is_set, subdomains) = (parts.next()? == SET, parts.next()? == "1");
        let until = OffsetDateTime::UNIX_EPOCH.checked_add(Duration::milliseconds(until))?;
        let host = ForcedHost::Name(host);
        (is_set && until != OffsetDateTime::UNIX_EPOCH).then_some(Seen {
            host,
            subdomains,
            until,
        })
    })
}

#[cfg(test)]
mod tests {
    use time::macros::datetime;

    use super::*;

    #[test]
    fn files_of_both_browsers_are_read() {
        let home = tempfile::tempdir().unwrap();
        let write = |path: &str, content: &[u8]| {
            let path = home.path().join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, content).unwrap();
        };
        // As Chromium 156 and Firefox 153 wrote them for https://a.moor.test, with `includeSubDomains`.
        let chromium = r#"{"sts":[{"expiry":1796145507.36457,"host":"0WPcNkaJTsHuOMQmbmivPlPsH2ntx1NLDavsotca4K8=",
            "mode":"force-https","sts_include_subdomains":true,"sts_observed":1796059107.364575}],"version":2}"#;
        write(
            ".config/chromium/Default/TransportSecurity",
            chromium.as_bytes(),
        );
        let record = |host: &str, value: &str| {
            let mut record = [0; RECORD];
            record[HOST.start..][..host.len()].copy_from_slice(host.as_bytes());
            record[HOST.end..][..value.len()].copy_from_slice(value.as_bytes());
            record
        };
        let host = "a.moor.test^partitionKey=%28https%2Cmoor.test%29";
        let records = [
            &record(host, "1796145500093,1,1")[..],
            &record("b.moor.test", "1796145500093,0,0"),
            &[0; RECORD],
            &[1; 9],
        ];
        write(
            ".mozilla/firefox/x/SiteSecurityServiceState.bin",
            &records.concat(),
        );
        let found = browsers_forcing_https(home.path());
        let [chromium, firefox] = found.as_slice() else {
            panic!("{found:?}");
        };
        assert_eq!(chromium.browser, "Chromium");
        assert!(firefox.file.ends_with("SiteSecurityServiceState.bin"));
        for found in [chromium, firefox] {
            assert!(found.subdomains && found.until > datetime!(2026-12-01 0:00 UTC));
            assert!(found.host.is("a.moor.test") && !found.host.is("moor.test"));
        }
    }
}
