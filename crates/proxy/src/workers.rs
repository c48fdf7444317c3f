use std::future::Future;
use std::io;
use std::num::NonZeroUsize;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread::{Builder, available_parallelism};

use tokio::runtime::{self, Handle};
use tokio_util::sync::{CancellationToken, DropGuard};

use crate::link;

/// Threads at most, however many cores there are.
const MOST: usize = 16;
/// Threads of each for what blocks, such as reading files, at most.
const BLOCKING: usize = 32;

/// The threads that serve connections, one for each core. A connection stays with one of them from
/// its first octet to its last, and so does what it has to do with targets: nothing has to be handed
/// over, and nobody has to be woken for that. Cloning gives another handle to the same ones; with the
/// last the threads end, and what is still at work on them ends with them.
#[derive(Clone, Debug)]
pub(crate) struct Workers {
    workers: Arc<[Worker]>,
    _end: Arc<DropGuard>,
}

#[derive(Debug)]
struct Worker {
    handle: Handle,
    /// Connections that it serves.
    load: Arc<AtomicUsize>,
}

impl Workers {
    pub(crate) fn start() -> io::Result<Self> {
        let count = available_parallelism()
            .map_or(1, NonZeroUsize::get)
            .min(MOST);
        let end = CancellationToken::new();
        let workers = (0..count).map(|number| Worker::start(number, end.clone()));
        Ok(Self {
            workers: workers.collect::<io::Result<_>>()?,
            _end: Arc::new(end.drop_guard()),
        })
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
    fn start(number: usize, end: CancellationToken) -> io::Result<Self> {
        let runtime = runtime::Builder::new_current_thread()
            .enable_all()
            .max_blocking_threads(BLOCKING)
            .build()?;
        let handle = runtime.handle().clone();
        let run = move || {
            runtime.block_on(end.cancelled());
            // While its sockets can still be told so.
            link::close_all();
            runtime.shutdown_background();
        };
        Builder::new().name(format!("proxy-{number}")).spawn(run)?;
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
