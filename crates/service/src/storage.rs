use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use arc_swap::{ArcSwap, ArcSwapOption};
use bentlane_store::Store;

/// The connection to the database, shared by everything that reads or writes there.
#[derive(Debug, Default)]
pub(crate) struct Storage {
    store: ArcSwapOption<Store>,
    /// Where the database is, without its password.
    place: ArcSwap<String>,
    reachable: AtomicBool,
}

/// The database has not been reached since the service started.
#[derive(Debug)]
pub(crate) struct Unavailable;

impl Storage {
    /// The store, once the database has been reached. Its calls fail while the database is away.
    ///
    /// # Errors
    /// [`Unavailable`] before that.
    pub(crate) fn store(&self) -> Result<Arc<Store>, Unavailable> {
        self.store.load_full().ok_or(Unavailable)
    }

    /// Uses this connection from now on; `None` closes the one in use.
    pub(crate) fn set_store(&self, store: Option<Store>) {
        self.store.store(store.map(Arc::new));
    }

    /// Where the database is, without its password.
    pub(crate) fn place(&self) -> String {
        self.place.load().to_string()
    }

    pub(crate) fn set_place(&self, place: &str) {
        self.place.store(Arc::new(place.to_owned()));
    }

    /// Whether the last call reached the database.
    pub(crate) fn is_reachable(&self) -> bool {
        self.reachable.load(Ordering::Relaxed)
    }

    pub(crate) fn set_reachable(&self, reachable: bool) {
        self.reachable.store(reachable, Ordering::Relaxed);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn there_is_no_store_before_the_database_is_reached() {
        let storage = Storage::default();
        assert!(storage.store().is_err());
        assert!(!storage.is_reachable());
        storage.set_reachable(true);
        storage.set_place("postgres://me@h/lane");
        assert!(storage.is_reachable());
        assert_eq!(storage.place(), "postgres://me@h/lane");
    }
}
