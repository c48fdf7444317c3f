//! What TLS costs: making a certificate, and shaking hands.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::sync::Arc;
use std::time::Instant;

use bentlane_ca::{Authority, Limits, Owner};
use rcgen::{KeyPair, PKCS_ECDSA_P256_SHA256, SigningKey};
use rustls::client::Resumption;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName};
use rustls::{ClientConfig, ClientConnection, RootCertStore};
use time::OffsetDateTime;

use crate::bare::NAME;
use crate::measure::{Aim, Report, Scale, micros, quantile};
use crate::process::{Server, cpu_time};
use crate::subject::Subject;

/// Certificates made in a round of each side.
const MADE: usize = 200;
/// Handshakes in a round of each side.
const HANDSHAKES: usize = 300;
/// Names whose certificates are there already.
const WARM: usize = 10_000;

/// A certificate for a name, beside the key and the signature that it cannot do without.
pub(crate) fn issuing(scale: Scale, report: &mut Report) {
    let owner = Owner {
        host: "fell".into(),
    };
    let now = OffsetDateTime::now_utc();
    let root = Authority::create(&owner, &Limits::of_root([]), now).unwrap();
    let issuer = root
        .issuer_for(["moor.test".parse().unwrap()], now)
        .unwrap();
    let signer = KeyPair::generate_for(&PKCS_ECDSA_P256_SHA256).unwrap();
    let per = |start: Instant| micros(start.elapsed()) / f64::from(u32::try_from(MADE).unwrap());
    let mut pairs = Vec::new();
    for _ in 0..scale.rounds {
        let start = Instant::now();
        for _ in 0..MADE {
            let key = KeyPair::generate_for(&PKCS_ECDSA_P256_SHA256).unwrap();
            let signature = signer.sign(&[7; 500]).unwrap();
            assert!(!signature.is_empty() && !key.serialize_der().is_empty());
        }
        let bare = per(start);
        let start = Instant::now();
        for number in 0..MADE {
            let name = format!("n{number}.moor.test").parse().unwrap();
            assert_eq!(issuer.issue(&name, now).unwrap().chain.len(), 2);
        }
        pairs.push((bare, per(start)));
    }
    let name = "making a certificate, beside its key and signature";
    report.compare(name, "µs", &pairs, Some(Aim::AtMost(1.1)));
}

/// CPU time of full handshakes beside the bare relay's, and the time of the first one for a name
/// beside that of a later one.
pub(crate) fn handshakes(
    relay: &Server,
    subject: &Subject,
    folder: &Path,
    scale: Scale,
    report: &mut Report,
) {
    let bare = std::fs::read(folder.join("cert.der")).unwrap();
    let bare = client(CertificateDer::from(bare));
    let ours = client(CertificateDer::from_pem_file(subject.root()).unwrap());
    let ours_at = subject.https();
    let warm = if scale.rounds > 2 { WARM } else { HANDSHAKES };
    for number in 0..warm {
        shake(&ours, ours_at, &format!("w{number}.any.moor.test"));
    }
    let mut cpu = Vec::new();
    let mut first_and_later = Vec::new();
    for round in 0..scale.rounds {
        let before = cpu_time(relay.pid());
        for _ in 0..HANDSHAKES {
            shake(&bare, relay.address(), NAME);
        }
        let bare_cpu = micros(cpu_time(relay.pid()) - before);
        let before = cpu_time(subject.pid());
        for number in 0..HANDSHAKES {
            let name = (round * HANDSHAKES + number) * 7 % warm;
            shake(&ours, ours_at, &format!("w{name}.any.moor.test"));
        }
        cpu.push((bare_cpu, micros(cpu_time(subject.pid()) - before)));
        let names: Vec<String> = (0..100)
            .map(|it| format!("new{it}-{round}.any.moor.test"))
            .collect();
        let time = |names: &[String]| -> Vec<f64> {
            let one = |name: &String| {
                let start = Instant::now();
                shake(&ours, ours_at, name);
                micros(start.elapsed())
            };
            names.iter().map(one).collect()
        };
        let (first, later) = (time(&names), time(&names));
        first_and_later.push((quantile(&later, 0.5), quantile(&first, 0.5)));
    }
    let per = f64::from(u32::try_from(HANDSHAKES).unwrap());
    let cpu: Vec<_> = cpu
        .iter()
        .map(|(bare, ours)| (bare / per, ours / per))
        .collect();
    let name = format!("CPU per full handshake, {warm} names");
    report.compare(name, "µs", &cpu, Some(Aim::AtMost(1.03)));
    let name = "first handshake for a name, p50, beside a later one";
    report.compare(name, "µs", &first_and_later, Some(Aim::AtMost(1.2)));
}

fn client(root: CertificateDer<'static>) -> Arc<ClientConfig> {
    let mut config = client_config(root, b"http/1.1");
    config.resumption = Resumption::disabled();
    Arc::new(config)
}

/// A client that trusts only `root` and uses one protocol.
pub(crate) fn client_config(root: CertificateDer<'static>, protocol: &[u8]) -> ClientConfig {
    let mut roots = RootCertStore::empty();
    roots.add(root).unwrap();
    let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
    let mut config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_root_certificates(roots)
        .with_no_client_auth();
    config.alpn_protocols = vec![protocol.to_vec()];
    config
}

/// One handshake, seen through to the server's part in it: a request that is answered.
fn shake(config: &Arc<ClientConfig>, at: std::net::SocketAddr, name: &str) {
    let server = ServerName::try_from(name.to_owned()).unwrap();
    let mut tls = ClientConnection::new(Arc::clone(config), server).unwrap();
    let mut stream = TcpStream::connect(at).unwrap();
    stream.set_nodelay(true).unwrap();
    let mut stream = rustls::Stream::new(&mut tls, &mut stream);
    let request = format!("HEAD / HTTP/1.1\r\nhost: {name}\r\nconnection: close\r\n\r\n");
    stream.write_all(request.as_bytes()).unwrap();
    assert!(stream.read(&mut [0; 64]).unwrap() > 0);
}
