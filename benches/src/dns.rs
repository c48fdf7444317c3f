use std::net::UdpSocket;
use std::time::{Duration, Instant};

use crate::measure::{AtMost, Report, Scale, micros, quantile};
use crate::process::{Server, cpu_time};
use crate::subject::Subject;

/// Questions on their way at a time when CPU time is measured.
const WINDOW: usize = 16;

/// CPU time and time per answer, of the bare responder and of the resolver in turn.
pub(crate) fn compare(responder: &Server, subject: &Subject, scale: Scale, report: &mut Report) {
    let socket = |to| {
        let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
        let patience = Duration::from_secs(5);
        socket.set_read_timeout(Some(patience)).unwrap();
        socket.connect(to).unwrap();
        socket
    };
    let (bare, ours) = (socket(responder.address()), socket(subject.dns()));
    let (mut cpu, mut time) = (Vec::new(), Vec::new());
    for socket in [&bare, &ours] {
        ask(socket, scale.questions / 10);
    }
    for _ in 0..scale.rounds {
        let cpu_of = |socket, pid| {
            let before = cpu_time(pid);
            let asked = ask(socket, scale.questions);
            micros(cpu_time(pid) - before) / asked
        };
        cpu.push((cpu_of(&bare, responder.pid()), cpu_of(&ours, subject.pid())));
        let (mut slow, mut fast) = (Vec::new(), Vec::new());
        for _ in 0..scale.questions.div_ceil(1_000) {
            slow.extend(block(&bare));
            fast.extend(block(&ours));
        }
        time.push((quantile(&slow, 0.5), quantile(&fast, 0.5)));
    }
    report.compare("CPU per answer", "µs", &cpu, Some(AtMost(1.4)));
    report.compare("time of an answer, p50", "µs", &time, None);
}

/// `n500.moor.test A`, with EDNS0 as resolvers send it.
fn question(id: u16) -> Vec<u8> {
    let mut message = id.to_be_bytes().to_vec();
    message.extend(b"\x01\0\0\x01\0\0\0\0\0\x01\x04n500\x04moor\x04test\0\0\x01\0\x01");
    message.extend(b"\0\0\x29\x04\xd0\0\0\0\0\0\0");
    message
}

/// Keeps some questions on their way until `count` have been answered; gives how many were.
#[allow(clippy::cast_possible_truncation, reason = "ids go round")]
fn ask(socket: &UdpSocket, count: usize) -> f64 {
    let mut buffer = [0; 2048];
    for id in 0..WINDOW {
        socket.send(&question(id as u16)).unwrap();
    }
    for id in WINDOW..count + WINDOW {
        receive(socket, &mut buffer);
        if id < count {
            socket.send(&question(id as u16)).unwrap();
        }
    }
    f64::from(u32::try_from(count).unwrap())
}

/// The times of a hundred questions, one after the other, in µs.
fn block(socket: &UdpSocket) -> Vec<f64> {
    let mut buffer = [0; 2048];
    let ask = |id| {
        let start = Instant::now();
        socket.send(&question(id)).unwrap();
        receive(socket, &mut buffer);
        micros(start.elapsed())
    };
    (0..100).map(ask).collect()
}

fn receive(socket: &UdpSocket, buffer: &mut [u8]) {
    let length = socket.recv(buffer).unwrap();
    assert!(length > 12 && buffer[3] & 0xf == 0 && buffer[7] == 1);
}
