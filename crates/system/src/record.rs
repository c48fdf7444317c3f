use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::{fs, io};

use serde::{Deserialize, Serialize};

use crate::content::Content;
use crate::file_error::FileError;
use crate::files::Folder;

/// The file with the record of what was changed.
pub(crate) const RECORD: &str = "attached.json";

/// A part of the system that can be attached.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Part {
    /// The name servers of the system's own lookups.
    #[serde(rename = "lookups", alias = "resolver")]
    Resolver,
    /// A block in the hosts file: exact names only.
    Hosts,
    /// The sockets that systemd opens for the service.
    UnitSockets,
    /// The service as a unit of systemd's.
    Unit,
    /// What systemd watches, so that the files above are repaired.
    Watch,
    /// The command that repairs them.
    Repair,
}

impl Part {
    /// Every part.
    pub const ALL: [Self; 6] = [
        Self::Resolver,
        Self::Hosts,
        Self::UnitSockets,
        Self::Unit,
        Self::Watch,
        Self::Repair,
    ];

    /// Those that systemd reads.
    pub const UNITS: [Self; 4] = [Self::UnitSockets, Self::Unit, Self::Watch, Self::Repair];

    /// How it is called in commands.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Resolver => "lookups",
            Self::Hosts => "hosts",
            Self::UnitSockets => "sockets",
            Self::Unit => "unit",
            Self::Watch => "watch",
            Self::Repair => "repair",
        }
    }
}

/// A file that was replaced: its former content, and ours.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Replaced {
    pub(crate) path: PathBuf,
    pub(crate) before: Content,
    pub(crate) left: Content,
}

/// Everything that was changed.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Record {
    /// The data folder of the service that the system is attached to.
    #[serde(default)]
    pub(crate) owner: Option<PathBuf>,
    pub(crate) replaced: BTreeMap<Part, Replaced>,
}

impl Record {
    pub(crate) fn read(folder: &Path) -> io::Result<Self> {
        match fs::read(folder.join(RECORD)) {
            Ok(octets) => serde_json::from_slice(&octets).map_err(io::Error::other),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Self::default()),
            Err(error) => Err(error),
        }
    }

    pub(crate) fn write(&self, folder: &Path) -> io::Result<()> {
        fs::create_dir_all(folder)?;
        let text = serde_json::to_string_pretty(self)? + "\n";
        let (folder, name) = Folder::of(&folder.join(RECORD)).map_err(FileError::into_io)?;
        let written = folder.replace(&name, text.as_bytes(), 0o644, (0, 0));
        written.map_err(FileError::into_io)
    }
}
