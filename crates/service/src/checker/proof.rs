//! What a route was proved with, and what is different once it fails.

use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use bentlane_ca::CertificateInfo;
use bentlane_checks::{
    Conditions, Facts, Holder, Hop, Observations, Present, Proof, Since, WrittenFile,
};
use bentlane_model::{JournalEntry, Target};
use bentlane_probe as probe;
use serde_json::{Map, Value};
use time::OffsetDateTime;
use tokio::task::spawn_blocking;

use super::RouteChecker;

/// Entries of the journal that are looked at.
const MOST_ENTRIES: u64 = 200;
/// Changes of the configuration that are named.
const MOST_NAMED: usize = 5;
/// How long the journal is waited for.
const JOURNAL: Duration = Duration::from_millis(500);
/// Files of this machine by which names are looked up.
const SYSTEM_FILES: [&str; 3] = ["/etc/hosts", "/etc/resolv.conf", "/etc/nsswitch.conf"];

/// What a route depends on now.
pub(super) async fn conditions(
    checker: &RouteChecker,
    facts: &Facts,
    holder: Option<&Holder>,
    folder: Option<PathBuf>,
) -> Conditions {
    let shown = checker.proxy.certificates().shown(facts.name.as_str());
    let certificate = shown.and_then(|shown| CertificateInfo::read(shown.chain.first()?));
    let reading = spawn_blocking(move || {
        let branch = folder.and_then(|folder| probe::branch_in(&folder));
        (branch, probe::gateways())
    });
    let (branch, gateways) = reading.await.unwrap_or_default();
    Conditions {
        holder: holder.cloned(),
        branch,
        image: facts.snapshot.image_of(&facts.route),
        certificate: certificate.map(|info| info.fingerprint_sha256),
        nameservers: facts.machine.nameservers.clone(),
        gateways,
        title: None,
    }
}

/// Where the files of the app are.
pub(super) fn app_folder(to: &Target, holder: Option<&Holder>) -> Option<PathBuf> {
    match to {
        Target::Folder(folder) => Some(folder.path().to_owned()),
        _ => holder
            .and_then(|holder| holder.folder.as_ref())
            .map(PathBuf::from),
    }
}

impl RouteChecker {
    /// What is different since the proof, for a route that fails at `hop`.
    pub(super) async fn since(
        &self,
        facts: &Facts,
        seen: &Observations,
        hop: Option<Hop>,
        proof: Proof,
    ) -> Since {
        let edits = self.edits(facts, proof.at).await;
        let before = proof.conditions.holder.clone();
        let folder = app_folder(&facts.route.to, before.as_ref().or(seen.holder.as_ref()));
        let mut now = conditions(self, facts, seen.holder.as_ref(), folder.clone()).await;
        // What lies before the hop that fails, and was passed, explains nothing.
        if hop != Some(Hop::Resolve) {
            now.nameservers.clear();
        }
        if hop != Some(Hop::Handshake) {
            now.certificate = None;
        }
        let looks_up = hop == Some(Hop::Resolve);
        let at = proof.at;
        let reading = spawn_blocking(move || {
            let since = SystemTime::from(at);
            let mut files = match folder {
                Some(folder) => probe::written_since(&folder, since),
                None => Vec::new(),
            };
            let system = SYSTEM_FILES.iter().filter(|_| looks_up);
            files.extend(system.filter_map(|file| written(Path::new(file), since)));
            let runs = before.as_ref().is_some_and(probe::runs);
            (files, runs)
        });
        let (files, holder_runs) = reading.await.unwrap_or_default();
        let present = Present {
            conditions: now,
            holder_runs,
            files,
            edits,
        };
        Since::compare(&proof, &present)
    }

    /// Changes of the configuration that concern the route, since `since`; none while the database is away.
    async fn edits(&self, facts: &Facts, since: OffsetDateTime) -> Vec<(OffsetDateTime, String)> {
        let reading =
            async |store: std::sync::Arc<bentlane_store::Store>| store.journal(MOST_ENTRIES).await;
        let entries = self
            .storage
            .call_within(JOURNAL, reading)
            .await
            .unwrap_or_default();
        let (address, name) = (facts.address(), facts.name.as_str());
        let concerns = |entry: &JournalEntry| match &*entry.kind {
            "route" => entry.subject == address,
            "zone" => name == entry.subject || name.ends_with(&format!(".{}", entry.subject)),
            "machine" => true,
            _ => false,
        };
        let entries = entries
            .into_iter()
            .filter(|entry| entry.at > since && concerns(entry));
        entries
            .take(MOST_NAMED)
            .map(|entry| (entry.at, in_words(&entry)))
            .collect()
    }
}

fn written(file: &Path, since: SystemTime) -> Option<WrittenFile> {
    let written = file.symlink_metadata().ok()?.modified().ok()?;
    (written > since).then(|| WrittenFile {
        name: file.display().to_string(),
        written: written.into(),
    })
}

/// A change, with the settings that are different.
fn in_words(entry: &JournalEntry) -> String {
    let JournalEntry {
        kind, subject, who, ..
    } = entry;
    let done = match &*entry.action {
        "add" => "added",
        "remove" => "removed",
        "edit" => "edited",
        "attach" => "attached",
        _ => "detached",
    };
    let mut keys = Vec::new();
    if let (Some(before), Some(after)) = (&entry.before, &entry.after) {
        differing("", before, after, &mut keys);
    }
    let keys = match keys.as_slice() {
        [] => String::new(),
        keys => format!(" ({})", keys.join(", ")),
    };
    format!("the {kind} {subject} was {done}{keys} by {who}")
}

/// The keys at which two values differ.
fn differing(group: &str, before: &Value, after: &Value, keys: &mut Vec<String>) {
    let empty = Value::Object(Map::new());
    // What is left out is as if it were empty.
    let (before, after) = match (before, after) {
        (Value::Null, Value::Object(_)) => (&empty, after),
        (Value::Object(_), Value::Null) => (before, &empty),
        both => both,
    };
    match (before, after) {
        (Value::Object(one), Value::Object(other)) => {
            let mut all: Vec<&String> = one.keys().chain(other.keys()).collect();
            all.sort();
            all.dedup();
            for key in all {
                let inner = if group.is_empty() || group == "settings" {
                    key.clone()
                } else {
                    format!("{group}.{key}")
                };
                differing(&inner, &before[key], &after[key], keys);
            }
        }
        (one, other) if one != other => keys.push(group.to_owned()),
        _ => {}
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn settings_that_differ_are_named() {
        let before = json!({ "to": "4310", "settings": { "host": "keep" }, "x": 1 });
        let after = json!({ "to": "4311", "settings": { "expect": { "title": "b" }, "paused": true }, "x": 1 });
        let mut keys = Vec::new();
        differing("", &before, &after, &mut keys);
        assert_eq!(keys, ["expect.title", "host", "paused", "to"]);
    }
}
