use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use arc_swap::{ArcSwap, ArcSwapOption};
use bentlane_store::{Contents, Store, StoreError};
use tokio::sync::{Notify, oneshot};
use tokio::time::timeout;

use crate::configuration::ChangedBy;

/// How long one call of the database may take, so that a change is answered within five seconds also
/// while the database hangs.
const CALL_LIMIT: Duration = Duration::from_secs(4);
/// How much longer a change may take for each route that it touches: ten thousand take 3 s in a debug build
/// on an idle machine.
const PER_ROUTE: Duration = Duration::from_millis(1);

/// How long it may take to delete what is old.
pub(crate) const DELETE_LIMIT: Duration = Duration::from_secs(60);

/// The connection to the database, shared by everything that reads or writes there.
#[derive(Debug)]
pub(crate) struct Storage {
    store: ArcSwapOption<Store>,
    /// Where the database is, without its password.
    place: ArcSwap<String>,
    /// Why the database cannot be used; `None` while it answers.
    fault: ArcSwapOption<String>,
    /// Notified when a call finds that the database does not answer.
    lost: Notify,
    /// What to do once it is connected to.
    restore: Mutex<Option<PendingRestore>>,
}

/// What to do with a database once it is connected to.
#[derive(Clone, Debug)]
pub(crate) enum Restore {
    /// If it is not the known one: store in it what is in force.
    LastKnownGood,
    /// If it is not the known one: go by what it has.
    Database,
    /// Store these in it.
    Backup(Arc<Contents>),
}

/// A restore that a call waits for.
#[derive(Debug)]
pub(crate) struct PendingRestore {
    pub(crate) what: Restore,
    pub(crate) by: ChangedBy,
    /// Gets whether the journal was restored, too.
    pub(crate) done: oneshot::Sender<bool>,
}

/// The database cannot be used for now.
#[derive(Clone, Debug, thiserror::Error)]
#[error("the database cannot be used: {cause}")]
pub(crate) struct Unavailable {
    cause: Arc<String>,
}

/// Why a call of the database failed.
#[derive(Debug, thiserror::Error)]
pub(crate) enum CallError {
    #[error(transparent)]
    Unavailable(#[from] Unavailable),
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl CallError {
    /// Whether the database does not answer, so that the same may succeed later.
    pub(crate) fn is_away(&self) -> bool {
        matches!(
            self,
            Self::Unavailable(_) | Self::Store(StoreError::Unreachable(_))
        )
    }
}

impl Default for Storage {
    fn default() -> Self {
        Self {
            store: ArcSwapOption::empty(),
            place: ArcSwap::default(),
            fault: ArcSwapOption::from_pointee("it is being connected to".to_owned()),
            lost: Notify::new(),
            restore: Mutex::default(),
        }
    }
}

impl Storage {
    /// Has `work` use the database, for a few seconds at most.
    ///
    /// # Errors
    /// At once while the database is known to be away, and when it does not answer in time.
    pub(crate) async fn call<T, F>(
        &self,
        work: impl FnOnce(Arc<Store>) -> F,
    ) -> Result<T, CallError>
    where
        F: Future<Output = Result<T, StoreError>>,
    {
        self.call_within(CALL_LIMIT, work).await
    }

    /// The same for a change that touches so many routes.
    pub(crate) async fn call_for<T, F>(
        &self,
        routes: usize,
        work: impl FnOnce(Arc<Store>) -> F,
    ) -> Result<T, CallError>
    where
        F: Future<Output = Result<T, StoreError>>,
    {
        let routes = u32::try_from(routes).unwrap_or(u32::MAX);
        let limit = CALL_LIMIT + PER_ROUTE.saturating_mul(routes);
        self.call_within(limit, work).await
    }

    /// The same within another time.
    pub(crate) async fn call_within<T, F>(
        &self,
        limit: Duration,
        work: impl FnOnce(Arc<Store>) -> F,
    ) -> Result<T, CallError>
    where
        F: Future<Output = Result<T, StoreError>>,
    {
        let store = self.store()?;
        let outcome = timeout(limit, work(store)).await;
        let outcome = outcome.unwrap_or_else(|_| Err(StoreError::no_answer_within(limit)));
        if let Err(StoreError::Unreachable(cause)) = &outcome {
            self.set_fault(cause.to_string());
            self.lost.notify_one();
        }
        Ok(outcome?)
    }

    /// The store, while the database answers.
    fn store(&self) -> Result<Arc<Store>, Unavailable> {
        if let Some(cause) = self.fault.load_full() {
            return Err(Unavailable { cause });
        }
        self.store.load_full().ok_or_else(|| Unavailable {
            cause: Arc::new("the service is stopping".to_owned()),
        })
    }

    /// Decides what to do with the database the next time it is connected to.
    pub(crate) fn set_restore(&self, pending: PendingRestore) {
        *self.restore.lock().unwrap_or_else(PoisonError::into_inner) = Some(pending);
    }

    /// Takes that decision.
    pub(crate) fn take_restore(&self) -> Option<PendingRestore> {
        self.restore
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .take()
    }

    /// Uses this connection from now on.
    pub(crate) fn connected(&self, store: Store) {
        self.store.store(Some(Arc::new(store)));
        self.fault.store(None);
    }

    /// Closes the connection.
    pub(crate) fn close(&self) {
        self.store.store(None);
    }

    /// The database cannot be used, for this reason, until it is connected to again.
    pub(crate) fn set_fault(&self, cause: String) {
        self.fault.store(Some(Arc::new(cause)));
    }

    /// Waits until a call finds that the database does not answer.
    pub(crate) async fn lost(&self) {
        self.lost.notified().await;
    }

    /// Where the database is, without its password.
    pub(crate) fn place(&self) -> String {
        self.place.load().to_string()
    }

    pub(crate) fn set_place(&self, place: &str) {
        self.place.store(Arc::new(place.to_owned()));
    }

    /// Why the database cannot be used; `None` while it answers.
    pub(crate) fn fault(&self) -> Option<String> {
        self.fault.load().as_deref().cloned()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn calls_fail_with_the_cause_until_the_database_is_reached() {
        let storage = Storage::default();
        let refused = storage.call(|_| async { Ok(()) }).await.unwrap_err();
        assert!(refused.to_string().contains("it is being connected to"));
        storage.set_fault("no such file".to_owned());
        assert_eq!(storage.fault().as_deref(), Some("no such file"));
        let refused = storage.call(|_| async { Ok(()) }).await.unwrap_err();
        assert!(refused.to_string().contains("cannot be used: no such file"));
        storage.set_place("postgres://me@h/lane");
        assert_eq!(storage.place(), "postgres://me@h/lane");
    }
}
