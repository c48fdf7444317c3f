//! Knowing a database again, and copying what it has into another one.

use bentlane_model::{Configuration, JournalEntry};
use sea_orm::{AccessMode, EntityTrait, IsolationLevel, TransactionTrait};
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

/// A copy of what a database has.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Contents {
    /// The zones, routes and apps.
    pub configuration: Configuration,
    /// Every change, the oldest first.
    pub journal: Vec<JournalEntry>,
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

    /// Everything that there is to copy, as of one revision.
    ///
    /// # Errors
    /// When the database is not reachable, or holds what cannot be read.
    pub async fn contents(&self) -> Result<Contents, StoreError> {
        let isolation = Some(IsolationLevel::RepeatableRead);
        let transaction = self
            .database()
            .begin_with_config(isolation, Some(AccessMode::ReadOnly))
            .await?;
        let number = revision::Entity::find_by_id(1).one(&transaction).await?;
        Ok(Contents {
            configuration: read(&transaction, number.map_or(0, |row| row.number)).await?,
            journal: journal::all(&transaction).await?,
        })
    }

    /// Replaces what is stored by `contents`, as one change. Its revision is later than that of either.
    /// A journal that is empty becomes theirs; the result says whether it did. An attempt whose key was
    /// used before changes nothing.
    ///
    /// # Errors
    /// When the database fails; nothing is changed then, unless [`Attempt::is_outcome_unknown`].
    pub async fn restore(
        &self,
        attempt: &Attempt,
        contents: &Contents,
    ) -> Result<bool, StoreError> {
        let Contents {
            configuration,
            journal,
        } = contents;
        let transaction = self.database().begin().await?;
        let latest = latest_revision(&transaction).await?;
        if attempt.made(&transaction).await?.is_some() {
            return Ok(false);
        }
        let stored = read(&transaction, latest).await?;
        let is_first = !journal.is_empty() && journal::is_empty(&transaction).await?;
        if is_first {
            journal::copy(&transaction, journal).await?;
        }
        let theirs = journal.iter().map(|entry| entry.revision).max();
        let theirs = theirs
            .filter(|_| is_first)
            .max(Some(configuration.revision));
        let theirs = theirs.and_then(|revision| i64::try_from(revision).ok());
        let next = latest.max(theirs.unwrap_or(0)).saturating_add(1);
        let difference = stored.difference(configuration);
        if difference.is_empty() && !is_first && Some(latest) >= theirs {
            return Ok(false);
        }
        let entries = write(&transaction, &difference).await?;
        journal::write(&transaction, next, attempt.who(), None, entries).await?;
        attempt.commit(transaction, next).await?;
        Ok(is_first)
    }
}
