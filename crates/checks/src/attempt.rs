use std::fmt;
use std::net::SocketAddr;

/// One address that did not accept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Attempt {
    /// The address tried.
    pub address: SocketAddr,
    /// What came back.
    pub refusal: Refusal,
}

/// Why an address did not accept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Refusal {
    /// A reset: nothing listens there.
    Refused,
    /// Nothing came back in time.
    Silent,
    /// Anything else, in the system's words.
    Other(String),
}

impl fmt::Display for Refusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Refused => f.write_str("connection refused"),
            Self::Silent => f.write_str("no answer"),
            Self::Other(reason) => f.write_str(reason),
        }
    }
}

impl fmt::Display for Attempt {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.address, self.refusal)
    }
}
