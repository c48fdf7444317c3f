//! Files belong to whom they belong: links, pipes and other owners in a folder that is not ours.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, chown, symlink};
use std::path::{Path, PathBuf};

use bentlane_tests::{App, World, rounds, run, wait_until};
use rstest::rstest;

use super::{OTHER, other_user};

/// A folder of another user's.
fn theirs(world: &World, name: &str) -> PathBuf {
    let folder = world.path(name);
    fs::create_dir(&folder).unwrap();
    chown(&folder, Some(OTHER), Some(OTHER)).unwrap();
    folder
}

/// A file of root's, which nobody else may read.
fn victim(world: &World) -> PathBuf {
    let path = world.path("victim");
    fs::write(&path, "root's own").unwrap();
    fs::set_permissions(&path, fs::Permissions::from_mode(0o600)).unwrap();
    path
}

fn is_untouched(path: &Path) {
    let metadata = fs::metadata(path).unwrap();
    assert_eq!((metadata.uid(), metadata.mode() & 0o777), (0, 0o600));
    assert_eq!(fs::read_to_string(path).unwrap(), "root's own");
}

fn export(world: &World, folder: &Path) -> i32 {
    let folder = folder.to_str().unwrap();
    world
        .run(&["cert", "export", "a.moor.test", "--to", folder])
        .code
}

/// The owner of the folder swaps in links to a file of root's, as fast as possible.
const RACER: &str = r"
import os, sys
folder, victim = sys.argv[1:3]
os.chdir(folder)
while True:
    for name in ('a.moor.test.key', 'a.moor.test.pem'):
        try:
            os.symlink(victim, 'swap')
            os.rename('swap', name)
            os.unlink(name)
        except OSError:
            pass
";

#[test]
fn a_swapped_link_does_not_expose_a_file_of_root() {
    let world = World::with_routes(&[]);
    let (folder, victim) = (theirs(&world, "tls"), victim(&world));
    let mut racer = other_user("/usr/bin/python3")
        .args(["-c", RACER])
        .args([&folder, &victim])
        .spawn()
        .unwrap();
    let mut written = 0;
    for _ in 0..rounds(100) {
        written += usize::from(export(&world, &folder) == 0);
    }
    racer.kill().unwrap();
    racer.wait().unwrap();
    is_untouched(&victim);
    let left: Vec<PathBuf> = fs::read_dir(&folder)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .filter(|path| {
            path.file_name()
                .unwrap()
                .to_string_lossy()
                .contains("bentlane")
        })
        .collect();
    assert!(
        left.is_empty(),
        "nothing is left beside: {left:?}, {written} written"
    );
}

#[rstest]
#[case::link("a.moor.test.key", "symbolic link")]
#[case::pipe("a.moor.test.key", "a pipe")]
#[case::anothers("a.moor.test.key", "belongs to the user 1")]
fn a_file_in_place_of_an_export_is_not_written_to(#[case] name: &str, #[case] words: &str) {
    let world = World::with_routes(&[]);
    let (folder, victim) = (theirs(&world, "tls"), victim(&world));
    let place = folder.join(name);
    match words {
        "symbolic link" => symlink(&victim, &place).unwrap(),
        "a pipe" => {
            run("mkfifo", &[place.to_str().unwrap()]).ok();
        }
        _ => {
            fs::write(&place, "daemon's").unwrap();
            chown(&place, Some(1), Some(1)).unwrap();
        }
    }
    let refused = world.run(&[
        "cert",
        "export",
        "a.moor.test",
        "--to",
        folder.to_str().unwrap(),
    ]);
    assert_eq!(refused.code, 2, "{refused:?}");
    assert!(refused.stderr.contains(words), "{refused:?}");
    is_untouched(&victim);
    fs::remove_file(&place).unwrap();
    assert_eq!(export(&world, &folder), 0);
    let metadata = fs::metadata(&place).unwrap();
    assert_eq!((metadata.uid(), metadata.mode() & 0o777), (OTHER, 0o600));
}

#[test]
fn a_link_in_a_path_is_followed_only_when_root_made_it() {
    let world = World::with_routes(&[]);
    let (home, secret) = (theirs(&world, "home"), world.path("secret"));
    fs::create_dir(&secret).unwrap();
    symlink(&secret, home.join("tls")).unwrap();
    std::os::unix::fs::lchown(home.join("tls"), Some(OTHER), Some(OTHER)).unwrap();
    assert_eq!(export(&world, &home.join("tls")), 2);
    assert_eq!(fs::read_dir(&secret).unwrap().count(), 0);
    symlink(&secret, world.path("link")).unwrap();
    assert_eq!(export(&world, &world.path("link")), 0);
}

#[test]
fn a_command_after_an_export_runs_as_the_folders_owner_without_secrets() {
    let world = World::with_routes(&[]);
    let folder = theirs(&world, "tls");
    let then = "id -u > id; id -G >> id; env > env; cat /proc/self/status > status";
    let args = ["cert", "export", "a.moor.test", "--then", then, "--to"];
    world.ok(&[&args[..], &[folder.to_str().unwrap()]].concat());
    let said = |name: &str| fs::read_to_string(folder.join(name)).unwrap();
    assert_eq!(said("id"), format!("{OTHER}\n{OTHER}\n"));
    assert_eq!(fs::metadata(folder.join("id")).unwrap().uid(), OTHER);
    let environment = said("env");
    let names: Vec<&str> = environment
        .lines()
        .filter_map(|it| it.split('=').next())
        .collect();
    let known = [
        "PATH", "HOME", "USER", "LOGNAME", "SHELL", "PWD", "OLDPWD", "SHLVL", "_",
    ];
    assert!(
        names.iter().all(|name| known.contains(name)),
        "{environment}"
    );
    assert!(said("status").contains("CapEff:\t0000000000000000"));
}

#[test]
fn an_access_log_follows_no_link_and_waits_for_no_pipe() {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port()), ("b.moor.test", &app.port())]);
    let (folder, victim) = (theirs(&world, "logs"), victim(&world));
    let log = |name: &str, file: &str| {
        let file = folder.join(file).display().to_string();
        world.ok(&["route", "edit", name, "--access-log", &file]);
    };
    log("a.moor.test", "a.log");
    log("b.moor.test", "b.log");
    for place in ["link", "pipe"] {
        let _ = fs::remove_file(folder.join("a.log"));
        match place {
            "link" => symlink(&victim, folder.join("a.log")).unwrap(),
            _ => {
                run("mkfifo", &[folder.join("a.log").to_str().unwrap()]).ok();
            }
        }
        let _ = fs::remove_file(folder.join("b.log"));
        for name in ["a", "b"] {
            world
                .curl(&[&format!("https://{name}.moor.test/{place}")])
                .ok();
        }
        // A check in the background may have its line there first.
        wait_until("the line in the other log", || {
            let logged = fs::read_to_string(folder.join("b.log")).ok()?;
            logged.contains(&format!("/{place} ")).then_some(())
        });
        let verdict =
            world.json(&["check", "--routes-only", "a.moor.test"])["verdicts"][0]["findings"]
                .to_string();
        assert!(verdict.contains("access-log-unwritable"), "{verdict}");
    }
    is_untouched(&victim);
    let metadata = fs::metadata(folder.join("b.log")).unwrap();
    assert_eq!((metadata.uid(), metadata.mode() & 0o777), (OTHER, 0o640));
}

#[test]
fn a_certificate_is_not_issued_through_a_link() {
    let world = World::with_routes(&[]);
    let (folder, victim) = (theirs(&world, "tls"), victim(&world));
    symlink(&victim, folder.join("a.moor.test.key")).unwrap();
    let out = folder.display().to_string();
    let refused = world.run(&["cert", "issue", "a.moor.test", "--out", &out, "--overwrite"]);
    assert_ne!(refused.code, 0, "{refused:?}");
    is_untouched(&victim);
}
