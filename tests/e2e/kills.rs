//! Kills at any moment: what was acknowledged stays, and the next start works.

use std::io::{Read, Write};
use std::os::unix::net::UnixStream;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::thread;
use std::time::Duration;

use bentlane_tests::{Background, Start, World, figure, pause, rounds, signal, wait_until};
use rustix::process::Signal;

/// Asks for one change; whether it was acknowledged.
fn change(socket: &Path, note: usize) -> bool {
    let body = format!(r#"{{"note":"{note}"}}"#);
    let request = format!(
        "PATCH /api/v1/routes/a.moor.test HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\
         content-type: application/json\r\ncontent-length: {}\r\n\r\n{body}",
        body.len()
    );
    let mut answer = String::new();
    UnixStream::connect(socket)
        .and_then(|mut stream| {
            stream.write_all(request.as_bytes())?;
            stream.read_to_string(&mut answer)
        })
        .is_ok_and(|_| answer.starts_with("HTTP/1.1 200"))
}

#[test]
fn no_acknowledged_change_is_lost_by_a_kill() {
    let mut world = World::with_private_server().add_routes(&[("a.moor.test", "4310")]);
    world.ok(&["route", "edit", "a.moor.test", "--note", "0"]);
    let (mut asked, mut acknowledged) = (0, 0);
    let rounds = rounds(2);
    for round in 0..rounds {
        let (end, last) = (
            Arc::new(AtomicBool::new(false)),
            Arc::new(AtomicUsize::new(asked)),
        );
        let writing = thread::spawn({
            let (end, last, socket) = (Arc::clone(&end), Arc::clone(&last), world.socket());
            move || {
                let mut asked = last.load(Ordering::SeqCst);
                let mut acknowledged = 0;
                while !end.load(Ordering::SeqCst) {
                    asked += 1;
                    if !change(&socket, asked) {
                        break;
                    }
                    last.store(asked, Ordering::SeqCst);
                    acknowledged += 1;
                }
                (asked, acknowledged)
            }
        });
        wait_until("a change", || {
            (last.load(Ordering::SeqCst) > asked).then_some(())
        });
        // Somewhere within the next changes.
        pause(Duration::from_millis((round as u64 * 137) % 400));
        if round % 2 == 1 {
            signal(world.database_pid().unwrap(), Signal::KILL);
        }
        world.end(Signal::KILL);
        end.store(true, Ordering::SeqCst);
        let (until, more) = writing.join().unwrap();
        acknowledged += more;
        world.wake();
        let kept = wait_until("the database to be back", || {
            let name = format!("r{round}.moor.test");
            let changed = world.run(&["route", "add", &name, "4311"]);
            (changed.code == 0).then(|| world.json(&["route", "show", "a.moor.test"]))
        });
        let kept: usize = kept["settings"]["note"].as_str().unwrap().parse().unwrap();
        let last = last.load(Ordering::SeqCst);
        assert!(
            (last..=until).contains(&kept),
            "{kept} of {last}, and {until} were asked for"
        );
        asked = until;
    }
    figure("kills", rounds);
    figure("acknowledged changes", acknowledged);
    figure("lost", 0);
}

#[test]
fn a_start_that_is_killed_is_no_obstacle_to_the_next() {
    let rounds = rounds(2);
    for round in 0..rounds {
        let mut world = World::asleep(Start::default());
        let mut command = world.serve_command();
        let mut service = Background::start(&mut command, world.path("service.log"));
        pause(Duration::from_millis(50 + (round as u64 * 211) % 1500));
        service.end(Signal::KILL);
        world.wake();
        world.ok(&["zone", "add", "moor.test"]);
        assert_eq!(world.end(Signal::TERM), 0);
        assert_eq!(world.database_pid(), None);
    }
    figure("killed starts", rounds);
    figure("failed afterwards", 0);
}
