//! DNS records.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A record of one's own to add.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RecordInput {
    /// A whole name in one of the zones.
    pub owner: String,
    /// `A`, `AAAA`, `CNAME`, `MX`, `SRV` or `TXT`.
    #[serde(rename = "type")]
    pub kind: String,
    /// The data as in a master file (RFC 1035 §5.1); names in it are whole.
    pub data: String,
    /// Seconds that it may be kept; the zone's own time when it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ttl: Option<u32>,
}

/// A record of one's own.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RecordView {
    /// The zone it is in.
    pub zone: String,
    /// Whose record it is.
    pub owner: String,
    /// Its type.
    #[serde(rename = "type")]
    pub kind: String,
    /// Its data.
    pub data: String,
    /// Seconds that it may be kept.
    pub ttl: u32,
}

/// The records of one's own, of all zones.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Records {
    /// The records, by zone and owner.
    pub records: Vec<RecordView>,
}

/// A zone as a master file.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ZoneFile {
    /// The file's text (RFC 1035 §5).
    pub text: String,
}
