use std::io::{BufRead, IsTerminal};

use crate::error::CliError;
use crate::output::Output;

/// Whether there is a terminal to ask on.
pub(crate) fn is_asked() -> bool {
    std::io::stdin().is_terminal()
}

/// Asks on the terminal, and gives the line that was typed.
pub(crate) fn answer(output: &Output, question: &str) -> Result<String, CliError> {
    if !is_asked() {
        return Err(CliError::NotAsked);
    }
    output.say(question);
    let mut answer = String::new();
    let read = std::io::stdin().lock().read_line(&mut answer);
    read.map_err(|source| CliError::Io {
        verb: "read the answer".to_owned(),
        source,
    })?;
    Ok(answer.trim().to_owned())
}

/// Asks on the terminal whether to do what was just shown.
pub(crate) fn agreed(output: &Output) -> Result<bool, CliError> {
    let answer = answer(output, "Do it? Type y for yes.")?;
    Ok(matches!(answer.as_str(), "y" | "Y" | "yes"))
}
