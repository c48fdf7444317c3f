//! A value that breaks a rule.

/// A value that breaks a rule: which field, and which rule.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{field}: {reason}")]
pub struct Invalid {
    /// The field's name as the API and the project file spell it.
    pub field: &'static str,
    /// The rule, with the value that breaks it and what would be right.
    pub reason: String,
}

impl Invalid {
    /// A broken rule for `field`.
    pub fn new(field: &'static str, reason: impl ToString) -> Self {
        Self {
            field,
            reason: reason.to_string(),
        }
    }
}
