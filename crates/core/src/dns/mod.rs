//! Authoritative DNS answers: query bytes in, answer bytes out.

mod answer;
mod quick;

pub use answer::{Addresses, Transport, answer};
