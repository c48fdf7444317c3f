//! Backups, and restoring.

use bentlane_ca::Passphrase;
use bentlane_model::{Configuration, JournalEntry};
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// The form of [`Backup`].
pub const BACKUP_FORM: u32 = 1;

/// A copy of what a service has stored.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Backup {
    /// The version of this form: 1.
    pub bentlane_backup: u32,
    /// The version of the service that made it.
    pub version: String,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub made_at: OffsetDateTime,
    /// The zones and routes.
    #[schema(value_type = Object)]
    pub configuration: Configuration,
    /// Every change, the oldest first.
    pub journal: Vec<JournalEntry>,
    /// The keys, under a passphrase; `None` when they were left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub keys: Option<String>,
}

/// What a backup is to have.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BackupInput {
    /// The passphrase for the keys, which are left out without one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub passphrase: Option<Passphrase>,
}

/// What the stored configuration is replaced by.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RestoreFrom {
    /// Where the database is not the one that was in use: the configuration that is in force.
    LastKnownGood,
    /// Where the database is not the one that was in use: nothing, so that what it has is used.
    Database,
    /// A backup.
    Backup,
}

/// A configuration to restore.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RestoreInput {
    /// From what.
    pub from: RestoreFrom,
    /// The backup, when it is from one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub backup: Option<Backup>,
    /// The passphrase of its keys, which are restored with it; without one they are left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub passphrase: Option<Passphrase>,
}

/// What was restored.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct Restored {
    /// The revision that is in force.
    pub revision: u64,
    /// Its zones.
    pub zones: usize,
    /// Its routes.
    pub routes: usize,
    /// Its apps.
    pub apps: usize,
    /// Whether the journal of the backup was taken over, as into a database that has none.
    pub journal: bool,
    /// Whether its keys were.
    pub keys: bool,
}
