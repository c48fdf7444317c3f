//! The project file `bentlane.toml`: what a project wants of Bent Lane, in its repository.
//!
//! [`read`] gives a [`ProjectFile`], or every fault with its line and column. [`ProjectFile::input`] says
//! what that comes to for a folder, [`write()`] makes or updates a file, and [`schema`] describes it for
//! editors. No I/O: files and folders are the caller's.

mod file;
mod position;
mod read;
mod requires;
mod schema;
mod write;

pub use file::{CertFiles, FileRoute, Move, ProjectFile};
pub use position::Fault;
pub use read::{LONGEST_FILE, read};
pub use requires::Requires;
pub use schema::schema;
pub use write::{Written, add_routes, write};

/// What the file is called.
pub const FILE_NAME: &str = "bentlane.toml";
