//! Reading what an app prints, without letting it take a core.

use std::fs::File;
use std::io::{self, ErrorKind};
use std::os::fd::OwnedFd;
use std::time::Duration;

use tokio::net::unix::pipe::Receiver;
use tokio::time::{Instant, sleep_until, timeout};

use crate::output::Lines;

/// Bytes that are read at once.
const BUFFER: usize = 64 * 1024;
/// After how long a line that was begun, such as a question, is shown as it is.
const PROMPT: Duration = Duration::from_millis(300);
/// Bytes that are read in a span of time at most; an app that prints more waits.
const MOST: usize = 4 << 20;
const SPAN: Duration = Duration::from_millis(100);

/// A descriptor whose readiness is reported: a pipe, a terminal, or a process that ends.
///
/// # Errors
/// When the system does not report it.
pub(crate) fn source_of(descriptor: OwnedFd) -> io::Result<Receiver> {
    Receiver::from_file_unchecked(File::from(descriptor))
}

/// Reads until the other end is closed.
pub(crate) async fn read_from(source: Receiver, mut lines: Lines) {
    let mut buffer = vec![0; BUFFER];
    let (mut read_in_span, mut span) = (0, Instant::now());
    loop {
        let readable = match lines.has_begun() {
            true => match timeout(PROMPT, source.readable()).await {
                Ok(readable) => readable,
                Err(_) => {
                    lines.end_line();
                    continue;
                }
            },
            false => source.readable().await,
        };
        match readable.and_then(|()| source.try_read(&mut buffer)) {
            Ok(0) => break,
            Ok(count) => {
                lines.push(&buffer[..count]);
                if count < BUFFER / 32 {
                    lines.flush();
                }
                if span.elapsed() > SPAN {
                    (read_in_span, span) = (0, Instant::now());
                }
                read_in_span += count;
                if read_in_span > MOST {
                    sleep_until(span + SPAN).await;
                }
            }
            Err(error)
                if matches!(error.kind(), ErrorKind::Interrupted | ErrorKind::WouldBlock) => {}
            // A terminal says so when the last process with it has ended (EIO).
            Err(_) => break,
        }
    }
    lines.end_line();
}
