use std::error::Error;

/// An error with its causes, as one line: `cannot listen on 127.0.0.1:443: permission denied`. A cause
/// that the text before it ends with is not said again.
#[must_use]
pub fn chain(error: &(dyn Error + 'static)) -> String {
    let causes = std::iter::successors(Some(error), |&error| error.source());
    let mut line = String::new();
    for cause in causes.map(ToString::to_string) {
        if line.is_empty() {
            line = cause;
        } else if !line.ends_with(&cause) {
            line = format!("{line}: {cause}");
        }
    }
    line
}
