//! Errors.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// An error as RFC 9457 writes it: `application/problem+json`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// The status code's own words.
    pub title: String,
    /// The status code.
    pub status: u16,
    /// What is wrong, in a sentence.
    pub detail: String,
    /// Which fields break which rules; empty when the fault is no field's.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub errors: Vec<FieldError>,
}

/// A field that breaks a rule.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FieldError {
    /// The field's name.
    pub field: String,
    /// The rule.
    pub reason: String,
}
