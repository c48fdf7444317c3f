//! Authoritative DNS answers: query bytes in, answer bytes out.

mod answer;

pub use answer::{Addresses, Transport, answer};
