use std::net::SocketAddr;

use bentlane_store::{DataDir, DataDirError};
use serde::{Deserialize, Serialize};

/// The name of the file in the data folder.
const NAME: &str = "service.json";

/// What a running service leaves in its data folder, so that clients find it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RunFile {
    /// The service's process.
    pub pid: u32,
    /// Where the API listens.
    pub api: Vec<SocketAddr>,
}

impl RunFile {
    /// Reads the file; `None` when no service runs on this data folder, or none ended cleanly.
    ///
    /// # Errors
    /// When the file is there and cannot be read.
    pub fn read(data_dir: &DataDir) -> Result<Option<Self>, DataDirError> {
        let text = data_dir.read(NAME)?;
        Ok(text.and_then(|text| serde_json::from_str(&text).ok()))
    }

    pub(crate) fn write(&self, data_dir: &DataDir) -> Result<(), DataDirError> {
        data_dir.write(NAME, format!("{}\n", serde_json::json!(self)).as_bytes())
    }

    pub(crate) fn remove(data_dir: &DataDir) -> Result<(), DataDirError> {
        data_dir.remove(NAME)
    }
}
