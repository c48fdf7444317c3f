//! Changes that are made once, however often they are asked for.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use sea_orm::ActiveValue::{NotSet, Set};
use sea_orm::{
    ColumnTrait, ConnectionTrait, DatabaseTransaction, EntityTrait, QueryFilter, TransactionTrait,
};
use time::OffsetDateTime;

use super::{CHANNEL, Store, StoreError, latest_revision, revision_number};
use crate::entity::{change_key, revision};

/// How long a repeated change is recognised.
const KEEP_KEYS: Duration = Duration::from_secs(24 * 3600);

/// One attempt to make a change.
#[derive(Debug)]
pub struct Attempt {
    who: Arc<str>,
    key: Arc<str>,
    committing: AtomicBool,
}

impl Attempt {
    /// An attempt of `who`, which the journal names. A change is made once for each `key`.
    #[must_use]
    pub fn new(who: Arc<str>, key: Arc<str>) -> Self {
        Self {
            who,
            key,
            committing: AtomicBool::new(false),
        }
    }

    /// Whether the change may have been made although the attempt failed: the connection was lost, or
    /// there was no answer, while it was committed.
    #[must_use]
    pub fn is_outcome_unknown(&self) -> bool {
        self.committing.load(Ordering::Relaxed)
    }

    /// The key, which identifies the change when it is requested again.
    #[must_use]
    pub fn key(&self) -> &str {
        &self.key
    }

    pub(super) fn who(&self) -> &str {
        &self.who
    }

    /// The revision that an earlier attempt with the key made.
    pub(super) async fn made(
        &self,
        transaction: &DatabaseTransaction,
    ) -> Result<Option<i64>, StoreError> {
        made_with(transaction, &self.key).await
    }

    /// Commits `transaction` with the next revision and the key, and notifies listeners.
    pub(super) async fn commit(
        &self,
        transaction: DatabaseTransaction,
        next: i64,
    ) -> Result<(), StoreError> {
        let at = OffsetDateTime::now_utc();
        change_key::Entity::delete_many()
            .filter(change_key::Column::At.lt(at - KEEP_KEYS))
            .exec(&transaction)
            .await?;
        change_key::Entity::insert(change_key::ActiveModel {
            key: Set((*self.key).to_owned()),
            revision: Set(next),
            at: Set(at),
        })
        .exec(&transaction)
        .await?;
        revision::Entity::update(revision::ActiveModel {
            id: Set(1),
            number: Set(next),
            identity: NotSet,
        })
        .exec(&transaction)
        .await?;
        transaction
            .execute_unprepared(&format!("NOTIFY {CHANNEL}, '{next}'"))
            .await?;
        self.committing.store(true, Ordering::Relaxed);
        let committed = transaction.commit().await.map_err(StoreError::from);
        if !matches!(committed, Err(StoreError::Unreachable(_))) {
            self.committing.store(false, Ordering::Relaxed);
        }
        committed
    }
}

impl Store {
    /// The revision that the change with this key made lately; `None` when no change with it was made,
    /// nor is being made.
    ///
    /// # Errors
    /// When the database is not reachable.
    pub async fn revision_of(&self, key: &str) -> Result<Option<u64>, StoreError> {
        let transaction = self.database.begin().await?;
        // Waits for the change that is being made.
        latest_revision(&transaction).await?;
        let revision = made_with(&transaction, key).await?;
        revision.map(revision_number).transpose()
    }
}

/// The revision that the change with this key made.
async fn made_with(
    transaction: &DatabaseTransaction,
    key: &str,
) -> Result<Option<i64>, StoreError> {
    let row = change_key::Entity::find_by_id(key).one(transaction).await?;
    Ok(row.map(|row| row.revision))
}
