use std::io::{BufRead, IsTerminal, Write};

use crate::error::CliError;
use crate::output::Output;

/// Asks on the terminal whether to do what was just shown.
pub(crate) fn agreed(output: &Output) -> Result<bool, CliError> {
    let mut terminal = std::io::stdin().lock();
    if !std::io::stdin().is_terminal() {
        return Err(CliError::NotAsked);
    }
    output.say("Do it? Type y for yes.");
    let _ = std::io::stderr().flush(); // a question that cannot be shown is answered by nobody
    let mut answer = String::new();
    terminal
        .read_line(&mut answer)
        .map_err(|source| CliError::Io {
            verb: "read the answer".to_owned(),
            source,
        })?;
    Ok(matches!(answer.trim(), "y" | "Y" | "yes"))
}
