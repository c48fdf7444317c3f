//! Containers, as their engine's API reports them.
//!
//! [`Engine`] is found at its socket, lists the containers that are asked for with where they can be
//! connected to, and reports when something about them has changed. It changes nothing but what
//! [`Engine::put_files`] is given.

mod engine;

pub use engine::{Engine, EngineError};
