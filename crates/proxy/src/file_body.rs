use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::pin::Pin;
use std::task::{Context, Poll, ready};

use bytes::Bytes;
use tokio::task::{JoinHandle, spawn_blocking};

/// Bytes of a file that are read at a time.
const CHUNK: usize = 64 * 1024;

/// A file's content on its way, a chunk at a time.
#[derive(Debug)]
pub(crate) struct FileBody {
    file: Option<File>,
    left: u64,
    reading: Option<JoinHandle<(File, io::Result<Bytes>)>>,
}

impl FileBody {
    pub(crate) fn new(mut file: File, start: u64, end: u64) -> io::Result<Self> {
        file.seek(SeekFrom::Start(start))?;
        Ok(Self {
            file: Some(file),
            left: end - start,
            reading: None,
        })
    }

    pub(crate) fn left(&self) -> u64 {
        self.left
    }

    pub(crate) fn is_over(&self) -> bool {
        self.left == 0
    }

    /// The next chunk. A file that became shorter meanwhile ends the response as broken.
    pub(crate) fn poll(&mut self, context: &mut Context<'_>) -> Poll<Option<io::Result<Bytes>>> {
        if self.is_over() {
            return Poll::Ready(None);
        }
        if let Some(mut file) = self.file.take() {
            let most = usize::try_from(self.left).unwrap_or(CHUNK).min(CHUNK);
            self.reading = Some(spawn_blocking(move || {
                let mut chunk = vec![0; most];
                let read = file.read(&mut chunk).and_then(|length| {
                    chunk.truncate(length);
                    if length == 0 {
                        return Err(io::ErrorKind::UnexpectedEof.into());
                    }
                    Ok(Bytes::from(chunk))
                });
                (file, read)
            }));
        }
        let Some(reading) = &mut self.reading else {
            return Poll::Ready(None);
        };
        let outcome = ready!(Pin::new(reading).poll(context));
        self.reading = None;
        Poll::Ready(Some(match outcome {
            Ok((file, Ok(chunk))) => {
                self.file = Some(file);
                self.left = self.left.saturating_sub(chunk.len() as u64);
                Ok(chunk)
            }
            Ok((_, Err(error))) => Err(error),
            Err(cause) => Err(io::Error::other(cause)),
        }))
    }
}
