//! What checks cost: a thousand routes at once, and a hundred in the background.

use std::convert::Infallible;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::Path;
use std::time::{Duration, Instant};

use bytes::Bytes;
use http_body_util::Full;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper::{Request, Response};
use hyper_util::rt::TokioIo;
use tokio::net::TcpListener;

use crate::measure::{Aim, Report, Scale};
use crate::process::cpu_time;
use crate::subject::Subject;

/// How long the app takes for an answer.
const ANSWER: Duration = Duration::from_millis(20);
/// Routes that the background is measured with.
const IN_BACKGROUND: usize = 100;

/// The time of a check of 1,000 routes, and the share of a core that the background takes.
pub(crate) fn measure(
    bentlane: &Path,
    folder: &Path,
    upstream: SocketAddr,
    scale: Scale,
    report: &mut Report,
) {
    let runtime = tokio::runtime::Builder::new_multi_thread()
        .worker_threads(1)
        .enable_all()
        .build()
        .unwrap();
    let target = runtime.block_on(slow_app()).port().to_string();

    let subject = Subject::start(bentlane, &folder.join("checks"), upstream);
    subject.add_routes(crate::subject::ROUTES, &target);
    let times = (0..scale.starts).map(|_| {
        let start = Instant::now();
        subject.check_all();
        start.elapsed().as_secs_f64()
    });
    let times = times.collect();
    let name = "a check of 1,000 routes, 20 ms a target";
    report.alone(name, "s", times, Aim::AtMost(3.0));
    drop(subject);

    let subject = Subject::start(bentlane, &folder.join("background"), upstream);
    subject.add_routes(IN_BACKGROUND, &target);
    let (before, start) = (cpu_time(subject.pid()), Instant::now());
    std::thread::sleep(scale.background);
    let share = (cpu_time(subject.pid()) - before).as_secs_f64() / start.elapsed().as_secs_f64();
    let name = "of a core, 100 routes checked in the background";
    report.alone(name, "%", vec![share * 100.0], Aim::AtMost(1.0));
}

/// An app that takes its time for each answer.
async fn slow_app() -> SocketAddr {
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            tokio::spawn(async move {
                let service = service_fn(|_: Request<hyper::body::Incoming>| async {
                    tokio::time::sleep(ANSWER).await;
                    Ok::<_, Infallible>(Response::new(Full::new(Bytes::from("slow"))))
                });
                let _ = http1::Builder::new()
                    .serve_connection(TokioIo::new(stream), service)
                    .await;
            });
        }
    });
    address
}
