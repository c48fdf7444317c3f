//! This machine, as the first part of every proof: what its programs do with our names.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use bentlane_api_types::{AuthorityView, Status};
use bentlane_checks::{
    ClientSeen, ClientTrustSeen, Fix, ItemState, MachineItem, MachinePart, MachineVerdict, Part,
    ToReach, judge_machine,
};
use bentlane_probe::other_on_443;
use bentlane_system::{OwnRoot, StoreReport, System, system_bundle};
use time::OffsetDateTime;
use tokio::task::spawn_blocking;
use tokio::time::sleep;

use super::trust;
use crate::account::home;
use crate::client::Client;
use crate::error::CliError;
use crate::output::{Output, Style};

/// How often a machine is looked at that is waited for.
const LOOK_AGAIN: Duration = Duration::from_millis(500);

/// Looks at this machine as programs of the user who runs this command do, in this shell.
pub(crate) async fn look(client: &Client) -> Result<MachineVerdict, CliError> {
    look_at_stores(client).await.map(|(verdict, _)| verdict)
}

/// The same, with what each trust store said.
pub(crate) async fn look_at_stores(
    client: &Client,
) -> Result<(MachineVerdict, Vec<StoreReport>), CliError> {
    let to_reach: ToReach = client.get("/machine/names").await?;
    let status: Status = client.get("/status").await?;
    let authority: AuthorityView = client.get("/authority").await?;
    let ours = trust::ours(&authority)?;
    let looking = spawn_blocking(move || {
        let mut stores = Vec::new();
        let mut seen = System::default().look(&to_reach, &ours, || {
            let (reports, clients) = ours.clients_with_versions(&home());
            stores = reports;
            clients
        });
        seen.port_443 = other_on_443(&to_reach.https).map(|holder| holder.to_string());
        let root = Path::new(&status.data_dir).join("root.pem");
        let bundle = authority.bundle.as_ref();
        seen.clients.extend(in_this_shell(&ours, &root, bundle));
        (judge_machine(&seen, OffsetDateTime::now_utc()), stores)
    });
    looking.await.map_err(|cause| CliError::Io {
        verb: "look at this machine".to_owned(),
        source: cause.into(),
    })
}

/// Checks until all passes or the time limit is reached.
pub(crate) async fn wait(
    client: &Client,
    output: &Output,
    most: Duration,
) -> Result<MachineVerdict, CliError> {
    let start = Instant::now();
    let mut shown = String::new();
    loop {
        let verdict = look(client).await?;
        let Some(failed) = verdict.failed().next().filter(|_| start.elapsed() < most) else {
            return Ok(verdict);
        };
        let words = format!("waiting: {} {}", failed.subject, failed.summary);
        if words != shown {
            output.say(&words);
            shown = words;
        }
        sleep(LOOK_AGAIN.min(most.saturating_sub(start.elapsed()))).await;
    }
}

/// The files with roots that variables of this shell name, and whether ours is in them.
fn in_this_shell(ours: &OwnRoot, root: &Path, bundle: &Path) -> Vec<ClientSeen> {
    let mut files: BTreeMap<PathBuf, Vec<&str>> = BTreeMap::new();
    for (name, _) in trust::variables(root, bundle) {
        if let Some(file) = std::env::var_os(name).filter(|file| !file.is_empty()) {
            files.entry(file.into()).or_default().push(name);
        }
    }
    let seen = files.into_iter().map(|(file, names)| ClientSeen {
        client: "this shell".to_owned(),
        trust: match ours.is_trusted_by(&file) {
            Ok(true) => ClientTrustSeen::Trusted,
            Ok(false) => ClientTrustSeen::Refused,
            Err(reason) => ClientTrustSeen::Unknown(reason),
        },
        by: match names.as_slice() {
            [name] => format!("{name}={}", file.display()),
            [name, others @ ..] => {
                format!(
                    "{name}={}, and {} more variables",
                    file.display(),
                    others.len()
                )
            }
            [] => String::new(),
        },
        reach: None,
        fix: match system_bundle() == Some(&file) {
            true => Fix::attach("add the root to the trust stores", Part::Trust),
            false => Fix::command(
                "have this shell's programs trust it",
                "eval \"$(bentlane system env)\"",
            ),
        },
    });
    seen.collect()
}

/// A line for each thing that was looked at, and what fixes what failed, once.
pub(crate) fn describe(output: &Output, verdict: &MachineVerdict) -> String {
    let widest = verdict
        .items
        .iter()
        .map(|item| item.subject.chars().count())
        .max()
        .unwrap_or_default();
    let line = |item: &MachineItem| {
        let (mark, tone) = match item.state {
            ItemState::Passed => ("●", Style::Passing),
            ItemState::Hint => ("·", Style::Muted),
            ItemState::Failed => ("✕", Style::Broken),
        };
        let part = output.paint(Style::Muted, &format!("{:<7}", item.part.as_str()));
        format!(
            "{} {part}  {:<widest$}  {}",
            output.paint(tone, mark),
            item.subject,
            item.summary
        )
    };
    let mut lines = vec![output.paint(Style::Strong, "This machine")];
    lines.extend(verdict.items.iter().map(line));
    if verdict
        .items
        .iter()
        .all(|item| item.part != MachinePart::Lookups)
    {
        lines.push(output.paint(Style::Muted, "· no zone yet: `bentlane zone add moor.test`"));
    }
    let mut fixes: Vec<&Fix> = Vec::new();
    for fix in verdict.failed().filter_map(|item| item.fix.as_ref()) {
        if !fixes.contains(&fix) {
            fixes.push(fix);
        }
    }
    let arrow = output.paint(Style::Fix, "→");
    for Fix { text, command, .. } in fixes {
        lines.push(format!("{arrow} {text}"));
        let command = command.iter();
        lines.extend(command.map(|it| output.paint(Style::Fix, &format!("      {it}"))));
    }
    lines.join("\n")
}

/// What is missing, in few words: `this machine does not find them yet`.
pub(crate) fn missing(verdict: &MachineVerdict) -> Option<String> {
    let fails = |part| verdict.failed().any(|item| item.part == part);
    let verb = match (fails(MachinePart::Lookups), fails(MachinePart::Trust)) {
        (true, true) => "find or trust",
        (true, false) => "find",
        (false, true) => "trust",
        (false, false) => return None,
    };
    Some(format!("this machine does not {verb} them yet"))
}
