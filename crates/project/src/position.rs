use std::fmt;
use std::ops::Range;

use serde::{Deserialize, Serialize};

/// Something wrong with a project file, and where.
#[derive(
    Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema, thiserror::Error,
)]
pub struct Fault {
    /// The line, from 1.
    pub line: usize,
    /// The column in characters, from 1.
    pub column: usize,
    /// What is wrong, and what would be right.
    pub reason: String,
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(
            f,
            "line {}, column {}: {}",
            self.line, self.column, self.reason
        )
    }
}

/// A text, to say where in it something is.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Text<'a>(pub(crate) &'a str);

impl Text<'_> {
    /// A fault at a place in the text; without one, at its beginning.
    pub(crate) fn fault(self, at: Option<Range<usize>>, reason: impl Into<String>) -> Fault {
        let at = at.map_or(0, |range| range.start).min(self.0.len());
        let before = self.0.get(..at).unwrap_or_default();
        let line_begins = before.rfind('\n').map_or(0, |at| at + 1);
        Fault {
            line: before.matches('\n').count() + 1,
            column: before[line_begins..].chars().count() + 1,
            reason: reason.into(),
        }
    }
}
