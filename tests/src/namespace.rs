use std::fs;

use crate::process::{Run, binary, run};
use crate::world::World;

/// What a script did in a network and mount namespace of its own, where it is root.
#[derive(Debug)]
pub struct Namespace {
    outcome: Run,
    log: String,
}

impl Namespace {
    /// Runs `script` with `bash`. It finds the world's folder in `FOLDER` and the program in
    /// `BENTLANE`, writes what the service says to `service.log` in the folder, and begins each step
    /// with a line `== NAME`.
    ///
    /// # Panics
    /// When the script fails.
    #[must_use]
    pub fn run(world: &World, script: &str) -> Self {
        let folder = world.path("").display().to_string();
        let folder = format!("FOLDER={}", folder.trim_end_matches('/'));
        let program = format!("BENTLANE={}", binary().display());
        let map_root: &[&str] = if rustix::process::geteuid().is_root() {
            &[]
        } else {
            &["--map-root-user"]
        };
        let inside = ["--", "env", &folder, &program, "bash", "-c", script];
        let own = [
            "--net",
            "--mount",
            "--pid",
            "--fork",
            "--kill-child",
            "--mount-proc",
        ];
        let args = [&own[..], map_root, &inside].concat();
        let outcome = run("unshare", &args);
        let log = fs::read_to_string(world.path("service.log")).unwrap_or_default();
        assert_eq!(outcome.code, 0, "{outcome:#?}\n{log}");
        Self { outcome, log }
    }

    /// What a step printed; all of it for a script without steps.
    ///
    /// # Panics
    /// When there was no such step.
    #[must_use]
    pub fn step(&self, name: &str) -> &str {
        let steps = self.outcome.stdout.split("== ");
        let mut steps = steps.filter_map(|step| step.split_once('\n'));
        let found = steps.find(|(step, _)| *step == name);
        let Self { outcome, log } = self;
        let (_, said) = found.unwrap_or_else(|| panic!("{name}: {outcome:#?}\n{log}"));
        said
    }

    /// Expects each step to have printed each of its parts.
    ///
    /// # Panics
    /// When one is missing.
    pub fn expect(&self, wanted: &[(&str, &[&str])]) {
        for (name, parts) in wanted {
            let said = self.step(name);
            for part in *parts {
                let Self { outcome, log } = self;
                assert!(
                    said.contains(part),
                    "{name}: {part}: {said}\n{outcome:#?}\n{log}"
                );
            }
        }
    }
}
