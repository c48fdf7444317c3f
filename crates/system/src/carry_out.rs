//! Carrying out a plan, one step at a time.

use std::path::Path;
use std::process::Command;

use bentlane_checks::Hosts;

use crate::approved::Approved;
use crate::content::Content;
use crate::error::SystemError;
use crate::plan::{RESOLVED_DROP_IN, System, is_ours, owner_of, read};
use crate::program::{install, uninstall};
use crate::record::{Part, Replaced};
use crate::steps::{Plan, ProgramStep, Step, StepKind};
use crate::swap::{Tolerance, swap};

/// How often a file is read again that another program changes at the same time.
const STEP_TRIES: u32 = 10;

impl System {
    /// Does what `plan` says, as long as the files are what they were when it was made.
    ///
    /// # Errors
    /// At the first step that fails; the steps before it are done, and recorded.
    pub fn carry_out(&self, plan: &Plan) -> Result<(), SystemError> {
        let of_unit = |step: &Step| Part::UNITS.contains(&step.part);
        let units: Vec<&Step> = plan.steps.iter().filter(|step| of_unit(step)).collect();
        let leaves = |step: &&Step| step.kind != StepKind::Replace;
        if units.iter().any(leaves) && self.runs_systemd() {
            self.systemctl(&[
                "disable",
                "--now",
                "bentlane.socket",
                "bentlane.service",
                "bentlane-repair.path",
            ])?;
        }
        if let Some(approved) = &plan.approved {
            let approved = Approved {
                uid: owner_of(&approved.data_dir)?,
                ..approved.clone()
            };
            approved.write(&self.etc)?;
        }
        if let Some(ProgramStep::Install { from, to }) = &plan.program {
            install(from, to)?;
        }
        if let Err(cause) = self.carry_out_steps(plan) {
            // What was not attached is not approved either.
            if let Some(approved) = self.approved()? {
                self.settle_approved(approved)?;
            }
            return Err(cause);
        }
        if let Some(ProgramStep::Remove { path }) = &plan.program {
            uninstall(path)?;
        }
        if plan.approved.is_none()
            && let Some(approved) = self.approved()?
        {
            self.settle_approved(approved)?;
        }
        if !units.is_empty() && self.runs_systemd() {
            self.systemctl(&["daemon-reload"])?;
        }
        if units.iter().any(|step| step.kind == StepKind::Replace) {
            self.systemctl(&["enable", "bentlane.service"])?;
            self.systemctl(&["enable", "--now", "bentlane.socket", "bentlane-repair.path"])?;
        }
        Ok(())
    }

    pub(crate) fn carry_out_steps(&self, plan: &Plan) -> Result<(), SystemError> {
        for shown in &plan.steps {
            let mut tries = 0;
            while let Some(step) = self.present_step(plan, shown)? {
                if self.carry_out_step(&step, plan)? {
                    break;
                }
                tries += 1;
                if tries == STEP_TRIES {
                    let path = step.path;
                    return Err(SystemError::KeepsChanging { path });
                }
            }
        }
        Ok(())
    }

    /// The step for the file as it is now, which may have changed since `shown`; `None` when there is
    /// nothing left to do.
    fn present_step(&self, plan: &Plan, shown: &Step) -> Result<Option<Step>, SystemError> {
        if read(&shown.path)? == shown.now {
            return Ok(Some(shown.clone()));
        }
        let again = match &plan.facts {
            Some(facts) => self.plan_attach(&[shown.part], facts)?,
            None => self.plan_detach(&[shown.part])?,
        };
        let step = again.steps.into_iter().next();
        match step {
            Some(step) if step.caution.is_some() && shown.caution.is_none() => {
                Err(SystemError::ChangedSince { path: step.path })
            }
            step => Ok(step),
        }
    }

    /// Does a step, unless its file is no longer as the step says; gives whether it did.
    fn carry_out_step(&self, step: &Step, plan: &Plan) -> Result<bool, SystemError> {
        match step.kind {
            StepKind::Replace => return self.replace(step, plan.owner.as_deref()),
            StepKind::Restore | StepKind::Clean => {
                if !put(step)? {
                    return Ok(false);
                }
                self.take_up(step)?;
            }
            StepKind::Forget => {}
        }
        let mut record = self.record()?;
        record.replaced.remove(&step.part);
        self.write_record(&record)?;
        Ok(true)
    }

    /// Replaces a file, which is on record before it is changed, so that a crash loses nothing.
    fn replace(&self, step: &Step, owner: Option<&Path>) -> Result<bool, SystemError> {
        let known = self.record()?;
        let mut record = known.clone();
        let before = before(step, record.replaced.remove(&step.part));
        self.keep_text(step.part, &before, &step.path)?;
        let replaced = Replaced {
            path: step.path.clone(),
            before,
            left: step.after.clone(),
        };
        record.replaced.insert(step.part, replaced);
        record.owner = owner.map(Path::to_owned);
        self.write_record(&record)?;
        let put = put(step);
        if matches!(put, Ok(true)) {
            self.take_up(step)?;
            return put;
        }
        self.write_record(&known)?;
        if !known.replaced.contains_key(&step.part) {
            let kept = self.kept_text(step.part);
            let removed = Content::Absent.write(&kept);
            removed.map_err(SystemError::io("remove", &kept))?;
        }
        put
    }

    /// Has systemd's resolver read its settings again, when they are what was changed.
    fn take_up(&self, step: &Step) -> Result<(), SystemError> {
        if !step.path.ends_with(RESOLVED_DROP_IN) {
            return Ok(());
        }
        let failed = |reason: String| SystemError::NotTakenUp {
            path: step.path.clone(),
            reason,
        };
        self.call_systemctl(&["restart", "systemd-resolved"])
            .map_err(failed)
    }

    fn systemctl(&self, args: &[&str]) -> Result<(), SystemError> {
        self.call_systemctl(args)
            .map_err(|reason| SystemError::Systemd {
                command: args.join(" "),
                reason,
            })
    }

    fn call_systemctl(&self, args: &[&str]) -> Result<(), String> {
        let output = Command::new(&self.systemctl)
            .args(args)
            .output()
            .map_err(|error| error.to_string())?;
        if output.status.success() {
            return Ok(());
        }
        Err(String::from_utf8_lossy(&output.stderr).trim().to_owned())
    }
}

/// Puts the file in place, unless it is no longer as the step says; gives whether it did.
fn put(step: &Step) -> Result<bool, SystemError> {
    let tolerance = match step.part {
        // Any program may append a line.
        Part::Hosts => Tolerance::Appended,
        _ => Tolerance::Same,
    };
    let put = swap(&step.path, &step.now, &step.after, tolerance);
    put.map_err(SystemError::file("change", &step.path))
}

/// What has to come back when the part is detached.
fn before(step: &Step, known: Option<Replaced>) -> Content {
    match (known, &step.now) {
        (Some(known), now) if known.left == *now => known.before,
        // Others write to the hosts file, too.
        (_, Content::File { text, .. }) if step.part == Part::Hosts => {
            step.now.with_text(Hosts(text).without_block())
        }
        (Some(known), now) if is_ours(step.part, now) => known.before,
        (_, now) => now.clone(),
    }
}
