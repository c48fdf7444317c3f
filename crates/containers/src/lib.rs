//! Containers, as the APIs of their engines report them.
//!
//! [`Engines`] follows every engine of this machine and knows all containers; start from it.
//! [`Engine`] is one of them, asked directly. Nothing is changed but what [`Engine::put_files`],
//! [`Engine::start`] and [`Engine::stop`] are asked for.

mod engine;
mod engines;

pub use engine::{Engine, EngineError, NetworkSeen, sockets};
pub use engines::{EngineState, EngineStatus, Engines};
