use std::future::Future;
use std::io;
use std::num::NonZeroUsize;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread::available_parallelism;

use bentlane_supervisor::{Policy, Stop, Supervisor};
use tokio::runtime::{self, Handle};
use tokio_util::sync::CancellationToken;

use crate::target_connection;

/// Threads at most, however many cores there are.
const MOST: usize = 16;
/// Turns of tasks between two looks at what has come from the network. The default of 61 makes every step of a
/// request wait for as many turns of a connection that has always something to do.
const EVENT_INTERVAL: u32 = 8;
/// Threads of each for what blocks, such as reading files, at most.
const BLOCKING: usize = 32;

/// The threads that serve connections, one for each core. A connection stays with one of them from
/// its first byte to its last, and so do its connections to targets: no thread has to wake another.
/// Cloning gives another handle to the same threads.
#[derive(Clone, Debug)]
pub(crate) struct Workers {
    workers: Arc<[Worker]>,
    end: CancellationToken,
}

#[derive(Debug)]
struct Worker {
    handle: Handle,
    /// Connections that it serves.
    load: Arc<AtomicUsize>,
}

impl Workers {
    pub(crate) fn start(supervisor: &Supervisor) -> io::Result<Self> {
        let count = available_parallelism()
            .map_or(1, NonZeroUsize::get)
            .min(MOST);
        let end = CancellationToken::new();
        let workers = (0..count).map(|number| Worker::start(number, end.clone(), supervisor));
        Ok(Self {
            workers: workers.collect::<io::Result<_>>()?,
            end,
        })
    }

    /// Ends the threads, and what is still at work on them.
    pub(crate) fn end(&self) {
        self.end.cancel();
    }

    /// Has the thread that serves the fewest connections serve one more, for as long as it has the
    /// place that it is given.
    pub(crate) fn serve<F>(&self, connection: impl FnOnce(Place) -> F)
    where
        F: Future<Output = ()> + Send + 'static,
    {
        let load = |worker: &&Worker| worker.load.load(Ordering::Relaxed);
        if let Some(worker) = self.workers.iter().min_by_key(load) {
            worker.handle.spawn(connection(Place::on(worker)));
        }
    }
}

impl Worker {
    fn start(number: usize, end: CancellationToken, supervisor: &Supervisor) -> io::Result<Self> {
        let runtime = runtime::Builder::new_current_thread()
            .enable_all()
            .event_interval(EVENT_INTERVAL)
            .max_blocking_threads(BLOCKING)
            .build()?;
        let handle = runtime.handle().clone();
        let mut runtime = Some(runtime);
        let run = move |stop: &Stop| {
            let runtime = runtime.take().ok_or("its runtime has ended")?;
            runtime.block_on(stop.wait());
            // While its sockets can still be closed properly.
            target_connection::close_all();
            runtime.shutdown_background();
            Ok(())
        };
        // Fatal, since its connections end with it, and others wait for what it had to do.
        supervisor.spawn_thread(end, format!("proxy-{number}"), Policy::Fatal, run, || {});
        Ok(Self {
            handle,
            load: Arc::default(),
        })
    }
}

/// A connection's place on a thread, until it is dropped.
#[derive(Debug)]
pub(crate) struct Place(Arc<AtomicUsize>);

impl Place {
    fn on(worker: &Worker) -> Self {
        worker.load.fetch_add(1, Ordering::Relaxed);
        Self(Arc::clone(&worker.load))
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}
