//! The database: MariaDB through SQLx. Nothing else knows SQL.
//!
//! One module an aggregate. The database is the truth of the queue: a state changes by one
//! compare-and-set, work is leased by the database's own clock, and every later write of a worker
//! names the epoch of its lease, so that one who lost it changes nothing.

pub mod answers;
pub mod assets;
mod database;
mod error;
mod json;
pub mod presets;
pub mod private_server;
pub mod proofs;
mod remembered;
pub mod runs;
pub mod settings;
pub mod sheets;
pub mod sources;
pub mod storages;
pub mod uploads;
pub mod watch_folders;

pub use database::{Database, patiently};
pub use error::StoreError;

/// Rows that one statement writes, at most.
const ROWS_AT_ONCE: usize = 500;
