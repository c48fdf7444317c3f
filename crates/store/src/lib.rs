//! Storage: the configuration and its journal in PostgreSQL, and the files of the data folder.
//!
//! [`Store`] reads and changes the configuration; every change is one transaction with its journal
//! entry. [`Cluster`] is the private PostgreSQL server, when no other database is given.
//! [`DataDir`] holds the files beside it. What may be changed is decided by `bentlane_model`.

mod cluster;
mod data_dir;
mod entity;
mod exchanges;
mod migration;
mod store;
mod verdicts;

pub use cluster::{Cluster, ClusterError, Guard};
pub use data_dir::{DataDir, DataDirError, Lock, is_unwritable};
pub use store::{Attempt, CHANNEL, Contents, Identity, Store, StoreError, check_url, undo_of};
pub use verdicts::{StoredState, StoredVerdict};
