use std::io::IoSliceMut;
use std::net::{SocketAddr, UdpSocket};
use std::os::fd::AsRawFd;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use nix::cmsg_space;
use nix::sys::socket::{ControlMessageOwned, MsgFlags, recvmsg, setsockopt, sockopt};
use nix::sys::time::TimeSpec;

use crate::load::Ends;
use crate::measure::{Aim, Report, Scale, micros, quantile};
use crate::process::{Server, cpu_time, thread_time};
use crate::subject::Subject;

/// Questions on their way at a time when CPU time is measured.
const WINDOW: usize = 16;

/// CPU time, time per answer and answers per second, of the bare responder and of the resolver in
/// turn. The CPU time is that of the resolver's threads: with many routes the service is busy
/// checking them.
pub(crate) fn compare(
    responder: &Server,
    subject: &Subject,
    scale: Scale,
    routes: &str,
    report: &mut Report,
) {
    let (bare, ours) = (socket(responder.address()), socket(subject.dns()));
    let (mut cpu, mut rate, mut time) = (Vec::new(), Vec::new(), Vec::new());
    for socket in [&bare, &ours] {
        ask(socket, scale.questions / 10);
    }
    for _ in 0..scale.rounds {
        let of = |socket, pid, threads| {
            let (before, start) = (thread_time(pid, threads), Instant::now());
            let asked = ask(socket, scale.questions);
            let took = start.elapsed().as_secs_f64();
            (
                micros(thread_time(pid, threads) - before) / asked,
                asked / took,
            )
        };
        let (bare_cpu, bare_rate) = of(&bare, responder.pid(), "");
        let (our_cpu, our_rate) = of(&ours, subject.pid(), "dns udp");
        cpu.push((bare_cpu, our_cpu));
        rate.push((bare_rate, our_rate));
        let (mut slow, mut fast) = (Vec::new(), Vec::new());
        for _ in 0..scale.questions.div_ceil(1_000) {
            slow.extend(block(&bare));
            fast.extend(block(&ours));
        }
        time.push((quantile(&slow, 0.5), quantile(&fast, 0.5)));
    }
    report.compare(
        format!("CPU per answer{routes}"),
        "µs",
        &cpu,
        Some(Aim::AtMost(1.1)),
    );
    report.compare(
        format!("time of an answer, p50{routes}"),
        "µs",
        &time,
        Some(Aim::AtMost(1.08)),
    );
    report.compare(
        format!("answers per second{routes}"),
        "1/s",
        &rate,
        Some(Aim::AtLeast(0.95)),
    );
}

fn socket(to: SocketAddr) -> UdpSocket {
    let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
    let patience = Duration::from_secs(5);
    socket.set_read_timeout(Some(patience)).unwrap();
    socket.connect(to).unwrap();
    socket
}

/// Answers that an upstream resolver gave before, beside those from the zones.
pub(crate) fn kept(subject: &Subject, scale: Scale, report: &mut Report) {
    let socket = socket(subject.dns());
    let (mut cpu, mut time) = (Vec::new(), Vec::new());
    ask_for(&socket, OUTSIDE, 100);
    for _ in 0..scale.rounds {
        let cpu_of = |name| {
            let before = cpu_time(subject.pid());
            let asked = ask_for(&socket, name, scale.questions);
            micros(cpu_time(subject.pid()) - before) / asked
        };
        cpu.push((cpu_of(OURS), cpu_of(OUTSIDE)));
        let (mut ours, mut outside) = (Vec::new(), Vec::new());
        for _ in 0..scale.questions.div_ceil(1_000) {
            ours.extend(block(&socket));
            outside.extend(block_for(&socket, OUTSIDE));
        }
        time.push((quantile(&ours, 0.5), quantile(&outside, 0.5)));
    }
    let name = "kept upstream answer beside one of the zones";
    report.compare(format!("CPU, {name}"), "µs", &cpu, None);
    report.compare(format!("p50, {name}"), "µs", &time, Some(Aim::AtMost(1.2)));
}

/// Ordinary answers while garbage comes in, beside the quiet ones.
pub(crate) fn garbage(subject: &Subject, scale: Scale, report: &mut Report) {
    let ours = socket(subject.dns());
    let mut time = Vec::new();
    for _ in 0..scale.rounds {
        let quiet = times(&ours, scale);
        let end = Arc::new(AtomicBool::new(false));
        let sender = std::thread::spawn({
            let (end, to) = (Arc::clone(&end), subject.dns());
            move || flood(to, &end)
        });
        let flooded = times(&ours, scale);
        end.store(true, Ordering::Relaxed);
        sender.join().unwrap();
        time.push((quantile(&quiet, 0.5), quantile(&flooded, 0.5)));
    }
    let name = "p50 of an answer beside 10,000 packets of garbage a second";
    report.compare(name, "µs", &time, Some(Aim::AtMost(2.0)));
}

/// Answers while the proxy runs flat out, beside the quiet ones, and beside those that the bare
/// responder gives then.
pub(crate) fn beside_load(
    responder: &Server,
    subject: &Subject,
    ends: &Ends,
    scale: Scale,
    report: &mut Report,
) {
    let (bare, ours) = (socket(responder.address()), socket(subject.dns()));
    let (mut time, mut beside) = (Vec::new(), Vec::new());
    for socket in [&bare, &ours] {
        setsockopt(socket, sockopt::ReceiveTimestampns, &true).unwrap();
    }
    let paced = |socket| {
        let count = scale.questions / 100;
        (0..count)
            .map(|id| arrival(socket, u16::try_from(id % 1_000).unwrap()))
            .collect::<Vec<_>>()
    };
    for _ in 0..scale.rounds {
        let quiet = paced(&ours);
        let end = AtomicBool::new(false);
        let (others, loaded) = std::thread::scope(|scope| {
            scope.spawn(|| ends.load_ours(&end));
            std::thread::sleep(Duration::from_millis(200));
            let (others, loaded) = (paced(&bare), paced(&ours));
            end.store(true, Ordering::Relaxed);
            (others, loaded)
        });
        let p99 = quantile(&loaded, 0.99);
        time.push((quantile(&quiet, 0.99), p99));
        beside.push((quantile(&others, 0.99), p99));
    }
    let name = "p99 of an answer beside a proxy flat out";
    report.compare(format!("{name}, of the quiet one"), "µs", &time, None);
    report.compare(
        format!("{name}, of the bare one then"),
        "µs",
        &beside,
        Some(Aim::AtMost(1.2)),
    );
}

fn times(socket: &UdpSocket, scale: Scale) -> Vec<f64> {
    let blocks = scale.questions.div_ceil(2_000);
    (0..blocks).flat_map(|_| block(socket)).collect()
}

/// Sends some 10,000 packets a second that are no queries, or queries that are malformed.
fn flood(to: SocketAddr, end: &AtomicBool) {
    let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
    socket.connect(to).unwrap();
    let mut packets = [[0xc0; 40], [0x55; 40], [0; 40]];
    for packet in &mut packets {
        packet[2] = 1; // a query, by its header
    }
    while !end.load(Ordering::Relaxed) {
        for packet in packets.iter().cycle().take(50) {
            // The answers are not read, and a full queue is the point.
            let _ = socket.send(packet);
        }
        std::thread::sleep(Duration::from_millis(5));
    }
}

/// The pause between lookups that come now and then, as those of one person do.
const NOW_AND_THEN: Duration = Duration::from_millis(1);

/// The names that are asked for, as on the wire.
const OURS: &[u8] = b"\x04n500\x04moor\x04test\0";
const OUTSIDE: &[u8] = b"\x04n500\x04moor\x07example\0";

/// A question for an address of `name`, with EDNS0 as resolvers send it.
fn question(id: u16, name: &[u8]) -> Vec<u8> {
    let mut message = id.to_be_bytes().to_vec();
    message.extend(b"\x01\0\0\x01\0\0\0\0\0\x01");
    message.extend(name);
    message.extend(b"\0\x01\0\x01");
    message.extend(b"\0\0\x29\x04\xd0\0\0\0\0\0\0");
    message
}

fn ask(socket: &UdpSocket, count: usize) -> f64 {
    ask_for(socket, OURS, count)
}

/// Keeps some questions on their way until `count` have been answered; gives how many were.
#[allow(clippy::cast_possible_truncation, reason = "ids go round")]
fn ask_for(socket: &UdpSocket, name: &[u8], count: usize) -> f64 {
    let mut buffer = [0; 2048];
    for id in 0..WINDOW {
        socket.send(&question(id as u16, name)).unwrap();
    }
    for id in WINDOW..count + WINDOW {
        receive(socket, &mut buffer);
        if id < count {
            socket.send(&question(id as u16, name)).unwrap();
        }
    }
    f64::from(u32::try_from(count).unwrap())
}

fn block(socket: &UdpSocket) -> Vec<f64> {
    block_for(socket, OURS)
}

/// From when a question is sent, after a pause, to when the system notes that its answer has come in,
/// in µs: what is measured is the answer, not how long this thread waits for its own turn to read it.
fn arrival(socket: &UdpSocket, id: u16) -> f64 {
    std::thread::sleep(NOW_AND_THEN);
    let (mut buffer, mut control) = ([0; 2048], cmsg_space!(TimeSpec));
    let sent = SystemTime::now();
    socket.send(&question(id, OURS)).unwrap();
    let mut room = [IoSliceMut::new(&mut buffer)];
    let flags = MsgFlags::empty();
    let answer = recvmsg::<()>(socket.as_raw_fd(), &mut room, Some(&mut control), flags).unwrap();
    let noted = answer.cmsgs().unwrap().find_map(|noted| match noted {
        ControlMessageOwned::ScmTimestampns(at) => Some(UNIX_EPOCH + Duration::from(at)),
        _ => None,
    });
    micros(noted.unwrap().duration_since(sent).unwrap())
}

/// The times of a hundred questions, one after the other, in µs.
fn block_for(socket: &UdpSocket, name: &[u8]) -> Vec<f64> {
    let mut buffer = [0; 2048];
    let ask = |id| {
        let start = Instant::now();
        socket.send(&question(id, name)).unwrap();
        receive(socket, &mut buffer);
        micros(start.elapsed())
    };
    (0..100).map(ask).collect()
}

fn receive(socket: &UdpSocket, buffer: &mut [u8]) {
    let length = socket.recv(buffer).unwrap();
    assert!(length > 12 && buffer[3] & 0xf == 0 && buffer[7] == 1);
}
