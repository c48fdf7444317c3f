//! Browsers that are signed in.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// How a link is made.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SignInRequest {
    /// Whether a person at a terminal can be asked when the browser turns out to be
    /// another user's.
    #[serde(default)]
    pub asks: bool,
    /// Whether the machine trusts our root, so that the console can be opened over HTTPS.
    #[serde(default)]
    pub trusted: bool,
}

/// A link that signs one browser in, once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SignInLink {
    /// Its number.
    pub id: u64,
    /// The link. The code in its fragment goes to our page, and to no server.
    pub url: String,
    /// Seconds for which it can be used.
    pub expires_in_s: u64,
}

/// What became of a link.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum LinkState {
    /// Not used yet.
    Open,
    /// The browser of another user wants to.
    Asked,
    /// That was answered.
    Answered,
    /// A browser signed in.
    Used,
    /// It can no longer be used.
    Over,
}

/// News of a link.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LinkNews {
    /// What became of it.
    pub state: LinkState,
    /// The user whose browser wants to use it, in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
}

/// Whether the browser of another user is let in.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct LinkAnswer {
    /// Whether it is.
    pub agreed: bool,
}

/// A browser that is signed in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SessionView {
    /// Its number.
    pub id: u64,
    /// Whose it is, in words.
    pub user: String,
    /// The browser, as it calls itself.
    pub browser: String,
    /// When it signed in.
    #[serde(with = "time::serde::rfc3339")]
    pub since: OffsetDateTime,
    /// When it called last.
    #[serde(with = "time::serde::rfc3339")]
    pub used: OffsetDateTime,
    /// Whether it is the one that asks.
    pub own: bool,
}

/// The browsers that are signed in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Sessions {
    /// The latest last.
    pub sessions: Vec<SessionView>,
}

/// How many browsers were signed out.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct SignedOut {
    /// How many.
    pub sessions: usize,
}
