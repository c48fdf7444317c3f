use std::error::Error;

/// An error with its causes, as one line: `cannot listen on 127.0.0.1:443: permission denied`.
#[must_use]
pub fn chain(error: &(dyn Error + 'static)) -> String {
    let causes = std::iter::successors(Some(error), |&error| error.source());
    causes
        .map(ToString::to_string)
        .collect::<Vec<_>>()
        .join(": ")
}
