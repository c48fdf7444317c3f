//! The configuration that was in force last, kept in the data folder: with it the service starts
//! without its database.

use bentlane_model::{Configuration, chain};
use bentlane_store::DataDir;
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use tracing::error;

const FILE: &str = "last-known-good.json";
/// Which database it was read from.
const DATABASE: &str = "known-database.json";

/// The database that the configuration was read from last.
#[derive(Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct KnownDatabase {
    /// Where it was.
    pub(crate) place: String,
    /// It was made with the database.
    pub(crate) id: String,
}

/// Reads which database it was; `None` when that is not known.
pub(crate) fn known_database(data_dir: &DataDir) -> Option<KnownDatabase> {
    let text = data_dir.read(DATABASE).ok()??;
    serde_json::from_str(&text)
        .inspect_err(|cause| error!(%cause, file = DATABASE, "a file is damaged"))
        .ok()
}

/// Notes which database it is. A failure is logged.
pub(crate) fn write_database(data_dir: &DataDir, database: &KnownDatabase) {
    let written = serde_json::to_string(database)
        .map_err(|cause| cause.to_string())
        .and_then(|json| {
            let written = data_dir.write(DATABASE, json.as_bytes());
            written.map_err(|cause| chain(&cause))
        });
    if let Err(cause) = written {
        error!(cause, "cannot note which database is in use");
    }
}

/// Reads it; `None` when there is none that can be read, which is logged.
pub(crate) fn read(data_dir: &DataDir) -> Option<Configuration> {
    let text = data_dir
        .read(FILE)
        .inspect_err(|cause| {
            error!(
                cause = chain(cause),
                "cannot read the last known good configuration"
            );
        })
        .ok()??;
    serde_json::from_str(&text)
        .inspect_err(|cause| error!(%cause, "the last known good configuration is damaged"))
        .ok()
}

/// Replaces it by `json`, which is a configuration. A failure is logged: the service works without.
pub(crate) fn write(data_dir: &DataDir, json: &str) {
    if let Err(cause) = data_dir.write(FILE, json.as_bytes()) {
        error!(
            cause = chain(&cause),
            "cannot write the last known good configuration"
        );
    }
}

/// When it was written; `None` when there is none.
pub(crate) fn written_at(data_dir: &DataDir) -> Option<OffsetDateTime> {
    data_dir.written_at(FILE)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_file_round_trips_and_a_damaged_one_is_rejected() {
        let folder = tempfile::tempdir().unwrap();
        let data_dir = DataDir::open(folder.path().join("data")).unwrap();
        assert!(read(&data_dir).is_none() && written_at(&data_dir).is_none());
        let configuration = Configuration {
            revision: 7,
            ..Configuration::default()
        };
        write(&data_dir, &serde_json::to_string(&configuration).unwrap());
        assert_eq!(read(&data_dir), Some(configuration));
        assert!(written_at(&data_dir).is_some());
        write(&data_dir, "{\"revision\":");
        assert!(read(&data_dir).is_none());
    }
}
