use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::{fs, io};

use bentlane_checks::Hosts;
use bentlane_dns::ResolvConf;

use crate::approved::{Approved, WANTED_FILE, Wanted};
use crate::content::Content;
use crate::error::SystemError;
use crate::facts::Facts;
use crate::program::same_content;
use crate::record::{Part, RECORD, Record};
use crate::resolver_files::{drop_in, pointing_at_us};
use crate::steps::{PartState, Plan, ProgramStep, Step, StepKind};
use crate::text::decode;
use crate::{Unit, repair_unit, socket_unit, watch_unit};

/// The settings of systemd's resolver that are ours, below the folder of settings.
pub(crate) const RESOLVED_DROP_IN: &str = "systemd/resolved.conf.d/bentlane.conf";

/// The folder where what was replaced is kept.
pub(crate) const KEPT: &str = "/var/lib/bentlane/system";

/// The operating system, as far as it can be attached to.
#[derive(Clone, Debug)]
pub struct System {
    /// The folder of the system's settings.
    pub(crate) etc: PathBuf,
    /// The folder where what was replaced is kept.
    kept: PathBuf,
    /// The folder of the program that root runs.
    libexec: PathBuf,
    /// The command that has systemd's resolver read its settings again.
    pub(crate) systemctl: PathBuf,
    /// The folder that is there when systemd runs the machine (sd_booted(3)).
    booted: PathBuf,
}

impl Default for System {
    fn default() -> Self {
        Self {
            etc: "/etc".into(),
            kept: KEPT.into(),
            libexec: "/usr/local/libexec/bentlane".into(),
            systemctl: "systemctl".into(),
            booted: "/run/systemd/system".into(),
        }
    }
}

impl System {
    /// The file that a part lives in. Where systemd's resolver answers the machine's lookups it is
    /// a drop-in for that, so that it asks us for our zones alone.
    #[must_use]
    pub fn path(&self, part: Part) -> PathBuf {
        let conf = self.etc.join("resolv.conf");
        match part {
            Part::Hosts => self.etc.join("hosts"),
            Part::UnitSockets => self.etc.join("systemd/system/bentlane.socket"),
            Part::Unit => self.etc.join("systemd/system/bentlane.service"),
            Part::Watch => self.etc.join("systemd/system/bentlane-repair.path"),
            Part::Repair => self.etc.join("systemd/system/bentlane-repair.service"),
            Part::Resolver => {
                let text = decode(&fs::read(&conf).unwrap_or_default());
                if ResolvConf::parse(&text).leads_to_resolved() {
                    self.etc.join(RESOLVED_DROP_IN)
                } else {
                    conf
                }
            }
        }
    }

    /// Whether `part` is attached to the service of this data folder, as it was left or changed since.
    ///
    /// # Errors
    /// When a file cannot be read.
    pub fn is_attached(&self, part: Part, owner: &Path) -> Result<bool, SystemError> {
        if self.owner()?.as_deref() != Some(owner) {
            return Ok(false);
        }
        let state = self.state(part)?;
        Ok(matches!(state, PartState::Attached | PartState::Changed))
    }

    /// Whether systemd runs this machine.
    #[must_use]
    pub fn runs_systemd(&self) -> bool {
        self.booted.is_dir()
    }

    /// The copy of the program that root runs.
    #[must_use]
    pub fn program(&self) -> PathBuf {
        self.libexec.join("bentlane")
    }

    /// What was approved; `None` when nothing was.
    ///
    /// # Errors
    /// When that cannot be read, or others than root could have written it.
    pub fn approved(&self) -> Result<Option<Approved>, SystemError> {
        Approved::read(&self.etc)
    }

    /// Notes which of our roots were put into trust stores, or taken out again.
    ///
    /// # Errors
    /// When that cannot be written.
    pub fn approve_roots(
        &self,
        owner: &Path,
        roots: impl IntoIterator<Item = String>,
    ) -> Result<(), SystemError> {
        let mut approved = match self.approved()? {
            Some(approved) => approved,
            None => Approved {
                uid: owner_of(owner)?,
                data_dir: owner.to_owned(),
                ..Approved::default()
            },
        };
        approved.roots = roots.into_iter().collect();
        self.settle_approved(approved)
    }

    /// Keeps what was approved for as long as anything of it is in force.
    pub(crate) fn settle_approved(&self, mut approved: Approved) -> Result<(), SystemError> {
        let record = self.record()?;
        let attached = |parts: &[Part]| parts.iter().any(|it| record.replaced.contains_key(it));
        if !attached(&[Part::Resolver, Part::Hosts]) {
            approved.zones.clear();
        }
        if approved.zones.is_empty() && approved.roots.is_empty() && !attached(&Part::ALL) {
            return Approved::remove(&self.etc);
        }
        approved.write(&self.etc)
    }

    /// Brings what is attached up to date with what the service wants and was approved, after a
    /// network manager rewrote a file, or routes changed; gives which parts that were, and what was
    /// left out.
    ///
    /// # Errors
    /// When a file cannot be read or changed, or is not to be trusted.
    pub fn repair(&self) -> Result<(Vec<Part>, Vec<String>), SystemError> {
        let Some(approved) = self.approved()? else {
            return Ok((Vec::new(), Vec::new()));
        };
        let Wanted { dns, zones, names } = Wanted::read(&approved)?;
        let facts = Facts {
            owner: approved.data_dir.clone(),
            dns,
            names,
            zones,
            program: PathBuf::new(),
        };
        let (facts, left_out) = facts.limited_to(&approved.zones);
        let mut repaired = Vec::new();
        for part in self.out_of_date(&facts)? {
            let plan = self.plan_attach(&[part], &facts)?;
            self.carry_out_steps(&plan)?;
            repaired.push(part);
        }
        Ok((repaired, left_out))
    }

    /// The parts that are attached to the service of `facts` and are not as they should be.
    ///
    /// # Errors
    /// When a file cannot be read.
    pub fn out_of_date(&self, facts: &Facts) -> Result<Vec<Part>, SystemError> {
        let mut parts = Vec::new();
        for part in [Part::Resolver, Part::Hosts] {
            let attached = self.is_attached(part, &facts.owner)?;
            if attached && !self.plan_attach(&[part], facts)?.steps.is_empty() {
                parts.push(part);
            }
        }
        Ok(parts)
    }

    /// What would be done to attach `parts`.
    ///
    /// # Errors
    /// When a file cannot be read, or the resolver is where the system's lookups cannot find it.
    pub fn plan_attach(&self, parts: &[Part], facts: &Facts) -> Result<Plan, SystemError> {
        let record = self.record()?;
        let mut plan = Plan {
            owner: Some(facts.owner.clone()),
            facts: Some(facts.clone()),
            ..Plan::default()
        };
        for part in parts {
            // What is attached stays attached in its way until it is detached.
            let known = record.replaced.get(part);
            let path = known.map_or_else(|| self.path(*part), |known| known.path.clone());
            let now = read(&path)?;
            let text = self.text(&path)?;
            let after = match part {
                Part::Resolver if path.ends_with(RESOLVED_DROP_IN) => drop_in(facts)?,
                Part::Resolver => pointing_at_us(&text, facts)?,
                Part::Hosts => Hosts(&text).with_block(&facts.names),
                Part::UnitSockets => self.unit_sockets()?,
                Part::Unit => self.unit(facts)?,
                Part::Watch => watch_unit(
                    &self.etc.join("resolv.conf"),
                    &facts.owner.join(WANTED_FILE),
                ),
                Part::Repair => repair_unit(&self.program()),
            };
            // Its owner and mode stay; a link becomes a file, and a link again when detached.
            let after = now.with_text(after);
            if after != now {
                plan.steps.push(Step {
                    part: *part,
                    kind: StepKind::Replace,
                    path,
                    caution: known
                        .filter(|_| *part != Part::Hosts)
                        .filter(|replaced| replaced.left != now && replaced.before != now)
                        .map(|_| "another program changed it since it was attached".to_owned()),
                    after,
                    now,
                });
            }
        }
        if parts.contains(&Part::Unit) && !same_content(&facts.program, &self.program()) {
            plan.program = Some(ProgramStep::Install {
                from: facts.program.clone(),
                to: self.program(),
            });
        }
        plan.approved = Some(self.approval(parts, facts)?);
        Ok(plan)
    }

    /// What will be approved once `parts` are attached: zones whose names are changed by that, and
    /// what was approved for the same service before.
    fn approval(&self, parts: &[Part], facts: &Facts) -> Result<Approved, SystemError> {
        let before = self.approved()?;
        let before = before.filter(|approved| approved.data_dir == facts.owner);
        let mut approved = before.unwrap_or_default();
        approved.data_dir.clone_from(&facts.owner);
        if parts
            .iter()
            .any(|part| matches!(part, Part::Resolver | Part::Hosts))
        {
            approved.zones.extend(facts.zones.iter().cloned());
            approved.zones.sort();
            approved.zones.dedup();
        }
        Ok(approved)
    }

    /// What would be done to detach `parts`.
    ///
    /// # Errors
    /// When a file cannot be read.
    pub fn plan_detach(&self, parts: &[Part]) -> Result<Plan, SystemError> {
        let record = self.record()?;
        let mut plan = Plan::default();
        for part in parts {
            let Some(replaced) = record.replaced.get(part) else {
                continue;
            };
            let now = read(&replaced.path)?;
            let (kind, after, caution) = if now == replaced.left {
                (StepKind::Restore, replaced.before.clone(), None)
            } else if let (Part::Hosts, Content::File { text, .. }) = (part, &now) {
                // Others write to this file, too: only our block goes.
                let after = now.with_text(Hosts(text).without_block());
                let kind = if after == now {
                    StepKind::Forget
                } else {
                    StepKind::Clean
                };
                (kind, after, None)
            } else if now == replaced.before || !is_ours(*part, &now) {
                // What another program put there since is what should be there.
                (StepKind::Forget, now.clone(), None)
            } else {
                let caution = "it is ours, with changes by another program, which would be lost";
                (
                    StepKind::Restore,
                    replaced.before.clone(),
                    Some(caution.to_owned()),
                )
            };
            plan.steps.push(Step {
                part: *part,
                kind,
                path: replaced.path.clone(),
                after,
                now,
                caution,
            });
        }
        let path = self.program();
        if parts.contains(&Part::Unit) && path.exists() {
            plan.program = Some(ProgramStep::Remove { path });
        }
        Ok(plan)
    }

    fn unit_sockets(&self) -> Result<String, SystemError> {
        if !self.runs_systemd() {
            return Err(SystemError::NoSystemd);
        }
        let mut homes = vec![IpAddr::V4(Ipv4Addr::LOCALHOST)];
        if Path::new("/proc/net/if_inet6").exists() {
            homes.push(IpAddr::V6(Ipv6Addr::LOCALHOST));
        }
        let at = |port| homes.iter().map(move |ip| SocketAddr::new(*ip, port));
        let dns: Vec<SocketAddr> = at(53).collect();
        let tcp: Vec<SocketAddr> = at(80).chain(at(443)).collect();
        Ok(socket_unit(&dns, &tcp))
    }

    fn unit(&self, facts: &Facts) -> Result<String, SystemError> {
        if !self.runs_systemd() {
            return Err(SystemError::NoSystemd);
        }
        let folder = fs::metadata(&facts.owner).map_err(SystemError::io("read", &facts.owner))?;
        let unit = Unit {
            program: &self.program(),
            data_dir: &facts.owner,
            uid: folder.uid(),
            gid: folder.gid(),
        };
        Ok(unit.service())
    }

    /// The data folder of the service that the system is attached to, if to any.
    ///
    /// # Errors
    /// When the record cannot be read.
    pub fn owner(&self) -> Result<Option<PathBuf>, SystemError> {
        let record = self.record()?;
        Ok(record.owner.filter(|_| !record.replaced.is_empty()))
    }

    /// How a part is.
    ///
    /// # Errors
    /// When a file cannot be read.
    pub fn state(&self, part: Part) -> Result<PartState, SystemError> {
        let record = self.record()?;
        let Some(replaced) = record.replaced.get(&part) else {
            return Ok(PartState::Detached);
        };
        let now = read(&replaced.path)?;
        Ok(if now == replaced.left {
            PartState::Attached
        } else if now == replaced.before {
            PartState::CutShort
        } else {
            PartState::Changed
        })
    }

    /// What the system's lookups read now: a link is followed.
    ///
    /// # Errors
    /// When a file is there and cannot be read.
    pub fn text(&self, path: &Path) -> Result<String, SystemError> {
        match fs::read(path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(String::new()),
            bytes => Ok(decode(&bytes.map_err(SystemError::io("read", path))?)),
        }
    }

    /// What the system's lookups go by now.
    ///
    /// # Errors
    /// When the file is there and cannot be read.
    pub fn resolv_conf(&self) -> Result<ResolvConf, SystemError> {
        Ok(ResolvConf::parse(
            &self.text(&self.etc.join("resolv.conf"))?,
        ))
    }

    /// What the system's lookups go by, or went by before they were attached to us.
    ///
    /// # Errors
    /// When a file is there and cannot be read.
    pub fn resolv_conf_before_us(&self) -> Result<ResolvConf, SystemError> {
        let conf = self.resolv_conf()?;
        if conf.ours {
            let kept = self.text(&self.kept_text(Part::Resolver))?;
            return Ok(ResolvConf::parse(&kept));
        }
        Ok(conf)
    }

    /// Where the text of the file from before is kept.
    pub(crate) fn kept_text(&self, part: Part) -> PathBuf {
        self.kept.join(match part {
            Part::Resolver => "resolv.conf",
            Part::Hosts => "hosts",
            Part::UnitSockets => "bentlane.socket",
            Part::Unit => "bentlane.service",
            Part::Watch => "bentlane-repair.path",
            Part::Repair => "bentlane-repair.service",
        })
    }

    /// Keeps a copy of a file's former content, for people, and for the service to learn the system's
    /// name servers.
    pub(crate) fn keep_text(
        &self,
        part: Part,
        before: &Content,
        path: &Path,
    ) -> Result<(), SystemError> {
        let kept = self.kept_text(part);
        let text = match before {
            Content::File { text, .. } => text.clone(),
            Content::Link { .. } => self.text(path)?,
            Content::Absent => String::new(),
        };
        fs::create_dir_all(&self.kept).map_err(SystemError::io("make", &self.kept))?;
        let write = Content::public(text).write(&kept);
        write.map_err(SystemError::io("write", &kept))
    }

    pub(crate) fn record(&self) -> Result<Record, SystemError> {
        Record::read(&self.kept).map_err(|cause| match cause.kind() {
            io::ErrorKind::Other => self.damaged_record(&cause),
            _ => SystemError::io("read the record in", &self.kept)(cause),
        })
    }

    fn damaged_record(&self, cause: &io::Error) -> SystemError {
        let copies = Part::ALL.map(|part| self.kept_text(part));
        let names = copies.iter().filter(|path| path.exists());
        let names: Vec<_> = names
            .filter_map(|path| path.file_name()?.to_str())
            .collect();
        SystemError::Record {
            record: self.kept.join(RECORD),
            reason: cause.to_string(),
            kept: match names.is_empty() {
                true => "none is".to_owned(),
                false => names.join(", "),
            },
        }
    }

    pub(crate) fn write_record(&self, record: &Record) -> Result<(), SystemError> {
        let written = record.write(&self.kept);
        written.map_err(SystemError::io("write the record in", &self.kept))
    }
}

pub(crate) fn is_ours(part: Part, content: &Content) -> bool {
    match (part, content) {
        (Part::Resolver, Content::File { text, .. }) => ResolvConf::parse(text).ours,
        (Part::Hosts, Content::File { text, .. }) => Hosts(text).has_block(),
        (Part::Unit | Part::UnitSockets | Part::Watch | Part::Repair, content) => {
            *content != Content::Absent
        }
        _ => false,
    }
}

/// Whose a data folder is.
pub(crate) fn owner_of(folder: &Path) -> Result<u32, SystemError> {
    let metadata = fs::metadata(folder).map_err(SystemError::io("look at", folder))?;
    Ok(metadata.uid())
}

pub(crate) fn read(path: &Path) -> Result<Content, SystemError> {
    Content::read(path).map_err(SystemError::io("read", path))
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;
    use std::process::Command;

    use rstest::{fixture, rstest};
    use tempfile::TempDir;

    use super::*;

    const CONF: &str = "# by hand\nnameserver 192.0.2.1\nsearch moor.example\n";
    const HOSTS: &str = "127.0.0.1 localhost\n10.0.0.1 printer\n";

    struct Machine {
        system: System,
        folder: TempDir,
    }

    #[fixture]
    fn machine() -> Machine {
        let folder = tempfile::tempdir().unwrap();
        let system = System {
            etc: folder.path().join("etc"),
            kept: folder.path().join("var/lib/bentlane/system"),
            libexec: folder.path().join("libexec/bentlane"),
            systemctl: folder.path().join("systemctl"),
            booted: folder.path().join("run/systemd/system"),
        };
        fs::create_dir(&system.etc).unwrap();
        fs::write(system.path(Part::Resolver), CONF).unwrap();
        fs::write(system.path(Part::Hosts), HOSTS).unwrap();
        Machine { system, folder }
    }

    impl Machine {
        fn facts(names: &[&str]) -> Facts {
            Facts {
                owner: "/".into(),
                dns: vec!["127.0.0.1:53".parse().unwrap(), "[::1]:53".parse().unwrap()],
                names: names
                    .iter()
                    .map(|name| (name.parse().unwrap(), vec!["127.0.0.1".parse().unwrap()]))
                    .collect(),
                zones: vec!["moor.test".parse().unwrap(), "fell.test".parse().unwrap()],
                program: "/usr/bin/bentlane".into(),
            }
        }

        fn attach(&self, part: Part, names: &[&str]) -> Plan {
            let plan = self
                .system
                .plan_attach(&[part], &Self::facts(names))
                .unwrap();
            self.system.carry_out(&plan).unwrap();
            plan
        }

        fn detach(&self, part: Part) -> Plan {
            let plan = self.system.plan_detach(&[part]).unwrap();
            self.system.carry_out(&plan).unwrap();
            plan
        }

        fn content(&self, part: Part) -> Content {
            Content::read(&self.system.path(part)).unwrap()
        }

        fn state(&self, part: Part) -> PartState {
            self.system.state(part).unwrap()
        }
    }

    #[rstest]
    #[case(Part::Resolver)]
    #[case(Part::Hosts)]
    fn earlier_content_is_restored_byte_for_byte(machine: Machine, #[case] part: Part) {
        let path = machine.system.path(part);
        fs::set_permissions(&path, fs::Permissions::from_mode(0o640)).unwrap();
        let before = machine.content(part);
        assert_eq!(machine.state(part), PartState::Detached);
        assert_eq!(machine.attach(part, &["a.moor.test"]).steps.len(), 1);
        assert_eq!(machine.state(part), PartState::Attached);
        assert_eq!(machine.system.owner().unwrap(), Some("/".into()));
        assert_ne!(machine.content(part), before);
        let again = machine.attach(part, &["a.moor.test"]);
        assert!(again.steps.is_empty(), "a second time changes nothing");
        machine.detach(part);
        assert_eq!(machine.content(part), before);
        assert_eq!(machine.state(part), PartState::Detached);
        assert_eq!(machine.system.owner().unwrap(), None);
        assert!(machine.detach(part).steps.is_empty());
    }

    #[rstest]
    fn a_link_is_restored_as_a_link(machine: Machine) {
        let path = machine.system.path(Part::Resolver);
        let real = machine.folder.path().join("stub.conf");
        fs::rename(&path, &real).unwrap();
        std::os::unix::fs::symlink("../stub.conf", &path).unwrap();
        machine.attach(Part::Resolver, &[]);
        assert_eq!(
            fs::read_to_string(&real).unwrap(),
            CONF,
            "its target is left alone"
        );
        let attached = fs::read_to_string(&path).unwrap();
        assert!(
            attached.contains("nameserver 127.0.0.1\nnameserver ::1\nsearch"),
            "{attached}"
        );
        let kept = fs::read_to_string(machine.system.kept.join("resolv.conf")).unwrap();
        assert_eq!(kept, CONF, "what it led to is known");
        machine.detach(Part::Resolver);
        assert_eq!(fs::read_link(&path).unwrap(), Path::new("../stub.conf"));
    }

    /// A stand-in that writes down how it was called, and fails when a file says so.
    fn stand_in_for_systemctl(machine: &Machine) {
        let folder = machine.folder.path().display();
        let script = format!(
            "#!/bin/sh\necho \"$@\" >> {folder}/called\n[ ! -e {folder}/broken ] || {{ echo no unit >&2; exit 5; }}\n"
        );
        // Written by another process: one that another test starts meanwhile would inherit the file
        // while it is open, and nothing can be run that is open for writing (execve(2), ETXTBSY).
        let write = "printf %s \"$1\" > \"$2\" && chmod 755 \"$2\"";
        let mut shell = Command::new("sh");
        shell.args(["-c", write, "sh", &script]);
        let written = shell.arg(&machine.system.systemctl).status();
        assert!(written.unwrap().success());
    }

    #[rstest]
    fn a_unit_is_enabled_and_disabled(machine: Machine) {
        stand_in_for_systemctl(&machine);
        let parts = Part::UNITS;
        let mut facts = Machine::facts(&[]);
        facts.program = std::env::current_exe().unwrap();
        facts.owner = machine.folder.path().to_owned();
        let plan = |facts: &Facts| machine.system.plan_attach(&parts, facts);
        assert!(matches!(plan(&facts), Err(SystemError::NoSystemd)));
        fs::create_dir_all(&machine.system.booted).unwrap();
        machine.system.carry_out(&plan(&facts).unwrap()).unwrap();
        assert!(plan(&facts).unwrap().is_empty(), "it is done already");
        let path = machine.system.path(Part::Unit);
        let text = fs::read_to_string(&path).unwrap();
        let program = machine.system.program();
        assert!(
            text.contains(&format!("{}\" serve", program.display())),
            "{text}"
        );
        assert!(program.exists());

        fs::write(&path, text + "Nice=5\n").unwrap();
        assert_eq!(machine.state(Part::Unit), PartState::Changed);
        let again = plan(&facts).unwrap();
        assert!(again.steps[0].caution.is_some(), "{again:?}");
        let away = machine.system.plan_detach(&parts).unwrap();
        machine.system.carry_out(&away).unwrap();
        assert!(!path.exists() && !program.exists());
        assert!(!machine.system.path(Part::UnitSockets).exists());
        let called = fs::read_to_string(machine.folder.path().join("called")).unwrap();
        let called: Vec<&str> = called.lines().collect();
        assert_eq!(
            called,
            [
                "daemon-reload",
                "enable bentlane.service",
                "enable --now bentlane.socket bentlane-repair.path",
                "disable --now bentlane.socket bentlane.service bentlane-repair.path",
                "daemon-reload",
            ]
        );
    }

    #[rstest]
    fn systemd_resolved_asks_us_only_for_our_zones(machine: Machine) {
        stand_in_for_systemctl(&machine);
        let conf = machine.system.path(Part::Resolver);
        fs::write(&conf, "nameserver 127.0.0.53\n").unwrap();
        let path = machine.system.path(Part::Resolver);
        assert!(path.ends_with("systemd/resolved.conf.d/bentlane.conf"));
        machine.attach(Part::Resolver, &[]);
        let text = fs::read_to_string(&path).unwrap();
        assert!(
            text.contains("DNS=127.0.0.1:53\nDomains=~moor.test ~fell.test\n"),
            "{text}"
        );
        assert_eq!(machine.state(Part::Resolver), PartState::Attached);
        let untouched = fs::read_to_string(&conf).unwrap();
        assert_eq!(untouched, "nameserver 127.0.0.53\n");
        machine.detach(Part::Resolver);
        assert!(!path.exists());
        let called = fs::read_to_string(machine.folder.path().join("called")).unwrap();
        assert_eq!(called, "restart systemd-resolved\n".repeat(2));

        fs::write(machine.folder.path().join("broken"), "").unwrap();
        let facts = Machine::facts(&[]);
        let plan = machine
            .system
            .plan_attach(&[Part::Resolver], &facts)
            .unwrap();
        let refused = machine.system.carry_out(&plan).unwrap_err();
        assert!(refused.to_string().contains("no unit"), "{refused}");
        assert_eq!(
            machine.state(Part::Resolver),
            PartState::Attached,
            "and can be detached"
        );
        fs::remove_file(machine.folder.path().join("broken")).unwrap();
        machine.detach(Part::Resolver);
        assert!(!path.exists());
    }

    #[rstest]
    fn a_file_that_was_not_there_is_removed(machine: Machine) {
        fs::remove_file(machine.system.path(Part::Resolver)).unwrap();
        machine.attach(Part::Resolver, &[]);
        machine.detach(Part::Resolver);
        assert_eq!(machine.content(Part::Resolver), Content::Absent);
    }

    #[rstest]
    fn the_block_has_the_current_names_and_other_lines_stay(machine: Machine) {
        let path = machine.system.path(Part::Hosts);
        machine.attach(Part::Hosts, &["b.moor.test", "a.moor.test"]);
        machine.attach(Part::Hosts, &["c.moor.test"]);
        let text = fs::read_to_string(&path).unwrap();
        assert!(
            text.contains("c.moor.test") && !text.contains("a.moor.test"),
            "{text}"
        );
        fs::write(&path, format!("{text}10.0.0.2 scanner\n")).unwrap();
        assert_eq!(machine.state(Part::Hosts), PartState::Changed);
        let plan = machine.attach(Part::Hosts, &["d.moor.test"]);
        assert_eq!(plan.steps[0].caution, None);
        let text = fs::read_to_string(&path).unwrap();
        fs::write(&path, text.replace("10.0.0.1 printer\n", "")).unwrap();
        let plan = machine.detach(Part::Hosts);
        assert_eq!(plan.steps[0].kind, StepKind::Clean);
        assert_eq!(
            fs::read_to_string(&path).unwrap(),
            "127.0.0.1 localhost\n10.0.0.2 scanner\n"
        );
    }

    #[rstest]
    fn changes_by_another_program_are_preserved(machine: Machine) {
        let path = machine.system.path(Part::Resolver);
        machine.attach(Part::Resolver, &[]);
        fs::write(&path, "nameserver 192.0.2.99\n").unwrap();
        assert_eq!(machine.state(Part::Resolver), PartState::Changed);
        let plan = machine.attach(Part::Resolver, &[]);
        assert!(plan.steps[0].caution.is_some());
        machine.detach(Part::Resolver);
        assert_eq!(
            fs::read_to_string(&path).unwrap(),
            "nameserver 192.0.2.99\n"
        );

        machine.attach(Part::Resolver, &[]);
        fs::write(&path, "nameserver 192.0.2.98\n").unwrap();
        let plan = machine.detach(Part::Resolver);
        assert_eq!(plan.steps[0].kind, StepKind::Forget, "it is left alone");
        assert_eq!(
            fs::read_to_string(&path).unwrap(),
            "nameserver 192.0.2.98\n"
        );
    }

    #[rstest]
    fn a_file_of_ours_that_was_edited_is_not_overwritten_without_asking(machine: Machine) {
        let path = machine.system.path(Part::Resolver);
        machine.attach(Part::Resolver, &[]);
        let text = fs::read_to_string(&path).unwrap();
        fs::write(&path, text + "options timeout:1\n").unwrap();
        let plan = machine.system.plan_detach(&[Part::Resolver]).unwrap();
        assert!(plan.steps[0].caution.is_some());
        machine.attach(Part::Resolver, &[]);
        machine.detach(Part::Resolver);
        assert_eq!(
            fs::read_to_string(&path).unwrap(),
            CONF,
            "not a file of ours"
        );
    }

    #[rstest]
    fn a_file_that_changes_after_the_question_is_read_again(machine: Machine) {
        let (hosts, conf) = (
            machine.system.path(Part::Hosts),
            machine.system.path(Part::Resolver),
        );
        let plan = |parts: &[Part]| {
            let facts = Machine::facts(&["a.moor.test"]);
            machine.system.plan_attach(parts, &facts).unwrap()
        };
        let shown = plan(&[Part::Hosts, Part::Resolver]);
        let more = format!("{HOSTS}10.0.0.2 scanner\n");
        fs::write(&hosts, &more).unwrap();
        let other = "nameserver 192.0.2.7\n";
        fs::write(&conf, other).unwrap();
        machine.system.carry_out(&shown).unwrap();
        assert!(fs::read_to_string(&hosts).unwrap().starts_with(&more));
        let shown = machine
            .system
            .plan_detach(&[Part::Hosts, Part::Resolver])
            .unwrap();
        let last = fs::read_to_string(&hosts).unwrap() + "10.0.0.3 camera\n";
        fs::write(&hosts, last).unwrap();
        machine.system.carry_out(&shown).unwrap();
        assert_eq!(
            fs::read_to_string(&hosts).unwrap(),
            more + "10.0.0.3 camera\n"
        );
        assert_eq!(fs::read_to_string(&conf).unwrap(), other);

        machine.attach(Part::Resolver, &[]);
        let shown = machine.system.plan_detach(&[Part::Resolver]).unwrap();
        // A network manager was faster.
        fs::write(&conf, CONF).unwrap();
        machine.system.carry_out(&shown).unwrap();
        assert_eq!(fs::read_to_string(&conf).unwrap(), CONF);

        machine.attach(Part::Resolver, &[]);
        let shown = machine.system.plan_detach(&[Part::Resolver]).unwrap();
        let edited = fs::read_to_string(&conf).unwrap() + "options timeout:1\n";
        fs::write(&conf, &edited).unwrap();
        let refused = machine.system.carry_out(&shown).unwrap_err();
        assert!(
            matches!(refused, SystemError::ChangedSince { .. }),
            "{refused}"
        );
        assert_eq!(fs::read_to_string(&conf).unwrap(), edited);
    }

    /// `scripts/torture` does it more often.
    #[rstest]
    fn lines_that_others_append_meanwhile_are_preserved(machine: Machine) {
        let path = machine.system.path(Part::Hosts);
        let rounds = std::env::var("BENTLANE_ROUNDS").map_or(20, |rounds| rounds.parse().unwrap());
        let stop = std::sync::atomic::AtomicBool::new(false);
        let written = std::thread::scope(|scope| {
            let writer = scope.spawn(|| {
                let mut written = 0;
                while !stop.load(std::sync::atomic::Ordering::Relaxed) {
                    let mut file = fs::OpenOptions::new().append(true).open(&path).unwrap();
                    io::Write::write_all(&mut file, format!("10.0.0.2 n{written}\n").as_bytes())
                        .unwrap();
                    written += 1;
                    std::thread::park_timeout(std::time::Duration::from_micros(200));
                }
                written
            });
            for _ in 0..rounds {
                machine.attach(Part::Hosts, &["a.moor.test"]);
                machine.detach(Part::Hosts);
            }
            stop.store(true, std::sync::atomic::Ordering::Relaxed);
            writer.join().unwrap()
        });
        let text = fs::read_to_string(&path).unwrap();
        let own = text.strip_prefix(HOSTS).unwrap();
        let mut lines: Vec<&str> = own.lines().collect();
        lines.sort_unstable();
        lines.dedup();
        assert_eq!(lines.len(), written, "of so many lines");
    }

    #[rstest]
    fn a_hosts_file_that_is_not_utf8_is_preserved(machine: Machine) {
        let path = machine.system.path(Part::Hosts);
        let bytes = b"127.0.0.1 localhost\n10.0.0.1 h\xfctte # Latin-1\n";
        fs::write(&path, bytes).unwrap();
        machine.attach(Part::Hosts, &["a.moor.test"]);
        assert!(fs::read(&path).unwrap().starts_with(bytes));
        assert_eq!(machine.state(Part::Hosts), PartState::Attached);
        let kept = fs::read(machine.system.kept.join("hosts")).unwrap();
        assert_eq!(kept, bytes);
        machine.detach(Part::Hosts);
        assert_eq!(fs::read(&path).unwrap(), bytes);
    }

    #[rstest]
    fn a_damaged_record_is_reported_with_the_copies_that_are_left(machine: Machine) {
        machine.attach(Part::Hosts, &["a.moor.test"]);
        let record = machine.system.kept.join(RECORD);
        fs::write(&record, "{\"replaced\":").unwrap();
        let refused = machine
            .system
            .plan_detach(&Part::ALL)
            .unwrap_err()
            .to_string();
        for part in ["(hosts)", "sudo rm", &record.display().to_string()] {
            assert!(refused.contains(part), "{refused}");
        }
    }

    /// What a crash leaves: the record is written first, and the file last.
    #[rstest]
    fn an_interrupted_change_is_reported_and_repaired(machine: Machine) {
        machine.attach(Part::Resolver, &[]);
        let path = machine.system.path(Part::Resolver);
        fs::write(&path, CONF).unwrap();
        assert_eq!(machine.state(Part::Resolver), PartState::CutShort);
        assert_eq!(
            machine.detach(Part::Resolver).steps[0].kind,
            StepKind::Forget
        );
        assert_eq!(fs::read_to_string(&path).unwrap(), CONF);

        machine.attach(Part::Resolver, &[]);
        fs::write(&path, CONF).unwrap();
        assert_eq!(machine.attach(Part::Resolver, &[]).steps[0].caution, None);
        assert_eq!(machine.state(Part::Resolver), PartState::Attached);
        machine.detach(Part::Resolver);
        assert_eq!(fs::read_to_string(&path).unwrap(), CONF);
    }

    #[rstest]
    fn lookups_of_the_system_need_port_53(machine: Machine) {
        let facts = Facts {
            dns: vec!["127.0.0.1:17053".parse().unwrap()],
            ..Facts::default()
        };
        let refused = machine
            .system
            .plan_attach(&[Part::Resolver], &facts)
            .unwrap_err();
        assert!(refused.to_string().contains("127.0.0.1:17053"), "{refused}");
        assert_eq!(machine.state(Part::Resolver), PartState::Detached);
    }
}
