//! Apps: processes that the service starts, supervises and stops.
//!
//! Start from [`AppRunner`]: it is given the apps, starts one on request, and says
//! where each can be connected to. Each app that runs has a task (`driver`), which starts it in a session of
//! its own, waits until it is ready, follows where it listens, and starts it again after a crash.
//!
//! Left to others: which apps there are (`bentlane_model`), what a state means to a visitor
//! (`bentlane_checks`), and who asks for one.

mod changes;
mod driver;
mod environment;
mod files;
mod handover;
mod launch;
mod listening;
mod log_files;
mod output;
mod processes;
mod read;
mod ready;
mod record;
mod runner;
mod stop;
mod text;

pub use changes::{is_taken_by_git, patterns};
pub use environment::{is_secret, read_file};
pub use handover::{pack, unpack};
pub use launch::{Environment, LAUNCH_COMMAND, become_app};
pub use output::OutputLine;
pub use runner::{AppRunner, ByHand, HandedOver, IdleFor, Setup, Unknown};
pub use text::plain;
