//! The tables as SeaORM sees them.
#![allow(
    unreachable_pub,
    reason = "the derive macros want public models in private modules"
)]

pub(crate) mod app;
pub(crate) mod change_key;
pub(crate) mod exchange;
pub(crate) mod journal;
pub(crate) mod project;
pub(crate) mod revision;
pub(crate) mod route;
pub(crate) mod verdict;
pub(crate) mod zone;
