//! The resolver, asked by the clients that people ask with, and by some that mean harm.

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream, UdpSocket};
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::Duration;

use bentlane_tests::{World, figure, pause, rounds, run};

fn dig(at: SocketAddr, args: &[&str]) -> String {
    let (server, port) = (format!("@{}", at.ip()), at.port().to_string());
    let common = [
        server.as_str(),
        "-p",
        &port,
        "+tries=1",
        "+time=5",
        "+norecurse",
    ];
    run("dig", &[&common, args].concat()).ok()
}

fn kdig(at: SocketAddr, args: &[&str]) -> String {
    let server = format!("@{}", at.ip());
    let port = at.port().to_string();
    run(
        "kdig",
        &[&[server.as_str(), "-p", &port, "+retry=0"], args].concat(),
    )
    .ok()
}

#[test]
fn zones_resolve_to_this_machine_over_both_transports() {
    let world = World::with_routes(&[]);
    let at = world.address("dns");
    for transport in ["+notcp", "+tcp"] {
        let answer = dig(at, &[transport, "+short", "a.b.moor.test", "A"]);
        assert_eq!(answer.trim(), "127.0.0.1", "{transport}");
        let whole = dig(at, &[transport, "BookinG.Moor.tesT", "MX"]);
        for part in [
            "status: NOERROR",
            "flags: qr aa;",
            "ANSWER: 0, AUTHORITY: 1",
            "SOA",
            "BookinG.Moor.tesT",
        ] {
            assert!(whole.contains(part), "{transport} {part}: {whole}");
        }
    }
    assert!(dig(at, &["+short", "moor.test", "NS"]).contains("ns.moor.test."));
    assert!(dig(at, &["example.com"]).contains("status: REFUSED"));
    assert!(dig(at, &["blackmoor.example"]).contains("status: REFUSED"));
    assert!(dig(at, &["+edns=1", "+noednsneg", "x.moor.test"]).contains("BADVERS"));
    assert!(dig(at, &["+opcode=status", "x.moor.test"]).contains("NOTIMP"));

    let answer = kdig(at, &["+edns=0", "+bufsize=4096", "x.moor.test", "A"]);
    for part in ["status: NOERROR", "UDP size: 1232 B", "127.0.0.1"] {
        assert!(answer.contains(part), "{part}: {answer}");
    }
    let https = kdig(at, &["x.moor.test", "HTTPS"]);
    let port = format!("port={}", world.address("https").port());
    for part in ["alpn=h2,http/1.1", &port] {
        assert!(https.contains(part), "{part}: {https}");
    }
    assert!(kdig(at, &["-x", "127.0.0.1"]).contains("localhost."));
    assert!(kdig(at, &["+cookie", "x.moor.test"]).contains("COOKIE"));
    assert!(dig(at, &["+cookie=0123456789abcdef", "x.moor.test"]).contains("(good)"));
    assert!(kdig(at, &["+tcp", "moor.test", "SOA"]).contains("hostmaster.moor.test."));
}

#[test]
fn zones_come_and_go_at_once() {
    let world = World::new();
    let at = world.address("dns");
    assert!(dig(at, &["x.fell.test"]).contains("status: NXDOMAIN"));
    world.ok(&["zone", "add", "fell.test"]);
    assert_eq!(dig(at, &["+short", "x.fell.test"]).trim(), "127.0.0.1");
    world.ok(&["zone", "remove", "fell.test"]);
    assert!(dig(at, &["x.fell.test"]).contains("status: NXDOMAIN"));
}

/// A question for `x.moor.test A`, changed in one place.
fn question(position: usize, octets: &[u8]) -> Vec<u8> {
    let mut message =
        b"\x12\x34\x01\0\0\x01\0\0\0\0\0\0\x01x\x04moor\x04test\0\0\x01\0\x01".to_vec();
    message.splice(position..position + octets.len(), octets.iter().copied());
    message
}

#[test]
fn malformed_packets_get_formerr_or_silence_and_do_no_harm() {
    let world = World::with_routes(&[]);
    let at = world.address("dns");
    let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
    socket
        .set_read_timeout(Some(Duration::from_secs(5)))
        .unwrap();
    socket.connect(at).unwrap();
    let mut buffer = [0; 2048];
    let formerr = [
        question(4, &[0, 2]),
        question(12, &[0xc0, 12]),
        question(12, &[0xc0, 14, 0xc0, 12]),
        question(10, &[0xff, 0xff]),
        question(0, &[])[..14].to_vec(),
        [question(0, &[]), vec![0; 5000]].concat()[..5000].to_vec(),
    ];
    for (row, packet) in formerr.iter().enumerate() {
        socket.send(packet).unwrap();
        let length = socket
            .recv(&mut buffer)
            .unwrap_or_else(|error| panic!("row {row}: {error}"));
        let code = buffer[3] & 0xf;
        // Bytes after a complete question are no fault of the question.
        let wanted = if packet.len() == 5000 {
            [0, 1].contains(&code)
        } else {
            code == 1
        };
        assert!(length >= 12 && wanted, "row {row}: {:?}", &buffer[..length]);
    }
    for silent in [question(2, &[0x81]), vec![], vec![0; 11]] {
        socket.send(&silent).unwrap();
    }
    socket.send(&question(0, &[0x43, 0x21])).unwrap();
    let length = socket.recv(&mut buffer).unwrap();
    assert_eq!(&buffer[..2], [0x43, 0x21], "what deserves silence got it");
    assert_eq!(buffer[7], 1, "one answer: {:?}", &buffer[..length]);

    // A TCP client that claims more than it sends does not keep others waiting.
    let mut slow = TcpStream::connect(at).unwrap();
    slow.write_all(&[0xff, 0xff, 0]).unwrap();
    let mut quick = TcpStream::connect(at).unwrap();
    quick
        .set_read_timeout(Some(Duration::from_secs(5)))
        .unwrap();
    let message = question(0, &[]);
    // Two questions in one go (RFC 7766 section 6.2.1.1).
    let framed = [&[0, u8::try_from(message.len()).unwrap()][..], &message].concat();
    quick.write_all(&[&framed[..], &framed].concat()).unwrap();
    for _ in 0..2 {
        let mut length = [0; 2];
        quick.read_exact(&mut length).unwrap();
        let mut answer = vec![0; usize::from(u16::from_be_bytes(length))];
        quick.read_exact(&mut answer).unwrap();
        assert_eq!(answer[7], 1);
    }
}

#[test]
fn simultaneous_queries_each_get_their_answer() {
    let world = World::with_routes(&[]);
    let patience = Some(Duration::from_secs(5));
    let sockets = [(); 3].map(|()| {
        let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
        socket.set_read_timeout(patience).unwrap();
        socket.connect(world.address("dns")).unwrap();
        socket
    });
    // More than are taken at once, with some among them that get no answer.
    for id in 0..40_u8 {
        for (number, socket) in sockets.iter().enumerate() {
            let number = u8::try_from(number).unwrap();
            socket.send(&question(0, &[number, id])).unwrap();
        }
        sockets[0].send(&question(2, &[0x81])).unwrap();
    }
    for (number, socket) in sockets.iter().enumerate() {
        let mut ids = Vec::new();
        for _ in 0..40 {
            let mut buffer = [0; 512];
            socket.recv(&mut buffer).unwrap();
            assert_eq!((usize::from(buffer[0]), buffer[7]), (number, 1));
            ids.push(buffer[1]);
        }
        assert_eq!(ids, (0..40).collect::<Vec<u8>>());
    }
}

#[test]
fn questions_are_answered_beside_garbage() {
    const PER_BURST: usize = 320;
    let world = World::with_routes(&[("a.moor.test", "4310")]);
    let at = world.address("dns");
    let end = AtomicBool::new(false);
    let (asked, mut unanswered) = (rounds(40), 0);
    let sent = thread::scope(|scope| {
        let flood = scope.spawn(|| {
            let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
            // xorshift: any octets will do.
            let (mut state, mut sent) = (0x9e37_79b9_7f4a_7c15_u64, 0);
            while !end.load(Ordering::Relaxed) {
                for _ in 0..PER_BURST {
                    let mut garbage = [0; 40];
                    for part in garbage.chunks_mut(8) {
                        state ^= state << 13;
                        state ^= state >> 7;
                        state ^= state << 17;
                        part.copy_from_slice(&state.to_le_bytes());
                    }
                    sent += usize::from(socket.send_to(&garbage, at).is_ok());
                }
                pause(Duration::from_millis(10));
            }
            sent
        });
        let client = UdpSocket::bind("127.0.0.1:0").unwrap();
        client.connect(at).unwrap();
        client
            .set_read_timeout(Some(Duration::from_secs(2)))
            .unwrap();
        for _ in 0..asked {
            let question = b"\0\x07\x01\0\0\x01\0\0\0\0\0\0\x01a\x04moor\x04test\0\0\x01\0\x01";
            client.send(question).unwrap();
            unanswered += usize::from(client.recv(&mut [0; 512]).is_err());
            pause(Duration::from_millis(25));
        }
        end.store(true, Ordering::Relaxed);
        flood.join().unwrap()
    });
    figure("garbage datagrams", sent);
    figure("questions", asked);
    figure("unanswered", unanswered);
    assert_eq!(unanswered, 0, "of {asked}, beside {sent} datagrams");
}
