//! Knowing a database again, and putting a configuration into another one.

use bentlane_model::Configuration;
use sea_orm::{EntityTrait, TransactionTrait};
use serde::{Deserialize, Serialize};

use super::{Attempt, Store, StoreError, journal, latest_revision, read, revision_number, write};
use crate::entity::revision;

/// Which database it is, and its latest revision.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Identity {
    /// It is made with the database.
    pub id: String,
    /// The latest revision.
    pub revision: u64,
}

impl Store {
    /// Which database it is.
    ///
    /// # Errors
    /// When the database is not reachable.
    pub async fn identity(&self) -> Result<Identity, StoreError> {
        let row = revision::Entity::find_by_id(1).one(self.database()).await?;
        row.map_or(Ok(Identity::default()), |row| {
            Ok(Identity {
                id: row.identity,
                revision: revision_number(row.number)?,
            })
        })
    }

    /// Replaces what is stored by `configuration`, as one change. Its revision is later than that of
    /// either.
    ///
    /// # Errors
    /// When the database fails; nothing is changed then.
    pub async fn restore(
        &self,
        attempt: &Attempt,
        configuration: &Configuration,
    ) -> Result<(), StoreError> {
        let transaction = self.database().begin().await?;
        let latest = latest_revision(&transaction).await?;
        let stored = read(&transaction, latest).await?;
        let restored = i64::try_from(configuration.revision).unwrap_or(i64::MAX - 1);
        let next = latest.max(restored) + 1;
        let entries = write(&transaction, &stored.difference(configuration)).await?;
        journal::write(&transaction, next, attempt.who(), None, entries).await?;
        attempt.commit(transaction, next).await
    }
}
