//! What is to be changed of the system, as data.

use std::path::PathBuf;

use serde::Serialize;

use crate::approved::Approved;
use crate::kept::Part;
use crate::place::Content;

/// What a step does to its file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum StepKind {
    /// Put another file there and keep what is there now.
    Replace,
    /// Put back what was there.
    Restore,
    /// Take our block out and leave the rest.
    Clean,
    /// Only forget: what was there is there already.
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
    /// What is there now.
    pub now: Content,
    /// Why this is not done without an explicit yes: somebody changed the file since.
    pub caution: Option<String>,
}

/// What would be done, in order. Nothing, when there are no steps.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Plan {
    /// The data folder of the service to attach to.
    #[serde(skip)]
    pub owner: Option<PathBuf>,
    /// The steps.
    pub steps: Vec<Step>,
    /// What becomes of the copy of the program that root runs.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub program: Option<ProgramStep>,
    /// What root will have been allowed to change from then on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub approved: Option<Approved>,
}

/// What becomes of the copy of the program that root runs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "kind")]
pub enum ProgramStep {
    /// It is made, or made anew.
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
    /// Somebody changed the file since we attached.
    Changed,
    /// Attaching or detaching was cut short; the file is as it was before us.
    CutShort,
}
