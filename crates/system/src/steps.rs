//! What is to be changed of the system, as data.

use std::path::PathBuf;

use serde::Serialize;

use crate::approved::Approved;
use crate::content::Content;
use crate::facts::Facts;
use crate::record::Part;

/// What a step does to its file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum StepKind {
    /// Replace the file, and keep the present one.
    Replace,
    /// Restore what was replaced.
    Restore,
    /// Take our block out and leave the rest.
    Clean,
    /// Only forget: the original is restored already.
    Forget,
}

/// One step of a plan.
#[derive(Clone, Debug, Serialize)]
pub struct Step {
    /// The part it belongs to.
    pub part: Part,
    /// What is done.
    pub kind: StepKind,
    /// The file.
    pub path: PathBuf,
    /// What will be there afterwards.
    pub after: Content,
    /// The present value.
    pub now: Content,
    /// Why this needs confirmation: the file was changed since.
    pub caution: Option<String>,
}

impl Step {
    /// What is done to the file, in words.
    #[must_use]
    pub fn in_words(&self) -> &'static str {
        match (self.kind, self.part) {
            (StepKind::Replace, Part::Resolver) => {
                "point lookups at Bent Lane; the present file is kept"
            }
            (StepKind::Replace, Part::Hosts) => {
                "add a block with the names; the rest of the file stays"
            }
            (StepKind::Replace, Part::UnitSockets) => {
                "have systemd open ports 53, 80 and 443 for the service"
            }
            (StepKind::Replace, Part::Unit) => {
                "have systemd run the service, as the owner of its data folder"
            }
            (StepKind::Replace, Part::Watch) => {
                "have systemd watch the files that network managers and routes change"
            }
            (StepKind::Replace, Part::Repair) => {
                "have systemd repair the lookups then, as root, within the zones above"
            }
            (StepKind::Restore, _) => "restore the former file",
            (StepKind::Clean, _) => "remove the block; the rest of the file stays",
            (StepKind::Forget, _) => "leave it: another program has replaced the file",
        }
    }

    /// The lines that the file loses, and those that it gains.
    #[must_use]
    pub fn difference(&self) -> (Vec<String>, Vec<String>) {
        let lines = |content: &Content| match content {
            Content::Absent => Vec::new(),
            Content::Link { to } => vec![format!("a link to {}", to.display())],
            Content::File { text, .. } => text.lines().map(str::to_owned).collect(),
        };
        let (now, after) = (lines(&self.now), lines(&self.after));
        let without = |these: &[String], those: &[String]| -> Vec<String> {
            let alone = these.iter().filter(|line| !those.contains(line));
            alone.cloned().collect()
        };
        (without(&now, &after), without(&after, &now))
    }
}

/// What would be done, in order. Nothing, when there are no steps.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Plan {
    /// The data folder of the service to attach to.
    #[serde(skip)]
    pub owner: Option<PathBuf>,
    /// What was known when it was made, to make it again for a file that has changed since.
    #[serde(skip)]
    pub(crate) facts: Option<Facts>,
    /// The steps.
    pub steps: Vec<Step>,
    /// What is done with the copy of the program that root runs.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub program: Option<ProgramStep>,
    /// What root will have been allowed to change from then on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub approved: Option<Approved>,
}

/// What is done with the copy of the program that root runs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "kind")]
pub enum ProgramStep {
    /// It is made, or replaced.
    Install {
        /// The program that is copied.
        from: PathBuf,
        /// The copy.
        to: PathBuf,
    },
    /// It goes.
    Remove {
        /// The copy.
        path: PathBuf,
    },
}

impl Plan {
    /// Whether nothing would be done.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.steps.is_empty() && self.program.is_none()
    }
}

/// How a part is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "state")]
pub enum PartState {
    /// Nothing of ours is there.
    Detached,
    /// It is as we left it.
    Attached,
    /// The file was changed since it was attached.
    Changed,
    /// Attaching or detaching was interrupted; the file is the original.
    CutShort,
}
