//! What passes the proxy, for the person who debugs: each request with its response, never what they
//! carried.

mod filter;
mod har;
mod log_line;
mod secrets;
mod tally;

use std::fmt;
use std::net::IpAddr;
use std::time::Duration;

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;

use bentlane_checks::FindingKind;

pub use filter::{ExchangeFilter, StatusRange};
pub use har::har;
pub use log_line::{Visitor, combined_line};
pub use secrets::{is_secret_key, without_secrets};
pub use tally::{Outcome, Tally};

/// One request and its response, as the proxy saw them. Bodies and
/// header fields are no part of it, and neither are values of a query that may be secrets.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Exchange {
    /// Its place among all: one more for each that is recorded.
    pub id: i64,
    /// When its head had come in.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// The address of the route; none when no route answers to the name and path.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub route: Option<String>,
    /// Who asked.
    #[schema(value_type = String)]
    pub client: IpAddr,
    /// Whether it came over TLS.
    pub secure: bool,
    /// What the client spoke.
    pub protocol: Protocol,
    /// The method, such as `GET`.
    pub method: String,
    /// The name that was asked for, in lower case and without a port.
    pub name: String,
    /// Path and query, without values that may be secrets.
    pub path: String,
    /// The status of the response.
    pub status: u16,
    /// How it ended.
    pub ending: Ending,
    /// Why the response is our own: the slug of the finding that the client was shown.
    #[schema(value_type = Option<String>)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub finding: Option<FindingKind>,
    /// Bytes of the request's body, or that a changed protocol carried to the target.
    pub received: u64,
    /// Bytes of the response's body, or that a changed protocol carried to the client.
    pub sent: u64,
    /// How long what took.
    pub timings: Timings,
}

/// The protocol of a client.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub enum Protocol {
    /// HTTP/1.0 (RFC 1945).
    #[serde(rename = "http/1.0")]
    Http10,
    /// HTTP/1.1 (RFC 9112).
    #[serde(rename = "http/1.1")]
    Http11,
    /// HTTP/2 (RFC 9113).
    #[serde(rename = "h2")]
    Http2,
}

impl Protocol {
    /// As ALPN names it (RFC 7301 §6).
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Http10 => "http/1.0",
            Self::Http11 => "http/1.1",
            Self::Http2 => "h2",
        }
    }

    /// As a request line and a log name it.
    #[must_use]
    pub fn in_a_request_line(self) -> &'static str {
        match self {
            Self::Http10 => "HTTP/1.0",
            Self::Http11 => "HTTP/1.1",
            Self::Http2 => "HTTP/2.0",
        }
    }

    /// The protocol of that name; `None` for another.
    #[must_use]
    pub fn named(name: &str) -> Option<Self> {
        let all = [Self::Http10, Self::Http11, Self::Http2];
        all.into_iter().find(|it| it.as_str() == name)
    }
}

impl fmt::Display for Protocol {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.as_str())
    }
}

/// How an exchange ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Ending {
    /// The response went out to its end.
    Whole,
    /// It is a stream without an end, which was open until one side closed it.
    Stream,
    /// The connection changed its protocol, such as to WebSocket, and was open until one side left.
    Upgraded,
    /// The client left before the end.
    ClientLeft,
    /// The target broke off, or sent nothing more in time.
    TargetBrokeOff,
}

impl Ending {
    /// All of them.
    pub const ALL: [Self; 5] = [
        Self::Whole,
        Self::Stream,
        Self::Upgraded,
        Self::ClientLeft,
        Self::TargetBrokeOff,
    ];

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Whole => "whole",
            Self::Stream => "stream",
            Self::Upgraded => "upgraded",
            Self::ClientLeft => "client-left",
            Self::TargetBrokeOff => "target-broke-off",
        }
    }

    /// The ending of that name; `None` for another.
    #[must_use]
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|it| it.as_str() == name)
    }
}

/// How long the steps of an exchange took, in microseconds. Together they are its whole time.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Timings {
    /// From the head of the request until it was sent on, or a new connection was begun.
    pub queue_us: u64,
    /// For a new connection to the target, TLS with it; none when one was there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub connect_us: Option<u64>,
    /// From sending until the head of the response was there: the app's own time.
    pub first_byte_us: u64,
    /// From then until the last byte of the body.
    pub last_byte_us: u64,
}

impl Timings {
    /// A time in whole microseconds.
    #[must_use]
    pub fn micros(time: Duration) -> u64 {
        u64::try_from(time.as_micros()).unwrap_or(u64::MAX)
    }

    /// The whole time, in microseconds.
    #[must_use]
    pub fn total_us(&self) -> u64 {
        let steps = [
            self.queue_us,
            self.connect_us.unwrap_or(0),
            self.first_byte_us,
            self.last_byte_us,
        ];
        steps.into_iter().fold(0, u64::saturating_add)
    }
}

/// What the exchanges of one route come to.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct RouteTraffic {
    /// The route's address; none for what no route answers to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub route: Option<String>,
    /// How many.
    pub exchanges: u64,
    /// How many a second, over the time that was asked for.
    pub per_second: f64,
    /// How many got a status of 500 or more, or were broken off by the target.
    pub errors: u64,
    /// Bytes of all bodies to clients.
    pub sent: u64,
    /// The time that half of them took at most, in microseconds. Streams and changed protocols,
    /// which last as long as a client wants, are left out of all three.
    pub p50_us: u64,
    /// The time that 95 of a hundred took at most.
    pub p95_us: u64,
    /// The time that 99 of a hundred took at most.
    pub p99_us: u64,
}

/// What the exchanges of a span of time come to.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct TrafficPoint {
    /// When the span begins.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// How many.
    pub exchanges: u64,
    /// How many got a status of 500 or more, or were broken off by the target.
    pub errors: u64,
    /// The time that half of them took at most, in microseconds.
    pub p50_us: u64,
    /// The time that 95 of a hundred took at most.
    pub p95_us: u64,
    /// The time that 99 of a hundred took at most.
    pub p99_us: u64,
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;

    /// An exchange to change for a test.
    pub(crate) fn example() -> Exchange {
        Exchange {
            id: 7,
            at: time::macros::datetime!(2026-11-25 17:04:05.678 UTC),
            route: Some("booking.moor.test/api".into()),
            client: [127, 0, 0, 1].into(),
            secure: true,
            protocol: Protocol::Http2,
            method: "GET".into(),
            name: "booking.moor.test".into(),
            path: "/api/huts?night=12&token=***".into(),
            status: 200,
            ending: Ending::Whole,
            finding: None,
            received: 0,
            sent: 1024,
            timings: Timings {
                queue_us: 30,
                connect_us: Some(200),
                first_byte_us: 4_000,
                last_byte_us: 70,
            },
        }
    }

    #[test]
    fn outcomes_round_trip() {
        for ending in Ending::ALL {
            assert_eq!(serde_json::json!(ending), ending.as_str());
            assert_eq!(Ending::named(ending.as_str()), Some(ending));
        }
        for protocol in [Protocol::Http10, Protocol::Http11, Protocol::Http2] {
            assert_eq!(serde_json::json!(protocol), protocol.as_str());
            assert_eq!(Protocol::named(protocol.as_str()), Some(protocol));
        }
    }

    #[test]
    fn the_phases_add_up_to_the_whole_time() {
        assert_eq!(example().timings.total_us(), 4_300);
    }
}
